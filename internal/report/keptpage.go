package report

import (
	"bytes"
	"cmp"
	_ "embed"
	"fmt"
	"html/template"
	"slices"
	"strings"
	"time"

	"kestrix/internal/core/cause"
	"kestrix/internal/core/health"
	"kestrix/internal/core/status"
)

//go:embed page/kept.html
var keptHTML string

var keptPages = template.Must(template.New("").Parse(keptHTML))

// choice is an option of a form.
type choice struct {
	Value, Text string
	Chosen      bool
}

func choices(values []string, chosen string) (out []choice) {
	for _, v := range values {
		out = append(out, choice{Value: v, Chosen: v == chosen})
	}
	return out
}

// keptRow is a request on a page.
type keptRow struct {
	At, Exact, Route, What, Elapsed, Asked, Client, ID string
	Bad                                                bool
	Attempts                                           []string
}

func newKeptRow(r *status.Request) keptRow {
	x := keptRow{
		At: r.At.UTC().Format("15:04:05.000"), Exact: r.At.UTC().Format(time.RFC3339Nano), Route: r.Frontend + "/" + cmp.Or(r.Route, "(no route)"), Elapsed: span(r.Duration),
		What: strings.TrimSpace(statusOrNone(r.Status) + " " + r.Cause), Asked: cmp.Or(strings.TrimSpace(r.Method+" "+r.Host+r.Path), r.Protocol), Client: r.Client, ID: r.RequestID, Bad: keptAsFailed(r),
	}
	for i := range r.Attempts {
		x.Attempts = append(x.Attempts, attemptText(r, &r.Attempts[i]))
	}
	return x
}

// Requests is the page of the requests that a proxy keeps.
func (StatusPage) Requests(v *status.RequestsView) ([]byte, error) {
	p := struct {
		Title, Of             string
		Routes, Kinds, Causes []choice
		Rows                  []keptRow
	}{Title: "Failed and slow requests"}
	chosen := v.Query.Route
	if v.Query.Frontend != "" {
		chosen = v.Query.Frontend + "/" + v.Query.Route
	}
	p.Of = fmt.Sprintf("%s, the newest first, as of %s. Of each route the latest %d failed and the latest %d slow requests are kept; slow is at least %s.",
		plural(int64(len(v.Kept.Requests)), "request"), v.At.UTC().Format("15:04:05 UTC"), v.Kept.Most, v.Kept.Most, span(v.Kept.SlowFrom))
	p.Routes = choices(v.Routes, chosen)
	p.Kinds = []choice{{"", "failed and slow", v.Query.Failed == v.Query.Slow}, {"failed", "failed", v.Query.Failed && !v.Query.Slow}, {"slow", "slow", v.Query.Slow && !v.Query.Failed}}
	for _, c := range cause.All {
		p.Causes = append(p.Causes, choice{Value: c.Word, Chosen: c.Word == v.Query.Cause})
	}
	for i := range v.Kept.Requests {
		p.Rows = append(p.Rows, newKeptRow(&v.Kept.Requests[i]))
	}
	return renderKept("kept", p)
}

// Events is the page of the event log.
func (StatusPage) Events(v *status.EventsView) ([]byte, error) {
	type row struct{ At, Exact, Object, Kind, Severity, Text string }
	p := struct {
		Title, Of, Since, Until, Object, Wrong string
		Kinds, Severities                      []choice
		Rows                                   []row
	}{Title: "Event log", Since: v.Since, Until: v.Until, Object: v.Object, Wrong: v.Wrong}
	p.Of = fmt.Sprintf("%s, the newest first, as of %s. Since and until are a duration before now, like 1h, or a time like 2026-11-23T02:00:00Z; an object may have *.",
		plural(int64(len(v.Events)), "event"), v.At.UTC().Format("15:04:05 UTC"))
	var kinds []string
	for _, s := range health.States {
		kinds = append(kinds, s.State.String())
	}
	for _, k := range status.EventKinds {
		kinds = append(kinds, string(k.Kind))
	}
	slices.Sort(kinds)
	p.Kinds = choices(slices.Compact(kinds), v.Kind)
	p.Severities = []choice{{"", "any", v.Severity == ""}, {"warning", "warning and error", v.Severity == "warning"}, {"error", "error", v.Severity == "error"}}
	for _, e := range v.Events {
		p.Rows = append(p.Rows, row{e.At.UTC().Format("2006-01-02 15:04:05.000"), e.At.UTC().Format(time.RFC3339Nano), e.Object, string(e.Kind), string(e.Severity), e.Text})
	}
	return renderKept("events", p)
}

func renderKept(name string, p any) ([]byte, error) {
	var b bytes.Buffer
	if err := keptPages.ExecuteTemplate(&b, name, p); err != nil {
		return nil, err
	}
	return b.Bytes(), nil
}

// samplesByCause returns rows for requests, in the order in which their causes came last.
func samplesByCause(kept []status.Request) (rows []keptRow) {
	by := map[string][]keptRow{}
	var order []string
	for i := range kept {
		c := kept[i].Cause
		if by[c] == nil {
			order = append(order, c)
		}
		by[c] = append(by[c], newKeptRow(&kept[i]))
	}
	for _, c := range order {
		rows = append(rows, by[c]...)
	}
	return rows
}
