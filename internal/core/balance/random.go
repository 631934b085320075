package balance

var random = Algorithm{
	Name:   "random",
	Doc:    "a random backend, in proportion to the weights",
	Why:    "a random draw by weight",
	Wrong:  "there are few requests, which chance spreads unevenly",
	Random: true,
	New:    func(o Options) Picker { return &randomPicker{slots: slots{seed: o.Seed}} },
}

// randomPicker inverts the cumulative weights, which it keeps as sums: O(log n) a
// choice.
type randomPicker struct {
	slots
	sums sums // of the weights of slots that may be selected
}

func (r *randomPicker) Pick(q *Query) int { return r.pick(q, -1, q.Random) }

// pick returns a slot by random bits: none that q excludes, and not a certain other.
func (r *randomPicker) pick(q *Query, other int, bits uint64) int {
	if r.dirty || r.sums.tree == nil {
		r.rebuild()
	}
	if other < 0 && len(q.Tried) == 0 {
		return r.sums.find(bits)
	}
	r.exclude(q, other, true)
	s := r.sums.find(bits)
	r.exclude(q, other, false)
	return s
}

// exclude takes slots out of the sums, or puts them back.
func (r *randomPicker) exclude(q *Query, other int, out bool) {
	for _, t := range q.Tried {
		r.update(int(t), out)
	}
	if other >= 0 {
		r.update(other, out)
	}
}

// update puts the weight of a slot into the sums, 0 for one that is out.
func (r *randomPicker) update(slot int, out bool) {
	if slot >= len(r.weight) {
		return // another group's, which was tried before
	}
	w := 0.0
	if !out && r.may(slot) {
		w = r.weight[slot]
	}
	r.sums.put(slot, w)
}

// SetFull marks a slot that can take no more requests.
func (r *randomPicker) SetFull(slot int, full bool) {
	r.slots.SetFull(slot, full)
	if !r.dirty {
		r.update(slot, false)
	}
}

func (r *randomPicker) rebuild() {
	r.dirty = false
	r.sums = newSums(len(r.weight))
	for s := range r.weight {
		r.update(s, false)
	}
}
