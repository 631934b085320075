package report

import (
	"fmt"
	"slices"
	"strings"

	"kestrix/internal/core/study"
)

// Compared is what the text of a comparison is made from.
type Compared struct {
	Names     []string // of the files, for the first line
	Upstreams []string // that were changed; none for all
	Ways      []study.Variant
	Result    *study.Comparison
}

// Compare writes several variants side by side.
func (s Style) Compare(p Compared) string {
	c := p.Result
	first := c.Runs[0].Result
	var b strings.Builder
	b.WriteString(s.bold(flow(strings.Join(append(slices.Clone(p.Names), fmt.Sprintf("seed %d", first.Model.Seed)), s.dot()), s.Width, 0)) + "\n")
	head := fmt.Sprintf("%s from %s in each of %s: the same moments, the same work, the same faults", plural(first.Requests, "request"), plural(first.Trace.Clients, "client"), plural(int64(len(c.Runs)), "variant"))
	if len(p.Upstreams) > 0 {
		head += "; figures of " + and(p.Upstreams)
	}
	b.WriteString(flow(head, s.Width, 0) + "\n")
	b.WriteString(s.assumed(first.Assumed))
	if c.Partial {
		b.WriteString(s.yellow("stopped early: what follows is partial") + "\n")
	}
	s.notes(&b, first)
	b.WriteByte('\n')
	s.variants(&b, c)
	for _, l := range p.remarks() {
		b.WriteString("  " + flow(l, s.Width, 4) + "\n")
	}
	for _, l := range overrun(c) {
		b.WriteString("  " + s.red(flow(l, s.Width, 4)) + "\n")
	}
	if len(c.Advice) > 0 {
		b.WriteString("\n" + s.bold("advice") + "\n")
		for _, a := range c.Advice {
			b.WriteString("  " + flow(a.Say, s.Width, 2) + "\n")
			b.WriteString("    because  " + flow(a.Because, s.Width, 13) + "\n")
			b.WriteString("    unless   " + flow(a.Unless, s.Width, 13) + "\n")
		}
	}
	return b.String()
}

// remarks returns what was left out, and what has no meaning in some variants, each once.
func (p Compared) remarks() []string {
	var out, whys []string
	left := map[string][]string{}
	for _, l := range p.Result.LeftOut {
		if left[l.Why] == nil {
			whys = append(whys, l.Why)
		}
		left[l.Why] = append(left[l.Why], l.Name)
	}
	for _, why := range whys {
		verb := " is left out: "
		if len(left[why]) > 1 {
			verb = " are left out: "
		}
		out = append(out, strings.Join(left[why], "; ")+verb+why)
	}
	for _, r := range p.Result.Runs {
		for _, n := range r.Notes {
			out = append(out, r.Name+": "+n)
		}
	}
	return out
}

// overrun returns in which upstreams requests wait without a pause up to the end, and in which
// variants.
func overrun(c *study.Comparison) []string {
	var names []string
	variants := map[string][]string{}
	for _, r := range c.Runs {
		for _, o := range r.Result.Overloaded {
			if variants[o.Upstream] == nil {
				names = append(names, o.Upstream)
			}
			variants[o.Upstream] = append(variants[o.Upstream], fmt.Sprintf("%s from %s on", r.Name, moment(o.From)))
		}
	}
	var out []string
	for _, n := range names {
		out = append(out, "in "+n+" requests wait without a pause: "+strings.Join(variants[n], "; "))
	}
	return out
}

