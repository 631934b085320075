package queue

import (
	"math"
	"testing"

	"pgregory.net/rapid"

	"kestrix/internal/core/tick"
)

// TestSharedWorkProgressesAlike holds shared cores to a model that takes from each thing what it
// gets done in every step between two changes.
func TestSharedWorkProgressesAlike(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		cores := rapid.SampledFrom([]float64{0.5, 1, 2, 3.7, 8}).Draw(t, "cores")
		s := NewShared[int](cores)
		left := map[int]float64{} // of each
		now, served := tick.Time(0), 0.0
		pass := func(to tick.Time) {
			speed := math.Min(1, cores/float64(len(left)))
			for k := range left {
				left[k] -= float64(to-now) * speed
				served += float64(to-now) * speed
			}
			now = to
		}
		const exact = 64 // nanoseconds, to which times are rounded
		take := func() {
			at := s.Next()
			pass(at)
			got := s.Take(at)
			for k, x := range left {
				if x < left[got]-exact {
					t.Fatalf("%d is taken with %f to do, before %d with %f", got, left[got], k, x)
				}
			}
			if math.Abs(left[got]) > exact {
				t.Fatalf("%d is taken with %f to do", got, left[got])
			}
			delete(left, got)
		}
		for i, gap := range rapid.SliceOfN(rapid.Int64Range(0, 5000), 1, 60).Draw(t, "gaps") {
			at := now + tick.Time(gap)
			for s.Next() <= at {
				take()
			}
			pass(at)
			work := rapid.Int64Range(1, 8000).Draw(t, "work")
			s.Add(now, tick.Time(work), i)
			left[i] = float64(work)
			if rapid.IntRange(0, 20).Draw(t, "clear") == 0 {
				s.Clear(now)
				clear(left)
			}
		}
		for s.Next() != tick.Never {
			take()
		}
		if len(left) > 0 || math.Abs(float64(s.Served(now))-served) > exact*60 {
			t.Fatalf("%v are never taken; %d served of %f", left, s.Served(now), served)
		}
	})
}
