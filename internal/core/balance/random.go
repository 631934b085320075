package balance

import (
	"sort"

	"kestrix/internal/core/draw"
)

// random takes a backend with a probability in proportion to its weight, by
// inversion of the cumulative weights: O(log n) a choice, O(1) where all
// weights are equal.
type random struct {
	slots
	members []int32
	upTo    []float64 // cumulative weights
	equal   bool
}

func newRandom(seed uint64) Picker { return &random{slots: slots{seed: seed}} }

func (r *random) Pick(q *Query) int {
	if r.dirty {
		r.rebuild()
	}
	if len(r.members) == 0 {
		return -1
	}
	if q.Skip == nil {
		if r.equal {
			return int(r.members[draw.Below(q.Draw, len(r.members))])
		}
		return r.find(draw.Unit(q.Draw) * r.upTo[len(r.upTo)-1])
	}
	left := 0.0
	for _, s := range r.members {
		if !q.Skip.Has(int(s)) {
			left += r.weight[s]
		}
	}
	x, last := draw.Unit(q.Draw)*left, -1
	for _, s := range r.members {
		if q.Skip.Has(int(s)) {
			continue
		}
		last = int(s)
		if x -= r.weight[s]; x < 0 {
			break
		}
	}
	return last
}

func (r *random) find(x float64) int {
	i := sort.SearchFloat64s(r.upTo, x)
	if i < len(r.upTo) && r.upTo[i] == x {
		i++ // a member takes [from, upTo), its own upper end excluded
	}
	return int(r.members[min(i, len(r.members)-1)])
}

func (r *random) rebuild() {
	r.dirty = false
	r.members, r.upTo, r.equal = r.in(), r.upTo[:0], true
	sum := 0.0
	for _, s := range r.members {
		sum += r.weight[s]
		r.upTo = append(r.upTo, sum)
		r.equal = r.equal && r.weight[s] == r.weight[r.members[0]]
	}
}
