package report

import (
	"cmp"
	"fmt"
	"math"
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
// wrong. It advises nothing that rests on a difference which may be chance.
func (p Compared) Advise() []study.Advice {
	out := []study.Advice{}
	if c := p.Result; c.Partial || c.Seeds < c.Needed || c.Runs[0].Result.Requests < enough {
		return out
	}
	for _, a := range []*study.Advice{p.best(), p.pool(), p.sticky(), p.leaving()} {
		if a != nil {
			out = append(out, *a)
		}
	}
	return out
}

// enough is how many requests there must be for advice.
const enough = 1000

// base is the run that others are held against: the one as configured, else the
// first.
func (p Compared) base() int {
	return max(slices.IndexFunc(p.Result.Runs, func(r study.Run) bool { return r.Configured }), 0)
}

// few is how many more failures are as good as none more.
func few(failed float64) float64 { return failed + math.Max(failed/50, 2) }

// failed writes how many requests of a run fail, with the range where seeds differ.
func failed(r *study.Run) string {
	text := figureCell("failed", &r.Figures, r)
	if lies := rangeCell("failed", r); lies != "" {
		text += " (" + lies + ")"
	}
	return text
}

// failsLess reports whether a run fails less than another, beyond chance and by more than a few.
func (p Compared) failsLess(a, b *study.Run) bool {
	return p.Result.BetterBeyondChance("failed", a, b) && b.Figures.Failed > few(a.Figures.Failed)
}

// endsSooner reports whether the requests of a run end noticeably sooner than another's.
func (p Compared) endsSooner(a, b *study.Run) bool {
	x, y := a.Figures.ElapsedP99, b.Figures.ElapsedP99
	return p.Result.BetterBeyondChance("elapsed_p99", a, b) && y > x*1.05 && y > x+0.001
}

// unbeaten returns the runs that none fails less than.
func (p Compared) unbeaten() (out []int) {
	runs := p.Result.Runs
	for i := range runs {
		if runs[i].Result.Answered > 0 && !slices.ContainsFunc(runs, func(r study.Run) bool { return p.failsLess(&r, &runs[i]) }) {
			out = append(out, i)
		}
	}
	return out
}

// best advises by failures, and among those that fail least by how long requests take.
func (p Compared) best() *study.Advice {
	runs := p.Result.Runs
	if slices.ContainsFunc(p.Ways, func(w study.Variant) bool { return w.Pool > 0 }) {
		return nil // more backends are always better
	}
	good := p.unbeaten()
	if len(good) == 0 {
		return nil
	}
	base := p.base()
	b := runs[base]
	if b.Name == "as configured" {
		b.Name = "the configured variant"
	}
	// Of those that are better than the base, the one that is best where it matters.
	better := func(i int) bool {
		return p.failsLess(&runs[i], &runs[base]) || slices.Contains(good, base) && p.endsSooner(&runs[i], &runs[base])
	}
	best := -1
	for _, i := range good {
		if better(i) && (best < 0 || cmp.Or(cmp.Compare(runs[i].Figures.ElapsedP99, runs[best].Figures.ElapsedP99), cmp.Compare(runs[i].Figures.P95, runs[best].Figures.P95), cmp.Compare(runs[i].Figures.Spread, runs[best].Figures.Spread)) < 0) {
			best = i
		}
	}
	if best < 0 {
		return p.keep(good, &b)
	}
	w := runs[best]
	n, t := b.Result.Requests, timesOf(b.Result)
	a := &study.Advice{Unless: wrongWhen[p.Ways[best].Choice]}
	if p.failsLess(&w, &runs[base]) {
		a.Say = fmt.Sprintf("choose %s: %s of %s requests fail, with %s %s", w.Name, failed(&w), count(n), b.Name, failed(&b))
		a.Because = fmt.Sprintf("elapsed p99 is %s instead of %s, the spread %.2f instead of %.2f", t.of(w.Figures.ElapsedP99), t.of(b.Figures.ElapsedP99), w.Figures.Spread, b.Figures.Spread)
	} else {
		a.Say = fmt.Sprintf("choose %s: elapsed p99 is %s instead of %s with %s", w.Name, t.of(w.Figures.ElapsedP99), t.of(b.Figures.ElapsedP99), b.Name)
		a.Because = fmt.Sprintf("p95 is %s instead of %s, failed %s instead of %s, the spread %.2f instead of %.2f", t.of(w.Figures.P95), t.of(b.Figures.P95), failed(&w), failed(&b), w.Figures.Spread, b.Figures.Spread)
	}
	var equals []string
	for _, i := range good {
		if i != best && better(i) && !p.endsSooner(&w, &runs[i]) {
			equals = append(equals, runs[i].Name)
		}
	}
	if len(equals) > 0 {
		a.Because += fmt.Sprintf("; %s is as good: no difference beyond chance in failures and elapsed p99", or(equals))
	}
	a.Because += fmt.Sprintf("; %d seeds", p.Result.Seeds)
	return a
}

// keep advises to keep what is configured, b, where nothing is better beyond chance.
func (p Compared) keep(good []int, b *study.Run) *study.Advice {
	runs := p.Result.Runs
	slowest, fastest, least := 0.0, math.Inf(1), math.Inf(1)
	for _, i := range good {
		f := runs[i].Figures
		slowest, fastest, least = max(slowest, f.ElapsedP99), min(fastest, f.ElapsedP99), min(least, f.Failed)
	}
	t := timesOf(b.Result)
	others := fmt.Sprintf("that of the variants with as few failures is %s to %s", t.of(fastest), t.of(slowest))
	if span(fastest) == span(slowest) {
		others = "as with the other variants that have as few failures"
	}
	a := &study.Advice{
		Say: fmt.Sprintf("keep %s: no other variant fails less or is noticeably faster, beyond chance", b.Name),
		Because: fmt.Sprintf("elapsed p99 is %s, %s; %s of %s requests fail, the minimum of all variants is %s; %d seeds", t.of(b.Figures.ElapsedP99), others,
			failed(b), count(b.Result.Requests), count(int64(math.Round(least))), p.Result.Seeds),
		Unless: "the load grows: with idle backends all variants are alike; try a scenario with a larger load, or with a fault",
	}
	if busiest(*b) > 0.5 {
		a.Unless = wrongWhen[p.Ways[p.base()].Choice]
	}
	return a
}

// or joins names as in "a, b or c".
func or(names []string) string {
	if n := len(names); n > 1 {
		return strings.Join(names[:n-1], ", ") + " or " + names[n-1]
	}
	return strings.Join(names, "")
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
		r := &runs[i]
		slower := p.Result.BetterBeyondChance("elapsed_p99", &most, r) && r.Figures.ElapsedP99 > most.Figures.ElapsedP99*1.1
		less := p.Result.BetterBeyondChance("throughput", &most, r) && r.Figures.Throughput < most.Figures.Throughput*0.9
		return !p.failsLess(&most, r) && !slower && !less
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
		Because: fmt.Sprintf("elapsed p99 is %s, with %s it is %s; the busiest works %s of the time; failed %s and %s", t.of(do.Figures.ElapsedP99), plural(int64(p.Ways[sized[len(sized)-1]].Pool), "backend"), t.of(most.Figures.ElapsedP99),
			percent(busiest(do)), failed(&do), failed(&most)),
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
			{"elapsed p99", t.of(before.Figures.ElapsedP99), t.of(do.Figures.ElapsedP99)}, {"failed", failed(&before), failed(&do)},
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

// sticky advises where ways to keep clients are compared and the application keeps sessions:
// by the requests that miss theirs, among those variants that fail least.
func (p Compared) sticky() *study.Advice {
	runs := p.Result.Runs
	if !p.aboutSessions() || !runs[0].Result.Sessions.Known {
		return nil
	}
	best, worst := -1, -1
	for _, i := range p.unbeaten() {
		x := runs[i].Figures.SessionMisses
		if best < 0 || cmp.Or(cmp.Compare(x, runs[best].Figures.SessionMisses), cmp.Compare(runs[i].Figures.Spread, runs[best].Figures.Spread)) < 0 {
			best = i
		}
		if worst < 0 || x > runs[worst].Figures.SessionMisses {
			worst = i
		}
	}
	if best < 0 || !p.Result.BetterBeyondChance("session_misses", &runs[best], &runs[worst]) {
		return nil
	}
	w, l := runs[best], runs[worst]
	misses := func(r *study.Run) string { return figureCell("session_misses", &r.Figures, r) }
	a := &study.Advice{
		Say:     fmt.Sprintf("where sessions are kept at backends, choose %q: %s requests miss theirs, with %q %s", w.Name, misses(&w), l.Name, misses(&l)),
		Because: fmt.Sprintf("it fails %s of %s requests; its price is a spread of %.2f instead of %.2f; %d seeds", failed(&w), count(w.Result.Requests), w.Figures.Spread, l.Figures.Spread, p.Result.Seeds),
		Unless:  "backends share their sessions: then nothing is missed",
	}
	var equals []string
	for _, i := range p.unbeaten() {
		if i != best && !p.Result.BetterBeyondChance("session_misses", &w, &runs[i]) {
			equals = append(equals, fmt.Sprintf("%q", runs[i].Name))
		}
	}
	if len(equals) > 0 {
		a.Because += "; " + or(equals) + " would do as well: no difference beyond chance"
	}
	return a
}

// leaving advises those whose backends keep something of their clients.
func (p Compared) leaving() *study.Advice {
	runs := p.Result.Runs
	if p.aboutSessions() || slices.ContainsFunc(p.Ways, func(w study.Variant) bool { return w.Pool > 0 }) {
		return nil
	}
	best, worst := -1, -1
	for _, i := range p.unbeaten() { // a variant that fails more is no cure
		r := runs[i]
		if r.Figures.MovedOnLeave == nil {
			continue
		}
		x := *r.Figures.MovedOnLeave
		if best < 0 || cmp.Or(cmp.Compare(x, *runs[best].Figures.MovedOnLeave), cmp.Compare(r.Figures.Failed, runs[best].Figures.Failed), cmp.Compare(r.Figures.ElapsedP99, runs[best].Figures.ElapsedP99), cmp.Compare(r.Figures.Spread, runs[best].Figures.Spread)) < 0 {
			best = i
		}
		if worst < 0 || x > *runs[worst].Figures.MovedOnLeave {
			worst = i
		}
	}
	if best < 0 || *runs[worst].Figures.MovedOnLeave-*runs[best].Figures.MovedOnLeave < 0.1 || !p.Result.BetterBeyondChance("moved_on_leave", &runs[best], &runs[worst]) {
		return nil
	}
	w, l, t := runs[best], runs[worst], timesOf(runs[best].Result)
	or := " or a sticky block"
	if p.Ways[best].Choice == "" {
		or = ""
	}
	return &study.Advice{
		Say: fmt.Sprintf("where backends keep something of a client, such as a session or a cache, choose %s%s", w.Name, or),
		Because: fmt.Sprintf("when %s left, %s of the other clients' requests moved, with %s %s. Its price is a spread of %.2f and an elapsed p99 of %s",
			and(w.Leave.Backends), percent(*w.Figures.MovedOnLeave), l.Name, percent(*l.Figures.MovedOnLeave), w.Figures.Spread, t.of(w.Figures.ElapsedP99)),
		Unless: "any backend can answer anybody: then nothing is gained by coming back",
	}
}
