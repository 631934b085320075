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
	slot []counted
	who  []int32 // by leaf, in the seeded order

	quick  bool // keys of one word are in use, and picked is out of date
	packed packed
	common int     // all weights divide it
	base   float64 // picks per weight that are left out of keys

	wide tournament
}

// counted is what is counted of a slot.
type counted struct {
	begins uint64 // what a request that begins adds to a key of one word
	ends   uint64 // likewise one that ends
	leaf   int32
	open   int32
	unit   uint64  // what one open request counts, and one pick
	ties   uint64  // picks per weight above base, in parts of common, if it does not compete
	picked float64 // picks per weight
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
	for len(l.slot) < len(l.weight) {
		l.slot = append(l.slot, counted{leaf: -1})
	}
	if weight > 0 && was == 0 {
		// One that comes back starts level with the others instead of being
		// owed everything it missed. One whose weight changes stays where it is
		// for the same reason.
		l.slot[slot].picked = l.leastPicked(slot)
	}
}

// leastPicked gives the smallest picks per weight of the others that are in.
func (l *leastConnections) leastPicked(except int) float64 {
	least, found := 0.0, false
	for i, w := range l.weight {
		if i != except && w > 0 && (!found || l.slot[i].picked < least) {
			least, found = l.slot[i].picked, true
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
		if int(t) < len(l.who) {
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
		if int(t) < len(l.who) {
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
		l.who = l.who[:0]
		for i := range l.weight {
			l.who = append(l.who, int32(i))
		}
		slices.SortFunc(l.who, func(a, b int32) int { return cmp.Compare(l.rank[a], l.rank[b]) })
		for leaf, slot := range l.who {
			l.slot[slot].leaf = int32(leaf)
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
	l.base = l.leastPicked(-1)
	for i, w := range l.weight {
		x := &l.slot[i]
		x.unit, x.ties, x.begins, x.ends = 0, 0, 0, 0
		if w == 0 {
			continue
		}
		x.unit = uint64(l.common / int(w))
		x.ties = uint64(math.Round((x.picked - l.base) * float64(l.common)))
		x.begins, x.ends = l.packed.step(x.unit, x.unit), -l.packed.step(x.unit, 0)
		if !l.packed.fits(uint64(x.open)*x.unit, x.ties) {
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
			l.slot[i].picked = l.base + float64(l.slot[i].ties)/float64(l.common)
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
	x := &l.slot[slot]
	x.open++
	if !l.quick || !l.packed.add(int(x.leaf), x.begins) {
		l.begun(slot)
	}
}

// begun is Begun where there is more to it.
func (l *leastConnections) begun(slot int) {
	x, w := &l.slot[slot], l.weight[slot]
	switch {
	case w == 0:
	case l.quick && !l.packed.competes(int(x.leaf)):
		x.ties += x.unit
	case l.quick:
		l.unpack() // to begin from another base, or with larger keys
		x.picked += 1 / w
	default:
		if x.picked += 1 / w; !l.dirty {
			l.put(slot)
		}
	}
}

// Ended says that one has ended.
func (l *leastConnections) Ended(slot int) {
	x := &l.slot[slot]
	x.open--
	if l.quick {
		l.packed.add(int(x.leaf), x.ends) // unless it does not compete
	} else if !l.dirty {
		l.put(slot)
	}
}

// put has a slot compete as it stands.
func (l *leastConnections) put(slot int) {
	x := &l.slot[slot]
	switch {
	case !l.may(slot):
		l.leave(slot)
	case l.quick:
		l.packed.put(int(x.leaf), uint64(x.open)*x.unit, x.ties)
	default:
		load := uint64(float64(x.open) / l.weight[slot] * step)
		l.wide.put(int(x.leaf), key{load, math.Float64bits(x.picked)})
	}
}

// leave has a slot not compete.
func (l *leastConnections) leave(slot int) {
	x := &l.slot[slot]
	if leaf := int(x.leaf); !l.quick {
		l.wide.put(leaf, nobody)
	} else if l.packed.competes(leaf) {
		x.ties = l.packed.tie(leaf)
		l.packed.leave(leaf)
	}
}

// step is the number of steps of 1 in key.load: finer than 1/10000^2, by which
// two quotients with weights up to 10000 differ at least.
const step = 1 << 27
