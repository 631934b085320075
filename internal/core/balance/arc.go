package balance

// arc is a part of the circle of a ring, in one line of a processor's cache: of each of
// its points the bits of its place that follow those that all of the arc have in common,
// and its slot. Behind them stands the first point after the arc, again and again, at the
// end of it.
type arc struct {
	places [arcPoints / 4]uint64 // four in each, ascending, the first lowest
	slots  [arcPoints]uint16
}

const (
	arcPoints = 16
	placeBits = 15               // of a place in an arc; the highest of its 16 is 0
	arcEnd    = 1<<placeBits - 1 // where the first point after it stands
	noSlot    = 1<<16 - 1
	lows      = 0x0001000100010001
	highs     = 0x8000800080008000
)

// place gives where the point of a number stands.
func (a *arc) place(k uint) uint64 { return a.places[k/4%4] >> (k % 4 * 16) & arcEnd }

// before gives how many points stand at a place or before it. That cannot be foretold, so
// that nothing jumps by it: four are compared at a time, of which each that is not
// further leaves the bit that was set above it.
func (a *arc) before(place uint64) uint {
	at := place*lows | highs
	n := (at-a.places[0])&highs>>placeBits + (at-a.places[1])&highs>>placeBits + (at-a.places[2])&highs>>placeBits + (at-a.places[3])&highs>>placeBits
	return uint(n * lows >> 48)
}

// near gives what Pick does where a few arcs tell it, -1 elsewhere.
func (r *ring) near(at uint32, q *Query) int {
	n := int(at >> r.shift)
	a := &r.arcs[n]
	allowed := r.allowed() // which need not wait for the rest
	place := uint64(at << (32 - r.shift) >> (32 - placeBits))
	k := a.before(place)
	if a.place(k-1) == place {
		return -1 // there are bits beyond these
	}
	for range fewArcs {
		if a.slots[0] == noSlot {
			break
		}
		for ; k < arcPoints; k++ {
			s := int(a.slots[k])
			if (r.fulls == 0 || !r.full[s]) && (len(q.Tried) == 0 || !q.tried(s)) && (r.bound == 0 || !r.beyond(s, allowed)) {
				return s
			}
			if a.place(k) == arcEnd {
				break
			}
		}
		n = (n + 1) & (len(r.arcs) - 1)
		a, k = &r.arcs[n], 0
	}
	return -1
}

// fewArcs is how many are looked at one after the other.
const fewArcs = 8

// drawArcs puts the points into arcs, one for each entry of the index. One of more points
// than it has room for holds noSlot.
func (r *ring) drawArcs() {
	r.arcs = make([]arc, len(r.index))
	for i := range r.arcs {
		a := &r.arcs[i]
		first, end := int(r.index[i]), len(r.points)
		if i+1 < len(r.index) {
			end = int(r.index[i+1])
		}
		tells := end-first < arcPoints && len(r.weight) < noSlot
		for k := range a.slots {
			place, slot := uint64(arcEnd), uint16(noSlot)
			if tells {
				p := r.points[min(first+k, end)%len(r.points)]
				if slot = uint16(p.slot); first+k < end {
					place = uint64(p.at << (32 - r.shift) >> (32 - placeBits))
				}
			}
			a.places[k/4] |= place << (k % 4 * 16)
			a.slots[k] = slot
		}
	}
}
