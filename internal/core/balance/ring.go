package balance

import (
	"math"
	"math/bits"
	"slices"

	"github.com/cespare/xxhash/v2"
)

var ring = Algorithm{
	Name: "ring",
	Hash: true, Fixed: true, Bounded: true,
	Counts: true,
	Doc:    "consistent hashing on a ring; only the keys of a backend that leaves or joins move; shares differ by about 8 %",
	Why:    "the next point of the ring after the key",
	Wrong:  "a few clients make most of the requests: the backend that gets one of them gets all of its requests",
	New:    func(o Options) Picker { return &ringPicker{slots: slots{seed: o.Seed}, bound: o.Bound} },
}

// ringPicker is consistent hashing: backends stand at many points of a circle, and a
// key goes to the first point after its own (Karger et al.: Consistent Hashing
// and Random Trees, STOC 1997). A backend that leaves moves only the keys it
// had. A choice costs O(1) on average: the first bits of a hash lead to the few
// points that could follow it.
type ringPicker struct {
	slots
	points   []point
	where    places
	free     bitset    // points whose slots are not full
	index    []int32   // by the first bits of a place: the first point that could follow it
	shift    uint      // how many bits of a place do not count in index
	bound    float64   // 0 for none
	inFlight []int32   // by slot, where there is a bound
	total    int32     // of inFlight
	sum      float64   // of the weights that are in
	known    []float64 // weight each slot had when last in, so that a leaver moves no other's points
}

// point is a place on the circle, of which there are 2^32.
type point struct {
	at   uint32
	slot int32
}

// placeOf returns the place of a key.
func placeOf(key uint64) uint32 { return uint32(key >> 32) }

// pointsEach is the number of points of a backend of average weight. The share
// of one then spreads by about 1/sqrt(160), 8 per cent.
const pointsEach = 160

// Begun counts a request in flight.
func (r *ringPicker) Begun(slot int) { r.count(slot, 1) }

// Ended counts its end.
func (r *ringPicker) Ended(slot int, _ End) { r.count(slot, -1) }

func (r *ringPicker) count(slot int, by int32) {
	if r.bound > 0 {
		r.inFlight[slot] += by
		r.total += by
	}
}

// over reports whether one more would put a slot above its bound (Mirrokni,
// Thorup, Zadimoghaddam: Consistent Hashing with Bounded Loads, SODA 2018). Requests
// in flight are a whole number: reaching the bound is reaching the next whole number.
func (r *ringPicker) over(slot int) bool {
	return r.bound > 0 && float64(r.inFlight[slot])*r.sum >= r.bound*float64(r.total+1)*r.weight[slot]
}

func (r *ringPicker) Set(slot int, name string, weight float64) {
	r.slots.Set(slot, name, weight)
	for len(r.known) <= slot {
		r.known = append(r.known, 0)
		r.inFlight = append(r.inFlight, 0)
	}
	if weight > 0 {
		r.known[slot] = weight
	}
}

func (r *ringPicker) Pick(q *Query) int {
	if r.dirty {
		r.rebuild()
	}
	n := len(r.points)
	if n == 0 {
		return -1
	}
	at := placeOf(q.Key)
	i := int(r.index[at>>r.shift])
	for i < n && r.points[i].at < at {
		i++
	}
	over := -1 // the first above its bound, for when all that are left are
	i = r.free.around(i)
	for steps := 0; i >= 0 && steps < n; steps++ {
		if s := int(r.points[i].slot); !q.tried(s) {
			if !r.over(s) {
				return s
			}
			if over < 0 {
				over = s
			}
		}
		i = r.free.around(i + 1)
	}
	return over
}

// SetFull marks a slot that can take no more requests.
func (r *ringPicker) SetFull(slot int, full bool) {
	r.slots.SetFull(slot, full)
	if !r.dirty {
		for _, at := range r.where.of(slot) {
			r.free.put(int(at), !full)
		}
	}
}

func (r *ringPicker) rebuild() {
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
	r.indexPoints()
}

// indexPoints builds what finds the points, which are in order.
func (r *ringPicker) indexPoints() {
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
}
