package balance

import (
	"cmp"
	"slices"
)

var leastConnections = Algorithm{
	Name:   "least-connections",
	Doc:    "the backend with the fewest requests in flight per weight; among equals in turn",
	Why:    "the fewest requests in flight per weight",
	Wrong:  "several proxies share the work, as each sees only its own requests; or a backend fails fast and looks idle, which a probe and a suspend block prevent",
	Counts: true,
	New:    func(o Options) Picker { return &leastConnectionsPicker{slots: slots{seed: o.Seed}} },
}

// leastConnectionsPicker keeps the slots in a tournament (Knuth, The Art of Computer
// Programming 3, section 5.4.1), so that a choice costs O(1) and each request that
// begins or ends O(log n).
type leastConnectionsPicker struct {
	slots
	turns
	inFlight []int32
	leaf     []int32 // by slot, its place in the seeded order
	slot     []int32 // by leaf
	tournament
}

func (l *leastConnectionsPicker) Set(slot int, name string, weight float64) {
	was := 0.0
	if slot < len(l.weight) {
		was = l.weight[slot]
	}
	l.slots.Set(slot, name, weight)
	if len(l.inFlight) < len(l.weight) {
		l.inFlight = append(l.inFlight, make([]int32, len(l.weight)-len(l.inFlight))...)
	}
	if was != weight {
		l.turns.set(slot, was, weight)
	}
}

func (l *leastConnectionsPicker) Pick(q *Query) int {
	if l.dirty {
		l.rebuild()
	}
	// One that was tried may be another group's, and unknown here.
	for _, t := range q.Tried {
		if int(t) < len(l.leaf) {
			l.tournament.set(int(l.leaf[t]), out)
		}
	}
	leaf := l.best()
	for _, t := range q.Tried {
		if int(t) < len(l.leaf) {
			l.update(int(t))
		}
	}
	if leaf < 0 {
		return -1
	}
	return int(l.slot[leaf])
}

// SetFull marks a slot that can take no more requests.
func (l *leastConnectionsPicker) SetFull(slot int, full bool) {
	l.slots.SetFull(slot, full)
	if !l.dirty {
		l.update(slot)
	}
}

// Begun counts a request in flight.
func (l *leastConnectionsPicker) Begun(slot int) {
	l.inFlight[slot]++
	if l.turns.take(slot) {
		l.dirty = true
	}
	if !l.dirty {
		l.update(slot)
	}
}

// Ended counts its end.
func (l *leastConnectionsPicker) Ended(slot int, _ End) {
	l.inFlight[slot]--
	if !l.dirty {
		l.update(slot)
	}
}

// update plays the matches of a slot again.
func (l *leastConnectionsPicker) update(slot int) {
	k := out
	if l.may(slot) {
		k = keyOf(float64(l.inFlight[slot])/l.weight[slot], l.turns.due(slot))
	}
	l.tournament.set(int(l.leaf[slot]), k)
}

// rebuild has the slots compete in the seeded order, so that of equals the one wins
// that it favours.
func (l *leastConnectionsPicker) rebuild() {
	l.dirty = false
	if len(l.slot) != len(l.weight) {
		l.slot, l.leaf = l.slot[:0], make([]int32, len(l.weight))
		for i := range l.weight {
			l.slot = append(l.slot, int32(i))
		}
		slices.SortFunc(l.slot, func(a, b int32) int { return cmp.Compare(l.rank[a], l.rank[b]) })
		for leaf, slot := range l.slot {
			l.leaf[slot] = int32(leaf)
		}
		l.tournament = newTournament(len(l.slot))
	}
	for slot := range l.weight {
		l.update(slot)
	}
}
