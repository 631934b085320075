package study

import (
	"encoding/json"
	"fmt"
	"math"
	"slices"
	"sync"

	"kestrix/internal/core/replay"
	"kestrix/internal/core/result"
	"kestrix/internal/core/scenario"
)

// keptArrivals are those of a seed.
type keptArrivals struct {
	seed uint64
	of   *replay.Arrivals
}

// seedsKept is for how many seeds of a load arrivals are kept: as many as shrinking comes back to.
// There are fewer where they have more than replay.MostKept arrivals together.
const seedsKept = 10

// arrivals returns those of a seed, which are made or read once as long as they are kept. It
// returns nil when ctx ends.
func (h *hunting) arrivals(seed uint64) (*replay.Arrivals, error) {
	if h.scenario.Load == nil {
		seed = h.o.Replay.Seed // a trace has the same with all seeds
	}
	for _, k := range h.kept {
		if k.seed == seed {
			return k.of, nil
		}
	}
	o := h.o.Replay
	o.Seed = seed
	a, err := replay.Gather(h.ctx, replay.Case{Config: h.config, Scenario: h.scenario}, h.sources, o)
	if err != nil || a == nil {
		return nil, err
	}
	h.kept = append(h.kept, keptArrivals{seed, a})
	total := 0
	for i := len(h.kept) - 1; i >= 0; i-- {
		if total += h.kept[i].of.Count(); total > replay.MostKept || len(h.kept)-i > seedsKept {
			h.kept = slices.Clone(h.kept[i+1:])
			break
		}
	}
	return a, nil
}

// outcomeOf is what came of a trial with one seed.
type outcomeOf struct {
	scores  []scenario.Score
	failed  float64 // requests that failed or whose clients left
	rate    float64 // of errors
	elapsed float64 // mean of all requests, in seconds
	p99     float64 // of all requests
	past    float64 // the most of the scores
	broken  bool    // one of the expectations is
}

// tryJob is a replay of a trial.
type tryJob struct {
	trial *trial
	seed  uint64
	of    outcomeOf
}

// huntAtOnce is how many replays of a hunt go on at a time. The result does not depend on it.
const huntAtOnce = 4

// run replays jobs side by side, as many as the budget leaves, and returns those that came to
// their end.
func (h *hunting) run(jobs []tryJob) ([]tryJob, error) {
	jobs = jobs[:min(len(jobs), h.left())]
	seeds := map[uint64]*replay.Arrivals{}
	for i := range jobs {
		a, err := h.arrivals(jobs[i].seed)
		if err != nil || a == nil {
			return nil, err
		}
		seeds[jobs[i].seed] = a
	}
	errs := make([]error, len(jobs))
	var wait sync.WaitGroup
	room := make(chan struct{}, huntAtOnce)
	for i := range jobs {
		if !h.settling && h.o.Stop(1) {
			jobs = jobs[:i]
			break
		}
		room <- struct{}{}
		wait.Go(func() {
			defer func() { <-room }()
			if h.ctx.Err() != nil {
				return
			}
			j := &jobs[i]
			res, err := seeds[j.seed].Run(h.ctx, h.caseOf(j.trial, j.seed))
			if errs[i] = err; err == nil {
				j.of, errs[i] = h.outcome(res)
			}
		})
	}
	wait.Wait()
	for _, err := range errs {
		if err != nil {
			return nil, err
		}
	}
	if h.ctx.Err() != nil {
		return nil, nil // half a replay breaks nothing
	}
	for i := range jobs {
		h.out.Replays++
		j := &jobs[i]
		if len(j.trial.kinds()) > 0 {
			h.out.Shots = append(h.out.Shots, HuntShot{Replay: h.out.Replays, Phase: h.phase, Faults: j.trial.parts(), Kind: j.trial.kinds()[0], Past: j.of.past, Broken: j.of.broken})
		}
	}
	if h.o.Progress != nil {
		h.o.Progress(h.out.Replays, h.o.Tries, fmt.Sprintf("%s, round %d", h.phase, len(h.out.Rounds)+1))
	}
	return jobs, nil
}

// left returns how many replays may be used, without those that confirm the result at the end.
func (h *hunting) left() int {
	if h.settling {
		return max(h.o.Tries-h.out.Replays, 0)
	}
	return max(h.o.Tries-h.out.Replays-h.reserve(), 0)
}

// reserve returns how many replays the end needs: to confirm the smallest failure, perhaps a step
// back, and to see the same seeds with nothing failed.
func (h *hunting) reserve() int {
	most := 0
	for i := range h.scenario.Expects {
		_, n := ruleOf(&h.scenario.Expects[i])
		most = max(most, n)
	}
	return 3*most + 2*(1+mostOthers) // and those that show it
}

