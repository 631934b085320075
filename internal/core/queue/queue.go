// Package queue holds events in the order of their times; of equal times, the event
// that was pushed first comes out first.
//
// The replay's event loop, the decision core and some algorithms use it. It must never
// compare what an event holds, or the order would depend on it.
package queue

import "kestrix/internal/core/tick"

// Item is a value and when it is due.
type Item[T any] struct {
	At    tick.Time
	order uint32 // in which they were put in; it goes round
	link  int32  // the calendar's
	Value T
}

// earlier reports whether what was put in under one order was before another, which
// at most half a round lies between.
func earlier(a, b uint32) bool { return int32(a-b) < 0 }

// Heap is a 4-ary heap of plain values: fewer levels than a binary one and no
// boxing. The zero value is empty and ready.
type Heap[T any] struct {
	items []Item[T]
	next  uint32
}

// Len returns the number of things due.
func (h *Heap[T]) Len() int { return len(h.items) }

// At returns when the first is due, tick.Never when nothing is.
func (h *Heap[T]) At() tick.Time {
	if len(h.items) == 0 {
		return tick.Never
	}
	return h.items[0].At
}

// Push puts a value in.
func (h *Heap[T]) Push(at tick.Time, v T) {
	h.next++
	h.put(Item[T]{At: at, order: h.next, Value: v})
}

func (h *Heap[T]) put(it Item[T]) {
	h.items = append(h.items, it)
	s := h.items
	i := len(s) - 1
	for i > 0 {
		p := (i - 1) / 4
		if s[p].At < it.At || s[p].At == it.At && earlier(s[p].order, it.order) {
			break // what was put in earlier goes first
		}
		s[i] = s[p]
		i = p
	}
	s[i] = it
}

// Pop takes the first out. The heap must not be empty.
func (h *Heap[T]) Pop() (tick.Time, T) {
	s := h.items
	top := s[0]
	n := len(s) - 1
	last := s[n]
	s = s[:n]
	h.items = s
	if n == 0 {
		return top.At, top.Value
	}
	i := 0
	for {
		c := 4*i + 1
		if c >= n {
			break
		}
		end := min(c+4, n)
		m := c
		at := s[c].At
		for k := c + 1; k < end; k++ {
			a := s[k].At
			if a == at && earlier(s[k].order, s[m].order) {
				m = k // equal times are rare, so this branch is predicted
			}
			// Which child is earliest cannot be predicted: the compiler makes
			// moves instead of jumps of this.
			if a < at {
				m = k
			}
			at = min(at, a)
		}
		if at > last.At || at == last.At && earlier(last.order, s[m].order) {
			break
		}
		s[i] = s[m]
		i = m
	}
	s[i] = last
	return top.At, top.Value
}

// Take removes and returns the first if it is due by a moment.
func (h *Heap[T]) Take(by tick.Time) (at tick.Time, v T, ok bool) {
	if len(h.items) == 0 || h.items[0].At > by {
		return 0, v, false
	}
	at, v = h.Pop()
	return at, v, true
}
