package balance

import (
	"math"
	"math/bits"
	"time"

	"kestrix/internal/core/draw"
	"kestrix/internal/core/tick"
)

// leastLatency takes the backend with the smallest product of how long it takes
// and how much it has open, per weight. How long it takes is an average that
// follows a slower answer at once and forgets it with time (an exponentially
// weighted moving average, Roberts: Control Chart Tests Based on Geometric
// Moving Averages, Technometrics 1, 1959, sensitive to peaks), so that a backend
// that has become slow is left alone soon, and tried again after a while. Up to
// 16 backends are all looked at; of more, two that are drawn, as in two-choices.
type leastLatency struct {
	twoChoices
	average []float64 // seconds, when last taken
	grown   []float64 // what forgetting has come to since the origin, when last taken
	known   []bool
	fresh   int // how many of those that are in have not answered yet
	origin  tick.Time
	score   []float64 // average, open and weight put together; the time passed is the same for all
	ended   int       // one more than the slot whose request has just ended and whose score is to be worked out; 0 for none
}

// fewSlots is up to how many slots looking at each is fast enough.
const fewSlots = 16

// forgets is the time in which an average falls to 1/e.
const forgets = 10 * time.Second

// failedTakes is what a failure counts as, at least: failing fast is not fast.
const failedTakes = time.Second

func newLeastLatency(o Options) Picker {
	return &leastLatency{twoChoices: twoChoices{pair: pair{random{slots: slots{seed: o.Seed}}}}}
}

func (l *leastLatency) Set(slot int, name string, weight float64) {
	was := 0.0
	if slot < len(l.weight) {
		was = l.weight[slot]
	}
	l.twoChoices.Set(slot, name, weight)
	for len(l.average) < len(l.weight) {
		l.average = append(l.average, 0)
		l.grown = append(l.grown, 0)
		l.known = append(l.known, false)
		l.score = append(l.score, 0)
	}
	if was == 0 && weight > 0 {
		l.known[slot] = false // what it was before it was away says nothing
	}
	l.fresh = 0
	for i, k := range l.known {
		if !k && l.weight[i] > 0 {
			l.fresh++
		}
	}
	l.rescore(slot)
}

// growth is by how much everything has been forgotten since the origin, which
// is moved before the numbers become too large.
func (l *leastLatency) growth(now tick.Time) float64 {
	since := now.Sub(l.origin)
	if since > 200*forgets {
		back := math.Exp(-since.Seconds() / forgets.Seconds())
		l.origin = now
		for i := range l.grown {
			l.grown[i] *= back
			l.rescore(i)
		}
		return 1
	}
	return draw.Exp(float64(since) * (1 / float64(forgets)))
}

// Took takes how long a request took.
func (l *leastLatency) Took(slot int, now tick.Time, took time.Duration, failed bool) {
	if failed {
		took = max(took, failedTakes)
	}
	seconds, growth := float64(took)*1e-9, l.growth(now)
	if !l.known[slot] || seconds > l.average[slot] {
		if !l.known[slot] && l.weight[slot] > 0 {
			l.fresh--
		}
		l.average[slot], l.known[slot] = seconds, true
	} else {
		keeps := l.grown[slot] / growth
		l.average[slot] = keeps*l.average[slot] + (1-keeps)*seconds
	}
	l.grown[slot] = growth
	if l.ended == slot+1 {
		l.ended = 0
	}
	l.rescore(slot)
}

// rescore puts together what a slot costs. All averages are forgotten at the
// same pace, so that those of different moments are compared by what forgetting
// had come to then.
func (l *leastLatency) rescore(slot int) {
	l.score[slot] = l.average[slot] * l.grown[slot] * float64(l.open[slot]+1) * l.per[slot]
}

// Begun says that a request has been given to a slot.
func (l *leastLatency) Begun(slot int) {
	l.twoChoices.Begun(slot)
	l.rescore(slot)
}

// Ended says that one has ended. What it tells of how long it took comes next, as
// a rule, and its score is worked out once.
func (l *leastLatency) Ended(slot int) {
	l.settle()
	l.twoChoices.Ended(slot)
	l.ended = slot + 1
}

// settle works out the score of the slot whose request ended last.
func (l *leastLatency) settle() {
	if l.ended > 0 {
		l.rescore(l.ended - 1)
		l.ended = 0
	}
}

// cost is what is compared. One that has not answered yet is given a first
// request, and then counts as the others do until it has.
func (l *leastLatency) cost(slot int, now tick.Time) float64 {
	if l.fresh > 0 && !l.known[slot] {
		if l.open[slot] == 0 {
			return 0
		}
		return l.mean() * l.growth(now) * float64(l.open[slot]+1) / l.weight[slot]
	}
	return l.score[slot]
}

// mean is the average of those that have answered.
func (l *leastLatency) mean() float64 {
	sum, n := 0.0, 0
	for i, k := range l.known {
		if k && l.weight[i] > 0 {
			sum += l.average[i]
			n++
		}
	}
	if n == 0 {
		return 1 // whatever it is, it is the same for all
	}
	return sum / float64(n)
}

func (l *leastLatency) Pick(q *Query) int {
	l.settle()
	if l.dirty {
		l.rebuild()
	}
	if len(l.members) > fewSlots {
		a, b := l.two(q)
		if b >= 0 && l.better(b, a, q.Now) {
			return b
		}
		return a
	}
	if l.fresh == 0 && l.fulls == 0 && len(q.Tried) == 0 && len(l.members) > 0 {
		return l.cheapest()
	}
	best := -1
	for _, s := range l.members {
		if l.full[s] || q.tried(int(s)) {
			continue
		}
		if best < 0 || l.better(int(s), best, q.Now) {
			best = int(s)
		}
	}
	return best
}

// cheapest is the best of all members, when all have room and have answered.
func (l *leastLatency) cheapest() int {
	// Without a jump that could not be foretold. Bits of numbers of 0 or more
	// order as they do.
	least := uint64(math.MaxUint64)
	for _, s := range l.members {
		x := math.Float64bits(l.score[s])
		_, less := bits.Sub64(x, least, 0)
		least ^= (least ^ x) & -less
	}
	equal := uint64(0) // members, as bits
	for i, s := range l.members {
		differs := math.Float64bits(l.score[s]) - least
		_, same := bits.Sub64(differs, 1, 0)
		equal |= same << (i & 63)
	}
	best := l.members[bits.TrailingZeros64(equal)]
	for equal &= equal - 1; equal != 0; equal &= equal - 1 {
		if s := l.members[bits.TrailingZeros64(equal)]; l.better(int(s), int(best), l.origin) {
			best = s
		}
	}
	return int(best)
}

// better says whether a costs less than b; equals go to the smaller number of
// picks per weight, then to the seeded order.
func (l *leastLatency) better(a, b int, now tick.Time) bool {
	x, y := l.cost(a, now), l.cost(b, now)
	switch {
	case x != y:
		return x < y
	case l.picked[a] != l.picked[b]:
		return l.picked[a] < l.picked[b]
	}
	return l.rank[a] < l.rank[b]
}
