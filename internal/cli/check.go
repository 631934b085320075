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
		name: "check", args: "CONFIG...", summary: "errors and advice, each with its place and a witness",
		help: `
CONFIG is a file, a folder whose .hcl files are read as one configuration
(.scenario.hcl files are passed over), or - for stdin. Several are each checked on their own.

exit code: 0 fine; 1 errors were found (with -strict warnings too);
2 wrong usage; 3 a file that cannot be read as a configuration at all

-format is text, json, sarif (2.1.0, for code hosts), junit (for CI servers) or annotations
(workflow command lines, which code hosts show beside the lines).
A comment on the line, or alone above it, allows findings for a reason:
# kestrix: allow KX203, KX206 because the gate speaks no http

A file .kestrix-rules in the folder of a configuration, or in one above it in the same repository,
says how severe rules are taken there, a line each: KX307 warning, or
KX512 off because our clients ask again. Errors stay errors.

-fix makes the edits that rules know, for the findings that are shown. It checks again after each edit and
takes back an edit that fixes nothing or causes another finding. Comments and layout stay. With -diff the files
are left alone and the edits shown.

-baseline FILE takes an earlier result of -format json: what stands there does not fail.
-changed-since REV shows findings in lines that differ from that revision of git, and errors; what a
change does to lines that are as they were is not among them.

  kestrix check harbour.hcl
  kestrix check -live harbour.hcl
  kestrix check -explain KX203
  kestrix check -fix -diff harbour.hcl
  kestrix check -strict -format json /etc/kestrix`,
		setup: func(fs *flag.FlagSet) func(context.Context, *Env, []string) error {
			var o output
			o.define(fs)
			var c checkFlags
			fs.StringVar(&c.explain, "explain", "", "tell all about the rule with this `ID`, such as KX203")
			fs.StringVar(&c.severity, "severity", "advice", "the least `SEVERITY` to show: error, warning or advice; it changes no exit code")
			fs.BoolVar(&c.strict, "strict", false, "warnings count as errors do")
			fs.BoolVar(&c.live, "live", false, "look at this machine as well: names, backends, probes, listeners, certificates, files that are written, the log server")
			fs.StringVar(&c.trace.file, "trace", "", "hold answer timeouts against the durations of requests in this `FILE`; - for stdin")
			fs.StringVar(&c.trace.frontend, "frontend", "", "with -trace: the `NAME` of the frontend of records that name none")
			fs.StringVar(&c.trace.host, "host", "", "with -trace: the `NAME` of the host of records that name none")
			c.trace.read.define(fs)
			fs.StringVar(&c.journal, "journal", "", "with -live: the `FILE` that serve -journal is to write")
			fs.StringVar(&c.baseline, "baseline", "", "an earlier result of -format json, in this `FILE`: what stands there does not fail")
			fs.StringVar(&c.since, "changed-since", "", "only what stands in lines that differ from this `REV` of git, and errors")
			fs.BoolVar(&c.fix, "fix", false, "make the edits that rules know, and check again")
			fs.BoolVar(&c.diff, "diff", false, "with -fix: show the edits instead of making them")
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
	stdin := slices.Contains(args, "-")
	for _, no := range []struct {
		wrong bool
		say   error
	}{
		{c.journal != "" && !c.live, usage("-journal has a meaning with -live only")},
		{c.explain != "" && o.format != "text" && o.format != "json", usage("-explain is written as text or json, not as %s", o.format)},
		{c.diff && !c.fix, usage("-diff shows the edits of -fix; name both")},
		{c.fix && o.format != "text", usage("-fix tells what it did as text; check again with -format %s", o.format)},
		{c.fix && (c.live || c.trace.file != "" || c.baseline != ""), usage("-fix goes by the configuration alone; leave -live, -trace and -baseline out")},
		{c.fix && stdin, usage("-fix cannot write to stdin")},
		{c.fix && len(*c.with) > 0 && len(args) > 1, usage("-fix with -with takes one configuration: two would each change the files of -with")},
		{c.trace.file == "-" && len(args) > 1, usage("-trace - takes one configuration: stdin can be read once")},
		{c.trace.file == "-" && stdin, usage("stdin is either the configuration or the trace")},
		{strings.HasPrefix(c.since, "-"), usage("-changed-since takes a revision of git, and %q is none", c.since)},
		{c.explain == "" && len(args) == 0, usage("no configuration is named; kestrix check CONFIG...")},
	} {
		if no.wrong {
			return no.say
		}
	}
	if err := places(o.file); err != nil {
		return err
	}
	return c.trace.idle(fs)
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
