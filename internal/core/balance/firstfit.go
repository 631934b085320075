package balance

var firstFit = Algorithm{
	Name:       "first-fit",
	Doc:        "the first backend of the list below its max_in_flight",
	Why:        "the first of the list below its max_in_flight",
	Wrong:      "the first backends of the list may fail: most requests in flight are on them",
	Ordered:    true,
	Unweighted: true,
	Fill:       true,
	New:        func(o Options) Picker { return &firstFitPicker{slots: slots{seed: o.Seed}} },
}

// firstFitPicker fills backends in the order of the configuration, each up to its
// max_in_flight (Johnson: Near-Optimal Bin Packing Algorithms, MIT 1973). Weights do
// not apply, but that a slot of weight 0 gets nothing. A choice costs O(log n).
type firstFitPicker struct {
	slots
	order []int32 // slots
	place []int32 // by slot, its place in order; -1 for none
	free  bitset  // places whose slots may be selected
}

// Order sets the order of the configuration.
func (f *firstFitPicker) Order(slots []int32) { f.order, f.dirty = append(f.order[:0], slots...), true }

// SetFull marks a slot that can take no more requests.
func (f *firstFitPicker) SetFull(slot int, full bool) {
	f.slots.SetFull(slot, full)
	if !f.dirty && f.place[slot] >= 0 {
		f.free.put(int(f.place[slot]), f.may(slot))
	}
}

func (f *firstFitPicker) Pick(q *Query) int {
	if f.dirty {
		f.rebuild()
	}
	for at := f.free.next(0); at >= 0; at = f.free.next(at + 1) {
		if s := int(f.order[at]); !q.tried(s) {
			return s
		}
	}
	return -1
}

func (f *firstFitPicker) rebuild() {
	f.dirty = false
	f.place = f.place[:0]
	for range f.weight {
		f.place = append(f.place, -1)
	}
	for at, s := range f.order {
		if int(s) < len(f.weight) {
			f.place[s] = int32(at)
		}
	}
	for s := range f.weight {
		if f.place[s] < 0 { // no longer configured, or no order was set
			f.place[s] = int32(len(f.order))
			f.order = append(f.order, int32(s))
		}
	}
	f.free = newBitset(len(f.order))
	for s, at := range f.place {
		f.free.put(int(at), f.may(s))
	}
}
