package report

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"kestrix/internal/core/balance"
	"kestrix/internal/core/study"
)

// wrongWhen says of each variant when it is the wrong one, by the name of its algorithm.
var wrongWhen = func() map[string]string {
	out := map[string]string{"": "the requests to come are of another mix: another trace, or more of this one, may change the order"}
	for _, a := range balance.Algorithms {
		out[a.Name] = a.Wrong
	}
	return out
}()

// Advise returns what to choose, with the figures it rests on and when it would be
// wrong.
func (p Compared) Advise() []study.Advice {
	out := []study.Advice{}
	if p.Result.Partial || p.Result.Runs[0].Result.Requests == 0 {
		return out
	}
	if a := p.best(); a != nil {
		out = append(out, *a)
	}
	if a := p.pool(); a != nil {
		out = append(out, *a)
	}
	if a := p.leaving(); a != nil {
		out = append(out, *a)
	}
	return out
}

// base is the run that others are held against: the one as configured, else the
// first.
func (p Compared) base() int {
	return max(slices.IndexFunc(p.Result.Runs, func(r study.Run) bool { return r.Configured }), 0)
}

// few is how many more failures are as good as none more.
func few(failed int64) int64 { return failed + max(failed/50, 2) }

// best advises by failures, and among those that fail least by how long requests take.
func (p Compared) best() *study.Advice {
	runs := p.Result.Runs
	if slices.ContainsFunc(p.Ways, func(w study.Variant) bool { return w.Pool > 0 }) {
		return nil // more backends are always better
	}
	least := runs[0].Figures.Failed
	for _, r := range runs {
		least = min(least, r.Figures.Failed)
	}
	best := -1
	slowest, fastest := 0.0, 0.0
	for i, r := range runs {
		f := r.Figures
		if f.Failed > few(least) || r.Result.Answered == 0 {
			continue
		}
		slowest = max(slowest, f.ElapsedP99)
		if fastest == 0 || f.ElapsedP99 < fastest {
			fastest = f.ElapsedP99
		}
		if best < 0 || cmp.Or(cmp.Compare(f.ElapsedP99, runs[best].Figures.ElapsedP99), cmp.Compare(f.P95, runs[best].Figures.P95), cmp.Compare(f.Spread, runs[best].Figures.Spread)) < 0 {
			best = i
		}
	}
	if best < 0 {
		return nil
	}
	base := p.base()
	b, w := runs[base], runs[best]
	if b.Name == "as configured" {
		b.Name = "what is configured"
	}
	n, t := b.Result.Requests, timesOf(b.Result)
	unless := wrongWhen[p.Ways[best].Choice]
	if n < 1000 {
		unless = fmt.Sprintf("chance has it: %s are few to tell by", plural(n, "request"))
	}
	switch {
	case b.Figures.Failed > few(least):
		return &study.Advice{
			Say:     fmt.Sprintf("choose %s: it fails %s of %s requests, %s fails %s", w.Name, count(w.Figures.Failed), count(n), b.Name, count(b.Figures.Failed)),
			Because: fmt.Sprintf("99 %% of all requests end within %s against %s, the spread %.2f against %.2f", t.of(w.Figures.ElapsedP99), t.of(b.Figures.ElapsedP99), w.Figures.Spread, b.Figures.Spread),
			Unless:  unless,
		}
	case b.Figures.ElapsedP99 > w.Figures.ElapsedP99*1.05 && b.Figures.ElapsedP99 > w.Figures.ElapsedP99+0.001:
		return &study.Advice{
			Say:     fmt.Sprintf("choose %s: 99 %% of its requests end within %s, with %s within %s", w.Name, t.of(w.Figures.ElapsedP99), b.Name, t.of(b.Figures.ElapsedP99)),
			Because: fmt.Sprintf("p95 is %s against %s, failed %s against %s, the spread %.2f against %.2f", t.of(w.Figures.P95), t.of(b.Figures.P95), count(w.Figures.Failed), count(b.Figures.Failed), w.Figures.Spread, b.Figures.Spread),
			Unless:  unless,
		}
	}
	others := fmt.Sprintf("that of all variants which fail as little lies between %s and %s", t.of(fastest), t.of(slowest))
	if span(fastest) == span(slowest) {
		others = "as that of all variants which fail as little"
	}
	a := &study.Advice{
		Say:     fmt.Sprintf("keep %s: no other variant is noticeably faster without failing more", b.Name),
		Because: fmt.Sprintf("99 %% of its requests end within %s, %s; it fails %s of %s requests, the least of any is %s", t.of(b.Figures.ElapsedP99), others, count(b.Figures.Failed), count(n), count(least)),
		Unless:  "there is more to do: while backends are hardly busy all variants look alike; try a scenario with a load, or one in which a backend fails",
	}
	if busiest(b) > 0.5 {
		a.Unless = wrongWhen[p.Ways[base].Choice]
	}
	return a
}

// busiest is the share of its workers' time that the busiest backend works.
func busiest(r study.Run) float64 {
	most := 0.0
	for _, u := range r.Result.Upstreams {
		for _, b := range u.Backends {
			most = max(most, b.Busy)
		}
	}
	return most
}

