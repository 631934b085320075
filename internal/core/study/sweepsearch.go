package study

import (
	"cmp"
	"slices"
	"time"

	"kestrix/internal/core/config"
	"kestrix/internal/core/result"
	"kestrix/internal/core/scenario"
	"kestrix/internal/core/sim"
)

// candidate is a fault that may be the worst of a target, and what came of it.
type candidate struct {
	kind      string
	at, until time.Duration
	of        []outcome // by seed
}

// outcome is what came of a fault with one seed.
type outcome struct {
	more       float64 // requests that failed, less those that fail without it
	whole      *result.Replay
	fault      *result.Fault
	aftermath  result.Aftermath
	overloaded []string
}

// median returns the median of a figure across the seeds of a candidate.
func (c *candidate) median(of func(*outcome) float64) float64 {
	_, m, _ := c.spread(of)
	return m
}

func (c *candidate) spread(of func(*outcome) float64) (low, median, high float64) {
	var values []float64
	for i := range c.of {
		values = append(values, of(&c.of[i]))
	}
	return rangeOf(values)
}

// worse orders candidates, the worse first: by what fails, then by how long requests take.
func worse(a, b *candidate) int {
	of := func(f func(*outcome) float64) int { return cmp.Compare(b.median(f), a.median(f)) }
	return cmp.Or(
		of(func(o *outcome) float64 { return o.more }), of(func(o *outcome) float64 { return o.fault.During.Elapsed.P99 }), of(func(o *outcome) float64 { return o.fault.During.Elapsed.Mean }),
		of(func(o *outcome) float64 { return float64(o.whole.Sessions.Misses) }), of(func(o *outcome) float64 { return float64(o.whole.Retried) }),
	)
}

// targetSearch is the search for the worst fault of a target, in rounds.
type targetSearch struct {
	target *target
	begun  []int64      // attempts in the upstreams of the target, see begun
	own    []int64      // see begunThere
	tried  []*candidate // the worst first, when a round begins
	round  int
	jobs   []job // that the round asks for
}

// rounds are those of a search; each looks about the worst of what was tried before.
var rounds = []func(*targetSearch, *sweeping){(*targetSearch).kinds, (*targetSearch).moments, (*targetSearch).lengths, (*targetSearch).phases, (*targetSearch).confirmSome, (*targetSearch).confirmWorst}

// shortRounds are those of pairs, of which there are too many to look closer.
var shortRounds = []func(*targetSearch, *sweeping){(*targetSearch).kinds, (*targetSearch).confirmSome, (*targetSearch).confirmWorst}

// job is a replay of a candidate with a seed, from 0.
type job struct {
	*candidate
	target *target
	seed   int
}

// replaysOf returns about how many replays a search takes.
func replaysOf(o *SweepOptions) int { return len(o.Kinds) + 8 + 4 + 2 + 4 + max(o.Seeds-3, 0) }

// budget is how many replays all searches together take at most where they can do with it. What it
// leaves goes to further times, at most mostSpare of a search, and then to further candidates that
// are tried with all seeds, at most mostFinalists, for each of which perFinalist more are tried
// with three.
const (
	budget        = 200
	mostSpare     = 12
	mostFinalists = 3
	perFinalist   = 4
)

// share shares what the budget leaves out among the searches.
func (r *sweeping) share(targets int) {
	left := budget/targets - replaysOf(r.o)
	r.spare = max(min(left, mostSpare), 0)
	r.finalists = max(min((left-r.spare)/(2*perFinalist+max(r.o.Seeds-3, 0)), mostFinalists), 0)
}

// ofSearch returns about how many replays a search takes with its share.
func (r *sweeping) ofSearch() int {
	return replaysOf(r.o) + r.spare + r.finalists*(2*perFinalist+max(r.o.Seeds-3, 0))
}

// The lengths of short peaks of the load that are looked for: about as long as it takes a probe
// to detect a fault, and as it takes the requests that meet it.
const (
	sharp    = 5 * time.Second
	sharpest = 2 * time.Second
)

