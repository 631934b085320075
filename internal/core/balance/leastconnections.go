package balance

import (
	"cmp"
	"math"
	"slices"
)

// leastConnections takes the backend with the smallest number of open requests
// per weight; ties go to the smallest number of picks per weight, then to the
// seeded order. A tournament tells which that is, so that a choice costs O(1) and
// each request that begins or ends O(log n). It is held with keys of one word
// where what there is to tell fits in, as nearly always, else with larger ones.
type leastConnections struct {
	slots
	open   []int32
	picked []float64 // picks per weight
	place  []int32   // by slot, its leaf
	who    []int32   // by leaf, in the seeded order

	quick  bool // keys of one word are in use, and picked is out of date
	packed packed
	common int      // all weights divide it
	base   float64  // picks per weight that are left out of keys
	unit   []uint64 // by slot, what one open request counts, and one pick
	ties   []uint64 // by slot, picks per weight above base, in parts of common, of those that do not compete

	wide tournament
}

func newLeastConnections(seed uint64) Picker {
	return &leastConnections{slots: slots{seed: seed}}
}

func (l *leastConnections) Set(slot int, name string, weight float64) {
	was := 0.0
	if slot < len(l.weight) {
		was = l.weight[slot]
	}
	if l.quick && (slot >= len(l.weight) || was != weight) {
		l.unpack()
	}
	l.slots.Set(slot, name, weight)
	for len(l.open) < len(l.weight) {
		l.open, l.picked = append(l.open, 0), append(l.picked, 0)
	}
	if weight > 0 && was == 0 {
		// One that comes back starts level with the others instead of being
		// owed everything it missed. One whose weight changes stays where it is
		// for the same reason.
		l.picked[slot] = l.leastPicked(slot)
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
	if l.dirty {
		l.lineUp()
	}
	// One that was tried may be another group's, and not known here.
	for _, t := range q.Tried {
		if int(t) < len(l.place) {
			l.leave(int(t))
		}
	}
	leaf := 0
	if l.quick {
		leaf = l.packed.best()
	} else {
		leaf = l.wide.best()
	}
	for _, t := range q.Tried {
		if int(t) < len(l.place) {
			l.put(int(t))
		}
	}
	if leaf < 0 {
		return -1
	}
	return int(l.who[leaf])
}

// Room notes whether a slot can take one more.
func (l *leastConnections) Room(slot int, room bool) {
	if l.changeRoom(slot, room) && !l.dirty {
		l.put(slot)
	}
}

// lineUp stands the slots in the seeded order, so that of equals the left one is
// the one that it favours, and plays every match.
func (l *leastConnections) lineUp() {
	if l.quick {
		l.unpack()
	}
	l.dirty = false
	if len(l.who) < len(l.weight) {
		l.who, l.place = l.who[:0], make([]int32, len(l.weight))
		for i := range l.weight {
			l.who = append(l.who, int32(i))
		}
		slices.SortFunc(l.who, func(a, b int32) int { return cmp.Compare(l.rank[a], l.rank[b]) })
		for leaf, slot := range l.who {
			l.place[slot] = int32(leaf)
		}
	}
	l.quick = l.pack()
	for slot := range l.weight {
		l.put(slot)
	}
}

// pack works out keys of one word, if that is possible.
func (l *leastConnections) pack() bool {
	l.common = 1
	for _, w := range l.weight {
		n := int(w)
		if float64(n) != w {
			return false // on its way up
		}
		if n > 0 {
			if l.common *= n / gcd(l.common, n); l.common > maxCommon {
				return false
			}
		}
	}
	l.packed.grow(len(l.weight))
	l.wide = tournament{}
	l.unit, l.ties = make([]uint64, len(l.weight)), make([]uint64, len(l.weight))
	l.base = l.leastPicked(-1)
	for i, w := range l.weight {
		if w == 0 {
			continue
		}
		l.unit[i] = uint64(l.common / int(w))
		l.ties[i] = uint64(math.Round((l.picked[i] - l.base) * float64(l.common)))
		if !l.packed.fits(uint64(l.open[i])*l.unit[i], l.ties[i]) {
			return false
		}
	}
	return true
}

// unpack brings picked up to date, and has the slots line up anew.
func (l *leastConnections) unpack() {
	for i, w := range l.weight {
		if w > 0 {
			l.leave(i)
			l.picked[i] = l.base + float64(l.ties[i])/float64(l.common)
		}
	}
	l.quick, l.dirty = false, true
}

// maxCommon is up to which common multiple of all weights keys have one word.
const maxCommon = 1 << 10

// Counts says that it goes by what is open.
func (l *leastConnections) Counts() bool { return true }

// Begun says that a request has been given to a slot.
func (l *leastConnections) Begun(slot int) {
	l.open[slot]++
	w := l.weight[slot]
	switch {
	case w == 0:
	case l.quick:
		if leaf := int(l.place[slot]); !l.packed.competes(leaf) {
			l.ties[slot] += l.unit[slot]
		} else if !l.packed.add(leaf, l.unit[slot], l.unit[slot]) {
			l.unpack() // to begin from another base, or with larger keys
			l.picked[slot] += 1 / w
		}
	default:
		if l.picked[slot] += 1 / w; !l.dirty {
			l.put(slot)
		}
	}
}

// Ended says that one has ended.
func (l *leastConnections) Ended(slot int) {
	l.open[slot]--
	switch {
	case l.quick:
		if leaf := int(l.place[slot]); l.packed.competes(leaf) {
			l.packed.add(leaf, -l.unit[slot], 0)
		}
	case !l.dirty:
		l.put(slot)
	}
}

// put has a slot compete as it stands.
func (l *leastConnections) put(slot int) {
	leaf := int(l.place[slot])
	switch {
	case !l.may(slot):
		l.leave(slot)
	case l.quick:
		l.packed.put(leaf, uint64(l.open[slot])*l.unit[slot], l.ties[slot])
	default:
		load := uint64(float64(l.open[slot]) / l.weight[slot] * step)
		l.wide.put(leaf, key{load, math.Float64bits(l.picked[slot])})
	}
}

// leave has a slot not compete.
func (l *leastConnections) leave(slot int) {
	leaf := int(l.place[slot])
	if !l.quick {
		l.wide.put(leaf, nobody)
	} else if l.packed.competes(leaf) {
		l.ties[slot] = l.packed.tie(leaf)
		l.packed.leave(leaf)
	}
}

// step is the number of steps of 1 in key.load: finer than 1/10000^2, by which
// two quotients with weights up to 10000 differ at least.
const step = 1 << 27
