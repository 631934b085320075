package cli

import (
	"context"
	"flag"
	"io"
	"slices"
	"strings"

	"kestrix/internal/core/check"
	"kestrix/internal/core/config"
	"kestrix/internal/report"
)

func checkCommand() *command {
	return &command{
		name: "check", group: "write and check", args: "CONFIG...",
		summary: "report errors, warnings and advice, each with its place, a witness and a fix",
		help: `
CONFIG is a file, a folder, or - for stdin. The .hcl files of a folder are read as
one configuration; .scenario.hcl files are not part of it. Several CONFIGs are
checked one by one.

exit code:
  0  no errors (with -strict: no errors and no warnings)
  1  errors
  2  wrong usage
  3  a file that cannot be read as a configuration

A comment on a line, or alone above it, allows a finding and must name a reason:
  # kestrix: allow KX203, KX206 because the gate does not speak HTTP

A file .kestrix-rules sets the severity of rules, one rule per line. check looks for
it in the folder of the configuration and above, within the same repository. The
severity of errors cannot be changed.
  KX307 warning
  KX512 off because our clients retry

-fix applies the edits of the reported findings and checks again after each edit. It
undoes an edit that fixes nothing or causes another finding. Comments and layout do
not change.

examples:
  kestrix check harbour.hcl
  kestrix check -live harbour.hcl
  kestrix check -explain KX203
  kestrix check -fix -diff harbour.hcl
  kestrix check -strict -format json /etc/kestrix`,
		setup: func(fs *flag.FlagSet) func(context.Context, *Env, []string) error {
			var o output
			o.define(fs)
			var c checkFlags
			fs.StringVar(&c.explain, "explain", "", "`ID` of a rule to explain, such as KX203")
			fs.StringVar(&c.severity, "severity", "advice", "lowest `SEVERITY` to show; the exit code does not depend on it:\nerror\nwarning\nadvice")
			fs.BoolVar(&c.strict, "strict", false, "treat warnings as errors")
			fs.BoolVar(&c.live, "live", false, "also test this machine: names, backends, probes, listeners, certificates, files to write, the log server")
			fs.StringVar(&c.trace.file, "trace", "", "trace `FILE` whose durations are compared with the answer timeouts; - for stdin")
			fs.StringVar(&c.trace.frontend, "frontend", "", "with -trace: `NAME` of the frontend for records without one")
			fs.StringVar(&c.trace.host, "host", "", "with -trace: `NAME` of the host for records without one")
			c.trace.read.define(fs)
			fs.StringVar(&c.journal, "journal", "", "with -live: `FILE` that serve -journal will write")
			fs.StringVar(&c.baseline, "baseline", "", "`FILE` with an earlier result of -format json; its findings are not reported again")
			fs.StringVar(&c.since, "changed-since", "", "`REVISION` of git; reports findings in lines that differ from it, and errors")
			fs.BoolVar(&c.fix, "fix", false, "apply the edits of the findings and check again")
			fs.BoolVar(&c.diff, "diff", false, "with -fix: show the edits instead of applying them")
			c.with = withFlag(fs)
			return func(ctx context.Context, env *Env, args []string) error {
				if err := c.check(&o, fs, args); err != nil {
					return err
				}
				if c.explain != "" {
					return explain(env, &o, c.explain)
				}
				if c.fix {
					return c.makeEdits(ctx, env, &o, args)
				}
				return c.run(ctx, env, &o, args)
			}
		},
	}
}

type checkFlags struct {
	explain, severity        string
	journal, baseline, since string
	trace                    recordedFlags
	strict, live, fix, diff  bool
	with                     *list
	least                    config.Severity
}

// check returns what is wrong with the usage.
func (c *checkFlags) check(o *output, fs *flag.FlagSet, args []string) error {
	if err := formOf("check", o.format); err != nil {
		return err
	}
	least, err := severityOf(c.severity)
	if err != nil {
		return err
	}
	c.least = least
	conflicts := c.inputConflicts
	switch {
	case c.explain != "":
		conflicts = c.explainConflicts
	case c.fix:
		conflicts = c.fixConflicts
	}
	for _, no := range conflicts(o, args) {
		if no.wrong {
			return no.say
		}
	}
	if err := places(o.file); err != nil {
		return err
	}
	return c.trace.idle(fs)
}

// conflict is a combination of flags and arguments that has no meaning.
type conflict struct {
	wrong bool
	say   error
}

// explainConflicts returns what cannot stand beside -explain.
func (c *checkFlags) explainConflicts(o *output, args []string) []conflict {
	return []conflict{
		{len(args) > 0, usage("-explain shows a rule and reads no configuration; leave %s out", append(args, "")[0])},
		{c.live || c.fix || c.diff || c.strict || len(*c.with) > 0 || c.journal != "" || c.trace.file != "" || c.baseline != "" || c.since != "", usage("-explain shows a rule; leave the flags that check a configuration out")},
		{o.format != "text" && o.format != "json", usage("-explain is written as text or json, not as %s", o.format)},
	}
}

// fixConflicts returns what cannot stand beside -fix.
func (c *checkFlags) fixConflicts(o *output, args []string) []conflict {
	return append([]conflict{
		{o.format != "text", usage("-fix tells what it did as text; check again with -format %s", o.format)},
		{c.live || c.trace.file != "" || c.baseline != "", usage("-fix goes by the configuration alone; leave -live, -trace and -baseline out")},
		{slices.Contains(args, "-"), usage("-fix cannot write to stdin")},
		{len(*c.with) > 0 && len(args) > 1, usage("-fix with -with takes one configuration: two would each change the files of -with")},
	}, c.inputConflicts(o, args)...)
}

// inputConflicts returns what is wrong with the inputs of a check.
func (c *checkFlags) inputConflicts(_ *output, args []string) []conflict {
	return []conflict{
		{c.journal != "" && !c.live, usage("-journal has a meaning with -live only")},
		{c.diff && !c.fix, usage("-diff shows the edits of -fix; name both")},
		{c.trace.file == "-" && len(args) > 1, usage("-trace - takes one configuration: stdin can be read once")},
		{c.trace.file == "-" && slices.Contains(args, "-"), usage("stdin is either the configuration or the trace")},
		{strings.HasPrefix(c.since, "-"), usage("-changed-since takes a revision of git, and %q is none", c.since)},
		{len(args) == 0, usage("no configuration is named; kestrix check CONFIG...")},
	}
}

// severityOf returns the severity of a name.
func severityOf(name string) (config.Severity, error) {
	for _, s := range []config.Severity{config.Error, config.Warning, config.Advice} {
		if s.String() == name {
			return s, nil
		}
	}
	return 0, usage("-severity cannot be %q; it is error, warning or advice", name)
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
		slices.Sort(ids)
		return usage("-explain: there is no rule %q; known: %s", id, strings.Join(ids, ", "))
	}
	return o.write(env, func(w io.Writer) error {
		if o.format == "json" {
			return writeJSON(w, report.RuleJSON(r))
		}
		_, err := io.WriteString(w, o.style(env).Rule(r))
		return err
	})
}
