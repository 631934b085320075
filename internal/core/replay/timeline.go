package replay

import (
	"math"
	"math/bits"

	"kestrix/internal/core/tick"
)

// sketch is a small histogram for one row of the timeline: sixteen steps an
// octave, so that a percentile is right to about 3 per cent.
type sketch [sketchSize]uint32

const (
	sketchSteps = 16
	sketchSize  = 36 * sketchSteps // from 1 microsecond to beyond 9 hours
)

func (s *sketch) add(ns int64) { s.count(uint64(ns) / 1000) }

// count is add for microseconds.
func (s *sketch) count(us uint64) {
	us = max(us, 1)
	octave := bits.Len64(us) - 1
	step := int(us<<(63-octave)>>59) & (sketchSteps - 1)
	s[min(octave*sketchSteps+step, sketchSize-1)]++
}

// quantile returns the upper edge, in seconds, of the step in which the share p
// of all values is reached.
func (s *sketch) quantile(p float64) float64 {
	total := uint64(0)
	for _, n := range s {
		total += uint64(n)
	}
	if total == 0 {
		return 0
	}
	want := uint64(math.Ceil(p * float64(total)))
	seen := uint64(0)
	for i, n := range s {
		if seen += uint64(n); seen >= want {
			edge := math.Ldexp(1+float64(i%sketchSteps+1)/sketchSteps, i/sketchSteps)
			return math.Round(edge) / 1e6
		}
	}
	return 0
}

// maxRows bounds the timeline; when it is reached buckets double.
const maxRows = 2048

// timeline counts what happens bucket by bucket.
type timeline struct {
	width    tick.Time
	backends int // of all upstreams
	rows     []row
	end      tick.Time // of the bucket under way
	last     *row      // that of the bucket under way
}

type row struct {
	answered, failed, left int64
	latency                *sketch
	requests, open         []int32 // by backend
}

func newTimeline(backends int) *timeline {
	return &timeline{width: 1e9, backends: backends}
}

// grow returns the row of a moment, making those in between.
func (t *timeline) grow(now tick.Time, open []int32) *row {
	for now >= t.end {
		if n := len(t.rows); n > 0 {
			copy(t.rows[n-1].open, open)
		}
		if len(t.rows) == maxRows {
			t.double()
			continue
		}
		t.rows = append(t.rows, row{requests: make([]int32, t.backends), open: make([]int32, t.backends)})
		t.end += t.width
	}
	t.last = &t.rows[len(t.rows)-1]
	return t.last
}

// double joins rows two by two.
func (t *timeline) double() {
	half := t.rows[:0]
	for i := 0; i < len(t.rows); i += 2 {
		a := t.rows[i]
		if i+1 < len(t.rows) {
			b := t.rows[i+1]
			a.answered += b.answered
			a.failed += b.failed
			a.left += b.left
			a.latency = join(a.latency, b.latency)
			for k := range a.requests {
				a.requests[k] += b.requests[k]
				a.open[k] = b.open[k]
			}
		}
		half = append(half, a)
	}
	clear(t.rows[len(half):])
	t.rows = half
	t.width *= 2
	t.end = t.width * tick.Time(len(t.rows))
}

func join(a, b *sketch) *sketch {
	if a == nil || b == nil {
		if a == nil {
			return b
		}
		return a
	}
	for i := range a {
		a[i] += b[i]
	}
	return a
}

func (r *row) answer(ns int64) {
	if r.latency == nil {
		r.latency = new(sketch)
	}
	r.latency.add(ns)
	r.answered++
}
