package study

import (
	"cmp"
	"maps"
	"math"
	"slices"
)

// triedKey is a row of what was tried.
type triedKey struct {
	faults int
	kind   string
}

// arm is a family of trials: kinds and targets, of which the search varies moments, lengths,
// severities and the load.
type arm struct {
	elements []int // positions in hunting.elements
	load     bool
	best     *trial
}

// finding is a trial that was confirmed.
type finding struct {
	trial *trial
	sure  verdict // of fresh seeds
	steps []ShrinkStep
	trail []*trial // what shrinking accepted, in its order, the one that was found first
}

// The rounds of a search. A third of the families goes on to the next round (Jamieson, Talwalkar:
// Non-stochastic Best Arm Identification and Hyperparameter Optimization, 2016), which tries each
// of them so much more often.
const (
	firstPulls  = 3   // of each kind and target, with one failure at once
	roundSize   = 96  // trials of each further round
	mostArms    = 192 // families of several failures that a bracket begins with
	keepOneOf   = 3
	confirmable = 3    // trials that are confirmed after a round
	searchPart  = 0.65 // of the tries and of the time; the rest confirms and shrinks
)

// search looks for failures that break an expectation, first for single ones, then for pairs and
// threes, until something was found or the tries are used up.
func (h *hunting) search() error {
	for len(h.found) == 0 && h.mayGoOn(searchPart) {
		before := h.out.Replays
		for parts := 1; parts <= h.o.Faults && len(h.found) == 0 && h.mayGoOn(searchPart); parts++ {
			if err := h.bracket(parts); err != nil {
				return err
			}
		}
		if h.out.Replays == before {
			break // there is nothing to try
		}
	}
	return nil
}

// mayGoOn reports whether there are tries and time left, of a part of all.
func (h *hunting) mayGoOn(part float64) bool {
	return h.ctx.Err() == nil && h.left() > 0 && float64(h.out.Replays) < part*float64(h.o.Tries) && !h.o.Stop(part)
}

// bracket searches among failures of so many parts by successive halving, with its share of the
// tries: half of them for single ones, if there are others.
func (h *hunting) bracket(parts int) error {
	arms := h.arms(parts)
	shares := [...][3]float64{{1}, {2. / 3, 1. / 3}, {1. / 2, 1. / 3, 1. / 6}}[h.o.Faults-1]
	until := h.out.Replays + int(shares[parts-1]*searchPart*float64(h.o.Tries))
	for round := 0; len(arms) > 0 && (h.out.Replays < until || len(h.found) > 0) && h.mayGoOn(searchPart); round++ {
		h.phase = "search"
		trials := h.trialsOf(arms, parts, round)
		before := h.out.Replays
		if err := h.tryAll(trials, h.o.Replay.Seed+uint64(len(h.out.Rounds))); err != nil || h.ctx.Err() != nil {
			return err
		}
		h.note(parts, len(arms), h.out.Replays-before, trials)
		slices.SortStableFunc(arms, func(a, b *arm) int { return better(a.best, b.best) })
		if err := h.confirmBest(arms); err != nil {
			return err
		}
		if len(arms) == 1 || len(h.found) > 0 && round > 0 {
			return nil // others are looked for when it is known how small this one can be
		}
		arms = arms[:(len(arms)+keepOneOf-1)/keepOneOf]
	}
	return nil
}

// better orders trials, the one to follow first: broken ones by their size, then those nearest to
// a bound, then those that cost most.
func better(a, b *trial) int {
	if a == nil || b == nil {
		return cmp.Compare(boolInt(a == nil), boolInt(b == nil)) // those without a trial come last
	}
	always := func(t *trial) bool { return t.broken == t.tries && t.tries > 0 && !t.chance }
	switch {
	case always(a) != always(b):
		return cmp.Compare(boolInt(always(b)), boolInt(always(a)))
	case always(a):
		return smaller(a, b)
	}
	return cmp.Or(cmp.Compare(b.past, a.past), cmp.Compare(b.damage, a.damage))
}

func boolInt(b bool) int {
	if b {
		return 1
	}
	return 0
}

// armTrial is a trial of an arm.
type armTrial struct {
	*trial
	arm *arm
}

