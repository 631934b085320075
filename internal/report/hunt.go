package report

import (
	"fmt"
	"math"
	"slices"
	"strings"

	"kestrix/internal/core/result"
	"kestrix/internal/core/study"
)

// Hunt writes the smallest failure that breaks an expectation, or what was tried without success.
// file is where its scenario is written; empty for nowhere.
func (s Style) Hunt(h *study.Hunt, file string) string {
	return s.fitted(func(s Style) string { return s.huntText(h, file) })
}

func (s Style) huntText(h *study.Hunt, file string) string {
	var b strings.Builder
	of := h.Of
	if of.Requests == 0 {
		return s.warn("stopped before the first failure was tried") + "\n"
	}
	b.WriteString(flow(strings.Join(append(slices.Clone(of.Names), fmt.Sprintf("seed %d", of.Seed)), s.dot()), s.Width, 0) + "\n")
	head := huntHeadline(h)
	if h.Found != nil {
		head = s.red(head)
	}
	b.WriteString(s.bold(flow(head, s.Width, 2)) + "\n")
	b.WriteString(flow(huntCost(h), s.Width, 0) + "\n")
	if h.Partial {
		b.WriteString(s.warn("stopped early: the result is partial") + "\n")
	}
	b.WriteString(s.assumed(of.Assumed))
	for _, n := range h.Notes {
		b.WriteString(flow(n, s.Width, 0) + "\n")
	}
	s.notes(&b, &result.Replay{Trace: of.Trace})
	if w := h.Found; w != nil {
		s.weakness(&b, h, w)
		if len(h.Others) > 0 {
			b.WriteString("\n" + s.bold("larger failures that break an expectation as well") + "\n")
			for i := range h.Others {
				b.WriteString("  " + flow(huntFailure(&h.Others[i].Failure)+": "+brokenText(&h.Others[i]), s.Width, 4) + "\n")
			}
		}
	}
	s.huntTried(&b, h)
	if h.Found == nil {
		return b.String()
	}
	if file != "" {
		b.WriteString("\nthe scenario with this failure is in " + file + "\n")
	} else {
		b.WriteString("\nthe scenario with this failure, for kestrix replay:\n\n" + inset(h.Found.Scenario))
	}
	return b.String()
}

// huntHeadline returns the most important result in one sentence.
func huntHeadline(h *study.Hunt) string {
	if h.Found == nil {
		return "no failure was found that breaks an expectation; this is no proof that there is none"
	}
	return fmt.Sprintf("the smallest failure found: %s breaks %q", huntFailure(&h.Found.Failure), h.Found.Expectation)
}

// huntCost returns what was searched, and how.
func huntCost(h *study.Hunt) string {
	of := h.Of
	load := "the load as it is"
	if of.LoadFactor > 1 {
		load = fmt.Sprintf("load factors up to %g", of.LoadFactor)
	}
	text := fmt.Sprintf("searched with %s of %s: %s of faults, %s", count(int64(h.Replays)), plural(int64(of.Tries), "replay"), plural(int64(len(of.Kinds)), "kind"), plural(int64(of.Targets), "target"))
	if of.Equal > 0 {
		text += fmt.Sprintf(" (%s equal to one of them by design)", count(int64(of.Equal)))
	}
	return text + fmt.Sprintf(", up to %s at once, lengths up to %s, %s; %s in %s", plural(int64(of.Faults), "failure"), span(of.Longest), load, plural(of.Requests, "request"), span(of.Duration))
}

// huntFailure words a failure.
func huntFailure(w *study.Failure) string {
	var out []string
	for i := range w.Faults {
		f := &w.Faults[i]
		out = append(out, fmt.Sprintf("%s (%s, from %s for %s)", and(f.Targets), huntKind(f), moment(f.At), span(f.Until-f.At)))
	}
	if w.LoadFactor > 1 {
		out = append(out, fmt.Sprintf("%gx the load", w.LoadFactor))
	}
	return strings.Join(out, " with ")
}

