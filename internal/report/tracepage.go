package report

import (
	"cmp"
	"fmt"
	"html/template"
	"slices"
	"strings"

	"kestrix/internal/core/trace"
)

// tracePage is what the page of a trace shows, in words.
type tracePage struct {
	pageTop
	Rate        template.HTML
	RateCaption string
	Lists       []traceList
}

type traceList struct {
	Name, Head string
	Rows       []traceCount
}

type traceCount struct{ Name, Requests, Share, Wide string }

// TracePage writes the summary of a trace as a page of HTML that needs nothing besides
// itself. The error is that of writing it, which a buffer does not have.
func TracePage(name string, t *trace.Summary, version string) ([]byte, error) {
	v := tracePage{pageTop: top(name+" · kestrix trace describe", version)}
	v.Headline = fmt.Sprintf("%s from %s", plural(t.Records, "record"), plural(int64(t.Clients), "client"))
	v.Of = name + " · " + cmp.Or(trace.TitleOf(t.Format), "nothing was read")
	if t.First != nil {
		v.Of += fmt.Sprintf(" · %s to %s UTC, %s", wallTime(*t.First), wallTime(*t.Last), span(*t.Last-*t.First))
	}
	if t.BadLines > 0 {
		v.Notes = append(v.Notes, plural(t.BadLines, "line")+" could not be read and passed over")
		for _, x := range t.Bad {
			v.Notes = append(v.Notes, fmt.Sprintf("line %d, column %d: %s", x.Line, x.Column, x.Why))
		}
	}
	if r := t.Rate; r != nil {
		v.Figures = append(v.Figures, pageFigure{Name: "mean rate", Value: three(r.Mean) + "/s"}, pageFigure{Name: "highest rate", Value: three(r.Peak) + "/s", More: "at " + wallTime(r.PeakAt)})
		v.Rate, v.RateCaption = rateChart(r)
	}
	if d := t.Duration; d != nil {
		v.Figures = append(v.Figures, pageFigure{Name: "p50", Value: span(d.P50)}, pageFigure{Name: "p95", Value: span(d.P95)},
			pageFigure{Name: "p99", Value: span(d.P99)}, pageFigure{Name: "max", Value: span(d.Max)})
	} else {
		v.Notes = append(v.Notes, "Durations are not recorded.")
	}
	v.Figures = append(v.Figures, pageFigure{Name: "sent", Value: bytesText(t.Bytes)})
	list := func(name, head string, all []trace.Count) {
		if len(all) == 0 {
			return
		}
		l := traceList{Name: name, Head: head}
		most := all[0].Requests
		for _, c := range all[:min(len(all), 10)] {
			l.Rows = append(l.Rows, traceCount{clip(c.Name, 80), count(c.Requests), percent(share(c.Requests, t.Records)), wide(share(c.Requests, most))})
		}
		v.Lists = append(v.Lists, l)
	}
	list("Statuses", "Status", counted(t.Statuses))
	list("Methods", "Method", counted(t.Methods))
	list("Busiest clients", "Client", t.TopClients)
	list("Busiest paths", "Path", t.TopPaths)
	return render("trace", &v)
}

// counted lists counts, most first.
func counted(m map[string]int64) []trace.Count {
	var out []trace.Count
	for _, k := range sortedKeys(m) {
		out = append(out, trace.Count{Name: k, Requests: m[k]})
	}
	slices.SortStableFunc(out, func(a, b trace.Count) int { return cmp.Compare(b.Requests, a.Requests) })
	return out
}

// rateChart draws requests over time.
func rateChart(r *trace.Rate) (template.HTML, string) {
	c := rateOverTime(r)
	return c.svg(230), strings.Replace(c.axis, "requests", "Requests", 1) + ", from " + wallTime(r.Rows[0].At) + " UTC on."
}
