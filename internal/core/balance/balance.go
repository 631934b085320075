// Package balance selects one of the backends that may take a request. Each
// algorithm is a file of its own with one value of type Algorithm, which says
// all that the rest of the program needs to know of it; Algorithms lists them.
//
// The decision core (package upstream) calls it; the language, compare, why, the
// advice and the reference read the values. It must never ask for the time, for a
// random number or for the configuration: all three are handed in.
package balance

import (
	"time"

	"kestrix/internal/core/rng"
	"kestrix/internal/core/tick"
)

// Algorithm is a way of selecting backends.
type Algorithm struct {
	Name string // as written in the configuration; a method of hash has the method's name
	// Hash reports whether it is a method of algorithm = "hash", so that a request
	// goes by its key.
	Hash bool
	// Doc is one sentence for the reference and the help.
	Doc string
	// Why is the reason of a choice, for the command why.
	Why string
	// Wrong says when another algorithm is the better choice, for the advice of
	// compare.
	Wrong string
	// Counts reports whether requests in flight matter to it, so that it is told of
	// their beginnings and ends.
	Counts bool
	// Random reports whether it uses Query.Random.
	Random bool
	// Ordered reports whether the order of the configuration decides, so that its
	// Picker is an Orderer.
	Ordered bool
	// Unweighted reports whether it passes over weights above 0. Slow start, which
	// scales weights, does nothing then.
	Unweighted bool
	// Fixed reports whether weights decide by shares of keys that must not move with
	// the time, so that slow start does nothing.
	Fixed bool
	// Rehashes reports whether nearly all keys move when a backend leaves or joins.
	Rehashes bool
	// Fill reports whether it needs max_in_flight to ever leave the first backend.
	Fill bool
	// Bounded reports whether Options.Bound applies to it.
	Bounded bool
	// New returns a picker without slots.
	New func(Options) Picker
}

// Algorithms are all of them, in the order in which documents list them.
var Algorithms = []*Algorithm{
	&inTurn, &leastConnections, &random, &twoChoices, &leastLatency, &firstFit,
	&ring, &rendezvous, &modulo,
}

// Lookup returns the algorithm of a name and, where the name is "hash", of a method;
// nil if there is none.
func Lookup(name, method string) *Algorithm {
	hash := name == "hash"
	if hash {
		name = method
	}
	for _, a := range Algorithms {
		if a.Name == name && a.Hash == hash {
			return a
		}
	}
	return nil
}

// Ramps reports whether the weight of a backend that comes back may grow step by step
// (the key slow_start).
func (a *Algorithm) Ramps() bool { return !a.Unweighted && !a.Fixed }

// Picker is an algorithm at work on the backends of one upstream, or of one tier
// and zone of it. Slots are the numbers from 0 on that the upstream gives its
// backends. It is not safe for concurrent use.
type Picker interface {
	// Set sets the weight of a slot. 0 takes it out of the choice, as when its
	// backend is down.
	Set(slot int, name string, weight float64)
	// SetFull marks a slot that can take no more requests, or can again. A full one
	// is not selected, but keeps its place and weight.
	SetFull(slot int, full bool)
	// Pick returns a slot with a weight that is neither full nor excluded by q, -1
	// if there is none.
	Pick(q *Query) int
	// Begun counts a request that was given to a slot, by Pick or otherwise. It is
	// called where Algorithm.Counts, as is Ended.
	Begun(slot int)
	// Ended counts its end.
	Ended(slot int, e End)
}

// Query is what a choice may depend on.
type Query struct {
	Now    tick.Time // for algorithms that forget with time
	Random uint64    // random bits of this attempt, see package rng; 0 unless Algorithm.Random
	Key    uint64    // hash of what the hash algorithm goes by
	Retry  bool      // it is not the first attempt of its request
	Tried  []int32   // slots that are excluded; a few at most
}

// tried reports whether a slot is excluded.
func (q *Query) tried(slot int) bool {
	for _, t := range q.Tried {
		if int(t) == slot {
			return true
		}
	}
	return false
}

// End is how a request to a slot ended.
type End struct {
	At   tick.Time
	Took time.Duration // until its answer began or it failed
	How  Ending
}

// Ending is what the end of a request shows of how long its backend takes.
type Ending uint8

// The endings.
const (
	Untimed   Ending = iota // nothing
	Answered                // End.Took
	Failed                  // it failed, so that End.Took may be far too short
	Abandoned               // its client left: it would have taken at least End.Took
)

// Orderer is a Picker for which the order of the configuration counts.
type Orderer interface {
	// Order sets it: all slots, the first to be filled first.
	Order(slots []int32)
}

// Options are what a Picker is made with.
type Options struct {
	Seed  uint64  // decides ties and orders, so that they are never won by list order
	Bound float64 // of a bounded ring: no slot above Bound times the mean in flight; 0 for none
}

// slots is what every algorithm keeps of its slots.
type slots struct {
	seed   uint64
	names  []string
	weight []float64
	rank   []uint64 // the seeded order among equals
	full   []bool
	dirty  bool // weights have changed since the last choice
}

func (s *slots) Set(slot int, name string, weight float64) {
	for len(s.weight) <= slot {
		s.names = append(s.names, "")
		s.weight = append(s.weight, 0)
		s.full = append(s.full, false)
		s.rank = append(s.rank, rng.Bits(s.seed, uint64(len(s.rank)), 0, rng.Ordering))
	}
	if s.weight[slot] != weight || s.names[slot] != name {
		s.names[slot], s.weight[slot], s.dirty = name, weight, true
	}
}

// SetFull marks a slot that can take no more requests.
func (s *slots) SetFull(slot int, full bool) { s.full[slot] = full }

// may reports whether a slot can be selected.
func (s *slots) may(slot int) bool { return s.weight[slot] > 0 && !s.full[slot] }

// Begun and Ended count nothing.
func (s *slots) Begun(int)      {}
func (s *slots) Ended(int, End) {}

// in returns the slots with a weight.
func (s *slots) in() []int32 {
	var out []int32
	for i, w := range s.weight {
		if w > 0 {
			out = append(out, int32(i))
		}
	}
	return out
}
