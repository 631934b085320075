package histogram

import (
	"math"
	"math/bits"
)

// Sketch is a small histogram of fixed size for one row of a timeline: sixteen steps an
// octave from 1 µs to 9 hours, so that a percentile is at most 6.3 % too high.
type Sketch [sketchSize]uint32

const (
	sketchSteps = 16
	sketchSize  = 36 * sketchSteps // from 1 microsecond to beyond 9 hours
)

// Add counts a latency in nanoseconds, which must not be negative.
func (s *Sketch) Add(ns int64) {
	us := max(uint64(ns)/1000, 1)
	octave := bits.Len64(us) - 1
	step := int(us<<(63-octave)>>59) & (sketchSteps - 1)
	s[min(octave*sketchSteps+step, sketchSize-1)]++
}

// Quantile returns the upper edge, in seconds, of the step in which the share p
// of all values is reached.
func (s *Sketch) Quantile(p float64) float64 {
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

// Join adds the counts of b to a and returns a; nil has none.
func Join(a, b *Sketch) *Sketch {
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
