package cli

import (
	"context"
	"flag"
	"io"
	"slices"
	"strings"
)

func completionCommand() *command {
	return &command{
		name: "completion", group: "the program", args: "bash|zsh|fish",
		summary: "print a completion script for a shell",
		help: `
The script completes commands, flags, their values, and names in configurations.

examples:
  kestrix completion bash >/etc/bash_completion.d/kestrix
  kestrix completion zsh >"${fpath[1]}/_kestrix"
  kestrix completion fish >~/.config/fish/completions/kestrix.fish`,
		setup: func(fs *flag.FlagSet) func(context.Context, *Env, []string) error {
			o := output{format: "text"}
			fs.StringVar(&o.file, "o", "", "write the result to `FILE` instead of stdout")
			return func(_ context.Context, env *Env, args []string) error {
				if len(args) > 1 && args[0] == "words" { // as the scripts ask
					return o.write(env, func(w io.Writer) error { return completeWords(w, args[1:]) })
				}
				if len(args) != 1 {
					return usage("one shell is required: kestrix completion bash, zsh or fish")
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

// The scripts ask the program itself what may stand there: a word a line, with what it is for behind a tab; ":files"
// has the shell complete names of files as well.

func bashCompletion() string {
	return `# bash completion for kestrix
_kestrix() {
  local cur="${COMP_WORDS[COMP_CWORD]}" word about
  COMPREPLY=()
  while IFS=$'\t' read -r word about; do
    if [ "$word" = ":files" ]; then
      while IFS= read -r word; do COMPREPLY+=("$word"); done < <(compgen -f -- "$cur")
    else
      COMPREPLY+=("$word")
    fi
  done < <("${COMP_WORDS[0]}" completion words -- "${COMP_WORDS[@]:1:COMP_CWORD}" 2>/dev/null)
}
complete -o filenames -F _kestrix kestrix
`
}

func zshCompletion() string {
	return `#compdef kestrix
_kestrix() {
  local -a known
  local word about files=
  while IFS=$'\t' read -r word about; do
    if [[ $word == :files ]]; then
      files=1
    else
      known+=("${word//:/\\:}:$about")
    fi
  done < <("${words[1]}" completion words -- "${(@)words[2,CURRENT]}" 2>/dev/null)
  (( $#known )) && _describe -V kestrix known
  [[ -n $files ]] && _files
  return 0
}
if [[ $funcstack[1] == _kestrix ]]; then
  _kestrix "$@"
else
  compdef _kestrix kestrix
fi
`
}

func fishCompletion() string {
	return `# fish completion for kestrix
function __kestrix_words
  set -l line (commandline -opc)
  for word in ($line[1] completion words -- $line[2..-1] (commandline -ct) 2>/dev/null)
    if test "$word" = :files
      __fish_complete_path (commandline -ct)
    else
      echo $word
    end
  end
end
complete -c kestrix -f -a '(__kestrix_words)'
`
}
