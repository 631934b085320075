package balance

import "kestrix/internal/core/rng"

var twoChoices = Algorithm{
	Name:   "two-choices",
	Doc:    "the one of two random backends with fewer requests in flight per weight; among equals in turn",
	Why:    "of two at random the one with fewer requests in flight per weight",
	Wrong:  "the pool is small: of two or three backends, least-connections sees all where this sees two",
	Counts: true,
	Random: true,
	New:    func(o Options) Picker { return newTwoChoices(o) },
}

// twoChoicesPicker is nearly as even as looking at all backends, without the herd
// that runs to the emptiest (Mitzenmacher: The Power of Two Choices in Randomized
// Load Balancing, IEEE Transactions on Parallel and Distributed Systems 12, 2001). A
// choice costs O(log n).
type twoChoicesPicker struct {
	randomPicker
	turns
	inFlight []int32
}

func newTwoChoices(o Options) *twoChoicesPicker {
	return &twoChoicesPicker{randomPicker: randomPicker{slots: slots{seed: o.Seed}}}
}

func (t *twoChoicesPicker) Set(slot int, name string, weight float64) {
	was := 0.0
	if slot < len(t.weight) {
		was = t.weight[slot]
	}
	t.slots.Set(slot, name, weight)
	if len(t.inFlight) < len(t.weight) {
		t.inFlight = append(t.inFlight, make([]int32, len(t.weight)-len(t.inFlight))...)
	}
	if was != weight {
		t.turns.set(slot, was, weight)
	}
}

func (t *twoChoicesPicker) Pick(q *Query) int {
	a, b := t.two(q)
	if b < 0 {
		return a
	}
	x, y := float64(t.inFlight[a])/t.weight[a], float64(t.inFlight[b])/t.weight[b]
	if y < x || x == y && t.before(b, a) {
		return b
	}
	return a
}

// two returns two different slots at random, -1 for each that does not exist.
func (t *twoChoicesPicker) two(q *Query) (int, int) {
	first := t.pick(q, -1, q.Random)
	if first < 0 {
		return -1, -1
	}
	return first, t.pick(q, first, rng.Bits(q.Random, 1, 0, rng.Pick))
}

// before reports whether the turn of a comes before that of b.
func (t *twoChoicesPicker) before(a, b int) bool {
	if x, y := t.turns.due(a), t.turns.due(b); x != y {
		return x < y
	}
	return t.rank[a] < t.rank[b]
}

// Begun counts a request in flight.
func (t *twoChoicesPicker) Begun(slot int) {
	t.inFlight[slot]++
	t.turns.take(slot)
}

// Ended counts its end.
func (t *twoChoicesPicker) Ended(slot int, _ End) { t.inFlight[slot]-- }
