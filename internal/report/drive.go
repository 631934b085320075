package report

import (
	"fmt"
	"strings"
	"time"

	"kestrix/internal/core/result"
)

// Late is how late requests were sent by a driver, in seconds.
type Late struct{ P50, P99, Max float64 }

// Drive is what the text of a drive is made from.
type Drive struct {
	Names  []string // of the traces; empty for none
	URL    string
	Speed  float64
	HTTP   string // version
	By     string // the field that names backends
	Result *result.Replay
	First  string // failure without an answer, in the words of the library; empty for none
	Late   Late
	Open   bool // requests were sent at times of their own, whatever became of earlier ones
	KeptUp bool
}

// Drive writes what came of a drive.
func (s Style) Drive(d *Drive) string {
	return s.fitted(func(s Style) string { return s.driveText(d) })
}

func (s Style) driveText(d *Drive) string {
	r := d.Result
	var b strings.Builder
	head := append(append([]string{}, d.Names...), d.URL, "HTTP/"+d.HTTP)
	if d.Speed != 1 {
		head = append(head, three(d.Speed)+" times as fast")
	}
	b.WriteString(s.bold(flow(strings.Join(head, s.dot()), s.Width, 0)) + "\n")
	fmt.Fprintf(&b, "%s in %s from %s; %s req/s answered\n", plural(r.Requests, "request"), span(r.Duration), plural(r.Trace.Clients, "client"), three(r.Throughput))
	if r.Partial {
		b.WriteString(s.warn("stopped early: what follows is partial") + "\n")
	}
	s.notes(&b, r)
	b.WriteByte('\n')
	s.totals(&b, r, fmt.Sprintf("clients %s, with another backend than before %s", count(r.Sessions.Seen), plural(r.Sessions.Misses, "time")))
	if d.First != "" {
		b.WriteString("  " + flow("the first without an answer: "+d.First, s.Width, 2) + "\n")
	}
	if len(r.Upstreams) == 0 && r.Answered > 0 {
		b.WriteString("\n" + flow("no answer names its backend in a field "+d.By+"; -names says which field does", s.Width, 0) + "\n")
	}
	for _, up := range sortedKeys(r.Upstreams) {
		u := r.Upstreams[up]
		name := up
		if up == "answers" {
			name = "answers by " + d.By
		}
		b.WriteString("\n" + s.bold(name) + "\n")
		var rows [][]string
		for _, backend := range u.Order {
			x := u.Backends[backend]
			failed := count(x.Failed)
			if x.Failed > 0 {
				failed = s.red(failed)
			}
			rows = append(rows, []string{backend, count(x.Requests), s.bar(x.Share, 20), percent(x.Share), failed, latencySoFar(x.Latency.P50), latencySoFar(x.Latency.P95), latencySoFar(x.Latency.P99)})
		}
		b.WriteString(s.table([]column{
			{name: "backend", left: true}, {name: "requests"}, {name: "share", left: true, drop: 2}, {name: ""}, {name: "failed"}, {name: "p50"}, {name: "p95", drop: 1}, {name: "p99"},
		}, rows, 2))
	}
	if !d.Open {
		return b.String()
	}
	late := fmt.Sprintf("requests were late by p50 %s, p99 %s", span(d.Late.P50), span(d.Late.P99))
	if d.KeptUp {
		b.WriteString("\n" + flow("the driver kept up: "+late, s.Width, 0) + "\n")
	} else {
		b.WriteString("\n" + s.warn(flow("the driver did not keep up: "+late+", max "+span(d.Late.Max)+". The latencies above include that. A lower -speed, or a faster machine, measures the proxy", s.Width, 0)) + "\n")
	}
	return b.String()
}

// DriveLine writes one answer of requests that are sent one after the other.
func (s Style) DriveLine(at time.Time, status int, backend, fail string, took time.Duration) string {
	what := fmt.Sprint(status)
	if status == 0 {
		what = "-"
	}
	if backend == "" {
		backend = "-"
	}
	line := fmt.Sprintf("%s  %-4s  %-20s  %9s", at.UTC().Format("15:04:05.000Z"), what, backend, span(took.Seconds()))
	if fail != "" {
		line += "  " + s.red(strings.ReplaceAll(fail, "_", " "))
	}
	return line + "\n"
}
