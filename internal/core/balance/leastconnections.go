package balance

// leastConnections takes the backend with the smallest number of open requests
// per weight; ties go to the smallest number of picks per weight, then to the
// seeded order. The best stands at the root of a tournament tree (Knuth, The
// Art of Computer Programming 3, section 5.4.1), so that a choice costs O(1)
// and each request that begins or ends O(log n); a few backends are looked at
// one by one.
type leastConnections struct {
	slots
	inverse []float64 // 1/weight, 0 for what is out
	open    []int32
	load    []float64 // open/weight
	picked  []float64 // picks/weight
	tree    []int32   // tree[1] is the best; -1 is nobody; leaves stand from size on
	size    int
}

func newLeastConnections(seed uint64) Picker {
	return &leastConnections{slots: slots{seed: seed}}
}

func (l *leastConnections) Set(slot int, name string, weight float64) {
	l.slots.Set(slot, name, weight)
	for len(l.open) < len(l.weight) {
		l.open = append(l.open, 0)
		l.load = append(l.load, 0)
		l.picked = append(l.picked, 0)
		l.inverse = append(l.inverse, 0)
	}
	was := l.inverse[slot]
	if weight <= 0 {
		l.inverse[slot] = 0
	} else {
		l.inverse[slot] = 1 / weight
		if was == 0 {
			// One that comes back starts level with the others instead of
			// being owed everything it missed.
			l.picked[slot] = l.leastPicked(slot)
		} else if was != l.inverse[slot] {
			l.picked[slot] *= l.inverse[slot] / was
		}
		l.load[slot] = float64(l.open[slot]) * l.inverse[slot]
	}
	if len(l.weight) > l.size {
		l.size = 1
		for l.size < len(l.weight) {
			l.size *= 2
		}
		l.tree = make([]int32, 2*l.size)
		for i := range l.tree {
			l.tree[i] = -1
		}
		for i := range l.weight {
			l.update(i)
		}
		return
	}
	l.update(slot)
}

// leastPicked gives the smallest picks per weight of the others that are in.
func (l *leastConnections) leastPicked(except int) float64 {
	least, found := 0.0, false
	for i, inv := range l.inverse {
		if i != except && inv > 0 && (!found || l.picked[i] < least) {
			least, found = l.picked[i], true
		}
	}
	return least
}

func (l *leastConnections) Pick(q *Query) int {
	if l.size == 0 {
		return -1
	}
	if l.size > fewSlots {
		if best := int(l.tree[1]); best < 0 || q.Skip == nil || !q.Skip.Has(best) {
			return best
		}
	}
	best := int32(-1)
	for i := range l.weight {
		if l.inverse[i] > 0 && (q.Skip == nil || !q.Skip.Has(i)) {
			best = l.better(best, int32(i))
		}
	}
	return int(best)
}

// fewSlots is up to how many slots looking at each is faster than keeping the
// tree.
const fewSlots = 16

func (l *leastConnections) Begun(slot int) {
	l.open[slot]++
	l.picked[slot] += l.inverse[slot]
	l.load[slot] = float64(l.open[slot]) * l.inverse[slot]
	l.update(slot)
}

func (l *leastConnections) Ended(slot int) {
	l.open[slot]--
	l.load[slot] = float64(l.open[slot]) * l.inverse[slot]
	l.update(slot)
}

// update plays the matches of one leaf again, up to the root.
func (l *leastConnections) update(slot int) {
	if l.size <= fewSlots {
		return
	}
	i := l.size + slot
	l.tree[i] = -1
	if l.inverse[slot] > 0 {
		l.tree[i] = int32(slot)
	}
	for i >>= 1; i > 0; i >>= 1 {
		l.tree[i] = l.better(l.tree[2*i], l.tree[2*i+1])
	}
}

func (l *leastConnections) better(a, b int32) int32 {
	switch {
	case a < 0:
		return b
	case b < 0:
		return a
	case l.load[a] != l.load[b]:
		if l.load[a] < l.load[b] {
			return a
		}
		return b
	case l.picked[a] != l.picked[b]:
		if l.picked[a] < l.picked[b] {
			return a
		}
		return b
	case l.rank[a] < l.rank[b]:
		return a
	}
	return b
}
