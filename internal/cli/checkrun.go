package cli

import (
	"context"
	"errors"
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

// verdict is a configuration that was checked, and what is said of it.
type verdict struct {
	*source
	all     []report.Checked // every finding that counts or is old
	hidden  int              // less severe than is shown
	old     int              // of the baseline
	outside int              // in lines that did not change
	off     int              // of rules that the repository has off
	levels  string           // the file that says so
}

// shown returns the findings that are printed.
func (x *verdict) shown(least config.Severity) config.Findings {
	var out config.Findings
	for _, f := range x.all {
		if !f.Old && f.Severity <= least {
			out = append(out, f.Finding)
		}
	}
	return out
}

// run checks configurations and says what was found.
func (c *checkFlags) run(ctx context.Context, env *Env, o *output, names []string) error {
	var all []*verdict
	var seen []check.Seen
	var unread []report.Unread
	var first error
	base, err := readBaseline(c.baseline)
	if err != nil {
		return err
	}
	bad := false
	for _, name := range names {
		x, rows, err := c.one(ctx, env, name, base)
		if err != nil {
			var unfit *config.UnusableError
			if o.format != "json" || ctx.Err() != nil {
				return err
			}
			u := report.Unread{File: name, Why: err.Error()}
			if errors.As(err, &unfit) {
				u = report.Unread{File: unfit.File, Line: unfit.Line, Column: unfit.Column, Why: unfit.What}
			}
			unread = append(unread, u)
			if first == nil {
				first = err
			}
			continue
		}
		seen = append(seen, rows...)
		for _, f := range x.all {
			bad = bad || !f.Old && c.fails(f.Severity)
		}
		all = append(all, x)
	}
	if err := o.write(env, func(w io.Writer) error { return c.put(env, o, w, all, seen, unread) }); err != nil {
		return err
	}
	switch {
	case first != nil:
		return first
	case bad:
		return &exitError{exitFound, nil}
	}
	return nil
}

// one checks one configuration.
func (c *checkFlags) one(ctx context.Context, env *Env, name string, base map[string]bool) (*verdict, []check.Seen, error) {
	s, err := readFiles(env.Stdin, name, *c.with)
	if err == nil {
		err = s.hold(true)
	}
	if err != nil {
		return nil, nil, err
	}
	var seen []check.Seen
	if c.live && !s.config.Broken {
		rows, more := inspect.Live(ctx, s.config, s.facts, c.journal, proxy.Options{Path: beside(s.read[0]), ReadFile: besides(s.read[0])})
		seen = rows
		s.found = append(s.found, more...)
	}
	if c.trace.file != "" && !s.config.Broken {
		more, err := c.timed(ctx, env, s.config)
		if err != nil {
			return nil, nil, err
		}
		s.found = append(s.found, more...)
	}
	x := &verdict{source: s}
	if err := x.level(); err != nil {
		return nil, nil, err
	}
	s.found.Sort()
	changed, err := changedSince(ctx, c.since, s.read)
	if err != nil {
		return nil, nil, err
	}
	marks := check.Fingerprints(s.found, s.config.Files) // in which secrets are hidden
	for i, f := range s.found {
		one := report.Checked{Finding: f, Fingerprint: marks[i], Old: base[marks[i]]}
		switch {
		case one.Old:
			x.old++
		case f.Severity != config.Error && !changed.has(f.Range.Filename, f.Range.Start.Line, f.Range.End.Line):
			x.outside++
			continue
		case f.Severity > c.least:
			x.hidden++
		}
		x.all = append(x.all, one)
	}
	return x, seen, nil
}

// level takes findings as severe as the repository does.
func (x *verdict) level() error {
	name, levels, err := levelsFor(x.read[0])
	if err != nil {
		return err
	}
	x.levels = name
	x.found, x.off = levels.Apply(x.found)
	return nil
}

// put writes what was found in the form that is wanted. Only text hides what is less severe than is
// shown by leaving it out and saying so; the others leave it out.
func (c *checkFlags) put(env *Env, o *output, w io.Writer, all []*verdict, seen []check.Seen, unread []report.Unread) error {
	var shown []report.Checked
	var allowed []check.Allowed
	var names []string
	var each []config.Findings
	for _, x := range all {
		for _, f := range x.all {
			if f.Severity <= c.least {
				shown = append(shown, f)
			}
		}
		allowed = append(allowed, x.allowed...)
		names, each = append(names, x.name), append(each, x.shown(c.least))
	}
	switch o.format {
	case "json":
		out := map[string]any{"findings": report.FindingsJSON(shown)}
		if c.live {
			out["live"] = report.LiveJSON(seen)
		}
		if unread != nil {
			out["unread"] = unread
		}
		return writeJSON(w, out)
	case "sarif":
		return writeJSON(w, report.SARIF(shown, allowed, c.baseline != "", Version))
	case "annotations":
		_, err := io.WriteString(w, report.Annotations(slices.Concat(each...)))
		return err
	case "junit":
		text, err := report.JUnit(names, each, c.fails)
		if err == nil {
			_, err = w.Write(text)
		}
		return err
	}
	style := o.style(env)
	if c.live {
		if _, err := io.WriteString(w, style.Live(seen)+"\n"); err != nil {
			return err
		}
	}
	for i, x := range all {
		if _, err := io.WriteString(w, style.Findings(each[i], x.config.Files)+x.summary(c, each[i])+"\n"); err != nil {
			return err
		}
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
	if t.Compared() == 0 {
		return nil, unusable(fmt.Errorf("%s: no record can be compared: none has a duration, a status below 500 and a route to an upstream. -fields names the duration of log lines, -host the host", c.trace.file))
	}
	return t.Findings(c.trace.file), nil
}

// summary is the last line of check: how much was found and read, and what is not shown.
func (x *verdict) summary(c *checkFlags, shown config.Findings) string {
	n := len(shown)
	line := "no findings"
	if n > 0 {
		var parts []string
		for _, sev := range []config.Severity{config.Error, config.Warning, config.Advice} {
			if k := shown.Count(sev); k > 0 {
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
	for _, h := range []struct {
		n   int
		why string
	}{
		{x.hidden, "hidden by -severity " + c.severity}, {x.old, "in " + c.baseline + " already"}, {x.outside, "in lines that did not change"}, {x.off, "of rules that are off in " + x.levels},
	} {
		if h.n > 0 {
			line += fmt.Sprintf(" · %d %s", h.n, h.why)
		}
	}
	if n := len(x.allowed); n > 0 {
		line += fmt.Sprintf(" · %d allowed by comments", n)
	}
	line += " · read " + strings.Join(x.read, ", ")
	var alike, others []string
	for _, p := range x.passed {
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
	return line + fmt.Sprintf(" · %s, %s", plural(len(x.config.Upstreams), "upstream"), plural(x.config.Backends(), "backend"))
}