// next returns what is tried next; nothing when the search is over.
func (h *targetSearch) next(r *sweeping) []job {
	all := rounds
	if h.target.what == "pair" {
		all = shortRounds
	}
	h.jobs = nil
	for len(h.jobs) == 0 && h.round < len(all) {
		slices.SortStableFunc(h.tried, worse)
		all[h.round](h, r)
		h.round++
	}
	return h.jobs
}

// try asks for a fault, unless it was tried or lies out of the replay.
func (h *targetSearch) try(r *sweeping, kind string, at, until time.Duration) {
	at = max(at, 0)
	end := max(r.end(), at+time.Second)
	if until = min(until, end); until <= at || slices.ContainsFunc(h.tried, func(c *candidate) bool { return c.kind == kind && c.at == at && c.until == until }) {
		return
	}
	c := &candidate{kind: kind, at: at, until: until}
	h.tried = append(h.tried, c)
	h.jobs = append(h.jobs, job{c, h.target, 0})
}

// again asks for further seeds of a candidate, until it has so many.
func (h *targetSearch) again(r *sweeping, c *candidate, seeds int) {
	for k := len(c.of); k < min(seeds, r.o.Seeds); k++ {
		h.jobs = append(h.jobs, job{c, h.target, k})
	}
}

// kinds tries every kind at the peak of what comes to the target's upstreams.
func (h *targetSearch) kinds(r *sweeping) {
	at := r.o.at(r.base, h.begun, r.length, peak)
	for _, kind := range r.o.Kinds {
		h.try(r, kind, at, at+r.length)
	}
}

// moments tries the worst kinds at other times: at sharp peaks, where the load rises and
// falls, and more where there are replays to spare.
func (h *targetSearch) moments(r *sweeping) {
	starts := []time.Duration{r.o.at(r.base, h.own, sharpest, peak), r.o.at(r.base, h.begun, sharp, peak), r.o.at(r.base, h.begun, r.length, rise), r.o.at(r.base, h.begun, r.length, fall)}
	kinds := []string{h.tried[0].kind}
	more := func(o *outcome) float64 { return o.more }
	if len(h.tried) > 1 && 2*h.tried[1].median(more) >= h.tried[0].median(more) {
		kinds = append(kinds, h.tried[1].kind)
	}
	for _, kind := range kinds {
		for _, at := range starts {
			h.try(r, kind, at, at+r.length)
		}
	}
	spare := r.spare + len(starts)*(2-len(kinds))
	for i := range spare { // evenly, from the beginning on, after which the most is seen of an aftermath
		at := time.Duration(float64(r.end()-r.length) * float64(i) / float64(spare)).Truncate(time.Millisecond)
		h.try(r, kinds[0], at, at+r.length)
	}
}

// lengths tries the first and the last half and quarter of the worst.
func (h *targetSearch) lengths(r *sweeping) {
	w := h.tried[0]
	for _, part := range []time.Duration{2, 4} {
		h.try(r, w.kind, w.at, w.at+r.length/part)
		h.try(r, w.kind, w.until-r.length/part, w.until)
	}
}

// phases tries the worst half an interval of the probe earlier and later.
func (h *targetSearch) phases(r *sweeping) {
	w, half := h.tried[0], interval(r.config, h.target.backends)/2
	h.try(r, w.kind, w.at-half, w.until-half)
	h.try(r, w.kind, w.at+half, w.until+half)
}

// confirmSome tries the worst with three seeds: with one alone chance may have made them so.
func (h *targetSearch) confirmSome(r *sweeping) {
	for _, c := range h.tried[:min(2+perFinalist*r.finalists, len(h.tried))] {
		h.again(r, c, 3)
	}
}

// confirmWorst tries the worst of these with all seeds.
func (h *targetSearch) confirmWorst(r *sweeping) {
	slices.SortStableFunc(h.tried, func(a, b *candidate) int { return cmp.Or(cmp.Compare(len(b.of), len(a.of)), worse(a, b)) })
	for _, c := range h.tried[:min(1+r.finalists, len(h.tried))] {
		h.again(r, c, r.o.Seeds)
	}
}