// huntKind names the kind of a fault, and how bad it is while it lasts.
func huntKind(f *study.HuntFault) string {
	switch {
	case f.Rate > 0 && f.Rate < 1:
		return f.Kind + " " + finePercent(f.Rate)
	case f.Factor > 0:
		return fmt.Sprintf("%s %gx", f.Kind, f.Factor)
	case f.FailsFor > 0:
		return fmt.Sprintf("%s, down %s and up %s", f.Kind, span(f.FailsFor), span(f.WorksFor))
	}
	return f.Kind
}

// brokenText returns how sure it is that a failure breaks its expectation.
func brokenText(w *study.Weakness) string {
	return fmt.Sprintf("%q is not met with %d of %d fresh seeds", w.Expectation, w.Broken, w.Seeds)
}

// weakness writes what a failure costs, and how it was made smaller.
func (s Style) weakness(b *strings.Builder, h *study.Hunt, w *study.Weakness) {
	b.WriteString("\n" + s.bold("cost") + "\n")
	b.WriteString("  " + flow(fmt.Sprintf("%s; %d are needed (%s)", brokenText(w), w.Needed, w.That), s.Width, 4) + "\n")
	b.WriteString("  " + flow(costText(h, w), s.Width, 4) + "\n")
	if len(w.Shrunk) == 0 {
		return
	}
	b.WriteString("\n" + s.bold("made smaller, as long as it stays broken") + "\n")
	b.WriteString("  " + flow("found: "+huntFailure(&w.Shrunk[0].From), s.Width, 4) + "\n")
	for _, x := range w.Shrunk {
		text := x.What + ": " + huntFailure(&x.To)
		if x.Replays > 0 {
			text += " (" + plural(int64(x.Replays), "replay") + ")"
		}
		b.WriteString("  " + flow(text, s.Width, 4) + "\n")
	}
}

// costText returns what a failure costs, as medians of the fresh seeds.
func costText(h *study.Hunt, w *study.Weakness) string {
	t := times(h.Of.Assumed.OfTimes())
	more := count(int64(math.Round(w.FailedMore)))
	if w.MoreLow != w.MoreHigh {
		more += fmt.Sprintf(" (%s to %s)", count(int64(math.Round(w.MoreLow))), count(int64(math.Round(w.MoreHigh))))
	}
	return fmt.Sprintf("%s additional failed requests, error rate %s, elapsed p99 %s (%s without the failure)", more, finePercent(w.ErrorRate), t.orDash(w.ElapsedP99), t.orDash(w.CalmP99))
}

// huntTried writes what was tried, by size and kind.
func (s Style) huntTried(b *strings.Builder, h *study.Hunt) {
	if len(h.Tried) == 0 {
		return
	}
	b.WriteString("\n" + s.bold("tried in the search") + "\n")
	cols := []column{{name: "faults"}, {name: "kind", left: true}, {name: "tried"}, {name: "broken"}, {name: "nearest", left: true, drop: 1}, {name: "distance", drop: 1}}
	var rows [][]string
	for _, x := range h.Tried {
		broken := count(int64(x.Broken))
		if x.Broken > 0 {
			broken = s.red(broken)
		}
		rows = append(rows, []string{count(int64(x.Faults)), x.Kind, count(int64(x.Tried)), broken, x.Nearest, pastText(x.PastMost)})
	}
	b.WriteString(s.table(cols, rows, 2))
	for _, note := range huntNotes {
		b.WriteString("  " + flow(note, s.Width, 2) + "\n")
	}
}

// huntNotes explain the table of what was tried.
var huntNotes = []string{"faults: at once; a load factor counts as one, and several kinds count in the row of each", "distance: share of the bound that is left before it, + past it"}

// pastText words how far a value is from its bound.
func pastText(past float64) string {
	switch {
	case past > 0:
		return "+" + percentOf(past)
	case past <= -1:
		return "100 %"
	}
	return percentOf(-past)
}

func percentOf(x float64) string { return fmt.Sprintf("%.0f %%", 100*x) }

// inset returns a text with each line two spaces further in.
func inset(text string) string {
	var b strings.Builder
	for l := range strings.Lines(text) {
		if strings.TrimSpace(l) != "" {
			l = "  " + l
		}
		b.WriteString(l)
	}
	return b.String()
}
