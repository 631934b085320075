package balance

import (
	"math"
	"math/bits"

	"kestrix/internal/core/draw"
)

// twoChoices draws two backends in proportion to their weights and takes the one
// with fewer open requests per weight: nearly as even as looking at all of them,
// without the herd that runs to the emptiest (Mitzenmacher: The Power of Two
// Choices in Randomized Load Balancing, IEEE Transactions on Parallel and
// Distributed Systems 12, 2001). Ties go to the smaller number of picks per
// weight. A choice costs O(log n).
type twoChoices struct {
	pair
	loads []load // by slot
}

// load is what a slot has to do; what is compared stands together, in one line of a
// cache.
type load struct {
	picked float64 // picks per weight
	per    float64 // 1/weight; 0 for one that is out
	rank   uint64  // in the seeded order
	open   int32
	timed
	_ [8]byte
}

// pair draws two different members by weight.
type pair struct{ random }

func newTwoChoices(o Options) Picker {
	return &twoChoices{pair: pair{random{slots: slots{seed: o.Seed}}}}
}

func (t *twoChoices) Set(slot int, name string, weight float64) {
	was := 0.0
	if slot < len(t.weight) {
		was = t.weight[slot]
	}
	t.slots.Set(slot, name, weight)
	for len(t.loads) < len(t.weight) {
		t.loads = append(t.loads, load{rank: t.rank[len(t.loads)]})
	}
	x := &t.loads[slot]
	if x.per = 0; weight > 0 {
		x.per = 1 / weight
	}
	if weight > 0 && was == 0 {
		// One that comes back starts level with the others.
		least, found := 0.0, false
		for i, w := range t.weight {
			if i != slot && w > 0 && (!found || t.loads[i].picked < least) {
				least, found = t.loads[i].picked, true
			}
		}
		x.picked = least
	}
}

func (t *twoChoices) Pick(q *Query) int {
	a, b := t.two(q)
	if b < 0 {
		return a
	}
	c, d := &t.loads[a], &t.loads[b]
	if t.equal {
		// Without a jump that could not be foretold. Bits of numbers of 0 or
		// more order as they do.
		_, less := bits.Sub64(d.rank, c.rank, 0)
		_, less = bits.Sub64(math.Float64bits(d.picked), math.Float64bits(c.picked), less)
		_, less = bits.Sub64(uint64(d.open), uint64(c.open), less)
		return a ^ (a^b)&-int(less)
	}
	x, y := float64(c.open)/t.weight[a], float64(d.open)/t.weight[b]
	switch {
	case x != y:
		if x < y {
			return a
		}
		return b
	case d.picked < c.picked, c.picked == d.picked && d.rank < c.rank:
		return b
	}
	return a
}

// Counts says that it goes by what is open.
func (t *twoChoices) Counts() bool { return true }

func (t *twoChoices) Begun(slot int) {
	x := &t.loads[slot]
	x.open++
	x.picked += x.per
}

func (t *twoChoices) Ended(slot int) { t.loads[slot].open-- }

// two draws two different members, -1 for what there is not.
func (p *pair) two(q *Query) (int, int) {
	if p.dirty {
		p.rebuild()
	}
	n := len(p.members)
	if n > 1 && p.equal && p.fulls == 0 && len(q.Tried) == 0 {
		// Of n and of those left; what the first draw leaves over is as good as
		// another one.
		first, rest := bits.Mul64(q.Draw, uint64(n))
		second, _ := bits.Mul64(rest, uint64(n-1))
		_, before := bits.Sub64(second, first, 0)
		return int(p.members[first]), int(p.members[second+1-before])
	}
	first := p.random.Pick(q)
	if first < 0 {
		return -1, -1
	}
	again := draw.Bits(q.Draw, 1, 0, draw.Pick)
	if p.fulls == 0 && len(q.Tried) == 0 {
		if n == 1 {
			return first, -1
		}
		// Of what is left without the first: what lies beyond it is moved up.
		w := p.weight[first]
		x := draw.Unit(again) * (p.upTo[n-1] - w)
		for i, s := range p.members[:min(n, FewSlots)] {
			if int(s) == first {
				if x >= p.upTo[i]-w {
					x += w
				}
				return first, p.find(x)
			}
		}
		for range 8 { // a chance of 1 in n each that it is the first again
			if s := p.any(again); s != first {
				return first, s
			}
			again = draw.Bits(again, 1, 0, draw.Pick)
		}
		return first, -1
	}
	return first, p.without(q, first, again)
}