// searchAll searches for the worst fault of some of the targets, side by side, and adds the cases.
func (r *sweeping) searchAll(targets []target, mine []int, out *Sweep) error {
	var all []*targetSearch
	for _, i := range mine {
		all = append(all, &targetSearch{target: &targets[i], begun: begun(r.base, &targets[i]), own: begunThere(r.base, &targets[i])})
	}
	for r.ctx.Err() == nil {
		var jobs []job
		for _, h := range all {
			jobs = append(jobs, h.next(r)...)
		}
		if len(jobs) == 0 {
			break
		}
		slices.SortStableFunc(jobs, func(a, b job) int { return cmp.Compare(a.seed, b.seed) })
		out.Replays += len(jobs)
		for len(jobs) > 0 && r.ctx.Err() == nil {
			n := 1
			for n < min(len(jobs), atATime) && jobs[n].seed == jobs[0].seed {
				n++
			}
			if err := r.run(jobs[:n]); err != nil {
				return err
			}
			jobs = jobs[n:]
		}
	}
	for _, h := range all {
		h.report(r, out)
	}
	return r.otherwise(out)
}

// run replays jobs of one seed side by side.
func (r *sweeping) run(jobs []job) error {
	seed := jobs[0].seed
	calm, err := r.calm(seed)
	if err != nil || r.ctx.Err() != nil {
		return err
	}
	var scenarios []*scenario.Scenario
	for _, j := range jobs {
		scenarios = append(scenarios, r.with(j.kind, j.target.of(seed), j.at, j.until))
	}
	results, err := r.replays(seed, scenarios)
	if err != nil || r.ctx.Err() != nil {
		return err // half a replay tells nothing that could be held against the others
	}
	for i, res := range results {
		o := outcome{more: float64(res.Failed + res.ClientLeft - calm.Failed - calm.ClientLeft), whole: res, fault: &res.Faults[len(res.Faults)-1]}
		o.aftermath = sim.Aftermath(res.Course, jobs[i].until.Seconds(), calm.Course.Between)
		for _, x := range res.Overloaded {
			o.overloaded = append(o.overloaded, x.Upstream)
		}
		res.Timeline, res.Health, res.Course = result.Timeline{}, nil, nil // which would fill the memory
		jobs[i].of = append(jobs[i].of, o)
	}
	r.tell(len(jobs))
	return nil
}

// report adds the worst case of each kind of a target.
func (h *targetSearch) report(r *sweeping, out *Sweep) {
	seen := map[string]bool{}
	h.tried = slices.DeleteFunc(h.tried, func(c *candidate) bool { return len(c.of) == 0 }) // the sweep was stopped
	slices.SortStableFunc(h.tried, func(a, b *candidate) int { return cmp.Or(cmp.Compare(len(b.of), len(a.of)), worse(a, b)) })
	for _, c := range h.tried {
		if seen[c.kind] {
			continue
		}
		seen[c.kind] = true
		out.Cases = append(out.Cases, h.target.caseOf(r.config, c))
	}
}

