package cli

import (
	"cmp"
	"flag"
	"fmt"
	"regexp"
	"slices"
	"strings"
	"time"

	"kestrix/internal/core/config"
	"kestrix/internal/core/scenario"
)

// groups are the headings of the overview, in the order in which people work.
var groups = []string{"write and check", "predict", "serve and rehearse", "operate", "the program"}

// helpWidth is the width of help in columns; a terminal's does not change it, so that help is the same bytes everywhere.
const helpWidth = 100

// language is one of the two that help describes.
type language struct {
	name  string
	table *config.Block
}

var languages = []language{{"config", config.Language}, {"scenario", scenario.Language}}

// isRule is the form of a rule's ID.
var isRule = regexp.MustCompile(`^(?i)KX\d+$`)

// text returns the help of a command.
func (c *command) text() string {
	var b strings.Builder
	fmt.Fprintf(&b, "usage: kestrix %s\n\n%s.\n", strings.ReplaceAll(strings.TrimSpace(c.name+" "+c.args), " | ", "\n       kestrix "+c.name+" "), upperFirst(c.summary))
	if len(c.subs) > 0 {
		b.WriteByte('\n')
		for _, s := range c.subs {
			row(&b, "  kestrix "+s.name, 26, s.summary)
		}
		fmt.Fprintf(&b, "\n\"kestrix help %s\" describes one of them.\n", c.subs[0].name)
		return b.String()
	}
	if flags := flagsOf(c); len(flags) > 0 {
		b.WriteString("\nflags, before or after the operands:\n")
		for _, f := range flags {
			kind, _ := flag.UnquoteUsage(f)
			first, values := usageOf(f)
			row(&b, strings.TrimRight("  -"+f.Name+" "+kind, " "), 26, first)
			for _, v := range values {
				b.WriteString(strings.Repeat(" ", 28) + v + "\n")
			}
		}
	}
	if c.help != "" {
		b.WriteString("\n" + strings.TrimSpace(c.help) + "\n")
	}
	return b.String()
}

// row writes a head and, from a column on, a text of as many lines as it needs. A head that is too long has a line of
// its own.
func row(b *strings.Builder, head string, column int, text string) {
	if len(head) >= column {
		b.WriteString(head + "\n")
		head = ""
	}
	fmt.Fprintf(b, "%-*s", column, head)
	at := column
	for i, w := range strings.Fields(text) {
		switch {
		case i == 0:
		case at+1+len(w) > helpWidth:
			b.WriteString("\n" + strings.Repeat(" ", column))
			at = column
		default:
			b.WriteByte(' ')
			at++
		}
		b.WriteString(w)
		at += len(w)
	}
	b.WriteByte('\n')
}

// usageOf returns what a flag is, with its default, and its allowed values, each with its meaning, where they are listed.
func usageOf(f *flag.Flag) (first string, values []string) {
	_, use := flag.UnquoteUsage(f)
	lines := strings.Split(use, "\n")
	first, values = lines[0], lines[1:]
	if slices.Contains([]string{"", "false", "0", "[]", "0s"}, f.DefValue) {
		return first, values
	}
	value := f.DefValue
	if _, err := time.ParseDuration(value); err == nil { // as 1m instead of 1m0s
		value = strings.TrimSuffix(strings.Replace(value, "m0s", "m", 1), "0m")
	}
	for i, v := range values {
		if strings.Fields(v)[0] == value {
			values[i] += " (default)"
			return first, values
		}
	}
	if colon := strings.TrimSuffix(first, ":"); colon != first {
		return colon + " (default " + value + "):", values
	}
	return first + " (default " + value + ")", values
}

// valueOf returns in a line what a flag is, for messages: its allowed values follow a colon.
func valueOf(f *flag.Flag) string {
	_, use := flag.UnquoteUsage(f)
	lines := strings.Split(use, "\n")
	var values []string
	for _, v := range lines[1:] {
		values = append(values, strings.Fields(v)[0])
	}
	return strings.TrimSpace(lines[0] + " " + strings.Join(values, ", "))
}

// within returns the whole name of a subcommand, as trace learn of learn; empty for none.
func within(sub string) string {
	for _, c := range commands() {
		for _, s := range c.subs {
			if s.name == c.name+" "+sub {
				return s.name
			}
		}
	}
	return ""
}

