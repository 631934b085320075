// Package health keeps what is known of a backend's health on three axes: what its
// probes show, whether it rests after failures of real traffic, and what an operator
// set. The decision core (package upstream) calls it. It must never ask for the time, nor
// decide about requests.
package health

import (
	"math"
	"time"

	"kestrix/internal/core/tick"
)

// State is what is shown of a backend: the first that applies of parked, draining,
// unprobed, down, recovering, suspended, failing, up.
type State uint8

// The states of a backend.
const (
	Up         State = iota
	Failing          // probes failing, still in rotation
	Suspended        // rests after failures of real traffic, or is on trial after its rest
	Recovering       // probes passing, not yet in rotation
	Down             // probes failed
	Unprobed         // its first probe has not ended; it gets no requests
	Draining         // keeps its sessions, gets no new ones
	Parked           // an operator took it out
)

// InRotation reports whether a backend in that state may be given requests.
func (s State) InRotation() bool { return s == Up || s == Failing }

// Named returns the state of a word, as String returns it; ok is false if there is none.
func Named(word string) (s State, ok bool) {
	for s := Up; s <= Parked; s++ {
		if s.String() == word {
			return s, true
		}
	}
	return Up, false
}

// StateDescription describes a state for the reference.
type StateDescription struct {
	State    State
	Requests string // which requests a backend in it gets
	Doc      string
}

// States describes every state of a backend.
var States = []StateDescription{
	{Up, "yes", "the backend works, as far as probes and requests show"},
	{Failing, "yes", "probes have failed, fewer than `down_after` in a row"},
	{Down, "no", "`down_after` probes failed in a row"},
	{Recovering, "no", "probes have passed, fewer than `up_after` in a row"},
	{Suspended, "no", "requests of clients failed (`suspend { after }`), or none was answered for `silent_after`. After the suspension the backend is on trial: it gets one request at a time until one succeeds. The first failure begins the next suspension"},
	{Unprobed, "no", "the first probe has not ended"},
	{Draining, "those of its sessions", "an operator drained it, or it reported so itself"},
	{Parked, "no", "an operator took it out of rotation, or it reported so itself"},
}

// InRotation reports whether the word of a state is that of one in rotation.
func InRotation(word string) bool {
	s, ok := Named(word)
	return ok && s.InRotation()
}

func (s State) String() string {
	return [...]string{"up", "failing", "suspended", "recovering", "down", "unprobed", "draining", "parked"}[s]
}

// Operator is what was set by hand.
type Operator uint8

// What an operator may set.
const (
	In Operator = iota
	Drained
	ParkedOut
)

// Backend is the health of one backend. The zero value is up, as one that has been in
// operation for a while.
type Backend struct {
	Operator Operator
	Reported Operator // what it says of itself
	probe    State    // Up, Failing, Down, Recovering or Unprobed
	first    bool     // the next probe result alone decides
	joined   bool     // it came to a proxy at work, and has not been up: one pass is enough
	inARow   int      // results of the kind that the probe state counts

	rest      rest
	RestsTill tick.Time // while it rests
	failures  int       // of real traffic, in a row
	rests     int       // how many rests have been taken, less those forgiven
	backAt    tick.Time // when the last rest, and the trial after it, ended
	ChangedAt tick.Time // when the shown state last changed
}

// rest is the axis of suspension.
type rest uint8

const (
	working rest = iota
	resting      // until RestsTill
	onTrial      // its rest is over, and no request has succeeded since
)

// Start returns the health of a backend that has just been configured. probed says
// that it gets no requests before its first probe has ended; joined, that it comes to
// a proxy at work, where one pass makes it up.
func Start(now tick.Time, probed, joined bool) Backend {
	b := Backend{first: true, joined: joined, ChangedAt: now}
	if probed {
		b.probe = Unprobed
	}
	return b
}

// State returns the state that is shown.
func (b *Backend) State() State {
	switch {
	case b.Operator == ParkedOut, b.Operator == In && b.Reported == ParkedOut:
		return Parked
	case b.Operator == Drained, b.Reported == Drained:
		return Draining
	case b.probe == Down, b.probe == Recovering, b.probe == Unprobed:
		return b.probe
	case b.rest != working:
		return Suspended
	}
	return b.probe
}

