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

// felt tells what customers felt before, during and after each fault.
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
	b.WriteString("\n" + s.bold("what customers felt") + "\n")
	cols := []column{
		{name: "fault", left: true}, {name: "requests that came", left: true}, {name: "requests"}, {name: "failed"}, {name: "of them", drop: 2},
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
	b.WriteString("  " + flow("p50 to p99 are of answered requests; elapsed is of all, until the answer, the failure or the leaving", s.Width, 2) + "\n")
	if rest > 0 {
		fmt.Fprintf(b, "  the %d worst; %s with -all\n", mostFaults, plural(int64(rest), "more fault"))
	}
}

// advise returns what to change, when there is something to change, each with the
// figures it rests on.
func (p Replay) advise() []string {
	r := p.Result
	var lines []string
	add := func(format string, args ...any) { lines = append(lines, fmt.Sprintf(format, args...)) }
	if n := r.Errors[cause.NoRoute]; n > 0 {
		add("%s fitted no route; try: kestrix why %s GET URL", plural(n, "request"), p.Path)
	}
	for _, o := range r.Overloaded {
		add("upstream %q had more to do than it can from %s on: more backends or workers, or a rate limit that refuses early", o.Upstream, moment(o.From))
	}
	if n := r.Errors[cause.QueueFull] + r.Errors[cause.QueueTimeout]; n > 0 {
		add("%s failed in the queue: max_in_flight holds back what backends could take, or there are too few of them", plural(n, "request"))
	}
	for _, f := range r.Faults {
		lines = append(lines, adviseFault(p, &f)...)
	}
	sticky := slices.ContainsFunc(p.Config.Upstreams, func(u *config.Upstream) bool { return u.Sticky != nil })
	for _, u := range p.Config.Upstreams {
		lines = append(lines, adviseUpstream(u, r, sticky)...)
	}
	return lines
}

func (s Style) advice(b *strings.Builder, p Replay) {
	lines := p.advise()
	if len(lines) == 0 {
		return
	}
	b.WriteString("\n" + s.bold("what to change") + "\n")
	more := 0
	if len(lines) > mostFaults && !s.All {
		more = len(lines) - mostFaults
		lines = lines[:mostFaults]
	}
	for _, l := range lines {
		b.WriteString("  " + flow(l, s.Width, 4) + "\n")
	}
	if more > 0 {
		fmt.Fprintf(b, "  and %d more with -all\n", more)
	}
}

// adviseFault returns what would have made a fault cost less.
func adviseFault(p Replay, f *result.Fault) []string {
	if !f.Began || f.ExposedFailed == 0 || byOperator(f.Kind) {
		return nil
	}
	if f.DetectedAfter == nil {
		return []string{fmt.Sprintf("nothing noticed %q, which cost %s; try: kestrix check %s", f.Name, plural(f.ExposedFailed, "request"), p.Path)}
	}
	for _, name := range f.Backends {
		up, _, _ := strings.Cut(name, ".")
		u := p.Config.Upstream(up)
		if u == nil || u.Probe == nil {
			continue
		}
		worst := float64(u.Probe.DownAfter)*u.Probe.Every.Seconds() + u.Probe.Timeout.Seconds()
		if *f.DetectedAfter > 2 && f.ExposedFailed > 1 {
			return []string{fmt.Sprintf("%q was noticed after %s and cost %s; the probe of %q (every %s, %d failures) may take %s, a shorter one costs less",
				f.Name, span(*f.DetectedAfter), plural(f.ExposedFailed, "request"), up, u.Probe.Every, u.Probe.DownAfter, span(worst))}
		}
	}
	return nil
}

// adviseUpstream returns what an upstream lacks by what came of it. Who has made
// another upstream sticky has thought about sessions, and is not told of them.
func adviseUpstream(u *config.Upstream, r *result.Replay, sticky bool) []string {
	x := r.Upstreams[u.Name]
	if x == nil || x.Requests == 0 {
		return nil
	}
	var out []string
	// Attempts that could have gone on to another backend.
	if met := r.Errors[cause.Refused] + r.Errors[cause.ConnectTimeout] + r.Errors[cause.AnswerTimeout] + r.Errors[cause.Reset] + r.Errors[cause.Status5xx]; x.Failed > 0 && met > 0 && u.Retry == nil && len(u.Backends) > 1 {
		out = append(out, fmt.Sprintf("upstream %q repeats nothing and failed %s; a retry block would answer what can safely be repeated", u.Name, plural(x.Failed, "request")))
	}
	if len(r.Faults) == 0 && x.Failed > 0 {
		busiest, left := 0.0, 0
		for _, b := range x.Backends {
			busiest = max(busiest, b.Busy)
		}
		for _, h := range r.Health {
			if h.Upstream == u.Name && (h.To == "down" || h.To == "suspended") {
				left++
			}
		}
		if left > 0 {
			out = append(out, fmt.Sprintf("nothing was broken, and yet backends of %q left rotation %s and %s failed: they are overrun (busy %s of all the time, the busiest); more of them or more workers, or a limit that refuses early",
				u.Name, plural(int64(left), "time"), plural(x.Failed, "request"), percent(busiest)))
		}
	}
	if n := x.Sessions.Misses; n > 0 && !sticky && len(u.Backends) > 1 {
		out = append(out, fmt.Sprintf("%s to %q reached a backend that does not hold their session; if its application keeps sessions by itself, a sticky block keeps clients in their place", plural(n, "request"), u.Name))
	}
	return out
}

// byOperator reports whether faults of a kind are an operator's hand.
func byOperator(kind string) bool {
	k := scenario.FaultKindOf(kind)
	return k != nil && k.Order != ""
}
