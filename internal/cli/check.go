package cli

import (
	"context"
	"flag"
	"fmt"
	"io"
	"strings"

	"kestrix/internal/core/config"
	"kestrix/internal/report"
)

func checkCommand() *command {
	return &command{
		name: "check", args: "CONFIG...", summary: "errors and advice, each with its place and a witness",
		help: `
CONFIG is a file, or a folder whose .hcl files are read as one configuration
(.scenario.hcl files are passed over). Several are each checked on their own.

exit code: 0 fine; 1 errors were found (with -strict warnings too);
2 wrong usage; 3 a file that cannot be read as a configuration at all

  kestrix check harbour.hcl
  kestrix check -strict -format json /etc/kestrix`,
		setup: func(fs *flag.FlagSet) func(context.Context, *Env, []string) error {
			var o output
			o.define(fs)
			strict := fs.Bool("strict", false, "warnings count as errors do")
			with := withFlag(fs)
			return func(_ context.Context, env *Env, args []string) error {
				if err := o.check(); err != nil {
					return err
				}
				if len(args) == 0 {
					return usage("no configuration is named; kestrix check CONFIG...")
				}
				return runCheck(env, &o, args, *with, *strict)
			}
		},
	}
}

func runCheck(env *Env, o *output, names, with []string, strict bool) error {
	var sources []*source
	bad := false
	for _, name := range names {
		s, err := readConfig(name, with)
		if err != nil {
			return err
		}
		sources = append(sources, s)
		bad = bad || s.found.Count(config.Error) > 0 || strict && s.found.Count(config.Warning) > 0
	}
	err := o.write(env, func(w io.Writer) error {
		if o.format == "json" {
			all := []report.Finding{}
			for _, s := range sources {
				all = append(all, report.FindingsJSON(s.found)...)
			}
			return writeJSON(w, map[string]any{"findings": all})
		}
		style := env.style(env.Stdout, o.plain || o.file != "")
		for _, s := range sources {
			if _, err := io.WriteString(w, style.Findings(s.found, s.config.Files)+summary(s)+"\n"); err != nil {
				return err
			}
		}
		return nil
	})
	if err != nil {
		return err
	}
	if bad {
		return &exitError{exitFound, nil}
	}
	return nil
}

// summary is the last line of check: how much was found and read.
func summary(s *source) string {
	n := len(s.found)
	line := "no findings"
	if n > 0 {
		var parts []string
		for _, sev := range []config.Severity{config.Error, config.Warning, config.Advice} {
			if k := s.found.Count(sev); k > 0 {
				word := sev.String()
				if sev == config.Advice {
					parts = append(parts, fmt.Sprintf("%d %s", k, word))
				} else {
					parts = append(parts, plural(k, word))
				}
			}
		}
		line = plural(n, "finding") + ": " + strings.Join(parts, ", ")
	}
	line += " · read " + strings.Join(s.read, ", ")
	if len(s.passed) > 0 {
		line += " · passed over " + strings.Join(s.passed, ", ")
	}
	return line + fmt.Sprintf(" · %s, %s", plural(len(s.config.Upstreams), "upstream"), plural(s.config.Backends(), "backend"))
}