// overview returns the list of commands.
func overview() string {
	var b strings.Builder
	b.WriteString("kestrix writes, checks, replays and serves configuration for reverse proxying.\n\nusage: kestrix COMMAND [flags and operands]\n")
	for _, g := range groups {
		b.WriteString("\n" + g + "\n")
		for _, c := range commands() {
			if c.group == g {
				row(&b, "  "+c.name, 17, c.summary)
			}
		}
	}
	b.WriteString(`
kestrix help COMMAND          flags, operands and examples of a command
kestrix help config [KEY]     blocks and keys of the configuration
kestrix help scenario [KEY]   blocks and keys of a scenario
kestrix help columns          columns of the tables
kestrix help man              the manual page
kestrix demo                  a tour with sample data: begin here
`)
	return b.String()
}

// help is the command of that name.
func help(env *Env, args []string) int {
	if len(args) == 0 {
		fmt.Fprint(env.Stdout, overview())
		return exitFine
	}
	text, err := helpOf(env, args)
	if err != nil {
		fmt.Fprintf(env.Stderr, "kestrix help: %v\n", err)
		return exitUsage
	}
	fmt.Fprint(env.Stdout, text)
	return exitFine
}

// helpOf returns the help for a command, a key of a language, or the manual page.
func helpOf(env *Env, args []string) (string, error) {
	if i := slices.IndexFunc(languages, func(l language) bool { return l.name == args[0] }); i >= 0 {
		query := strings.Join(args[1:], ".")
		if text, found := env.style(env.Stdout, false).HelpConfig(languages[i].table, query); found {
			return text, nil
		}
		if other := languages[1-i]; query != "" {
			if _, found := env.style(env.Stdout, false).HelpConfig(other.table, query); found {
				return "", fmt.Errorf("there is no key or block %q here; kestrix help %s %s describes one", query, other.name, query)
			}
		}
		var known []word
		keyWords(languages[i].table, "", &known)
		if s := suggestKey(query, known); s != "" {
			return "", fmt.Errorf("there is no key or block %q; did you mean %s?", query, s)
		}
		return "", fmt.Errorf("there is no key or block %q; kestrix help %s lists them", query, args[0])
	}
	if args[0] == "columns" || args[0] == "man" {
		return pageOf(env, args)
	}
	known := []string{"config", "scenario", "columns", "man"}
	for _, c := range commands() {
		if c.name == args[0] {
			if len(args) > 1 && len(c.subs) > 0 {
				inner, _ := c.sub(args[1:])
				if inner == nil {
					return "", c.unknownSub(args[1:])
				}
				c = inner
			}
			return c.text(), nil
		}
		known = append(known, c.name)
	}
	if s := cmp.Or(within(args[0]), config.Suggest(args[0], known)); s != "" && !isRule.MatchString(args[0]) {
		return "", fmt.Errorf("there is no command %q; did you mean kestrix help %s?", args[0], s)
	}
	for _, l := range languages {
		var keys []word
		keyWords(l.table, "", &keys)
		if slices.ContainsFunc(keys, func(k word) bool { return k.text == args[0] || strings.HasSuffix(k.text, "."+args[0]) }) {
			return "", fmt.Errorf("there is no command %q; %q is a key: kestrix help %s %s", args[0], args[0], l.name, args[0])
		}
	}
	if isRule.MatchString(args[0]) {
		return "", fmt.Errorf("there is no command %q; kestrix check -explain %s explains the rule", args[0], args[0])
	}
	return "", fmt.Errorf("there is no command %q; kestrix help lists the commands", args[0])
}

// pageOf returns a text of help that has no parts: the columns, or the manual page.
func pageOf(env *Env, args []string) (string, error) {
	if len(args) > 1 {
		return "", fmt.Errorf("%s has no parts; leave %s out", args[0], args[1])
	}
	if args[0] == "man" {
		return manual(), nil
	}
	return env.style(env.Stdout, false).ColumnsHelp(), nil
}

// suggestKey returns the key or block that is likely meant by a name or path; "" where there is none.
func suggestKey(query string, known []word) string {
	var paths, names []string
	for _, k := range known {
		paths = append(paths, k.text)
		names = append(names, k.text[strings.LastIndexByte(k.text, '.')+1:])
	}
	if s := config.Suggest(query, paths); s != "" {
		return s
	}
	return config.Suggest(query, names)
}