// caseOf returns the replay of a trial with a seed.
func (h *hunting) caseOf(t *trial, seed uint64) replay.Case {
	return replay.Case{Config: h.config, Scenario: h.scenarioOf(t), Seed: seed}
}

// replay returns the whole result of a trial with a seed. It returns nil when ctx ends.
func (h *hunting) replay(t *trial, seed uint64) (*result.Replay, error) {
	a, err := h.arrivals(seed)
	if err != nil || a == nil {
		return nil, err
	}
	h.out.Replays++ // it is one of those that every hunt makes
	return a.Run(h.ctx, h.caseOf(t, seed))
}

// outcome holds a result against the expectations.
func (h *hunting) outcome(res *result.Replay) (o outcomeOf, err error) {
	o.failed, o.rate, o.elapsed, o.p99, o.past = float64(res.Failed+res.ClientLeft), res.ErrorRate, res.Elapsed.Mean, res.Elapsed.P99, -1
	res.Expectations = []scenario.Verdict{}
	if !h.reads["timeline"] { // the largest part, which is written and read again for nothing
		res.Timeline = result.Timeline{}
	}
	if !h.reads["health"] {
		res.Health = nil
	}
	text, err := json.Marshal(res)
	if err != nil {
		return o, err
	}
	o.scores = h.scenario.Scores(text)
	for _, s := range o.scores {
		o.past, o.broken = max(o.past, s.Past), o.broken || s.Broken
	}
	return o, nil
}

// verdict is what several seeds say of a trial.
type verdict struct {
	broken      bool
	expectation int // the one that is broken, or most nearly
	brokenSeeds int // of that one
	needed      int
	seeds       int
	of          []tryJob // by seed
}

// The rule by which an expectation counts as broken that asks for one seed.
const (
	confirmSeeds  = 9
	confirmBroken = 8
)

// ruleOf returns with how many of how many seeds an expectation has to be broken.
func ruleOf(e *scenario.Expect) (needed, seeds int) {
	if e.Seeds > 1 {
		return e.Seeds - int(math.Ceil(e.Share*float64(e.Seeds)-1e-9)) + 1, e.Seeds
	}
	return confirmBroken, confirmSeeds
}

// batch is how many seeds are replayed before it is looked whether they say enough.
const batch = 3

// judge replays a trial with several seeds, and reports whether one of the expectations is broken
// by its rule. It ends as soon as that is known, but goes on to the last seed of a broken one if
// all are wanted. A budget that ends before it is known says no.
func (h *hunting) judge(t *trial, seeds func(k int) uint64, all bool) (verdict, error) {
	expects := h.scenario.Expects
	var v verdict
	counts := make([]int, len(expects))
	longest := 0
	for i := range expects {
		_, n := ruleOf(&expects[i])
		longest = max(longest, n)
	}
	for k := 0; k < longest; {
		var jobs []tryJob
		for range min(batch, longest-k) {
			jobs = append(jobs, tryJob{trial: t, seed: seeds(k + len(jobs))})
		}
		done, err := h.run(jobs)
		if err != nil || len(done) < len(jobs) {
			return v, err
		}
		for _, j := range done {
			v.of = append(v.of, j)
			for i := range expects {
				if _, n := ruleOf(&expects[i]); k < n && j.of.scores[i].Broken {
					counts[i]++
				}
			}
			k++
		}
		open := false
		for i := range expects {
			needed, n := ruleOf(&expects[i])
			if counts[i] >= needed {
				v.broken = true
			}
			open = open || counts[i]+max(n-k, 0) >= needed
		}
		if !open || v.broken && !all {
			break
		}
	}
	v.pick(expects, counts)
	return v, nil
}

// pick notes the expectation that is broken, or most nearly.
func (v *verdict) pick(expects []scenario.Expect, counts []int) {
	best := -1.0
	for i := range expects {
		needed, n := ruleOf(&expects[i])
		if x := float64(counts[i]) / float64(needed); x > best {
			best = x
			v.expectation, v.brokenSeeds, v.needed, v.seeds = i, counts[i], needed, min(n, len(v.of))
		}
	}
}

// freshSeeds returns seeds that were not used before.
func (h *hunting) freshSeeds() func(k int) uint64 {
	from := h.o.Replay.Seed + 1_000_003*(1+h.fresh)
	h.fresh++
	return func(k int) uint64 { return from + uint64(k) }
}
