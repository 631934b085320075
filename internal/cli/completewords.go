package cli

import (
	"flag"
	"fmt"
	"io"
	"os"
	"slices"
	"strings"

	"kestrix/internal/core/check"
	"kestrix/internal/core/config"
)

// word is one that may stand somewhere, and what it is for.
type word struct{ text, about string }

// completeWords writes what may stand in the place of the last of some words, the first of which is a command.
func completeWords(w io.Writer, line []string) error {
	all, files := candidates(line)
	cur := line[len(line)-1]
	for _, x := range all {
		if strings.HasPrefix(x.text, cur) {
			if _, err := fmt.Fprintf(w, "%s\t%s\n", x.text, oneLine(x.about)); err != nil {
				return err
			}
		}
	}
	if files {
		_, err := io.WriteString(w, ":files\n")
		return err
	}
	return nil
}

// oneLine is a text without what would end it.
func oneLine(s string) string { return strings.NewReplacer("`", "", "\n", " ", "\t", " ").Replace(s) }

// candidates returns what may stand at the end of a line, and whether names of files may.
func candidates(line []string) (all []word, files bool) {
	if len(line) == 1 {
		for _, c := range commands() {
			all = append(all, word{c.name, c.summary})
		}
		return append(all, word{"help", "describe a command, or a key of the language"}), false
	}
	if line[0] == "help" {
		return helpWords(line[1:]), false
	}
	i := slices.IndexFunc(commands(), func(c *command) bool { return c.name == line[0] })
	if i < 0 {
		return nil, false
	}
	c, rest, cur := commands()[i], line[1:], line[len(line)-1]
	if len(c.subs) > 0 {
		s, left := c.sub(rest[:len(rest)-1])
		if s == nil {
			for _, s := range c.subs {
				all = append(all, word{strings.TrimPrefix(s.name, c.name+" "), s.summary})
			}
			return all, false
		}
		c, rest = s, append(left, cur)
	}
	fs := flag.NewFlagSet(c.name, flag.ContinueOnError)
	c.setup(fs)
	if len(rest) > 1 {
		if name := strings.TrimLeft(rest[len(rest)-2], "-"); name != rest[len(rest)-2] {
			if f := fs.Lookup(name); f != nil && !isSwitch(f) {
				return flagValues(c, f, rest)
			}
		}
	}
	if strings.HasPrefix(cur, "-") {
		fs.VisitAll(func(f *flag.Flag) { all = append(all, word{"-" + f.Name, valueOf(f)}) })
		return all, false
	}
	switch {
	case c.name == "completion" && len(rest) == 1:
		return []word{{"bash", ""}, {"zsh", ""}, {"fish", ""}}, false
	case c.name == "tell":
		return tellWords(operands(fs, rest), namesIn(line).backends)
	}
	return nil, true
}

// tellWords returns what may stand behind some operands of tell.
func tellWords(before, backends []string) (all []word, files bool) {
	files = len(before) == 0
	if len(before) > 0 && exists(before[0]) {
		before = before[1:] // CONFIG
	}
	if len(before) == 0 {
		for _, b := range backends {
			all = append(all, word{b, "a backend"})
		}
		return all, files
	}
	for _, o := range orderWords {
		all = append(all, word{o, "an order"})
	}
	return all, false
}

// operands returns the words of a line, but for the last, that are neither flags nor their values.
func operands(fs *flag.FlagSet, words []string) (out []string) {
	for i := 0; i < len(words)-1; i++ {
		name := strings.TrimLeft(words[i], "-")
		if name == words[i] {
			out = append(out, words[i])
		} else if f := fs.Lookup(name); f != nil && !isSwitch(f) {
			i++
		}
	}
	return out
}

// helpWords are what help tells about.
func helpWords(line []string) (all []word) {
	if len(line) > 1 && (line[0] == "config" || line[0] == "scenario") {
		if line[0] == "config" {
			keyWords(config.Language, "", &all)
		}
		return all
	}
	for _, c := range commands() {
		all = append(all, word{c.name, c.summary})
	}
	return append(all, word{"config", "keys of the configuration"}, word{"scenario", "keys of a scenario"})
}

// keyWords lists the blocks and keys of the language by their paths.
func keyWords(b *config.Block, path string, all *[]word) {
	for _, k := range b.Keys {
		*all = append(*all, word{path + k.Name, k.Help})
	}
	for _, c := range b.Blocks {
		*all = append(*all, word{path + c.Name, c.Help})
		keyWords(c, path+c.Name+".", all)
	}
}

// flagValues returns what may stand behind a flag.
func flagValues(c *command, f *flag.Flag, line []string) (all []word, files bool) {
	named := func(list []string, about string) []word {
		for _, x := range list {
			all = append(all, word{x, about})
		}
		return all
	}
	switch f.Name {
	case "format":
		return named(formsOf(c.name), "a form of the result"), false
	case "severity":
		return named([]string{"error", "warning", "advice"}, ""), false
	case "explain":
		for _, r := range slices.Concat(check.Rules, check.LiveRules) {
			all = append(all, word{r.ID, r.Title})
		}
		return all, false
	case "bad":
		return named([]string{"stop", "skip"}, "at lines that cannot be read"), false
	case "diagnose":
		return named([]string{"yes", "no"}, ""), false
	case "stamp":
		return named([]string{"start", "end"}, "of a request"), false
	case "frontend":
		return named(namesIn(line).frontends, "a frontend"), false
	case "matches":
		return named(namesIn(line).routes, "a route"), false
	case "down", "except":
		return named(namesIn(line).backends, "a backend"), false
	case "zone":
		return named(namesIn(line).zones, "a zone"), false
	case "sticky":
		return named([]string{"cookie", "address"}, ""), false
	}
	name, _ := flag.UnquoteUsage(f)
	return nil, strings.Contains(name, "FILE") || strings.Contains(name, "FOLDER")
}

// names are those of a configuration.
type names struct{ frontends, routes, backends, zones []string }

// namesIn returns the names of the first configuration on a line; none where there is none that can be read.
func namesIn(line []string) names {
	var n names
	for i, w := range line {
		if info, err := os.Stat(w); err != nil || !info.IsDir() && !strings.HasSuffix(w, ".hcl") || strings.HasSuffix(w, ".scenario.hcl") || i == len(line)-1 {
			continue
		}
		s, err := readConfig(w, nil)
		if err != nil {
			continue
		}
		for _, f := range s.config.Frontends {
			n.frontends = append(n.frontends, f.Name)
			for _, r := range f.Routes {
				n.routes = append(n.routes, f.Name+"/"+r.Name)
			}
		}
		for _, u := range s.config.Upstreams {
			for _, b := range u.Backends {
				n.backends = append(n.backends, u.Name+"."+b.Name)
				if b.Zone != "" && !slices.Contains(n.zones, b.Zone) {
					n.zones = append(n.zones, b.Zone)
				}
			}
		}
		break
	}
	return n
}
