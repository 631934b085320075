package report

import (
	"fmt"
	"slices"
	"strings"

	"kestrix/internal/core/cause"
	"kestrix/internal/core/config"
	"kestrix/internal/core/result"
	"kestrix/internal/core/scenario"
)

// mostFaults is how many faults are told of in full without -all.
const mostFaults = 5

// felt writes the impact on clients before, during and after each fault.
func (s Style) felt(b *strings.Builder, r *result.Replay) {
	var began []result.Fault
	for _, f := range r.Faults {
		if f.Began {
			began = append(began, f)
		}
	}
	if len(began) == 0 {
		return
	}
	rest := 0
	if len(began) > mostFaults && !s.All {
		slices.SortStableFunc(began, func(a, c result.Fault) int {
			switch {
			case a.During.ErrorRate > c.During.ErrorRate:
				return -1
			case a.During.ErrorRate < c.During.ErrorRate:
				return 1
			}
			return 0
		})
		rest = len(began) - mostFaults
		began = began[:mostFaults]
	}
	b.WriteString("\n" + s.bold("client impact") + "\n")
	cols := []column{
		{name: "fault", left: true}, {name: "arrived", left: true}, {name: "requests"}, {name: "failed"}, {name: "error rate", drop: 2},
		{name: "p50", drop: 2}, {name: "p95", drop: 3}, {name: "p99", drop: 1}, {name: "elapsed p50", drop: 4}, {name: "elapsed p95", drop: 5}, {name: "elapsed p99"},
	}
	t := timesOf(r)
	var rows [][]string
	for _, f := range began {
		for i, x := range []struct {
			word string
			p    result.Phase
		}{{"before", f.Before}, {"during", f.During}, {"after", f.After}} {
			if x.p.Requests == 0 && i != 1 {
				continue
			}
			name := ""
			if len(rows) == 0 || rows[len(rows)-1][0] != clip(f.Name, 32) && i == 0 || i == 1 && f.Before.Requests == 0 {
				name = clip(f.Name, 32)
			}
			failed, share := count(x.p.Failed), finePercent(x.p.ErrorRate)
			if x.p.Failed > 0 {
				failed = s.red(failed)
			}
			row := []string{name, x.word, count(x.p.Requests), failed, share}
			for _, l := range []result.Latency{x.p.Latency, x.p.Elapsed} {
				row = append(row, t.orDash(l.P50), t.orDash(l.P95), t.orDash(l.P99))
			}
			rows = append(rows, row)
		}
	}
	b.WriteString(s.table(cols, rows, 2))
	b.WriteString("  " + flow("p50 to p99: answered requests. elapsed: all requests, until the response, the failure, or the moment their client left", s.Width, 2) + "\n")
	s.lines(b, aftermaths(began))
	if rest > 0 {
		fmt.Fprintf(b, "  the %d worst; -all lists %s\n", mostFaults, plural(int64(rest), "more fault"))
	}
}

// advise returns what to change that needs no further replay to be known; why requests
// failed is found out by more of them, see Style.why.
func (p Replay) advise() []string {
	r := p.Result
	var lines []string
	if n := r.Errors[cause.NoRoute]; n > 0 {
		lines = append(lines, fmt.Sprintf("%s matched no route; try: kestrix why %s GET URL", plural(n, "request"), p.Path))
	}
	sticky := slices.ContainsFunc(p.Config.Upstreams, func(u *config.Upstream) bool { return u.Sticky != nil })
	for _, u := range p.Config.Upstreams {
		// A configuration with another sticky upstream is aware of sessions.
		if x := r.Upstreams[u.Name]; r.Sessions.Known && !sticky && x != nil && x.Sessions.Misses > 0 && len(u.Backends) > 1 {
			lines = append(lines, fmt.Sprintf("%s: %s reached a backend without their session; a sticky block keeps clients at their backend", u.Name, plural(x.Sessions.Misses, "request")))
		}
	}
	return lines
}

// byOperator reports whether faults of a kind are an operator's hand.
func byOperator(kind string) bool {
	k := scenario.FaultKindOf(kind)
	return k != nil && k.Order != ""
}

// aftermaths words what came after the ends of faults, where not all was as before at once.
func aftermaths(faults []result.Fault) []string {
	var out []string
	for i := range faults {
		f := &faults[i]
		a := f.Aftermath
		switch lost := fmt.Sprintf("%s of %s after it failed", count(a.Failed), plural(a.Requests, "request")); {
		case a.Requests > 0 && a.Until == nil:
			out = append(out, fmt.Sprintf("%s: no recovery until the end of the replay; %s", f.Name, lost))
		case a.Failed > 0 && a.Until != nil:
			out = append(out, fmt.Sprintf("%s: recovered %s after its end; until then %s", f.Name, span(*a.Until), lost))
		}
	}
	return out
}

// lines writes lines below a table.
func (s Style) lines(b *strings.Builder, all []string) {
	for _, l := range all {
		b.WriteString("  " + flow(l, s.Width, 4) + "\n")
	}
}
