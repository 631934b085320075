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
	return s.fitted(func(s Style) string { return s.sweepText(w) })
}

func (s Style) sweepText(w *study.Sweep) string {
	var b strings.Builder
	of := w.Of
	b.WriteString(flow(strings.Join(append(slices.Clone(of.Names), fmt.Sprintf("seed %d", of.Seed)), s.dot()), s.Width, 0) + "\n")
	if of.Cases == 0 {
		b.WriteString(s.warn("stopped before the first fault") + "\n")
		return b.String()
	}
	if w.Worst != nil {
		b.WriteString(s.bold(flow("worst case: "+worstOf(w), s.Width, 2)) + "\n")
	}
	if h := headroom(w, s.dot()); h != "" {
		b.WriteString(s.bold(flow(h, s.Width, 2)) + "\n")
	}
	b.WriteString(flow(fmt.Sprintf("%s in %s from %s; busiest from %s to %s, with %s req/s",
		plural(of.Requests, "request"), span(of.Duration), plural(of.Clients, "client"), moment(of.At), moment(of.Until), three(of.Rate)), s.Width, 0) + "\n")
	b.WriteString(flow(searchText(w), s.Width, 0) + "\n")
	if w.Partial {
		b.WriteString(s.warn(flow(fmt.Sprintf("stopped early: figures are partial, %s of %s", count(int64(len(w.Cases))), plural(int64(of.Cases), "case")), s.Width, 0)) + "\n")
	}
	b.WriteString(s.assumed(of.Assumed))
	for _, n := range w.Notes {
		b.WriteString(flow(n, s.Width, 0) + "\n")
	}
	s.notes(&b, &result.Replay{Trace: of.Trace})
	if len(w.Single) > 0 {
		b.WriteString("\n" + s.bold("single points of failure") + "\n")
		for _, p := range w.Single {
			b.WriteString("  " + s.bold(p.Name) + flowFrom(": "+p.Upstream+" has no other backend for its "+plural(p.Requests, "request"), s.Width, 2+visible(p.Name), 4) + "\n")
		}
	}
	s.sweepCases(&b, w)
	s.limits(&b, w)
	if w.Worst != nil && w.Worst.More > 0 {
		b.WriteString("\nfor the report of the worst case, run kestrix replay with this block in the scenario:\n" + faultText(w))
	}
	return b.String()
}

// searchText returns how the worst case was searched.
func searchText(w *study.Sweep) string {
	of := w.Of
	how := of.Kinds[0]
	if len(of.Kinds) > 1 {
		how = fmt.Sprintf("%d kinds", len(of.Kinds))
	}
	text := fmt.Sprintf("searched with %s: %s, %s, several moments, lengths up to %s", plural(int64(w.Replays), "replay"), plural(int64(of.Targets), "target"), how, span(of.Until-of.At))
	if of.Seeds > 1 {
		text += fmt.Sprintf("; the worst case of each target has %d seeds, others have fewer", of.Seeds)
	}
	if of.Resampled {
		text += "; each seed resamples the clients of the trace"
	}
	return text
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
	return fmt.Sprintf("  fault %q {\n    backend = %s\n    kind    = %q\n    at      = %q\n    until   = %q\n  }\n", "the worst", who, x.Kind, at(x.At), at(x.Until))
}

// worstOf words the worst case.
func worstOf(w *study.Sweep) string {
	t := times(w.Of.Assumed.OfTimes())
	x := w.Worst
	text := fmt.Sprintf("%s (%s, from %s for %s): ", caseName(x), x.Kind, moment(x.At), span(x.Until-x.At))
	switch {
	case x.More > 0:
		text += moreText(x) + " additional failed requests"
		if x.Seeds > 1 {
			text += fmt.Sprintf(" (%d seeds)", x.Seeds)
		}
		text += fmt.Sprintf(", %s during the fault", oneIn(x.During.ErrorRate))
	case x.During.ElapsedP99 > x.Otherwise.ElapsedP99*1.2:
		text += "no additional failed requests, but requests take longer"
	case x.SessionsMoved > 0:
		text += fmt.Sprintf("no additional failed requests, and %s", movedOf(x.SessionsMoved))
	default:
		text += "no additional failed requests, and none takes noticeably longer"
	}
	before, while := t.orDash(x.Otherwise.ElapsedP99), t.orDash(x.During.ElapsedP99)
	switch while {
	case before:
		text += "; elapsed p99 " + while + ", as without the fault"
	case "-":
		text += "; they fail at once"
	default:
		text += fmt.Sprintf("; elapsed p99 %s instead of %s", while, before)
	}
	return text + afterText(x)
}

