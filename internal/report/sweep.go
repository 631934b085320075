package report

import (
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"
	"time"

	"kestrix/internal/core/config"
	"kestrix/internal/core/result"
	"kestrix/internal/core/scenario"
	"kestrix/internal/core/study"
)

// Sweep writes what came of failing everything in turn, the worst first.
func (s Style) Sweep(w *study.Sweep) string {
	var b strings.Builder
	of := w.Of
	b.WriteString(s.bold(flow(strings.Join(append(slices.Clone(of.Names), fmt.Sprintf("seed %d", of.Seed)), s.dot()), s.Width, 0)) + "\n")
	if of.Cases == 0 {
		b.WriteString(s.yellow("stopped before anything was failed") + "\n")
		return b.String()
	}
	b.WriteString(flow(fmt.Sprintf("%s in %s from %s; each case fails from %s to %s, the busiest time, when %s come a second",
		plural(of.Requests, "request"), clock(of.Duration), plural(of.Clients, "client"), moment(of.At), moment(of.Until), three(of.Rate)), s.Width, 0) + "\n")
	if w.Partial {
		b.WriteString(s.yellow(flow(fmt.Sprintf("stopped early: what follows is partial, %s of %s", count(int64(len(w.Cases))), plural(int64(of.Cases), "case")), s.Width, 0)) + "\n")
	}
	b.WriteString(s.assumed(of.Assumed))
	s.notes(&b, &result.Replay{Trace: of.Trace})
	if w.Worst != nil {
		b.WriteString("\n" + s.bold("the worst") + "\n  " + flow(worstOf(w), s.Width, 2) + "\n")
	}
	if len(w.Single) > 0 {
		b.WriteString("\n" + s.bold("single points of failure") + "\n")
		for _, p := range w.Single {
			b.WriteString("  " + s.bold(p.Name) + flowFrom(": without it "+p.Upstream+" has no backend left for its "+plural(p.Requests, "request"), s.Width, 2+visible(p.Name), 4) + "\n")
		}
	}
	s.sweepCases(&b, w)
	s.limits(&b, w)
	for _, n := range w.Notes {
		b.WriteString("  " + flow(n, s.Width, 4) + "\n")
	}
	if w.Worst != nil && w.Worst.During.Failed > w.Baseline.Failed {
		b.WriteString("\nto see all of the worst, kestrix replay with this in the scenario:\n" + faultText(w))
	}
	return b.String()
}

// faultText writes the worst case as a scenario has it.
func faultText(w *study.Sweep) string {
	x := w.Worst
	var names []string
	for _, f := range x.Failed {
		names = append(names, strconv.Quote(f))
	}
	who := names[0]
	if len(names) > 1 {
		who = "[" + strings.Join(names, ", ") + "]"
	}
	at := func(sec float64) string {
		return config.FormatDuration(time.Duration(math.Round(sec*1e3)) * time.Millisecond)
	}
	return fmt.Sprintf("  fault %q {\n    backend = %s\n    kind    = %q\n    at      = %q\n    until   = %q\n  }\n", "the worst", who, x.Kind, at(w.Of.At), at(w.Of.Until))
}

// worstOf tells of the worst case in words.
func worstOf(w *study.Sweep) string {
	t := times(w.Of.Assumed.OfTimes())
	x := w.Worst
	felt := "nobody notices"
	switch {
	case x.During.Failed > w.Baseline.Failed:
		felt = fmt.Sprintf("%s while it lasts, %s more than otherwise", oneIn(x.During.ErrorRate), count(x.During.Failed-w.Baseline.Failed))
	case x.During.ElapsedP99 > w.Baseline.ElapsedP99*1.2:
		felt = "nothing fails, but answers take longer"
	case x.SessionsMoved > 0:
		felt = fmt.Sprintf("nothing fails, and %s", movedOf(x.SessionsMoved))
	}
	before, while := t.orDash(w.Baseline.ElapsedP99), t.orDash(x.During.ElapsedP99)
	p99 := fmt.Sprintf("99 %% end within %s instead of %s", while, before)
	if while == before {
		p99 = "99 % end within " + while + ", as otherwise"
	}
	if x.During.P99 == 0 {
		p99 = "nothing is answered"
	}
	return fmt.Sprintf("%s (%s): %s; %s", x.Name, x.Kind, felt, p99)
}

func movedOf(n int64) string {
	if n == 1 {
		return "1 session moves"
	}
	return plural(n, "session") + " move"
}

// oneIn words a share of requests that fail.
func oneIn(share float64) string {
	if share > 0.4 || share <= 0 {
		return percent(share) + " of all requests fail"
	}
	return fmt.Sprintf("one request in %s fails", count(int64(math.Round(1/share))))
}

// mostCases is how many cases are listed without -all.
const mostCases = 20

