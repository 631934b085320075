package report

import (
	"fmt"
	"math"
	"strings"

	"kestrix/internal/core/result"
)

// recommendation is a change that a replay with it supports.
type recommendation struct {
	Upstream, Change string
	Effect           string // figures with the change instead of those without
	Cause            string
	Hypothetical     bool // the change shows the cause, and is no advice
}

// recommendations returns the changes that the diagnosis of a replay found.
func recommendations(r *result.Replay) (out []recommendation) {
	if r.Diagnosis == nil {
		return nil
	}
	for i := range r.Diagnosis.Causes {
		c := &r.Diagnosis.Causes[i]
		out = append(out, recommendation{c.Upstream, c.Change, contrastOf(c, timesOf(r)), c.Says, c.Hypothetical})
	}
	return out
}

// recommended writes the changes that a diagnosis found, each with its effect and the cause, and those that need no further
// replay.
func (s Style) recommended(b *strings.Builder, p Replay) {
	d, lines := p.Result.Diagnosis, p.advise()
	if d == nil && len(lines) == 0 {
		return
	}
	b.WriteString("\n" + s.bold("recommended changes") + "\n")
	for _, c := range recommendations(p.Result) {
		if c.Hypothetical {
			b.WriteString("  " + flow(s.bold(c.Upstream)+": "+c.Cause, s.Width, 4) + "\n")
			b.WriteString("    " + flow("for comparison, with "+c.Change+": "+c.Effect, s.Width, 6) + "\n")
			continue
		}
		b.WriteString("  " + flow(s.bold(c.Upstream)+": "+c.Change, s.Width, 4) + "\n")
		b.WriteString("    " + flow(c.Effect, s.Width, 6) + "\n")
		b.WriteString("    " + flow("cause: "+c.Cause, s.Width, 6) + "\n")
	}
	if d != nil {
		b.WriteString("  " + flow(howFound(d), s.Width, 2) + "\n")
	}
	more := 0
	if len(lines) > mostFaults && !s.All {
		more = len(lines) - mostFaults
		lines = lines[:mostFaults]
	}
	for _, l := range lines {
		b.WriteString("  " + flow(l, s.Width, 4) + "\n")
	}
	if more > 0 {
		fmt.Fprintf(b, "  and %d more (-all lists them)\n", more)
	}
}

// seedsOf returns the figures across seeds in words: name, median and range.
func seedsOf(r *result.Replay) (rows [][]string) {
	t := timesOf(r)
	for _, f := range r.Seeds.Figures {
		value := func(v float64) string {
			switch f.Unit {
			case "share":
				return percent(v)
			case "seconds":
				return t.of(v)
			}
			return count(int64(math.Round(v)))
		}
		lies := value(f.Low)
		if high := value(f.High); high != lies {
			lies += " to " + high
		}
		if f.Never > 0 {
			lies += fmt.Sprintf("; with %d of the seeds never", f.Never)
		}
		rows = append(rows, []string{figureName(f.What, f.Of), value(f.Median), lies})
	}
	return rows
}

// acrossSeeds returns the title of figures across seeds, and the meaning of their ranges.
func (p Replay) acrossSeeds() (title, arrivals, note string) {
	x := p.Result.Seeds
	arrivals = "for exactly these arrivals"
	if p.Scenario != nil && p.Scenario.Load != nil {
		arrivals = "each with arrivals of its own"
	}
	note = "range: " + rangeMeans(x.Seeds) + "; all other figures are of the first seed"
	if x.Resampled {
		arrivals = "each with clients drawn from the trace with replacement"
		note += ", with the clients of the trace as they are"
	}
	return fmt.Sprintf("across %d seeds", x.Seeds), arrivals, note
}

// seeds writes how figures differ between seeds, where several were tried.
func (s Style) seeds(b *strings.Builder, p Replay) {
	if p.Result.Seeds == nil {
		return
	}
	title, arrivals, note := p.acrossSeeds()
	b.WriteString("\n" + s.bold(title) + s.dot() + arrivals + "\n")
	b.WriteString(s.table([]column{{name: "figure", left: true}, {name: "median"}, {name: "range", left: true}}, seedsOf(p.Result), 2))
	b.WriteString("  " + flow(note, s.Width, 2) + "\n")
}

// wholeRange is from how many seeds on a range is of 95 % of them, see study.AcrossSeeds.
const wholeRange = 40

// figureName is how a figure is called in a table.
func figureName(what, of string) string {
	if percentile, ok := strings.CutPrefix(what, "pages.elapsed."); ok {
		return "page " + of + " " + percentile
	}
	name := strings.NewReplacer("latency.", "", "elapsed.", "elapsed ", "sessions.", "sessions ", "errors.", "  ", "_", " ").Replace(what)
	if of != "" {
		name = of + " " + name
	}
	return name
}

// contrastOf returns the figures with a change, compared with those without.
func contrastOf(c *result.Diagnosed, t times) string {
	of := "its requests"
	if c.With.After {
		of = "the requests after the fault"
	}
	var parts []string
	if c.Before.Failed != c.With.Failed {
		parts = append(parts, fmt.Sprintf("%s of %s fail instead of %s", finePercent(c.With.Share()), of, finePercent(c.Before.Share())))
	}
	if before, with := t.orDash(c.Before.ElapsedP99), t.orDash(c.With.ElapsedP99); before != with {
		parts = append(parts, fmt.Sprintf("elapsed p99 %s instead of %s", with, before))
	}
	return strings.Join(parts, ", ")
}

// howFound returns how the causes were measured.
func howFound(d *result.Diagnosis) string {
	switch {
	case d.Note != "":
		return "not diagnosed: " + d.Note
	case d.Unclear:
		return fmt.Sprintf("cause unknown: none of the tried changes reduces the failures (%s, one change each)", plural(int64(d.Replays), "replay"))
	}
	return fmt.Sprintf("measured with one seed, by %s with one change each", plural(int64(d.Replays), "replay"))
}