// variants writes the table, the best of each column marked.
func (s Style) variants(b *strings.Builder, c *study.Comparison) {
	star := func(r *study.Run, key, text string) string {
		if slices.Contains(r.Best, key) {
			return s.bold(text) + "*"
		}
		return text + " "
	}
	cols := []column{
		{name: "variant", left: true}, {name: "spread ", drop: 3}, {name: "p50 ", drop: 5}, {name: "p95 ", drop: 4}, {name: "p99 ", drop: 1}, {name: "elapsed p99 "}, {name: "failed "},
		{name: "retried ", drop: 7}, {name: "moved ", drop: 4}, {name: "peak ", drop: 8}, {name: "on leave ", drop: 2},
	}
	timed := differ(c)
	if timed {
		cols = append(cols, column{name: "duration ", drop: 10}, column{name: "throughput ", drop: 6})
	}
	expects := mostExpected(c) > 0
	if expects {
		cols = append(cols, column{name: "met", drop: 1})
	}
	var rows [][]string
	best, now := false, false
	for i := range c.Runs {
		r := &c.Runs[i]
		f := &r.Figures
		name := s.bold(r.Name)
		if r.Configured && !strings.Contains(r.Name, "as configured") {
			name += " (now)"
			now = true
		}
		best = best || len(r.Best) > 0
		spread, leave := "-", "-"
		if f.Spread > 0 {
			spread = fmt.Sprintf("%.2f", f.Spread)
		}
		if f.MovedOnLeave != nil {
			leave = percent(*f.MovedOnLeave)
		}
		times := []string{"-", "-", "-"}
		if r.Result.Answered > 0 {
			t := timesOf(r.Result)
			times = []string{t.of(f.P50), t.of(f.P95), t.of(f.P99)}
		}
		failed := count(f.Failed)
		if f.Failed > 0 {
			failed = s.red(failed)
		}
		row := []string{
			name, star(r, "spread", spread), star(r, "p50", times[0]), star(r, "p95", times[1]), star(r, "p99", times[2]), star(r, "elapsed_p99", timesOf(r.Result).orDash(f.ElapsedP99)), star(r, "failed", failed),
			star(r, "retried", count(f.Retried)), star(r, "sessions_moved", count(f.SessionsMoved)), star(r, "peak_in_flight", count(int64(f.PeakInFlight))), star(r, "moved_on_leave", leave),
		}
		if timed {
			row = append(row, star(r, "duration", span(f.Duration)), star(r, "throughput", three(f.Throughput)+"/s"))
		}
		if expects {
			row = append(row, metText(r))
		}
		rows = append(rows, row)
	}
	if !anyLost(c) {
		cols, rows = without("elapsed p99 ", cols, rows) // it is as p99
	}
	b.WriteString(s.table(cols, rows, 2))
	var notes []string
	if best {
		notes = append(notes, "* the best of its column")
	}
	if now {
		notes = append(notes, "(now) as configured")
	}
	if len(notes) > 0 {
		b.WriteString("  " + flow(strings.Join(notes, ", "), s.Width, 2) + "\n")
	}
}

// anyLost reports whether in some variant a request failed, or its client left.
func anyLost(c *study.Comparison) bool {
	return slices.ContainsFunc(c.Runs, func(r study.Run) bool { return r.Result.Failed+r.Result.ClientLeft > 0 })
}

// differ reports whether variants answer at noticeably different rates, as where clients wait
// for their answers or much fails.
func differ(c *study.Comparison) bool {
	low, high := c.Runs[0].Figures.Throughput, 0.0
	for _, r := range c.Runs {
		low, high = min(low, r.Figures.Throughput), max(high, r.Figures.Throughput)
	}
	return high > low*1.02
}

// mostExpected is how many expectations there are.
func mostExpected(c *study.Comparison) int {
	n := 0
	for _, r := range c.Runs {
		n = max(n, len(r.Result.Expectations))
	}
	return n
}

// metText returns how many expectations are met, - where none can be told.
func metText(r *study.Run) string {
	if len(r.Result.Expectations) == 0 {
		return "-"
	}
	return fmt.Sprintf("%d of %d", metOf(r), len(r.Result.Expectations))
}

// metOf counts the expectations that are met.
func metOf(r *study.Run) int {
	n := 0
	for _, v := range r.Result.Expectations {
		if v.Met {
			n++
		}
	}
	return n
}

// and joins names as in "a, b and c".
func and(names []string) string {
	if n := len(names); n > 1 {
		return strings.Join(names[:n-1], ", ") + " and " + names[n-1]
	}
	return strings.Join(names, "")
}