// caseName names what fails, with the backends that are equal to it.
func caseName(c *study.SweepCase) string {
	if len(c.Alike) == 0 {
		return c.Name
	}
	names := []string{c.Name}
	up, _, _ := strings.Cut(c.Name, ".")
	for _, a := range c.Alike {
		names = append(names, strings.TrimPrefix(a, up+"."))
	}
	return or(names)
}

// moreText writes how many more requests fail, with the range across seeds.
func moreText(c *study.SweepCase) string {
	text := count(int64(math.Round(c.More)))
	if c.MoreLow < c.MoreHigh {
		text += fmt.Sprintf(" (%s–%s)", count(int64(math.Round(c.MoreLow))), count(int64(math.Round(c.MoreHigh))))
	}
	return text
}

// afterText words what came after the end of a fault; empty where all was as before at once.
func afterText(c *study.SweepCase) string {
	failed := ""
	if c.Aftermath.Failed > 0 {
		failed = fmt.Sprintf("%s of %s after it fail", count(c.Aftermath.Failed), plural(c.Aftermath.Requests, "request"))
	}
	switch {
	case c.Unrecovered > 0 && failed == "":
		failed = "requests after it take longer"
		fallthrough
	case c.Unrecovered > 0:
		with := ""
		if c.Seeds > 1 {
			with = fmt.Sprintf(" with %d of %d seeds", c.Unrecovered, c.Seeds)
		}
		return fmt.Sprintf("; no recovery in the replay%s: %s", with, failed)
	case failed != "" && c.Aftermath.Until != nil:
		return fmt.Sprintf("; %s, recovered after %s", failed, span(*c.Aftermath.Until))
	}
	return ""
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
		return percent(share) + " of all requests"
	}
	return fmt.Sprintf("1 request in %s", count(int64(math.Round(1/share))))
}

// mostCases is how many cases are listed without -all.
const mostCases = 20

