package queue

import (
	"math"

	"kestrix/internal/core/tick"
)

// Shared is work in progress on cores that share it equally (egalitarian processor sharing:
// Kleinrock, Queueing Systems II, 4.4): of n things, each progresses at full speed while there
// is a core for each, and at cores / n of it otherwise. All progress alike, so that the order
// in which they will be done never changes, and nothing is moved when one comes or goes. Times
// that are handed in must not go back. New makes one.
type Shared[T any] struct {
	cores  float64
	heap   Heap[T]   // by what attained will be when a thing is done
	each   float64   // nanoseconds of work that a thing has got that was there since this was 0
	at     tick.Time // of the last change
	served float64   // nanoseconds of work done, of all things together
}

// NewShared returns cores without work. Their number must be positive, and may be a part of one.
func NewShared[T any](cores float64) Shared[T] { return Shared[T]{cores: cores} }

// speed returns how much of its work each thing gets done in a time.
func (s *Shared[T]) speed() float64 { return math.Min(1, s.cores/float64(s.heap.Len())) }

// pass has time pass.
func (s *Shared[T]) pass(now tick.Time) {
	if n := s.heap.Len(); n > 0 {
		got := float64(now-s.at) * s.speed()
		s.each += got
		s.served += got * float64(n)
	} else {
		s.each = 0
	}
	s.at = now
}

// Add puts in a thing with some work.
func (s *Shared[T]) Add(now, work tick.Time, x T) {
	s.pass(now)
	s.heap.Push(tick.Time(s.each)+work, x)
}

// Next returns when the first thing is done unless another comes, tick.Never if there is none.
func (s *Shared[T]) Next() tick.Time {
	if s.heap.Len() == 0 {
		return tick.Never
	}
	return s.at + tick.Time(math.Ceil(math.Max(float64(s.heap.At())-s.each, 0)/s.speed()))
}

// Take takes out the thing that is done first, which Next says when; there must be one.
func (s *Shared[T]) Take(now tick.Time) T {
	s.pass(now)
	_, x := s.heap.Pop()
	return x
}

// Served returns how much work is done by a moment, of all things together; divided by the time
// it is how many cores were busy on average.
func (s *Shared[T]) Served(now tick.Time) tick.Time {
	s.pass(now)
	return tick.Time(s.served)
}

// Clear takes out all things, done or not.
func (s *Shared[T]) Clear(now tick.Time) {
	s.pass(now)
	s.heap = Heap[T]{}
}
