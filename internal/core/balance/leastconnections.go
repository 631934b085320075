package balance

import (
	"math"
	"math/bits"
	"slices"
)

// leastConnections takes the backend with the smallest number of open requests
// per weight; ties go to the smallest number of picks per weight, then to the
// seeded order. A few backends are looked at one by one; of more, the best
// stands at the root of a tournament tree (Knuth, The Art of Computer
// Programming 3, section 5.4.1), so that a choice costs O(1) and each request
// that begins or ends O(log n).
type leastConnections struct {
	slots
	open   []int32
	picked []float64 // picks per weight
	keys   []key
	line   []key   // keys in the seeded order, while there are few
	place  []int32 // by slot, where in line it stands
	who    []int32 // by place in line
	tree   []int32 // tree[1] is the best; -1 is nobody; leaves stand from size on
	size   int
}

// key orders backends: the smaller the better. Open requests per weight and
// picks per weight are whole numbers of steps so fine that two different
// quotients of allowed weights never fall together.
type key struct {
	load uint64 // open/weight; all bits set for one that is out
	tie  uint64 // the bits of a number of 0 or more, which order as it does
}

// nobody is the key of one that is out.
var nobody = key{math.MaxUint64, math.MaxUint64}

// less gives 1 if a is before b, else 0, without a jump that could not be
// foretold.
func (a key) less(b key) uint64 {
	_, borrow := bits.Sub64(a.tie, b.tie, 0)
	_, borrow = bits.Sub64(a.load, b.load, borrow)
	return borrow
}

// step is the number of steps of 1 in key.load: finer than 1/10000^2, by which
// two quotients with weights up to 10000 differ at least.
const step = 1 << 27

// fewSlots is up to how many slots looking at each is faster than keeping the
// tree.
const fewSlots = 16

func newLeastConnections(seed uint64) Picker {
	return &leastConnections{slots: slots{seed: seed}}
}

func (l *leastConnections) Set(slot int, name string, weight float64) {
	was := 0.0
	if slot < len(l.weight) {
		was = l.weight[slot]
	}
	l.slots.Set(slot, name, weight)
	for len(l.open) < len(l.weight) {
		l.open = append(l.open, 0)
		l.picked = append(l.picked, 0)
		l.keys = append(l.keys, nobody)
		l.lineUp()
	}
	if weight > 0 && was == 0 {
		// One that comes back starts level with the others instead of being
		// owed everything it missed. One whose weight changes stays where it is
		// for the same reason.
		l.picked[slot] = l.leastPicked(slot)
	}
	l.put(slot, l.key(slot))
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
	}
}

// leastPicked gives the smallest picks per weight of the others that are in.
func (l *leastConnections) leastPicked(except int) float64 {
	least, found := 0.0, false
	for i, w := range l.weight {
		if i != except && w > 0 && (!found || l.picked[i] < least) {
			least, found = l.picked[i], true
		}
	}
	return least
}

func (l *leastConnections) Pick(q *Query) int {
	// One that was tried may be another group's, and not known here.
	for _, t := range q.Tried {
		if int(t) < len(l.keys) {
			l.put(int(t), nobody)
		}
	}
	best := l.best()
	for _, t := range q.Tried {
		if int(t) < len(l.keys) {
			l.put(int(t), l.key(int(t)))
		}
	}
	return best
}

// best gives the slot whose key is the smallest, -1 if all are out.
func (l *leastConnections) best() int {
	if l.size > fewSlots {
		return int(l.tree[1])
	}
	least, at := nobody, uint64(math.MaxUint64)
	for i, k := range l.line {
		take := -k.less(least)
		least.load ^= (least.load ^ k.load) & take
		least.tie ^= (least.tie ^ k.tie) & take
		at ^= (at ^ uint64(i)) & take
	}
	if int64(at) < 0 {
		return -1
	}
	return int(l.who[at])
}

// Room notes whether a slot can take one more.
func (l *leastConnections) Room(slot int, room bool) {
	if l.changeRoom(slot, room) {
		l.put(slot, l.key(slot))
	}
}

// lineUp stands the keys in the seeded order, so that of equals the first is
// the one that it favours.
func (l *leastConnections) lineUp() {
	if len(l.keys) > fewSlots {
		return
	}
	l.who = l.who[:0]
	for i := range l.keys {
		l.who = append(l.who, int32(i))
	}
	slices.SortFunc(l.who, func(a, b int32) int {
		if l.rank[a] < l.rank[b] {
			return -1
		}
		return 1
	})
	l.line, l.place = l.line[:0], append(l.place[:0], l.who...)
	for p, slot := range l.who {
		l.line = append(l.line, l.keys[slot])
		l.place[slot] = int32(p)
	}
}

func (l *leastConnections) Begun(slot int) {
	l.open[slot]++
	if w := l.weight[slot]; w > 0 {
		l.picked[slot] += 1 / w
	}
	l.put(slot, l.key(slot))
}

func (l *leastConnections) Ended(slot int) {
	l.open[slot]--
	l.put(slot, l.key(slot))
}

// key works out the key of a slot.
func (l *leastConnections) key(slot int) key {
	w := l.weight[slot]
	if w == 0 || l.full[slot] {
		return nobody
	}
	k := key{tie: math.Float64bits(l.picked[slot])}
	if w == 1 {
		k.load = uint64(l.open[slot]) * step
	} else {
		k.load = uint64(float64(l.open[slot]) / w * step)
	}
	return k
}

// put gives a slot a key.
func (l *leastConnections) put(slot int, k key) {
	l.keys[slot] = k
	if len(l.keys) <= fewSlots {
		l.line[l.place[slot]] = k
	}
	l.update(slot)
}

// update plays the matches of one leaf again, up to the root.
func (l *leastConnections) update(slot int) {
	if l.size <= fewSlots || slot >= l.size {
		return // a new one is entered with all
	}
	i := l.size + slot
	l.tree[i] = -1
	if l.keys[slot] != nobody {
		l.tree[i] = int32(slot)
	}
	for i >>= 1; i > 0; i >>= 1 {
		won := l.better(l.tree[2*i], l.tree[2*i+1])
		if won == l.tree[i] && won != int32(slot) {
			return // it lost here before and loses again: nothing changes above
		}
		l.tree[i] = won
	}
}

func (l *leastConnections) better(a, b int32) int32 {
	switch {
	case a < 0:
		return b
	case b < 0:
		return a
	}
	x, y := l.keys[a], l.keys[b]
	switch {
	case x.less(y) == 1:
		return a
	case y.less(x) == 1:
		return b
	case l.rank[a] < l.rank[b]:
		return a
	}
	return b
}
