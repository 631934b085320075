package report

import (
	"fmt"
	"html/template"
	"math"
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
	Range     string // across seeds; empty where there is none
	Best, Bad bool
}

// measureNames are the full names of what variants are compared by, by their keys.
var measureNames = map[string]string{
	"spread": "Spread", "p50": "p50", "p95": "p95", "p99": "p99", "elapsed_p99": "Elapsed p99", "failed": "Failed", "retried": "Retried", "spilled": "Spilled",
	"sessions_moved": "Sessions moved", "peak_in_flight": "Peak in flight", "moved_on_leave": "Moved on leave", "pushed_on_leave": "Pushed on leave", "session_misses": "Session misses", "duration": "Duration", "throughput": "Throughput, req/s",
}

// figureCell writes one of the figures of a run: the median, or an end of its range.
func figureCell(key string, f *study.Figures, r *study.Run) string {
	took := func(sec float64) string {
		if r.Result.Answered == 0 && key != "elapsed_p99" {
			return "-"
		}
		return timesOf(r.Result).orDash(sec)
	}
	whole := func(n float64) string { return count(int64(math.Round(n))) }
	switch key {
	case "spread":
		if f.Spread == 0 {
			return "-"
		}
		return fmt.Sprintf("%.2f", f.Spread)
	case "p50":
		return took(f.P50)
	case "p95":
		return took(f.P95)
	case "p99":
		return took(f.P99)
	case "elapsed_p99":
		return took(f.ElapsedP99)
	case "failed":
		return whole(f.Failed)
	case "retried":
		return whole(f.Retried)
	case "spilled":
		return whole(f.Spilled)
	case "sessions_moved":
		return whole(f.SessionsMoved)
	case "peak_in_flight":
		return whole(f.PeakInFlight)
	case "moved_on_leave":
		if f.MovedOnLeave == nil {
			return "-"
		}
		return percent(*f.MovedOnLeave)
	case "pushed_on_leave":
		if f.PushedOnLeave == nil {
			return "-"
		}
		return percent(*f.PushedOnLeave)
	case "session_misses":
		return whole(f.SessionMisses)
	case "duration":
		return span(f.Duration)
	}
	return three(f.Throughput) + "/s"
}

// rangeCell writes the range of a figure of a run; empty where its ends look the same.
func rangeCell(key string, r *study.Run) string {
	low, high := figureCell(key, &r.Low, r), figureCell(key, &r.High, r)
	if low == high {
		return ""
	}
	if number, unit, ok := strings.Cut(low, " "); ok && strings.HasSuffix(high, " "+unit) {
		low = number // the unit once
	}
	if strings.HasSuffix(high, "/s") {
		low = strings.TrimSuffix(low, "/s")
	}
	return low + "–" + strings.TrimPrefix(high, "~")
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
	if text := p.noAdvice(); text != "" {
		v.Headline = capital(text)
	}
	if len(c.Advice) > 0 {
		v.Headline = capital(c.Advice[0].Say)
	}
	v.Of = fmt.Sprintf("%s · seed %d · %s from %s in each of %s", names, first.Model.Seed, plural(first.Requests, "request"), plural(first.Trace.Clients, "client"), plural(int64(len(c.Runs)), "variant"))
	if len(p.Upstreams) > 0 {
		v.Of += "; figures of " + and(p.Upstreams)
	}
	v.Assumed = assumptions(first.Assumed)
	v.Notes = append(Style{Width: 1 << 20}.noteLines(first), capital(p.certainty())+".")
	if c.Partial {
		v.Notes = append(v.Notes, "Stopped early: what follows is partial.")
	}
	keys := p.shownMeasures()
	for _, k := range keys {
		v.Columns = append(v.Columns, measureNames[k])
	}
	expects := mostExpected(c) > 0
	if expects {
		v.Columns = append(v.Columns, "Expectations met")
	}
	for i := range c.Runs {
		r := &c.Runs[i]
		row := compareRow{Name: r.Name, Now: r.Configured && r.Name != "as configured"}
		for _, k := range keys {
			row.Cells = append(row.Cells, compareCell{figureCell(k, &r.Figures, r), rangeCell(k, r), slices.Contains(r.Best, k), k == "failed" && r.Figures.Failed > 0})
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
	return c.svg(), "Latency of answered requests on a logarithmic axis, and failed requests."
}
