package report

import (
	"fmt"
	"math"
	"strings"

	"kestrix/internal/core/result"
)

// why writes why requests failed or waited, as far as it was found out.
func (s Style) why(b *strings.Builder, r *result.Replay) {
	d := r.Diagnosis
	if d == nil {
		return
	}
	b.WriteString("\n" + s.bold("why requests failed or waited") + "\n")
	t := timesOf(r)
	for i := range d.Causes {
		c := &d.Causes[i]
		b.WriteString("  " + flow(c.Upstream+": "+c.Says, s.Width, 4) + "\n")
		b.WriteString("    " + flow(contrastOf(c, t), s.Width, 6) + "\n")
	}
	b.WriteString("  " + flow(howFound(d), s.Width, 2) + "\n")
}

// seeds writes how figures differ between seeds, where several were tried.
func (s Style) seeds(b *strings.Builder, p Replay) {
	x := p.Result.Seeds
	if x == nil {
		return
	}
	arrivals := "for exactly these arrivals"
	if p.Scenario != nil && p.Scenario.Load != nil {
		arrivals = "each with arrivals of its own"
	}
	within := "the least to the most"
	if x.Seeds >= wholeRange {
		within = "what 95 % of them stay within"
	}
	fmt.Fprintf(b, "\n%s%s%s\n", s.bold(fmt.Sprintf("across %d seeds", x.Seeds)), s.dot(), arrivals)
	t := timesOf(p.Result)
	var rows [][]string
	for _, f := range x.Figures {
		value := func(v float64) string {
			switch f.Unit {
			case "share":
				return percent(v)
			case "seconds":
				return t.of(v)
			}
			return count(int64(math.Round(v)))
		}
		name, lies := figureName(f.What, f.Of), value(f.Low)
		if high := value(f.High); high != lies {
			lies += " to " + high
		}
		if f.Never > 0 {
			lies += fmt.Sprintf("; with %d of the seeds never", f.Never)
		}
		rows = append(rows, []string{name, value(f.Median), lies})
	}
	b.WriteString(s.table([]column{{name: "figure", left: true}, {name: "median"}, {name: "range", left: true}}, rows, 2))
	b.WriteString("  " + flow("range: "+within+"; what else is printed is of the first seed", s.Width, 2) + "\n")
}

// wholeRange is from how many seeds on a range is of 95 % of them, see study.AcrossSeeds.
const wholeRange = 40

// figureName is how a figure is called in a table.
func figureName(what, of string) string {
	name := strings.NewReplacer("latency.", "", "sessions.", "sessions ", "errors.", "  ", "_", " ").Replace(what)
	if of != "" {
		name = of + " " + name
	}
	return name
}

// contrastOf words the comparison that a cause rests on.
func contrastOf(c *result.Diagnosed, t times) string {
	of := "its requests"
	if c.With.After {
		of = "the requests that come after the fault"
	}
	var parts []string
	if c.Before.Failed != c.With.Failed {
		parts = append(parts, fmt.Sprintf("%s of %s fail instead of %s", finePercent(c.With.Share()), of, finePercent(c.Before.Share())))
	}
	if before, with := t.orDash(c.Before.ElapsedP99), t.orDash(c.With.ElapsedP99); before != with {
		parts = append(parts, fmt.Sprintf("99 %% end within %s instead of %s", with, before))
	}
	return "with " + c.Change + ": " + strings.Join(parts, ", ")
}

// howFound says what the causes rest on.
func howFound(d *result.Diagnosis) string {
	switch {
	case d.Note != "":
		return "not found out: " + d.Note
	case d.Unclear:
		return fmt.Sprintf("nothing accounts for it that was tried, by %s with one thing changed each", plural(int64(d.Replays), "replay"))
	}
	return fmt.Sprintf("found by %s with one thing changed each; of other seeds nothing is known", plural(int64(d.Replays), "replay"))
}
