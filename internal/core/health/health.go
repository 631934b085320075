// Package health keeps what is known of a backend's health on three axes:
// what its probes say, whether it rests after failures of real traffic, and
// what an operator set.
package health

import (
	"math"
	"time"

	"kestrix/internal/core/tick"
)

// State is what is shown of a backend: the first that applies of parked,
// draining, down, recovering, suspended, failing, up.
type State uint8

// The states of a backend.
const (
	Up         State = iota
	Failing          // probes failing, still in rotation
	Suspended        // rests after failures of real traffic
	Recovering       // probes passing, not yet in rotation
	Down             // probes failed
	Draining         // keeps its sessions, gets no new ones
	Parked           // an operator took it out
)

func (s State) String() string {
	return [...]string{"up", "failing", "suspended", "recovering", "down", "draining", "parked"}[s]
}

// Operator is what was set by hand.
type Operator uint8

// What an operator may set.
const (
	In Operator = iota
	Drained
	ParkedOut
)

// Backend is the health of one backend. The zero value is up: before its first
// probe has ended a backend is taken to work.
type Backend struct {
	Operator Operator
	Reported Operator // what it says of itself
	probe    State    // Up, Failing, Down or Recovering
	probed   bool     // a probe has ended
	inARow   int      // results of the kind that the probe state counts

	resting   bool
	RestsTill tick.Time // while resting
	failures  int       // of real traffic, in a row
	rests     int       // how many rests have been taken, less those forgiven
	restedAt  tick.Time // when the last rest ended
	ChangedAt tick.Time // when the shown state last changed
}

// State gives what is shown.
func (b *Backend) State() State {
	switch {
	case b.Operator == ParkedOut, b.Operator == In && b.Reported == ParkedOut:
		return Parked
	case b.Operator == Drained, b.Reported == Drained:
		return Draining
	case b.probe == Down, b.probe == Recovering:
		return b.probe
	case b.resting:
		return Suspended
	}
	return b.probe
}

// Probed gives what the probes say, whatever else applies.
func (b *Backend) Probed() State { return b.probe }

// Eligible says whether new requests may go to the backend.
func (b *Backend) Eligible() bool {
	return b.Operator == In && b.Reported == In && b.probe != Down && b.probe != Recovering && !b.resting
}

// Holds says whether sessions may stay on the backend: it is eligible, or only
// draining.
func (b *Backend) Holds() bool {
	return b.Operator != ParkedOut && b.Reported != ParkedOut && b.probe != Down && b.probe != Recovering && !b.resting
}

// InRow gives how many probe results of one kind have come in a row, for the
// reason of a change.
func (b *Backend) InRow() int { return b.inARow }

// ProbeSeen takes the result of a probe that ended. The first result alone
// decides the starting state.
func (b *Backend) ProbeSeen(passed bool, downAfter, upAfter int) {
	if !b.probed {
		b.probed = true
		b.inARow = 1
		b.probe = Up
		if !passed {
			b.probe = Down
		}
		return
	}
	good := b.probe == Up || b.probe == Recovering
	if passed == good {
		b.inARow++
	} else {
		b.inARow = 1
	}
	switch {
	case passed && (b.probe == Down || b.probe == Recovering):
		b.probe = Recovering
		if b.inARow >= upAfter {
			b.probe = Up
		}
	case passed:
		b.probe = Up
	case b.probe == Recovering:
		b.probe = Down
	case b.probe != Down:
		b.probe = Failing
		if b.inARow >= downAfter {
			b.probe = Down
		}
	}
}

// Seen takes the end of an attempt of real traffic that counts, and gives
// whether as many failed in a row as suspend a backend.
func (b *Backend) Seen(failed bool, after int) bool {
	if !failed {
		b.failures = 0
		return false
	}
	b.failures++
	return b.failures >= after
}

// Failures gives the failures of real traffic in a row.
func (b *Backend) Failures() int { return b.failures }

// Suspend begins a rest. The n-th lasts rest x growth^(n-1), up to longest; n
// falls by one for each `rest` that was spent in rotation since the last.
func (b *Backend) Suspend(now tick.Time, rest time.Duration, growth float64, longest time.Duration) time.Duration {
	if b.rests > 0 && rest > 0 {
		b.rests = max(0, b.rests-int(now.Sub(b.restedAt)/rest))
	}
	b.rests++
	lasts := min(float64(rest)*math.Pow(growth, float64(b.rests-1)), float64(longest))
	b.resting, b.failures = true, 0
	b.RestsTill = now.Add(time.Duration(lasts))
	return time.Duration(lasts)
}

// Rested ends a rest.
func (b *Backend) Rested(now tick.Time) {
	b.resting, b.restedAt, b.failures = false, now, 0
}

// Resting says whether a rest is under way.
func (b *Backend) Resting() bool { return b.resting }

// Forget drops what probes and traffic have shown.
func (b *Backend) Forget() {
	*b = Backend{Operator: b.Operator, ChangedAt: b.ChangedAt}
}