// trialsOf returns what a round tries: in the first one a few of each family, the worst of it
// first, and later more of fewer families, half of them near the best so far.
func (h *hunting) trialsOf(arms []*arm, parts, round int) (out []armTrial) {
	if round == 0 {
		pulls := 1
		if parts == 1 {
			pulls = firstPulls
		}
		for _, a := range arms {
			for k := range pulls {
				out = append(out, armTrial{h.draw(a, k == 0), a})
			}
		}
		return out
	}
	each := max(roundSize*3/4/len(arms), 1)
	for _, a := range arms {
		if a.best != nil { // again, with the seed of this round: chance may have made it
			out = append(out, armTrial{a.best, a})
		}
		for k := range each {
			if k%2 == 0 && a.best != nil {
				out = append(out, armTrial{h.changed(a.best), a})
			} else {
				out = append(out, armTrial{h.draw(a, false), a})
			}
		}
	}
	all := h.arms(parts)
	for range roundSize / 4 { // others, which the first round may have dropped too early
		if a := all[h.below(len(all))]; len(all) > 1 {
			out = append(out, armTrial{h.draw(a, false), a})
		}
	}
	return out
}

// draw returns a trial of an arm, the worst of it or one at random. Of several faults one begins
// with another, during it, or as it ends.
func (h *hunting) draw(a *arm, worst bool) *trial {
	t := &trial{load: 1}
	for i, e := range a.elements {
		f := h.worst(&h.elements[e])
		if !worst {
			f = h.drawn(&h.elements[e])
		}
		if i > 0 {
			last := &t.faults[i-1]
			switch which := h.below(4); {
			case worst || which == 0:
				f.at = last.at
			case which == 1:
				f.at = last.at + last.long
			case which == 2:
				f.at = last.at + last.long/2
			}
			h.placed(&f)
		}
		t.faults = append(t.faults, f)
	}
	if a.load {
		t.load = h.o.MostLoad
		if !worst {
			t.load = h.loadOf(h.between(leastLoadMore, max(h.o.MostLoad-1, leastLoadMore*1.01)))
		}
	}
	return t
}

// arms returns the families of so many parts: all of one part, and of more as many as a bracket
// takes, at random and half of them of one kind. Those that were tried before come with their best.
func (h *hunting) arms(parts int) []*arm {
	out := h.families(parts)
	for i, a := range out {
		if was := h.seen[a.key()]; was != nil {
			out[i] = was // with what is known of it
		} else {
			h.seen[a.key()] = a
		}
	}
	return out
}

// families returns these families anew.
func (h *hunting) families(parts int) (out []*arm) {
	load := h.o.MostLoad > 1
	if parts == 1 {
		if load {
			out = append(out, &arm{load: true})
		}
		for i, e := range h.elements {
			if e.before < 0 {
				out = append(out, &arm{elements: []int{i}})
			}
		}
		return out
	}
	if load && parts == 2 {
		for i, e := range h.elements {
			if e.before < 0 && len(out) < mostArms/2 {
				out = append(out, &arm{elements: []int{i}, load: true})
			}
		}
	}
	seen := map[string]bool{}
	n := len(h.elements)
	for tries := 0; len(out) < mostArms && tries < 20*mostArms && n > 0; tries++ {
		a := &arm{load: load && parts > 2 && tries%2 == 0}
		for len(a.elements) < parts-boolInt(a.load) {
			e := h.below(n)
			if tries%2 == 0 && len(a.elements) > 0 { // of one kind: a power cut, a broken release
				e = h.sameKind(a.elements[0])
			}
			a.elements = append(a.elements, e)
		}
		slices.Sort(a.elements)
		if key := a.key(); h.sensible(a) && !seen[key] {
			seen[key] = true
			out = append(out, a)
		}
	}
	return out
}

// parts returns of how many failures its trials are made.
func (a *arm) parts() int { return len(a.elements) + boolInt(a.load) }

// promising returns the families of so many parts that came nearest to a bound, the best first.
func (h *hunting) promising(parts, most int) (out []*arm) {
	for _, key := range slices.Sorted(maps.Keys(h.seen)) {
		if a := h.seen[key]; a.parts() == parts && a.best != nil {
			out = append(out, a)
		}
	}
	slices.SortStableFunc(out, func(a, b *arm) int { return better(a.best, b.best) })
	return out[:min(len(out), most)]
}

// key tells arms apart.
func (a *arm) key() string {
	var b []byte
	for _, e := range a.elements {
		b = append(b, byte(e), byte(e>>8), ' ')
	}
	return string(append(b, byte(boolInt(a.load))))
}

