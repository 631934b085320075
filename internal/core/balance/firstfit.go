package balance

// firstFit fills backends in the order of the configuration, each up to its
// max_in_flight, as Room tells (Johnson: Near-Optimal Bin Packing Algorithms,
// MIT 1973). Weights do not apply, but that one of weight 0 gets nothing. A
// choice costs O(log n).
type firstFit struct {
	slots
	order []int32
	line  []int32 // slots in order
	place []int32 // by slot, where in line it stands; -1 for one that is out
	free  bitset  // places whose slots can be chosen
}

func newFirstFit(o Options) Picker { return &firstFit{slots: slots{seed: o.Seed}} }

// Order takes the order of the configuration.
func (f *firstFit) Order(slots []int32) { f.order, f.dirty = append(f.order[:0], slots...), true }

// Room notes whether a slot can take one more.
func (f *firstFit) Room(slot int, room bool) {
	if f.changeRoom(slot, room) && !f.dirty {
		if at := f.place[slot]; at >= 0 {
			f.free.put(int(at), room)
		}
	}
}

func (f *firstFit) Pick(q *Query) int {
	if f.dirty {
		f.rebuild()
	}
	for at := f.free.next(0); at >= 0; at = f.free.next(at + 1) {
		if s := int(f.line[at]); !q.tried(s) {
			return s
		}
	}
	return -1
}

func (f *firstFit) rebuild() {
	f.dirty = false
	f.line, f.place = f.line[:0], f.place[:0]
	for range f.weight {
		f.place = append(f.place, -1)
	}
	for _, s := range f.order {
		if int(s) < len(f.weight) && f.place[s] < 0 {
			f.place[s] = int32(len(f.line))
			f.line = append(f.line, s)
		}
	}
	if len(f.order) == 0 {
		for s := range f.weight {
			f.place[s] = int32(s)
			f.line = append(f.line, int32(s))
		}
	}
	f.free = newBitset(len(f.line))
	for at, s := range f.line {
		if f.free.put(at, f.may(int(s))); f.weight[s] <= 0 {
			f.place[s] = -1
		}
	}
}
