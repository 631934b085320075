package report

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"kestrix/internal/core/config"
	"kestrix/internal/core/result"
)

// upstream writes the backends of an upstream; failures reports whether a request of any upstream failed, so that
// all tables have the same columns.
func (s Style) upstream(b *strings.Builder, cfg *config.Upstream, r *result.Replay, failures bool) {
	u := r.Upstreams[cfg.Name]
	if u == nil {
		return
	}
	parts := []string{cfg.Name, cfg.Algorithm}
	parts = append(parts, stickiness(cfg, u, r.Sessions.Known)...)
	head := flow(strings.Join(parts, s.dot()), s.Width, 2)
	b.WriteString("\n" + s.bold(cfg.Name) + strings.TrimPrefix(head, cfg.Name) + "\n")
	if u.Requests == 0 {
		b.WriteString("  no requests\n")
		return
	}
	names := u.Order
	rest := ""
	if len(names) > 30 && !s.All {
		names = slices.Clone(names)
		slices.SortStableFunc(names, func(a, c string) int {
			x, y := u.Backends[a], u.Backends[c]
			return cmp.Or(cmp.Compare(y.Failed, x.Failed), cmp.Compare(y.SecondsOut, x.SecondsOut), cmp.Compare(y.Latency.P99, x.Latency.P99))
		})
		shown := names[:10]
		var reqs, failed int64
		for _, n := range names[10:] {
			reqs += u.Backends[n].Requests
			failed += u.Backends[n].Failed
		}
		rest = fmt.Sprintf("  the ten worst; the other %d backends: %s requests, %s failed (-all lists them)\n", len(names)-10, count(reqs), count(failed))
		names = shown
	}
	cols := []column{
		{name: "backend", left: true}, {name: "state", left: true, drop: 3}, {name: "requests"},
		{name: "share"}, {name: "fair share", drop: 5}, {name: "failed"},
		{name: "p50", drop: 4}, {name: "p95", drop: 7}, {name: "p99"}, {name: "elapsed p99"}, {name: "peak", drop: 6}, {name: "out", drop: 2},
	}
	t := timesOf(r)
	var rows [][]string
	for _, name := range names {
		x := u.Backends[name]
		failed := count(x.Failed)
		if x.Failed > 0 {
			failed = s.red(failed)
		}
		out := "-"
		if x.SecondsOut > 0 {
			out = span(x.SecondsOut)
		}
		p50, p95, p99 := "-", "-", "-"
		if x.Answered > 0 {
			p50, p95, p99 = t.of(x.Latency.P50), t.of(x.Latency.P95), t.of(x.Latency.P99)
		}
		rows = append(rows, []string{
			s.bold(name), x.State, count(x.Requests), percent(x.Share), percent(x.FairShare), failed,
			p50, p95, p99, t.orDash(x.Elapsed.P99), count(int64(x.PeakInFlight)), out,
		})
	}
	if !failures {
		cols, rows = without("elapsed p99", cols, rows) // it equals p99
	}
	b.WriteString(s.table(cols, rows, 2))
	b.WriteString(rest)
}