// sameKind returns a random element of the kind of another.
func (h *hunting) sameKind(of int) int {
	var all []int
	for i := range h.elements {
		if h.elements[i].kind == h.elements[of].kind {
			all = append(all, i)
		}
	}
	return all[h.below(len(all))]
}

// sensible reports whether an arm is no copy of another by design: of backends that are equal, the
// second is struck together with the first only.
func (h *hunting) sensible(a *arm) bool {
	struck := map[string]bool{}
	for _, e := range a.elements {
		struck[h.elements[e].name] = true
	}
	for _, e := range a.elements {
		if before := h.elements[e].before; before >= 0 && !struck[h.elements[before].name] {
			return false
		}
	}
	return true
}

// tryAll replays trials with one seed, and notes what came of them.
func (h *hunting) tryAll(trials []armTrial, seed uint64) error {
	calm, err := h.calmOf(seed)
	if err != nil || calm == nil {
		return err
	}
	var jobs []tryJob
	for _, t := range trials {
		jobs = append(jobs, tryJob{trial: t.trial, seed: seed})
	}
	done, err := h.run(jobs)
	if err != nil {
		return err
	}
	for _, j := range done {
		t := j.trial
		t.past = max(t.past, j.of.past)
		if t.tries == 0 {
			t.past = j.of.past
		}
		t.tries++
		t.broken += boolInt(j.of.broken)
		t.damage = j.of.failed - calm.failed + (j.of.elapsed-calm.elapsed)/max(calm.elapsed, 1e-6)
		h.count(t, &j.of)
	}
	for _, t := range trials[:len(done)] {
		if t.arm.best == nil || t.arm.best != t.trial && better(t.trial, t.arm.best) < 0 {
			t.arm.best = t.trial
		}
	}
	return nil
}

// calmOf returns what comes with nothing failed, with a seed; nil when ctx or the budget ends.
func (h *hunting) calmOf(seed uint64) (*outcomeOf, error) {
	if c := h.calms[seed]; c != nil {
		return c, nil
	}
	done, err := h.run([]tryJob{{trial: &trial{load: 1}, seed: seed}})
	if err != nil || len(done) == 0 {
		return nil, err
	}
	h.calms[seed] = &done[0].of
	return h.calms[seed], nil
}

// count counts a trial by its size and kinds.
func (h *hunting) count(t *trial, of *outcomeOf) {
	nearest := 0
	for i := range of.scores {
		if of.scores[i].Past > of.scores[nearest].Past {
			nearest = i
		}
	}
	for _, kind := range slices.Compact(t.kinds()) {
		k := triedKey{t.parts(), kind}
		row := h.tried[k]
		if row == nil {
			row = &HuntTried{Faults: k.faults, Kind: kind, PastMost: math.Inf(-1)}
			h.tried[k] = row
		}
		row.Tried++
		row.Broken += boolInt(of.broken)
		if of.past > row.PastMost {
			row.PastMost, row.Nearest = of.past, h.scenario.Expects[nearest].Name
		}
	}
}

// note notes a round.
func (h *hunting) note(parts, families, replays int, trials []armTrial) {
	r := HuntRound{Faults: parts, Families: families, Replays: replays, PastMost: -1}
	for _, t := range trials {
		if t.tries > 0 {
			r.PastMost = max(r.PastMost, t.past)
			r.Broken += boolInt(t.broken > 0)
		}
	}
	h.out.Rounds = append(h.out.Rounds, r)
}

// confirmBest has fresh seeds judge the smallest of the trials that were always broken.
func (h *hunting) confirmBest(arms []*arm) error {
	h.phase = "confirm"
	n := 0
	for _, a := range arms {
		t := a.best
		if t == nil || t.judged || t.tries == 0 || t.broken < t.tries || t.chance || n == confirmable || h.ctx.Err() != nil {
			continue
		}
		n++
		if _, err := h.confirm(t); err != nil {
			return err
		}
	}
	return nil
}

// confirm has fresh seeds judge a trial, and adds it to what was found if it is broken.
func (h *hunting) confirm(t *trial) (bool, error) {
	t.judged = true
	v, err := h.judge(t, h.freshSeeds(), false)
	if err == nil && v.broken {
		h.found = append(h.found, &finding{trial: t, sure: v, trail: []*trial{t}})
	}
	t.chance = !v.broken
	return err == nil && v.broken, err
}
