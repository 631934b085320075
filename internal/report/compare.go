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
	return s.fitted(func(s Style) string { return s.compareText(p) })
}

func (s Style) compareText(p Compared) string {
	c := p.Result
	first := c.Runs[0].Result
	var b strings.Builder
	b.WriteString(flow(strings.Join(append(slices.Clone(p.Names), fmt.Sprintf("seed %d", first.Model.Seed)), s.dot()), s.Width, 0) + "\n")
	if len(c.Advice) > 0 {
		b.WriteString(s.bold(flow(c.Advice[0].Say, s.Width, 2)) + "\n")
	} else if text := p.noAdvice(); text != "" {
		b.WriteString(flow(text, s.Width, 0) + "\n")
	}
	head := fmt.Sprintf("%s from %s in each of %s, with the same arrivals, work and faults", plural(first.Requests, "request"), plural(first.Trace.Clients, "client"), plural(int64(len(c.Runs)), "variant"))
	if len(p.Upstreams) > 0 {
		head += "; figures of " + and(p.Upstreams)
	}
	b.WriteString(flow(head, s.Width, 0) + "\n")
	b.WriteString(flow(p.certainty(), s.Width, 0) + "\n")
	b.WriteString(s.assumed(first.Assumed))
	if c.Partial {
		b.WriteString(s.warn("stopped early: figures are partial") + "\n")
	}
	s.notes(&b, first)
	b.WriteByte('\n')
	s.variants(&b, p)
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
		verb := " was not compared: "
		if len(left[why]) > 1 {
			verb = " were not compared: "
		}
		out = append(out, strings.Join(left[why], "; ")+verb+why)
	}
	if n := p.Result.Runs[0].Result.Requests; n < enough {
		out = append(out, fmt.Sprintf("%s are too few for advice; %s or more show a load and not only its beginning", plural(n, "request"), count(enough)))
	}
	if first := p.Result.Runs[0].Result; p.aboutSessions() && !first.Sessions.Known {
		out = append(out, "misses matter only if the application keeps sessions, which neither the trace nor the scenario declares (clients { sessions = true })")
	}
	for _, r := range p.Result.Runs {
		for _, n := range r.Notes {
			out = append(out, r.Name+": "+n)
		}
	}
	return out
}

// overrun returns the upstreams that are over capacity up to the end, with the variants.
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
		out = append(out, fmt.Sprintf("%s is over capacity, with seed %d: ", n, c.Runs[0].Result.Model.Seed)+strings.Join(variants[n], "; "))
	}
	return out
}

// certainty words with how many seeds the figures were found, and of which arrivals they are.
func (p Compared) certainty() string {
	c := p.Result
	if c.Seeds == 1 {
		return "1 seed: variants may differ by chance alone"
	}
	arrivals := "for exactly these arrivals; -resample draws other clients of the trace for each seed"
	switch {
	case p.Ways[0].Scenario != nil && p.Ways[0].Scenario.Load != nil:
		arrivals = "each seed with arrivals of its own"
	case c.Resampled:
		arrivals = "each seed with clients drawn from the trace with replacement"
	}
	return fmt.Sprintf("medians of %d seeds, below each its range, %s; %s", c.Seeds, rangeMeans(c.Seeds), arrivals)
}

// noAdvice returns why there is no advice where more seeds could give one; else nothing.
func (p Compared) noAdvice() string {
	if p.Result.Seeds >= p.Result.Needed {
		return ""
	}
	return fmt.Sprintf("no advice: %s cannot rule out chance; use -seeds %d or more", plural(int64(p.Result.Seeds), "seed"), p.Result.Needed)
}

// rangeMeans words what a range across so many seeds is.
func rangeMeans(seeds int) string {
	if seeds >= wholeRange {
		return "that of 95 % of the seeds"
	}
	return "minimum to maximum"
}