// Beneath returns the state that would be shown if neither an operator nor the backend
// itself had set anything.
func (b *Backend) Beneath() State {
	x := *b
	x.Operator, x.Reported = In, In
	return x.State()
}

// Probed returns what the probes show, whatever else applies.
func (b *Backend) Probed() State { return b.probe }

// sound reports whether the probes leave the backend in rotation.
func (b *Backend) sound() bool { return b.probe == Up || b.probe == Failing }

// Eligible reports whether new requests may go to the backend.
func (b *Backend) Eligible() bool {
	return b.Operator == In && b.Reported == In && b.sound() && b.rest == working
}

// OnTrial reports whether a single request may go to the backend, to show whether it
// works again.
func (b *Backend) OnTrial() bool {
	return b.Operator == In && b.Reported == In && b.sound() && b.rest == onTrial
}

// KeepsSessions reports whether sessions may stay on the backend: it is eligible, or only
// draining.
func (b *Backend) KeepsSessions() bool {
	return b.Operator != ParkedOut && b.Reported != ParkedOut && b.sound() && b.rest == working
}

// InRow returns how many probe results of one kind have come in a row, for the
// reason of a change.
func (b *Backend) InRow() int { return b.inARow }

// First reports whether the next probe result is the backend's first.
func (b *Backend) First() bool { return b.first }

// ProbeSeen takes the result of a probe that ended. The first result alone
// decides the starting state.
func (b *Backend) ProbeSeen(passed bool, downAfter, upAfter int) {
	if b.first {
		b.first = false
		b.inARow = 1
		b.probe = Up
		if !passed {
			b.probe = Down
		}
		b.joined = b.joined && !passed
		return
	}
	good := b.probe == Up || b.probe == Recovering
	if passed == good {
		b.inARow++
	} else {
		b.inARow = 1
	}
	if b.joined {
		upAfter = 1
	}
	switch {
	case passed && (b.probe == Down || b.probe == Recovering):
		b.probe = Recovering
		if b.inARow >= upAfter {
			b.probe, b.joined = Up, false
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

// Seen takes the end of an attempt of real traffic that counts. It reports whether as
// many failed in a row as suspend a backend.
func (b *Backend) Seen(failed bool, after int) bool {
	if !failed {
		b.failures = 0
		return false
	}
	b.failures++
	return b.failures >= after
}

// Failures returns the failures of real traffic in a row.
func (b *Backend) Failures() int { return b.failures }

// Suspend begins a rest and returns how long it lasts. The n-th lasts rest x
// growth^(n-1), up to longest; n falls by one for each `rest` that was spent in
// rotation since the last.
func (b *Backend) Suspend(now tick.Time, rest time.Duration, growth float64, longest time.Duration) time.Duration {
	if b.rests > 0 && rest > 0 && b.rest == working {
		b.rests = max(0, b.rests-int(now.Sub(b.backAt)/rest))
	}
	b.rests++
	lasts := min(float64(rest)*math.Pow(growth, float64(b.rests-1)), float64(longest))
	b.rest, b.failures = resting, 0
	b.RestsTill = now.Add(time.Duration(lasts))
	return time.Duration(lasts)
}

// Rested ends a rest: the backend is on trial.
func (b *Backend) Rested() { b.rest, b.failures = onTrial, 0 }

// Worked ends a suspension: a request on trial succeeded, or nothing judges real
// traffic any more.
func (b *Backend) Worked(now tick.Time) { b.rest, b.backAt, b.failures = working, now, 0 }

// Resting reports whether a rest is under way.
func (b *Backend) Resting() bool { return b.rest == resting }

// Suspended reports whether the backend rests or is on trial, whatever else applies.
func (b *Backend) Suspended() bool { return b.rest != working }

// Forget drops what probes and traffic have shown: the backend is up, and its next
// probe alone decides.
func (b *Backend) Forget() {
	*b = Backend{Operator: b.Operator, ChangedAt: b.ChangedAt, first: true}
}

// Unprobe drops what probes have shown, as when no probe is configured any more. A
// suspension goes on.
func (b *Backend) Unprobe() {
	b.probe, b.first, b.joined, b.inARow, b.Reported = Up, false, false, 0, In
}