// caseOf words what came of a candidate.
func (t *target) caseOf(cfg *config.Config, c *candidate) SweepCase {
	x := SweepCase{Name: t.name, What: t.what, Kind: c.kind, Failed: t.backends, Alike: t.alike, At: c.at.Seconds(), Until: c.until.Seconds(), Seeds: len(c.of), Overloaded: []string{}, LeftWithout: []string{}}
	if x.Alike == nil {
		x.Alike = []string{}
	}
	whole := func(of func(*outcome) int64) int64 {
		return int64(c.median(func(o *outcome) float64 { return float64(of(o)) }))
	}
	x.MoreLow, x.More, x.MoreHigh = c.spread(func(o *outcome) float64 { return o.more })
	x.ErrorRate, x.P99 = c.median(func(o *outcome) float64 { return o.whole.ErrorRate }), c.median(func(o *outcome) float64 { return o.whole.Latency.P99 })
	x.During = SweepPart{
		Requests: whole(func(o *outcome) int64 { return o.fault.During.Requests }), Failed: whole(func(o *outcome) int64 { return o.fault.During.Failed }),
		ErrorRate: c.median(func(o *outcome) float64 { return o.fault.During.ErrorRate }), P50: c.median(func(o *outcome) float64 { return o.fault.During.Latency.P50 }),
		P99: c.median(func(o *outcome) float64 { return o.fault.During.Latency.P99 }), ElapsedP99: c.median(func(o *outcome) float64 { return o.fault.During.Elapsed.P99 }),
	}
	x.Lost, x.Retried = whole(func(o *outcome) int64 { return o.fault.ExposedFailed }), whole(func(o *outcome) int64 { return o.whole.Retried })
	x.SessionsMoved, x.SessionMisses = whole(func(o *outcome) int64 { return o.whole.Sessions.Moved }), whole(func(o *outcome) int64 { return o.whole.Sessions.Misses })
	x.DetectedAfter, x.RecoveredAfter = c.moment(func(o *outcome) *float64 { return o.fault.DetectedAfter }), c.moment(func(o *outcome) *float64 { return o.fault.RecoveredAfter })
	for _, o := range c.of {
		x.MoreBySeed = append(x.MoreBySeed, o.more)
		if o.aftermath.Requests > 0 && o.aftermath.Until == nil {
			x.Unrecovered++
		}
		if o.aftermath.Failed >= x.Aftermath.Failed {
			x.Aftermath = o.aftermath
		}
		for _, u := range o.overloaded {
			if !slices.Contains(x.Overloaded, u) {
				x.Overloaded = append(x.Overloaded, u)
			}
		}
	}
	for _, u := range cfg.Upstreams {
		if c.of[0].whole.Upstreams[u.Name].Requests > 0 && without(u, x.Failed) {
			x.LeftWithout = append(x.LeftWithout, u.Name)
		}
	}
	return x
}

// moment returns the median of a moment; nil if it never came with half of the seeds.
func (c *candidate) moment(of func(*outcome) *float64) *float64 {
	var values []float64
	for i := range c.of {
		if v := of(&c.of[i]); v != nil {
			values = append(values, *v)
		}
	}
	if 2*len(values) <= len(c.of) {
		return nil
	}
	_, m, _ := rangeOf(values)
	return &m
}

// otherwise finds what comes with nothing failed at the times of the cases, and in the busiest.
func (r *sweeping) otherwise(out *Sweep) error {
	type span struct{ at, until float64 }
	spans := []span{{out.Of.At, out.Of.Until}}
	for _, c := range out.Cases {
		if s := (span{c.At, c.Until}); !slices.Contains(spans, s) {
			spans = append(spans, s)
		}
	}
	most := scenario.MaxFaults - len(r.scenario.Faults)
	for part := range slices.Chunk(spans, most) {
		s := *r.scenario
		s.Faults = slices.Clone(s.Faults)
		for _, x := range part {
			one := r.with("slow", nil, time.Duration(x.at*1e9), time.Duration(x.until*1e9))
			s.Faults = append(s.Faults, one.Faults[len(one.Faults)-1])
		}
		results, err := r.replays(0, []*scenario.Scenario{&s})
		if err != nil || r.ctx.Err() != nil {
			return err
		}
		for i, x := range part {
			f := results[0].Faults[len(r.scenario.Faults)+i]
			if x == spans[0] {
				out.Baseline = partOf(f.During)
				out.Of.Rate = float64(out.Baseline.Requests) / max(x.until-x.at, 1e-9)
			}
			for k := range out.Cases {
				if (span{out.Cases[k].At, out.Cases[k].Until}) == x {
					out.Cases[k].Otherwise = partOf(f.During)
				}
			}
		}
	}
	return nil
}
