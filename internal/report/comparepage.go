package report

import (
	"fmt"
	"html/template"
	"slices"
	"strings"

	"kestrix/internal/core/study"
)

// comparePage is what the page of a comparison shows, in words.
type comparePage struct {
	pageTop
	Advice  []study.Advice
	Chart   template.HTML
	Caption string
	Columns []string
	Rows    []compareRow
	Left    []string
}

type compareRow struct {
	Name  string
	Now   bool
	Cells []compareCell
}

type compareCell struct {
	Text      string
	Best, Bad bool
}

// measureNames are the full names of what variants are compared by, by their keys.
var measureNames = map[string]string{
	"spread": "Spread", "p50": "Half within", "p95": "95 % within", "p99": "99 % within", "elapsed_p99": "99 % end within", "failed": "Failed", "retried": "Retried",
	"sessions_moved": "Sessions moved", "peak_in_flight": "Most in flight", "moved_on_leave": "Moved when one leaves", "duration": "Duration", "throughput": "Answered a second",
}

// figureCell writes a figure of a run.
func figureCell(key string, r *study.Run) string {
	f := &r.Figures
	switch key {
	case "spread":
		if f.Spread == 0 {
			return "-"
		}
		return fmt.Sprintf("%.2f", f.Spread)
	case "p50":
		return timesOf(r.Result).orDash(f.P50)
	case "p95":
		return timesOf(r.Result).orDash(f.P95)
	case "p99":
		return timesOf(r.Result).orDash(f.P99)
	case "elapsed_p99":
		return timesOf(r.Result).orDash(f.ElapsedP99)
	case "failed":
		return count(f.Failed)
	case "retried":
		return count(f.Retried)
	case "sessions_moved":
		return count(f.SessionsMoved)
	case "peak_in_flight":
		return count(int64(f.PeakInFlight))
	case "moved_on_leave":
		if f.MovedOnLeave == nil {
			return "-"
		}
		return percent(*f.MovedOnLeave)
	case "duration":
		return span(f.Duration)
	}
	return three(f.Throughput) + "/s"
}

// ComparePage writes a comparison as a page of HTML that needs nothing besides itself.
// The error is that of writing it, which a buffer does not have.
func ComparePage(p Compared, version string) ([]byte, error) {
	c := p.Result
	first := c.Runs[0].Result
	names := strings.Join(p.Names, " · ")
	v := comparePage{pageTop: top(names+" · kestrix compare", version)}
	for _, a := range c.Advice {
		a.Say = capital(a.Say)
		v.Advice = append(v.Advice, a)
	}
	v.Headline = fmt.Sprintf("%s, the same requests in each", capital(plural(int64(len(c.Runs)), "variant")))
	if len(c.Advice) > 0 {
		v.Headline = capital(c.Advice[0].Say)
	}
	v.Of = fmt.Sprintf("%s · seed %d · %s from %s in each of %s", names, first.Model.Seed, plural(first.Requests, "request"), plural(first.Trace.Clients, "client"), plural(int64(len(c.Runs)), "variant"))
	if len(p.Upstreams) > 0 {
		v.Of += "; figures of " + and(p.Upstreams)
	}
	v.Notes = Style{Width: 1 << 20}.noteLines(first)
	if c.Partial {
		v.Notes = append(v.Notes, "Stopped early: what follows is partial.")
	}
	keys := []string{}
	for _, m := range study.Measures {
		if m.Key == "duration" || m.Key == "throughput" {
			if !differ(c) {
				continue
			}
		}
		if m.Key == "elapsed_p99" && !anyLost(c) {
			continue // it is as p99
		}
		keys = append(keys, m.Key)
		v.Columns = append(v.Columns, measureNames[m.Key])
	}
	expects := mostExpected(c) > 0
	if expects {
		v.Columns = append(v.Columns, "Expectations met")
	}
	for i := range c.Runs {
		r := &c.Runs[i]
		row := compareRow{Name: r.Name, Now: r.Configured && r.Name != "as configured"}
		for _, k := range keys {
			row.Cells = append(row.Cells, compareCell{figureCell(k, r), slices.Contains(r.Best, k), k == "failed" && r.Figures.Failed > 0})
		}
		if expects {
			row.Cells = append(row.Cells, compareCell{Text: metText(r)})
		}
		v.Rows = append(v.Rows, row)
	}
	v.Left = append(overrun(c), p.remarks()...)
	v.Chart, v.Caption = p.variantsChart()
	return render("compare", &v)
}

// capital begins a sentence.
func capital(s string) string {
	if s == "" {
		return s
	}
	return strings.ToUpper(s[:1]) + s[1:]
}

// variantsChart draws a row for each variant: its percentiles as marks on one axis, and what
// failed as a bar.
func (p Compared) variantsChart() (template.HTML, string) {
	c := variantRows(p.Result.Runs)
	if _, high := c.span(); high == 0 {
		return "", "Nothing was answered by a backend."
	}
	return c.svg(), "How long answers took, on a logarithmic axis, and how many requests failed."
}
