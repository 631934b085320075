package balance

import (
	"math"
	"math/bits"
	"slices"
)

// leastConnections takes the backend with the smallest number of open requests
// per weight; ties go to the smallest number of picks per weight, then to the
// seeded order. The best stands at the root of a tournament tree (Knuth, The Art
// of Computer Programming 3, section 5.4.1), so that a choice costs O(1) and each
// request that begins or ends O(log n).
type leastConnections struct {
	slots
	open   []int32
	picked []float64 // picks per weight
	keys   []key     // by slot
	place  []int32   // by slot, its leaf
	who    []int32   // by leaf
	tree   []match   // tree[1] is the best; leaves stand from size on, in the seeded order
	size   int
}

// match is who won it.
type match struct {
	key
	leaf uint64
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
	}
	if len(l.who) < len(l.weight) {
		l.lineUp()
	}
	if weight > 0 && was == 0 {
		// One that comes back starts level with the others instead of being
		// owed everything it missed. One whose weight changes stays where it is
		// for the same reason.
		l.picked[slot] = l.leastPicked(slot)
	}
	l.put(slot, l.key(slot))
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
	if l.size == 0 || l.tree[1].key == nobody {
		return -1
	}
	return int(l.who[l.tree[1].leaf])
}

// Room notes whether a slot can take one more.
func (l *leastConnections) Room(slot int, room bool) {
	if l.changeRoom(slot, room) {
		l.put(slot, l.key(slot))
	}
}

// lineUp stands the keys in the seeded order, so that of equals the left one is
// the one that it favours, and plays every match.
func (l *leastConnections) lineUp() {
	l.who, l.place = l.who[:0], l.place[:0]
	for i := range l.keys {
		l.who, l.place = append(l.who, int32(i)), append(l.place, 0)
	}
	slices.SortFunc(l.who, func(a, b int32) int {
		if l.rank[a] < l.rank[b] {
			return -1
		}
		return 1
	})
	for l.size = 2; l.size < len(l.keys); {
		l.size *= 2
	}
	l.tree = make([]match, 2*l.size)
	for leaf := range l.size {
		m := match{nobody, uint64(leaf)}
		if leaf < len(l.who) {
			slot := l.who[leaf]
			l.place[slot], m.key = int32(leaf), l.keys[slot]
		}
		l.tree[l.size+leaf] = m
	}
	for i := l.size - 1; i > 0; i-- {
		l.tree[i] = better(&l.tree[2*i], &l.tree[2*i+1])
	}
}

// Counts says that it goes by what is open.
func (l *leastConnections) Counts() bool { return true }

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

// put gives a slot a key, and plays the matches of its leaf again, up to the root.
func (l *leastConnections) put(slot int, k key) {
	l.keys[slot] = k
	i := l.size + int(l.place[slot])
	l.tree[i].key = k
	for i > 1 {
		left := &l.tree[i&^1]
		right := &l.tree[i|1]
		i >>= 1
		l.tree[i] = better(left, right)
	}
}

// better gives the winner, which is the left one of equals, without a jump that
// could not be foretold.
func better(left, right *match) match {
	take := -right.less(left.key)
	return match{
		key{left.load ^ (left.load^right.load)&take, left.tie ^ (left.tie^right.tie)&take},
		left.leaf ^ (left.leaf^right.leaf)&take,
	}
}
