package balance

import (
	"math"
	"sort"
)

var modulo = Algorithm{
	Name: "modulo",
	Hash: true, Fixed: true, Rehashes: true,
	Doc:   "remainder of the key divided by the sum of the weights; exact shares, but nearly all keys move when a backend leaves or joins",
	Why:   "the remainder of the key by the sum of the weights",
	Wrong: "the pool ever changes: nearly all clients then come to another backend",
	New:   func(o Options) Picker { return &moduloPicker{slots: slots{seed: o.Seed}} },
}

// moduloPicker is the division method (Knuth, The Art of Computer Programming 3,
// section 6.4). A choice costs O(log n). When a backend leaves or joins n-1 of n keys
// move.
type moduloPicker struct {
	slots
	members []int32
	place   []int32  // by slot, its place in members; -1 for none
	free    bitset   // places in members whose slots are not full
	upTo    []uint64 // cumulative weights, in hundredths where one is not whole
}

func (m *moduloPicker) Pick(q *Query) int {
	if m.dirty {
		m.rebuild()
	}
	n := len(m.members)
	if n == 0 {
		return -1
	}
	x := q.Key % m.upTo[n-1]
	at := m.free.around(sort.Search(n, func(i int) bool { return m.upTo[i] > x }))
	for steps := 0; at >= 0 && steps < n; steps++ {
		if s := int(m.members[at]); !q.tried(s) {
			return s
		}
		at = m.free.around(at + 1)
	}
	return -1
}

// SetFull marks a slot that can take no more requests.
func (m *moduloPicker) SetFull(slot int, full bool) {
	m.slots.SetFull(slot, full)
	if !m.dirty && m.place[slot] >= 0 {
		m.free.put(int(m.place[slot]), !full)
	}
}

func (m *moduloPicker) rebuild() {
	m.dirty = false
	m.members, m.upTo = m.in(), m.upTo[:0]
	unit := 1.0
	for _, s := range m.members {
		if m.weight[s] != math.Trunc(m.weight[s]) {
			unit = 100
		}
	}
	sum := uint64(0)
	for _, s := range m.members {
		sum += max(1, uint64(math.Round(m.weight[s]*unit)))
		m.upTo = append(m.upTo, sum)
	}
	m.place = m.place[:0]
	for range m.weight {
		m.place = append(m.place, -1)
	}
	m.free = newBitset(len(m.members))
	for at, s := range m.members {
		m.place[s] = int32(at)
		m.free.put(at, !m.full[s])
	}
}