// pool advises how many backends do.
func (p Compared) pool() *study.Advice {
	// Those that choose alike; of several such, the first.
	by := map[string][]int{}
	var sized []int
	for i, w := range p.Ways {
		if w.Pool > 0 && p.Result.Runs[i].Result.Answered > 0 {
			by[w.Choice] = append(by[w.Choice], i)
		}
	}
	for _, w := range p.Ways {
		if sized = by[w.Choice]; len(sized) > 1 {
			break
		}
	}
	if len(sized) < 2 {
		return nil
	}
	slices.SortFunc(sized, func(a, b int) int { return cmp.Compare(p.Ways[a].Pool, p.Ways[b].Pool) })
	runs := p.Result.Runs
	most := runs[sized[len(sized)-1]]
	at := slices.IndexFunc(sized, func(i int) bool {
		f := runs[i].Figures
		return f.Failed <= few(most.Figures.Failed) && f.ElapsedP99 <= most.Figures.ElapsedP99*1.1 && f.Throughput >= most.Figures.Throughput*0.9
	})
	do := runs[sized[at]]
	size := func(i int) string {
		text := plural(int64(p.Ways[i].Pool), "backend")
		if c := p.Ways[i].Choice; c != "" {
			text += " with " + c
		}
		return text
	}
	t := timesOf(do.Result)
	a := &study.Advice{
		Say: fmt.Sprintf("%s do: more of them gain hardly anything here", size(sized[at])),
		Because: fmt.Sprintf("99 %% of the requests end within %s, with %s within %s; the busiest works %s of the time; failed %s and %s", t.of(do.Figures.ElapsedP99), plural(int64(p.Ways[sized[len(sized)-1]].Pool), "backend"), t.of(most.Figures.ElapsedP99),
			percent(busiest(do)), count(do.Figures.Failed), count(most.Figures.Failed)),
		Unless: "one of them may fail: what is left must carry it all, which kestrix sweep tries",
	}
	if p.Ways[sized[at]].Pool == 1 {
		a.Say = size(sized[at]) + " does: more of them gain hardly anything here"
	}
	if at == len(sized)-1 {
		before := runs[sized[at-1]]
		a.Say = fmt.Sprintf("%s are still better than %s: try more", size(sized[at]), size(sized[at-1]))
		var gains []string
		for _, g := range [][3]string{
			{"99 % end within less,", t.of(before.Figures.ElapsedP99), t.of(do.Figures.ElapsedP99)}, {"failed", count(before.Figures.Failed), count(do.Figures.Failed)},
			{"throughput", three(before.Figures.Throughput) + "/s", three(do.Figures.Throughput) + "/s"},
		} {
			if g[1] != g[2] {
				gains = append(gains, fmt.Sprintf("%s from %s to %s", g[0], g[1], g[2]))
			}
		}
		a.Because = strings.Join(gains, ", ")
		a.Unless = "such a load never comes: then fewer do"
	}
	return a
}

// leaving advises those whose backends keep something of their clients.
func (p Compared) leaving() *study.Advice {
	runs := p.Result.Runs
	best, worst, least := -1, -1, runs[0].Figures.Failed
	for i, r := range runs {
		if p.Ways[i].Pool > 0 {
			return nil
		}
		least = min(least, r.Figures.Failed)
	}
	for i, r := range runs {
		if r.Figures.MovedOnLeave == nil || r.Figures.Failed > few(least) {
			continue // what fails more is no cure
		}
		x := *r.Figures.MovedOnLeave
		if best < 0 || cmp.Or(cmp.Compare(x, *runs[best].Figures.MovedOnLeave), cmp.Compare(r.Figures.Failed, runs[best].Figures.Failed), cmp.Compare(r.Figures.ElapsedP99, runs[best].Figures.ElapsedP99), cmp.Compare(r.Figures.Spread, runs[best].Figures.Spread)) < 0 {
			best = i
		}
		if worst < 0 || x > *runs[worst].Figures.MovedOnLeave {
			worst = i
		}
	}
	if best < 0 || *runs[worst].Figures.MovedOnLeave-*runs[best].Figures.MovedOnLeave < 0.1 {
		return nil
	}
	w, l, t := runs[best], runs[worst], timesOf(runs[best].Result)
	or := " or a sticky block"
	if p.Ways[best].Choice == "" {
		or = ""
	}
	return &study.Advice{
		Say: fmt.Sprintf("where backends keep something of a client, such as a session or a cache, choose %s%s", w.Name, or),
		Because: fmt.Sprintf("when %s left, %s of the other clients' requests came to another backend than before, with %s %s; its price is a spread of %.2f, and 99 %% end within %s",
			and(w.Leave.Backends), percent(*w.Figures.MovedOnLeave), l.Name, percent(*l.Figures.MovedOnLeave), w.Figures.Spread, t.of(w.Figures.ElapsedP99)),
		Unless: "any backend can answer anybody: then nothing is gained by coming back",
	}
}
