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
	fresh int     // how many of those that are in have not answered yet
	grew  float64 // what forgetting has come to by last
	last  tick.Time
	ranks [FewSlots]uint64 // by place among the members, if they are few: the bits of their scores, the last four of which give way to the place; all set for none
}

// timed is what least-latency knows of how long a slot takes.
type timed struct {
	place int32 // among the members, if they are few, and one more; 0 for none
	known bool
	level float64 // the average in seconds when last taken, times grown; 0 for what is not known
	grown float64 // what forgetting had come to then; likewise
}

// FewSlots is up to how many backends least-latency looks at each, and needs no
// random bits (Query.Draw).
const FewSlots = 16

// forgets is the time in which an average falls to 1/e.
const forgets = 10 * time.Second

// failedTakes is what a failure counts as, at least: failing fast is not fast.
const failedTakes = time.Second

func newLeastLatency(o Options) Picker {
	return &leastLatency{grew: 1, twoChoices: twoChoices{pair: pair{random{slots: slots{seed: o.Seed}}}}}
}

func (l *leastLatency) Set(slot int, name string, weight float64) {
	was := 0.0
	if slot < len(l.weight) {
		was = l.weight[slot]
	}
	l.twoChoices.Set(slot, name, weight)
	if was == 0 && weight > 0 {
		l.loads[slot].timed = timed{place: l.loads[slot].place} // what it was before it was away says nothing
	}
	l.fresh = 0
	for i := range l.loads {
		if !l.loads[i].known && l.weight[i] > 0 {
			l.fresh++
		}
	}
	l.rescore(slot)
}

// growth is by how much everything has been forgotten by now. It goes on from when it
// was last asked: of so short a time three terms of the series do, to eleven digits,
// and a choice that waits for it does not wait long.
func (l *leastLatency) growth(now tick.Time) float64 {
	since := max(now.Sub(l.last), 0) // who is told of it late must not turn time back
	l.last += tick.Time(since)
	x := float64(since) * (1 / float64(forgets))
	if x > 1.0/4096 || l.grew > mostGrown {
		return l.leap(x)
	}
	l.grew *= 1 + x*(1+x*0.5)
	return l.grew
}

// leap is growth over a longer time, and counts from anew before numbers become too
// large.
func (l *leastLatency) leap(x float64) float64 {
	l.grew *= draw.Exp(min(x, 100))
	if l.grew > mostGrown {
		back := 1 / l.grew
		l.grew = 1
		for i := range l.loads {
			l.loads[i].grown *= back
			l.loads[i].level *= back
			l.rescore(i)
		}
	}
	return l.grew
}

// mostGrown is from where on numbers are too large.
const mostGrown = 1e80

// Took takes how long a request took.
func (l *leastLatency) Took(slot int, now tick.Time, took time.Duration, failed bool) {
	if took = max(took, 0); failed {
		took = max(took, failedTakes)
	}
	t := &l.loads[slot]
	if !t.known {
		if t.known = true; l.weight[slot] > 0 {
			l.fresh--
		}
	}
	// The average now is what is left of the old one, and the rest of this; or this, if
	// it is more. Times growth, either is the larger one exactly when it is to be taken.
	// Bits of numbers of 0 or more order as they do.
	seconds, growth := float64(took)*1e-9, l.growth(now)
	slower := math.Float64bits(seconds * growth)
	mixed := math.Float64bits(t.level + (growth-t.grown)*seconds)
	t.level, t.grown = math.Float64frombits(max(slower, mixed)), growth
	l.rescore(slot)
}

// Answered is Ended and Took at once.
func (l *leastLatency) Answered(slot int, now tick.Time, took time.Duration) {
	l.loads[slot].open--
	l.Took(slot, now, took, false)
}

// score puts together what a slot costs. All averages are forgotten at the same
// pace, so that those of different moments are compared by what forgetting had come
// to then.
func (l *leastLatency) score(slot int) float64 {
	has := &l.loads[slot]
	return has.level * (float64(has.open+1) * has.per)
}

// rescore brings ranks up to date.
func (l *leastLatency) rescore(slot int) {
	if at := l.loads[slot].place - 1; at >= 0 {
		// Bits of numbers of 0 or more order as they do.
		l.ranks[at&(FewSlots-1)] = math.Float64bits(l.score(slot))&^(FewSlots-1) | uint64(at)
	}
}

