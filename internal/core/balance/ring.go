package balance

import (
	"math"
	"math/bits"
	"slices"

	"github.com/cespare/xxhash/v2"
)

// ring is consistent hashing: backends stand at many points of a circle, and a
// key goes to the first point after its own (Karger et al.: Consistent Hashing
// and Random Trees, STOC 1997). A backend that leaves moves only the keys it
// had. A choice costs O(1) on average: the first bits of a hash lead to an arc of
// the circle that nearly always tells the point, and to an index where it does not.
type ring struct {
	slots
	points  []point
	arcs    []arc // by the first bits of a place, as index
	where   places
	free    bitset    // points whose slots have room
	index   []int32   // by the first bits of a place: the first point that could follow it
	shift   uint      // how many bits of a place are not looked at in index
	bound   float64   // 0 for none
	loads   []share   // by slot; what is open is kept where there is a bound
	total   int32     // of what is open
	sum     float64   // of the weights that are in
	fetched uint64    // means nothing; keeps Fetch from being left out
	known   []float64 // weight each slot had when last in, so that a leaver moves no one else's points
}

// share is what is open at a slot, and the weight it is measured by.
type share struct {
	weight float64
	open   int32
}

// point is a place on the circle, of which there are 2^32.
type point struct {
	at   uint32
	slot int32
}

// placeOf gives the place of a key.
func placeOf(key uint64) uint32 { return uint32(key >> 32) }

// pointsEach is the number of points of a backend of average weight. The share
// of one then spreads by about 1/sqrt(160), 8 per cent.
const pointsEach = 160

func newRing(o Options) Picker { return &ring{slots: slots{seed: o.Seed}, bound: o.Bound} }

func (r *ring) Begun(slot int) {
	if r.bound > 0 {
		r.loads[slot].open++
		r.total++
	}
}

func (r *ring) Ended(slot int) {
	if r.bound > 0 {
		r.loads[slot].open--
		r.total--
	}
}

// Counts says whether there is a bound.
func (r *ring) Counts() bool { return r.bound > 0 }

// over says whether one more would put a slot above its bound (Mirrokni,
// Thorup, Zadimoghaddam: Consistent Hashing with Bounded Loads, SODA 2018).
func (r *ring) over(slot int) bool { return r.bound > 0 && r.beyond(slot, r.allowed()) }

// allowed is what may be open by the bound, times all weights.
func (r *ring) allowed() float64 { return r.bound * float64(r.total+1) }

// beyond says whether what is open at a slot has come to its part of what is allowed.
// Open is a whole number: that it reaches the bound is that it reaches the next whole
// number.
func (r *ring) beyond(slot int, allowed float64) bool {
	l := &r.loads[slot]
	return float64(l.open)*r.sum >= allowed*l.weight
}

func (r *ring) Set(slot int, name string, weight float64) {
	r.slots.Set(slot, name, weight)
	for len(r.known) <= slot {
		r.known = append(r.known, 0)
		r.loads = append(r.loads, share{})
	}
	r.loads[slot].weight = weight
	if weight > 0 {
		r.known[slot] = weight
	}
}

func (r *ring) Pick(q *Query) int {
	if r.dirty {
		r.rebuild()
	}
	n := len(r.points)
	if n == 0 {
		return -1
	}
	at := placeOf(q.Key)
	if s := r.near(at, q); s >= 0 {
		return s
	}
	i := int(r.index[at>>r.shift])
	for i < n && r.points[i].at < at {
		i++
	}
	if i == n {
		i = 0
	}
	spare := -1 // for when everybody who is left is above the bound
	i = r.free.around(i)
	for steps := 0; i >= 0 && steps < n; steps++ {
		if s := int(r.points[i].slot); !q.tried(s) {
			if !r.over(s) {
				return s
			}
			if spare < 0 {
				spare = s
			}
		}
		i = r.free.around(i + 1)
	}
	return spare
}

// Far says whether there are more arcs than a near cache holds beside what else there
// is.
func (r *ring) Far() bool { return !r.dirty && len(r.arcs) > 1<<12 }

// Fetch brings the arcs of keys near.
func (r *ring) Fetch(keys []uint64) {
	if len(r.arcs) == 0 {
		return
	}
	fetched := uint64(0)
	for _, key := range keys {
		fetched ^= r.arcs[placeOf(key)>>r.shift].places[0]
	}
	r.fetched = fetched
}

// Room notes whether a slot can take one more.
func (r *ring) Room(slot int, room bool) {
	if r.changeRoom(slot, room) && !r.dirty {
		for _, at := range r.where.of(slot) {
			r.free.put(int(at), room)
		}
	}
}

func (r *ring) rebuild() {
	r.dirty = false
	r.points = r.points[:0]
	sum, members := 0.0, 0
	for _, w := range r.known {
		if w > 0 {
			sum += w
			members++
		}
	}
	r.sum = 0
	for _, w := range r.weight {
		r.sum += w
	}
	var text []byte
	for slot, w := range r.weight {
		if w <= 0 {
			continue
		}
		count := max(1, int(math.Round(pointsEach*float64(members)*w/sum)))
		for k := range count {
			text = append(append(text[:0], r.names[slot]...), 0, byte(k), byte(k>>8), byte(k>>16))
			r.points = append(r.points, point{placeOf(xxhash.Sum64(text)), int32(slot)})
		}
	}
	slices.SortFunc(r.points, func(a, b point) int {
		switch {
		case a.at < b.at:
			return -1
		case a.at > b.at:
			return 1
		}
		return int(a.slot) - int(b.slot)
	})
	r.lineUp()
}

// lineUp makes all that is to be known of the points, which are in order.
func (r *ring) lineUp() {
	if len(r.points) == 0 {
		r.arcs = nil
		return
	}
	line := make([]int32, len(r.points))
	r.free = newBitset(len(r.points))
	for i, p := range r.points {
		line[i] = p.slot
		r.free.put(i, !r.full[p.slot])
	}
	r.where = placesOf(line, len(r.weight))
	r.shift = 32 - uint(max(bits.Len(uint(len(r.points)))-3, 0)) // four to eight points each
	r.index = r.index[:0]
	next := 0
	for b := range uint64(1) << (32 - r.shift) {
		for next < len(r.points) && uint64(r.points[next].at) < b<<r.shift {
			next++
		}
		r.index = append(r.index, int32(next))
	}
	r.drawArcs()
}
