package balance

import (
	"math"
	"sort"
)

// modulo takes the remainder of a key by the sum of the weights (Knuth, The Art
// of Computer Programming 3, section 6.4, the division method). It is exact and
// quick, O(log n), and O(1) where the sum of the weights is not large; but when a backend leaves or joins nearly every key moves,
// n-1 of n.
type modulo struct {
	slots
	members []int32
	place   []int32  // by slot, where in members it stands; -1 for nowhere
	free    bitset   // places in members whose slots have room
	upTo    []uint64 // cumulative weights, in hundredths where one is not whole
	at      []int32  // by remainder, the place in members; empty where the sum of the weights is large
}

// atMost is up to which sum of weights places are looked up.
const atMost = 1 << 13

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
	i := 0
	if len(m.at) > 0 {
		i = int(m.at[x])
	} else {
		i = sort.Search(n, func(i int) bool { return m.upTo[i] > x })
	}
	if m.fulls == 0 && len(q.Tried) == 0 {
		return int(m.members[i])
	}
	at := m.free.around(i)
	for steps := 0; at >= 0 && steps < n; steps++ {
		if s := int(m.members[at]); !q.tried(s) {
			return s
		}
		at = m.free.around(at + 1)
	}
	return -1
}

// Room notes whether a slot can take one more.
func (m *modulo) Room(slot int, room bool) {
	if m.changeRoom(slot, room) && !m.dirty {
		if at := m.place[slot]; at >= 0 {
			m.free.put(int(at), room)
		}
	}
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
	m.at = m.at[:0]
	for i := 0; sum <= atMost && i < len(m.upTo); {
		if uint64(len(m.at)) < m.upTo[i] {
			m.at = append(m.at, int32(i))
		} else {
			i++
		}
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