// lineUp has the members stand in ranks, if they are few.
func (l *leastLatency) lineUp() {
	l.rebuild()
	for i := range l.ranks {
		l.ranks[i] = math.MaxUint64
	}
	for i := range l.loads {
		l.loads[i].place = 0
	}
	if len(l.members) > FewSlots {
		return
	}
	for i, s := range l.members {
		l.loads[s].place = int32(i) + 1
		l.rescore(int(s))
	}
}

// Begun says that a request has been given to a slot.
func (l *leastLatency) Begun(slot int) {
	l.twoChoices.Begun(slot)
	l.rescore(slot)
}

// Ended says that one has ended.
func (l *leastLatency) Ended(slot int) {
	l.twoChoices.Ended(slot)
	l.rescore(slot)
}

// cost is what is compared. One that has not answered yet is given a first
// request, and then counts as the others do until it has.
func (l *leastLatency) cost(slot int, now tick.Time) float64 {
	if l.fresh > 0 && !l.loads[slot].known {
		if l.loads[slot].open == 0 {
			return 0
		}
		return l.mean() * l.growth(now) * float64(l.loads[slot].open+1) / l.weight[slot]
	}
	return l.score(slot)
}

// mean is the average of those that have answered.
func (l *leastLatency) mean() float64 {
	sum, n := 0.0, 0
	for i := range l.loads {
		if t := &l.loads[i]; t.known && l.weight[i] > 0 && t.grown > 0 {
			sum += t.level / t.grown
			n++
		}
	}
	if n == 0 {
		return 1 // whatever it is, it is the same for all
	}
	return sum / float64(n)
}

func (l *leastLatency) Pick(q *Query) int {
	if l.dirty {
		l.lineUp()
	}
	if len(l.members) > FewSlots {
		a, b := l.two(q)
		if b >= 0 && l.fresh == 0 {
			// Without a jump that could not be foretold, as in cheapest.
			if x, y := math.Float64bits(l.score(a)), math.Float64bits(l.score(b)); x != y {
				_, less := bits.Sub64(y, x, 0)
				return a ^ (a^b)&-int(less)
			}
		}
		if b >= 0 && l.better(b, a, q.Now) {
			return b
		}
		return a
	}
	if l.fresh == 0 && l.fulls == 0 && len(q.Tried) == 0 && len(l.members) > 0 {
		if first, alone := l.cheapest(); alone {
			return int(l.members[first])
		}
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

// cheapest gives the place of the first in ranks, and whether no other comes so
// close that it takes a better look. Nothing jumps by what could not be foretold.
func (l *leastLatency) cheapest() (place uint64, alone bool) {
	a, b, c, d := l.ranks[0], l.ranks[1], l.ranks[2], l.ranks[3]
	for i := 4; i < len(l.members) && i+4 <= FewSlots; i += 4 {
		four := (*[4]uint64)(l.ranks[i:])
		a, b, c, d = lower(a, four[0]), lower(b, four[1]), lower(c, four[2]), lower(d, four[3])
	}
	first := lower(lower(a, b), lower(c, d))
	// What differs from it in the place alone differs by less than FewSlots. Itself
	// differs by 0, which less 1 is the largest of all.
	near, also := uint64(math.MaxUint64), uint64(math.MaxUint64)
	for i := 0; i < len(l.members) && i+2 <= FewSlots; i += 2 {
		two := (*[2]uint64)(l.ranks[i:])
		near, also = min(near, (two[0]^first)-1), min(also, (two[1]^first)-1)
	}
	return first % FewSlots, min(near, also) >= FewSlots-1
}

// lower is min, which the compiler would make a jump of here.
func lower(a, b uint64) uint64 {
	_, less := bits.Sub64(b, a, 0)
	return a ^ (a^b)&-less
}

// better says whether a costs less than b; equals go to the smaller number of
// picks per weight, then to the seeded order.
func (l *leastLatency) better(a, b int, now tick.Time) bool {
	x, y := l.cost(a, now), l.cost(b, now)
	switch {
	case x != y:
		return x < y
	case l.loads[a].picked != l.loads[b].picked:
		return l.loads[a].picked < l.loads[b].picked
	}
	return l.rank[a] < l.rank[b]
}
