package balance

import (
	"sort"

	"kestrix/internal/core/draw"
)

// random takes a backend with a probability in proportion to its weight, by
// inversion of the cumulative weights: O(log n) a choice, O(1) where all
// weights are equal and nobody is full.
type random struct {
	slots
	members []int32
	upTo    []float64 // cumulative weights
	equal   bool
	sums    sums // of the weights of those with room
}

func newRandom(seed uint64) Picker { return &random{slots: slots{seed: seed}} }

func (r *random) Pick(q *Query) int {
	if r.dirty {
		r.rebuild()
	}
	if len(r.members) == 0 {
		return -1
	}
	if r.fulls == 0 && len(q.Tried) == 0 {
		return r.any(q.Draw)
	}
	return r.without(q, -1, q.Draw)
}

// any draws a member by its weight.
func (r *random) any(bits uint64) int {
	if r.equal {
		return int(r.members[draw.Below(bits, len(r.members))])
	}
	return r.find(draw.Unit(bits) * r.upTo[len(r.upTo)-1])
}

// without draws one with room that was not tried, and is not a certain other.
func (r *random) without(q *Query, other int, bits uint64) int {
	r.leaveOut(q, other, true)
	s := r.sums.find(draw.Unit(bits))
	r.leaveOut(q, other, false)
	return s
}

func (r *random) leaveOut(q *Query, other int, out bool) {
	for _, t := range q.Tried {
		r.weighs(int(t), out)
	}
	if other >= 0 {
		r.weighs(other, out)
	}
}

// weighs puts what a slot weighs in a draw.
func (r *random) weighs(slot int, out bool) {
	if slot >= len(r.weight) {
		return // another group's, which was tried before
	}
	w := 0.0
	if !out && r.may(slot) {
		w = r.weight[slot]
	}
	r.sums.put(slot, w)
}

// Room notes whether a slot can take one more.
func (r *random) Room(slot int, room bool) {
	if r.changeRoom(slot, room) && !r.dirty {
		r.weighs(slot, false)
	}
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
	r.sums = newSums(len(r.weight))
	for _, s := range r.members {
		r.weighs(int(s), false)
	}
}