// compareHeads are the heads of the columns of text, with what is dropped first where a
// terminal is narrow.
var compareHeads = map[string]column{
	"spread": {name: "spread ", drop: 1}, "p50": {name: "p50 ", drop: 8}, "p95": {name: "p95 ", drop: 7}, "p99": {name: "p99 ", drop: 6}, "elapsed_p99": {name: "elapsed p99 "}, "failed": {name: "failed "},
	"retried": {name: "retried ", drop: 9}, "spilled": {name: "spilled ", drop: 3}, "sessions_moved": {name: "sessions moved ", drop: 4}, "peak_in_flight": {name: "peak ", drop: 10}, "moved_on_leave": {name: "moved on leave ", drop: 2},
	"session_misses": {name: "session misses "}, "pushed_on_leave": {name: "pushed on leave ", drop: 3}, "duration": {name: "duration ", drop: 12}, "throughput": {name: "throughput ", drop: 5},
}

// shownMeasures returns the keys of the figures that are worth a column.
func (p Compared) shownMeasures() (keys []string) {
	c := p.Result
	for _, m := range study.Measures {
		never := !slices.ContainsFunc(c.Runs, func(r study.Run) bool { v, ok := m.Of(&r.High); return ok && v > 0 })
		switch {
		case never && (m.Key == "retried" || m.Key == "spilled" || m.Key == "sessions_moved"):
		case m.Key == "session_misses" && !c.Runs[0].Result.Sessions.Known && !p.aboutSessions():
		case m.Key == "pushed_on_leave" && !slices.ContainsFunc(c.Runs, func(r study.Run) bool { return r.Figures.PushedOnLeave != nil && *r.Figures.PushedOnLeave >= 0.0005 }):
		case (m.Key == "duration" || m.Key == "throughput") && !differ(c):
		case m.Key == "elapsed_p99" && !anyLost(c): // it is as p99
		default:
			keys = append(keys, m.Key)
		}
	}
	return keys
}

// aboutSessions reports whether ways to keep clients are compared.
func (p Compared) aboutSessions() bool {
	return slices.ContainsFunc(p.Ways, func(w study.Variant) bool { return w.Sticky != "" })
}

// variants writes the table, the best of each column marked.
func (s Style) variants(b *strings.Builder, p Compared) {
	c, keys := p.Result, p.shownMeasures()
	cols := []column{{name: "variant", left: true}}
	for _, k := range keys {
		col := compareHeads[k]
		if k == "p99" && !slices.Contains(keys, "elapsed_p99") {
			col.drop = 1 // it is as p99
		}
		cols = append(cols, col)
	}
	expects := mostExpected(c) > 0
	if expects {
		cols = append(cols, column{name: "met", drop: 1})
	}
	var rows [][]string
	best, now := false, false
	for i := range c.Runs {
		r := &c.Runs[i]
		name := s.bold(r.Name)
		if r.Configured && !strings.Contains(r.Name, "as configured") {
			name += " (now)"
			now = true
		}
		best = best || len(r.Best) > 0
		row, ranges, varies := []string{name}, []string{""}, false
		for _, k := range keys {
			cell := figureCell(k, &r.Figures, r)
			if k == "failed" && r.Figures.Failed > 0 {
				cell = s.red(cell)
			}
			if slices.Contains(r.Best, k) {
				cell = s.bold(cell) + "*"
			} else {
				cell += " "
			}
			lies := rangeCell(k, r)
			varies = varies || lies != ""
			row, ranges = append(row, cell), append(ranges, lies+" ")
		}
		if expects {
			row, ranges = append(row, metText(r)), append(ranges, "")
		}
		if rows = append(rows, row); varies {
			rows = append(rows, ranges)
		}
	}
	b.WriteString(s.table(cols, rows, 2))
	var notes []string
	switch {
	case best:
		notes = append(notes, "* no other variant is better beyond chance")
	case c.Seeds >= c.Needed:
		notes = append(notes, "no two variants differ beyond chance")
	}
	if now {
		notes = append(notes, "(now) as configured")
	}
	if len(notes) > 0 {
		b.WriteString("  " + flow(strings.Join(notes, "; "), s.Width, 2) + "\n")
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
	return high > low*1.1
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
