package balance

// turns decides between slots with equal loads: by weighted turns whose debt is
// bounded, as in fair queueing (Parekh and Gallager: A Generalized Processor Sharing
// Approach to Flow Control, IEEE/ACM Transactions on Networking 1, 1993). Each slot
// has a virtual time, and all of them together have one; a request moves both
// forward, that of its slot by more. So a slot that was busy, slow or away catches
// up by a few requests instead of by all that it missed.
type turns struct {
	now  float64 // of all
	sum  float64 // of the weights
	each float64 // by how much a request moves the time of all: 1/sum
	// By slot, its time, and by how much a request moves it: 1/weight, 0 without one.
	at, step []float64
}

// mostDebt is by how many turns a slot may be ahead or behind.
const mostDebt = 2

// rebaseAt is the virtual time at which turns are counted from 0 again, so that
// floating point keeps them apart.
const rebaseAt = 1 << 20

// set takes a change of weight. One that joins or returns begins level with all; one
// whose weight changes keeps its debt in turns.
func (t *turns) set(slot int, was, weight float64) {
	for len(t.at) <= slot {
		t.at, t.step = append(t.at, 0), append(t.step, 0)
	}
	t.sum = max(t.sum+weight-was, 0)
	t.each, t.step[slot] = 1/t.sum, 0
	if weight == 0 {
		return
	}
	t.step[slot] = 1 / weight
	if was == 0 {
		t.at[slot] = t.now
	} else {
		t.at[slot] = t.now + (t.at[slot]-t.now)*was/weight
	}
}

// take moves the turns on by a request that a slot was given. It reports whether all
// turns are counted anew.
func (t *turns) take(slot int) (rebased bool) {
	if slot >= len(t.step) || t.step[slot] == 0 {
		return false // as a draining one that keeps a session: nobody's turn
	}
	if t.now > rebaseAt {
		for i := range t.at {
			t.at[i] -= t.now
		}
		t.now, rebased = 0, true
	}
	t.now += t.each
	step := t.step[slot]
	t.at[slot] = min(max(t.at[slot], t.now-mostDebt*step)+step, t.now+mostDebt*step)
	return rebased
}

// due returns when it is a slot's turn: the smallest comes first. It is in steps of
// 1e-9, within which turns are equal.
func (t *turns) due(slot int) int64 {
	// Virtual times that are equal but for rounding often are whole multiples of
	// half a step; the 0.3 keeps them off the border between two.
	return int64(t.at[slot]*1e9 + 0.3)
}