func (s Style) sweepCases(b *strings.Builder, w *study.Sweep) {
	if len(w.Cases) == 0 {
		return
	}
	of := w.Of
	parts := []string{"cases", "the worst of each target and kind; failed more: failed requests beyond those that fail without the fault"}
	if len(of.Kinds) == 1 {
		parts = append(parts, of.Kinds[0]+": "+scenario.FaultDoc(of.Kinds[0]))
	}
	head := flow(strings.Join(parts, s.dot()), s.Width, 2)
	b.WriteString("\n" + s.bold("cases") + strings.TrimPrefix(head, "cases") + "\n")
	cols := []column{
		{name: "case", left: true}, {name: "kind", left: true}, {name: "from", drop: 2}, {name: "for", drop: 2}, {name: "failed more "}, {name: "error rate", drop: 5}, {name: "elapsed p99"},
		{name: "failed after", drop: 1}, {name: "recovered after", drop: 1}, {name: "detected after", drop: 6}, {name: "moved", drop: 8}, {name: "seeds", drop: 4},
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
	marked := false
	for i, r := range all {
		more := r.More
		if r.Bad {
			more = s.red(more)
		}
		if r.AsBad {
			more, marked = more+"*", true
		} else {
			more += " "
		}
		if i > 0 {
			r.Name = s.bold(r.Name)
		}
		rows = append(rows, []string{r.Name, r.Kind, r.From, r.For, more, r.Share, r.Elapsed, r.Later, r.Recovered, r.Noticed, r.Moved, r.Seeds})
	}
	if len(of.Kinds) == 1 {
		cols, rows = without("kind", cols, rows)
	}
	b.WriteString(s.table(cols, rows, 2))
	if marked {
		b.WriteString("  " + flow("* the worst case, and cases that cannot be distinguished from it", s.Width, 2) + "\n")
	}
	if rest > 0 {
		fmt.Fprintf(b, "  the %d worst; -all lists %s\n", mostCases, plural(int64(rest), "more case"))
	}
	for _, c := range cases {
		for _, u := range c.Overloaded {
			b.WriteString("  " + flow(fmt.Sprintf("%s (%s): the remaining backends of %s are over capacity", c.Name, c.Kind, u), s.Width, 4) + "\n")
		}
	}
}

// limits writes the headroom of each upstream with a backend lost.
func (s Style) limits(b *strings.Builder, w *study.Sweep) {
	if len(w.Limits) == 0 {
		return
	}
	b.WriteString("\n" + s.bold(headroomTitle) + "\n")
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

// headroomTitle is the heading above the headroom of upstreams.
const headroomTitle = "headroom with one backend lost"

// headroom returns the smallest headroom of the upstreams in a line; empty where none was searched.
func headroom(w *study.Sweep, dot string) string {
	if len(w.Limits) == 0 {
		return ""
	}
	parts := []string{}
	for i := range w.Limits {
		l := &w.Limits[i]
		text := factorOf(l)
		if len(w.Limits) > 1 {
			text = l.Upstream + " " + text
		}
		parts = append(parts, text)
	}
	if len(parts) > 3 {
		parts = append(parts[:3], fmt.Sprintf("%d more below", len(parts)-3))
	}
	return headroomTitle + ": " + strings.Join(parts, dot)
}

// factorOf returns the headroom of an upstream as a factor of the load of the replay, and as a rate.
func factorOf(l *study.LoadLimit) string {
	switch {
	case l.Load == 0:
		return "less than 0.25x"
	case l.TooMuch == nil:
		return fmt.Sprintf("at least %sx (%s req/s)", three(l.Load), three(l.Rate))
	}
	return fmt.Sprintf("%sx (%s req/s)", three(l.Load), three(l.Rate))
}

// limitOf returns the headroom of an upstream with a backend lost, and whether the load of the replay exceeds it.
func limitOf(l *study.LoadLimit, t times) (string, bool) {
	text := factorOf(l) + " without " + l.Backend
	switch {
	case l.TooMuch == nil:
		return text + ", the highest load that was tried", false
	case l.Load == 0:
		return text + ": too many requests fail at a quarter of the load", true
	}
	text += fmt.Sprintf("; at %sx %s of the requests fail (%s without the fault), elapsed p99 %s (%s); %d seeds", three(*l.TooMuch),
		finePercent(l.Failed), finePercent(l.Undisturbed.Failed), t.orDash(l.ElapsedP99), t.orDash(l.Undisturbed.ElapsedP99), l.Seeds)
	switch {
	case *l.TooMuch < 1:
		return "over capacity at the load of the replay: " + text, true
	case l.Load < 1:
		return "perhaps over capacity at the load of the replay: " + text, true
	}
	return text, false
}

// sweepRow is a case in words.
type sweepRow struct {
	Name, Kind, From, For, More, Share, Elapsed, Later, Recovered, Noticed, Moved, Seeds string
	Wide                                                                                 string // of the bar, per cent; empty for none
	Bad                                                                                  bool   // more failed than otherwise
	AsBad                                                                                bool   // it is the worst, or may be
}

func rowOf(w *study.Sweep, c *study.SweepCase) sweepRow {
	t := times(w.Of.Assumed.OfTimes())
	r := sweepRow{
		Name: caseName(c), Kind: c.Kind, From: moment(c.At), For: span(c.Until - c.At), More: moreText(c), Share: finePercent(c.During.ErrorRate), Elapsed: t.orDash(c.During.ElapsedP99),
		Later: count(c.Aftermath.Failed), Recovered: "never", Noticed: "never", Moved: count(c.SessionsMoved), Seeds: count(int64(c.Seeds)), Bad: c.More > 0, AsBad: c.AsBad,
	}
	if c.DetectedAfter != nil {
		r.Noticed = span(*c.DetectedAfter)
	}
	if x := w.Worst; x != nil && x.Name == c.Name && x.Kind == c.Kind {
		r.AsBad = r.AsBad || slices.ContainsFunc(w.Cases, func(c study.SweepCase) bool { return c.AsBad })
	}
	switch {
	case c.Aftermath.Requests == 0 && c.Aftermath.Until == nil:
		r.Recovered = "-" // too few requests come after it to tell
	case c.Unrecovered == 0 && c.Aftermath.Until != nil:
		r.Recovered = span(*c.Aftermath.Until)
	}
	return r
}

// nothing is the row of nothing failing.
func nothing(w *study.Sweep) sweepRow {
	t := times(w.Of.Assumed.OfTimes())
	return sweepRow{
		Name: "nothing fails", From: moment(w.Of.At), For: span(w.Of.Until - w.Of.At), More: "-", Share: finePercent(w.Baseline.ErrorRate), Elapsed: t.orDash(w.Baseline.ElapsedP99),
		Later: "-", Recovered: "-", Noticed: "-", Moved: "-", Seeds: "1",
	}
}
