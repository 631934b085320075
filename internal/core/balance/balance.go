// Package balance chooses one of the backends that may take a request. Each
// algorithm is a file of its own and an entry in Algorithms; all of them obey
// weights, pass the same contract test, and give the same choices for the same
// seed.
package balance

import (
	"time"

	"kestrix/internal/core/draw"
	"kestrix/internal/core/tick"
)

// Picker is an algorithm at work on one upstream. Slots are numbers from 0 on
// that the upstream gives its backends.
type Picker interface {
	// Set says what weight a slot has now. 0 takes it out of the choice, as
	// when its backend is down; a weight puts it in.
	Set(slot int, name string, weight float64)
	// Room says whether a slot can take one more, as it can at first. One without
	// room is not chosen, but keeps its place and weight.
	Room(slot int, room bool)
	// Pick gives a slot that is in, has room and that q has not tried, -1 if
	// there is none.
	Pick(q *Query) int
	// Begun and Ended say that a slot was given a request and that it is done.
	Begun(slot int)
	Ended(slot int)
	// Counts says whether that matters to it; otherwise it need not be told.
	Counts() bool
}

// Query is what a choice may depend on.
type Query struct {
	Now   tick.Time // for algorithms that forget with time
	Draw  uint64    // random bits of this attempt, see package draw
	Key   uint64    // hash of what the hash algorithm goes by
	Tried []int32   // slots that cannot be taken this time; at most a few
}

// tried says whether a slot cannot be taken this time.
func (q *Query) tried(slot int) bool {
	for _, t := range q.Tried {
		if int(t) == slot {
			return true
		}
	}
	return false
}

// Timer is a Picker that learns how long requests take.
type Timer interface {
	// Took says that a request to a slot has ended. A failed one is told apart,
	// so that failing fast is not taken for being fast.
	Took(slot int, now tick.Time, took time.Duration, failed bool)
	// Answered is Ended and, of one that did not fail, Took.
	Answered(slot int, now tick.Time, took time.Duration)
}

// Fetcher is a Picker whose choices may look at what lies far from a processor.
type Fetcher interface {
	// Far says whether they do now.
	Far() bool
	// Fetch has what choices for some keys will look at brought near, if it is Far: side
	// by side, which takes a fraction of the time of one after the other.
	Fetch(keys []uint64)
}

// Ordered is a Picker for which the order of the configuration counts.
type Ordered interface {
	// Order gives all slots in that order.
	Order(slots []int32)
}

// Options are what an algorithm is made with.
type Options struct {
	Seed  uint64  // decides ties and orders, so that they are never won by place in the list
	Bound float64 // of the ring: no slot above so many times the mean of what is open; 0 for none
}

// Algorithms makes a picker by its name: that of the language, and for hash the
// method behind a slash.
var Algorithms = map[string]func(Options) Picker{
	"round-robin":       func(o Options) Picker { return newRotation(o.Seed) },
	"least-connections": func(o Options) Picker { return newLeastConnections(o.Seed) },
	"random":            func(o Options) Picker { return newRandom(o.Seed) },
	"two-choices":       newTwoChoices,
	"least-latency":     newLeastLatency,
	"first-fit":         newFirstFit,
	"hash/ring":         newRing,
	"hash/rendezvous":   newRendezvous,
	"hash/modulo":       newModulo,
}

// slots is what every algorithm keeps: weights and the seeded order.
type slots struct {
	seed   uint64
	names  []string
	weight []float64
	rank   []uint64 // the seeded order among equals
	full   []bool   // those without room
	fulls  int
	dirty  bool // the weights have changed since the last choice
}

func (s *slots) Set(slot int, name string, weight float64) {
	for len(s.weight) <= slot {
		s.names = append(s.names, "")
		s.weight = append(s.weight, 0)
		s.full = append(s.full, false)
		s.rank = append(s.rank, draw.Bits(s.seed, uint64(len(s.rank)), 0, draw.Ordering))
	}
	if s.weight[slot] != weight || s.names[slot] != name {
		s.names[slot], s.weight[slot], s.dirty = name, weight, true
	}
}

// Room notes whether a slot can take one more.
func (s *slots) Room(slot int, room bool) { s.changeRoom(slot, room) }

// changeRoom says whether that is news.
func (s *slots) changeRoom(slot int, room bool) bool {
	if s.full[slot] == !room {
		return false
	}
	if s.full[slot] = !room; room {
		s.fulls--
	} else {
		s.fulls++
	}
	return true
}

// may says whether a slot can be chosen.
func (s *slots) may(slot int) bool { return s.weight[slot] > 0 && !s.full[slot] }

func (s *slots) Begun(int) {}
func (s *slots) Ended(int) {}

// Counts says that nothing is counted.
func (s *slots) Counts() bool { return false }

// in lists the slots that are in.
func (s *slots) in() []int32 {
	var out []int32
	for i, w := range s.weight {
		if w > 0 {
			out = append(out, int32(i))
		}
	}
	return out
}
