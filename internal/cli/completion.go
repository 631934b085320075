package cli

import (
	"context"
	"flag"
	"fmt"
	"io"
	"slices"
	"strings"
)

func completionCommand() *command {
	return &command{
		name: "completion", args: "bash|zsh|fish", summary: "a script that completes commands, flags and files",
		help: `
  kestrix completion bash >/etc/bash_completion.d/kestrix
  kestrix completion zsh >"${fpath[1]}/_kestrix"
  kestrix completion fish >~/.config/fish/completions/kestrix.fish`,
		setup: func(fs *flag.FlagSet) func(context.Context, *Env, []string) error {
			o := output{format: "text"}
			fs.StringVar(&o.file, "o", "", "write the result to `FILE` instead of stdout")
			return func(_ context.Context, env *Env, args []string) error {
				if len(args) != 1 {
					return usage("one shell is wanted: kestrix completion bash, zsh or fish")
				}
				text := map[string]func() string{"bash": bashCompletion, "zsh": zshCompletion, "fish": fishCompletion}[args[0]]
				if text == nil {
					return usage("there is no completion for %q; known: bash, zsh, fish", args[0])
				}
				return o.write(env, func(w io.Writer) error { _, err := io.WriteString(w, text()); return err })
			}
		},
	}
}

// flagsOf lists a command's flags, and those of the commands within it, with
// what they are for.
func flagsOf(c *command) []*flag.Flag {
	var out []*flag.Flag
	seen := map[string]bool{}
	for _, s := range append([]*command{c}, c.subs...) {
		if s.setup == nil {
			continue
		}
		fs := flag.NewFlagSet(s.name, flag.ContinueOnError)
		s.setup(fs)
		fs.VisitAll(func(f *flag.Flag) {
			if !seen[f.Name] {
				seen[f.Name] = true
				out = append(out, f)
			}
		})
	}
	slices.SortFunc(out, func(a, b *flag.Flag) int { return strings.Compare(a.Name, b.Name) })
	return out
}

// words are the fixed operands of a command that has some.
func words(c *command) []string {
	if strings.Contains(c.args, "|") {
		return strings.Split(c.args, "|")
	}
	return nil
}

func bashCompletion() string {
	var b strings.Builder
	var names []string
	b.WriteString("# bash completion for kestrix\n_kestrix() {\n  local cur=\"${COMP_WORDS[COMP_CWORD]}\" words=\"\"\n  if [ \"$COMP_CWORD\" -eq 1 ]; then\n")
	for _, c := range commands() {
		names = append(names, c.name)
	}
	fmt.Fprintf(&b, "    COMPREPLY=($(compgen -W %q -- \"$cur\"))\n    return\n  fi\n  case \"${COMP_WORDS[1]}\" in\n", strings.Join(append(names, "help", "version"), " "))
	for _, c := range commands() {
		var flags []string
		for _, f := range flagsOf(c) {
			flags = append(flags, "-"+f.Name)
		}
		fmt.Fprintf(&b, "  %s) words=%q ;;\n", c.name, strings.Join(append(words(c), flags...), " "))
	}
	fmt.Fprintf(&b, "  help) words=%q ;;\n", strings.Join(append(names, "config", "scenario"), " "))
	b.WriteString("  esac\n  COMPREPLY=($(compgen -W \"$words\" -- \"$cur\") $(compgen -f -- \"$cur\"))\n}\ncomplete -o filenames -F _kestrix kestrix\n")
	return b.String()
}

// oneLine makes a text fit between single quotes.
func oneLine(s string) string {
	s = strings.NewReplacer("`", "", "'", "", "\n", " ", "[", "(", "]", ")", ":", ";").Replace(s)
	return s
}

func zshCompletion() string {
	var b strings.Builder
	b.WriteString("#compdef kestrix\n_kestrix() {\n  local -a commands\n  commands=(\n")
	for _, c := range commands() {
		fmt.Fprintf(&b, "    '%s:%s'\n", c.name, oneLine(c.summary))
	}
	b.WriteString("    'help:tells about a command or a key'\n  )\n  if (( CURRENT == 2 )); then\n    _describe command commands\n    return\n  fi\n  case \"$words[2]\" in\n")
	for _, c := range commands() {
		fmt.Fprintf(&b, "  %s) _arguments", c.name)
		for _, f := range flagsOf(c) {
			value := ":value:_files"
			if isSwitch(f) {
				value = ""
			}
			fmt.Fprintf(&b, " '-%s[%s]%s'", f.Name, oneLine(f.Usage), value)
		}
		if w := words(c); w != nil {
			fmt.Fprintf(&b, " '2:what:(%s)'", strings.Join(w, " "))
		}
		b.WriteString(" '*:file:_files' ;;\n")
	}
	b.WriteString("  esac\n}\n_kestrix \"$@\"\n")
	return b.String()
}

func fishCompletion() string {
	var b strings.Builder
	b.WriteString("# fish completion for kestrix\n")
	for _, c := range commands() {
		fmt.Fprintf(&b, "complete -c kestrix -n __fish_use_subcommand -a %s -d '%s'\n", c.name, oneLine(c.summary))
		for _, f := range flagsOf(c) {
			value := " -r"
			if isSwitch(f) {
				value = ""
			}
			fmt.Fprintf(&b, "complete -c kestrix -n '__fish_seen_subcommand_from %s' -o %s%s -d '%s'\n", c.name, f.Name, value, oneLine(f.Usage))
		}
		for _, w := range words(c) {
			fmt.Fprintf(&b, "complete -c kestrix -n '__fish_seen_subcommand_from %s' -a %s\n", c.name, w)
		}
	}
	return b.String()
}