func (s Style) sweepCases(b *strings.Builder, w *study.Sweep) {
	if len(w.Cases) == 0 {
		return
	}
	of := w.Of
	parts := []string{"cases", "what requests met that came between " + moment(of.At) + " and " + moment(of.Until)}
	if len(of.Kinds) == 1 {
		parts = append(parts, of.Kinds[0]+": "+scenario.FaultDoc(of.Kinds[0]))
	}
	head := flow(strings.Join(parts, s.dot()), s.Width, 2)
	b.WriteString("\n" + s.bold("cases") + strings.TrimPrefix(head, "cases") + "\n")
	cols := []column{
		{name: "case", left: true}, {name: "kind", left: true}, {name: "failed"}, {name: "error rate", drop: 1}, {name: "p50", drop: 6}, {name: "p99", drop: 4}, {name: "elapsed p99"},
		{name: "retried", drop: 5}, {name: "moved", drop: 4}, {name: "noticed after", drop: 2}, {name: "back after", drop: 3},
	}
	cases := w.Cases
	rest := 0
	if len(cases) > mostCases && !s.All {
		rest = len(cases) - mostCases
		cases = cases[:mostCases]
	}
	all := []sweepRow{nothing(w)}
	for i := range cases {
		all = append(all, rowOf(w, &cases[i]))
	}
	var rows [][]string
	for i, r := range all {
		if r.Bad {
			r.Failed = s.red(r.Failed)
		}
		if i > 0 {
			r.Name = s.bold(r.Name)
		}
		rows = append(rows, []string{r.Name, r.Kind, r.Failed, r.Share, r.P50, r.P99, r.Elapsed, r.Retried, r.Moved, r.Noticed, r.Back})
	}
	if len(of.Kinds) == 1 {
		cols, rows = without("kind", cols, rows)
	}
	if !slices.ContainsFunc(w.Cases, func(c study.SweepCase) bool { return c.During.Failed > 0 }) && w.Baseline.Failed == 0 {
		cols, rows = without("elapsed p99", cols, rows) // it is as p99
	}
	b.WriteString(s.table(cols, rows, 2))
	if rest > 0 {
		fmt.Fprintf(b, "  the %d worst; %s with -all\n", mostCases, plural(int64(rest), "more case"))
	}
	for _, c := range cases {
		for _, u := range c.Overloaded {
			b.WriteString("  " + flow(fmt.Sprintf("%s (%s): in what is left of %s requests wait without a pause", c.Name, c.Kind, u), s.Width, 4) + "\n")
		}
	}
}

// limits returns how much more is borne with a backend gone.
func (s Style) limits(b *strings.Builder, w *study.Sweep) {
	if len(w.Limits) == 0 {
		return
	}
	b.WriteString("\n" + s.bold("the load from which losing one is too much") + "\n")
	wide := 0
	for _, l := range w.Limits {
		wide = max(wide, visible(l.Upstream))
	}
	for _, l := range w.Limits {
		text, bad := limitOf(&l, times(w.Of.Assumed.OfTimes()))
		if bad {
			text = s.red(text)
		}
		b.WriteString("  " + s.bold(padRight(l.Upstream, wide)) + "  " + flow(text, s.Width, wide+4) + "\n")
	}
}

// limitOf returns how much more an upstream bears with a backend gone, and whether that
// is less than it has to.
func limitOf(l *study.LoadLimit, t times) (string, bool) {
	load := func(x float64) string { return three(x) + " times the load" }
	switch {
	case l.TooMuch == nil:
		return fmt.Sprintf("without %s it bears %s, the most that was tried (%s requests a second)", l.Backend, load(l.Load), three(l.Rate)), false
	case l.Load == 0:
		return fmt.Sprintf("without %s even a quarter of the load is too much", l.Backend), true
	}
	text := fmt.Sprintf("without %s it bears %s (%s requests a second); with %s %s of them fail (%s anyway), and 99 %% end within %s (%s anyway)", l.Backend, load(l.Load), three(l.Rate),
		load(*l.TooMuch), finePercent(l.Failed), finePercent(l.Undisturbed.Failed), t.orDash(l.ElapsedP99), t.orDash(l.Undisturbed.ElapsedP99))
	if l.Load < 1 {
		return "today already: " + text, true
	}
	return text, false
}

// sweepRow is a case in words.
type sweepRow struct {
	Name, Kind, Failed, Share, P50, P99, Elapsed, Retried, Moved, Noticed, Back string
	Wide                                                                        string // of the bar, per cent; empty for none
	Bad                                                                         bool   // more failed than otherwise
}

func rowOf(w *study.Sweep, c *study.SweepCase) sweepRow {
	t := times(w.Of.Assumed.OfTimes())
	noticed, back := "never", "never"
	if c.RecoveredAfter != nil {
		back = span(*c.RecoveredAfter)
	}
	if c.DetectedAfter != nil {
		noticed = span(*c.DetectedAfter)
	}
	if c.DetectedAfter == nil || c.RecoveredAfter == nil && w.Of.Until >= w.Of.Duration-10 {
		back = "-" // it never left, or the replay is over before it can be back
	}
	return sweepRow{
		Name: c.Name, Kind: c.Kind, Failed: count(c.During.Failed), Share: finePercent(c.During.ErrorRate), P50: t.orDash(c.During.P50), P99: t.orDash(c.During.P99), Elapsed: t.orDash(c.During.ElapsedP99),
		Retried: count(c.Retried), Moved: count(c.SessionsMoved), Noticed: noticed, Back: back, Bad: c.During.Failed > w.Baseline.Failed,
	}
}

// nothing is the row of nothing failing.
func nothing(w *study.Sweep) sweepRow {
	t := times(w.Of.Assumed.OfTimes())
	b := w.Baseline
	return sweepRow{
		Name: "nothing fails", Failed: count(b.Failed), Share: finePercent(b.ErrorRate), P50: t.orDash(b.P50), P99: t.orDash(b.P99), Elapsed: t.orDash(b.ElapsedP99),
		Retried: "-", Moved: "-", Noticed: "-", Back: "-",
	}
}
