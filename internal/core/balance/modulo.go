package balance

import (
	"math"
	"sort"
)

// modulo takes the remainder of a key by the sum of the weights (Knuth, The Art
// of Computer Programming 3, section 6.4, the division method). It is exact and
// quick, O(log n); but when a backend leaves or joins nearly every key moves,
// n-1 of n.
type modulo struct {
	slots
	members []int32
	upTo    []uint64 // cumulative weights, in hundredths where one is not whole
}

func newModulo(o Options) Picker { return &modulo{slots: slots{seed: o.Seed}} }

func (m *modulo) Pick(q *Query) int {
	if m.dirty {
		m.rebuild()
	}
	n := len(m.members)
	if n == 0 {
		return -1
	}
	x := q.Key % m.upTo[n-1]
	i := sort.Search(n, func(i int) bool { return m.upTo[i] > x })
	for k := range n {
		if s := int(m.members[(i+k)%n]); q.Skip == nil || !q.Skip.Has(s) {
			return s
		}
	}
	return -1
}

func (m *modulo) rebuild() {
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
}
