package cli

import (
	"context"
	"flag"
	"fmt"
	"io"
	"slices"
	"strings"

	"kestrix/internal/core/check"
	"kestrix/internal/core/config"
	"kestrix/internal/live/inspect"
	"kestrix/internal/live/proxy"
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

-format is text, json, sarif (2.1.0, for code hosts) or junit (for CI servers).
A comment on the line, or alone above it, allows a finding for a reason:
# kestrix: allow KX203 because the gate speaks no http

  kestrix check harbour.hcl
  kestrix check -live harbour.hcl
  kestrix check -explain KX203
  kestrix check -strict -format json /etc/kestrix`,
		setup: func(fs *flag.FlagSet) func(context.Context, *Env, []string) error {
			var o output
			o.define(fs)
			var c checkFlags
			fs.StringVar(&c.explain, "explain", "", "tell all about the rule with this `ID`, such as KX203")
			fs.StringVar(&c.severity, "severity", "advice", "the least `SEVERITY` to show: error, warning or advice")
			strict := fs.Bool("strict", false, "warnings count as errors do")
			fs.BoolVar(&c.live, "live", false, "look at this machine as well: names, backends, probes, listeners, certificates, files that are written, the log server")
			fs.StringVar(&c.trace.file, "trace", "", "hold answer timeouts against the durations of requests in this `FILE`; - for stdin")
			fs.StringVar(&c.trace.frontend, "frontend", "", "with -trace: the `NAME` of the frontend of records that name none")
			fs.StringVar(&c.trace.host, "host", "", "with -trace: the `NAME` of the host of records that name none")
			c.trace.read.define(fs)
			fs.StringVar(&c.journal, "journal", "", "with -live: the `FILE` that serve -journal is to write")
			with := withFlag(fs)
			return func(ctx context.Context, env *Env, args []string) error {
				c.strict = *strict
				if err := c.check(&o); err != nil {
					return err
				}
				if c.journal != "" && !c.live {
					return usage("-journal has a meaning with -live only")
				}
				if err := c.trace.idle(fs); err != nil {
					return err
				}
				if c.explain != "" {
					if o.format != "text" && o.format != "json" {
						return usage("-explain is written as text or json, not as %s", o.format)
					}
					return explain(env, &o, c.explain)
				}
				if len(args) == 0 {
					return usage("no configuration is named; kestrix check CONFIG...")
				}
				return runCheck(ctx, env, &o, &c, args, *with)
			}
		},
	}
}

type checkFlags struct {
	explain, severity string
	journal           string
	trace             recordedFlags
	strict, live      bool
	least             config.Severity
}

func (c *checkFlags) check(o *output) error {
	switch o.format {
	case "text", "json", "sarif", "junit":
	default:
		return usage("-format cannot be %q; it is text, json, sarif or junit", o.format)
	}
	for _, s := range []config.Severity{config.Error, config.Warning, config.Advice} {
		if s.String() == c.severity {
			c.least = s
			return nil
		}
	}
	return usage("-severity cannot be %q; it is error, warning or advice", c.severity)
}

// fails reports whether a severity makes the exit code 1.
func (c *checkFlags) fails(s config.Severity) bool {
	return s == config.Error || c.strict && s == config.Warning
}

// explain prints a rule.
func explain(env *Env, o *output, id string) error {
	r := check.Find(strings.ToUpper(id))
	for _, l := range check.LiveRules {
		if l.ID == strings.ToUpper(id) {
			r = l
		}
	}
	if r == nil {
		var ids []string
		for _, r := range slices.Concat(check.Rules, check.LiveRules) {
			ids = append(ids, r.ID)
		}
		return usage("-explain: there is no rule %q; known: %s", id, strings.Join(ids, ", "))
	}
	return o.write(env, func(w io.Writer) error {
		if o.format == "json" {
			return writeJSON(w, report.RuleJSON(r))
		}
		_, err := io.WriteString(w, env.style(env.Stdout, o.noColour || o.file != "").Rule(r))
		return err
	})
}

func runCheck(ctx context.Context, env *Env, o *output, c *checkFlags, names, with []string) error {
	var sources []*source
	var all config.Findings
	var each []config.Findings
	var seen []check.Seen
	bad := false
	for _, name := range names {
		s, err := readConfig(name, with)
		if err != nil {
			return err
		}
		if c.live && !s.config.Broken {
			rows, more := inspect.Live(ctx, s.config, s.facts, c.journal, proxy.Options{ReadFile: besides(s.read[0])})
			seen = append(seen, rows...)
			s.found = append(s.found, more...)
			s.found.Sort()
		}
		if c.trace.file != "" && !s.config.Broken {
			more, err := c.timed(ctx, env, s.config)
			if err != nil {
				return err
			}
			s.found = append(s.found, more...)
			s.found.Sort()
		}
		s.found = slices.DeleteFunc(s.found, func(f config.Finding) bool { return f.Severity > c.least })
		for _, f := range s.found {
			bad = bad || c.fails(f.Severity)
		}
		sources = append(sources, s)
		all = append(all, s.found...)
		each = append(each, s.found)
	}
	err := o.write(env, func(w io.Writer) error {
		switch o.format {
		case "json":
			out := map[string]any{"findings": report.FindingsJSON(all)}
			if c.live {
				out["live"] = report.LiveJSON(seen)
			}
			return writeJSON(w, out)
		case "sarif":
			return writeJSON(w, report.SARIF(all, Version))
		case "junit":
			text, err := report.JUnit(names, each, c.fails)
			if err == nil {
				_, err = w.Write(text)
			}
			return err
		}
		style := env.style(env.Stdout, o.noColour || o.file != "")
		if c.live {
			if _, err := io.WriteString(w, style.Live(seen)+"\n"); err != nil {
				return err
			}
		}
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

// timed holds a configuration against the durations of a trace.
func (c *checkFlags) timed(ctx context.Context, env *Env, config *config.Config) (config.Findings, error) {
	t, err := check.NewTimed(config, c.trace.frontend, c.trace.host)
	if err != nil {
		return nil, usage("%v", err)
	}
	if err := c.trace.records(ctx, env, "check", t.Add); err != nil {
		return nil, err
	}
	return t.Findings(c.trace.file), nil
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
	var alike, others []string
	for _, p := range s.passed {
		if looksLikeHCL(p) {
			alike = append(alike, p)
		} else {
			others = append(others, p)
		}
	}
	if len(others) > 0 {
		line += " · passed over " + strings.Join(others, ", ")
	}
	if len(alike) > 0 {
		line += " · not read, though it looks like a configuration: " + strings.Join(alike, ", ")
	}
	return line + fmt.Sprintf(" · %s, %s", plural(len(s.config.Upstreams), "upstream"), plural(s.config.Backends(), "backend"))
}
