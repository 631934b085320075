package measure

import (
	"math"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"
)

// TestHistogram draws times: the buckets count all of them, and a quantile lies in the bucket
// of the time that has its rank.
func TestHistogram(t *testing.T) {
	var none Histogram
	assert.Zero(t, none.Quantile(0.99))
	rapid.Check(t, func(t *rapid.T) {
		var h Histogram
		times := rapid.SliceOfN(rapid.Int64Range(0, int64(time.Minute)), 1, 50).Draw(t, "times")
		sum := 0.0
		for _, d := range times {
			h.Add(time.Duration(d))
			sum += time.Duration(d).Seconds()
		}
		b := h.Buckets()
		assert.Equal(t, uint64(len(times)), b.Count)
		assert.InDelta(t, sum, b.Sum, 1e-6)
		for _, bound := range Bounds {
			want := uint64(0)
			for _, d := range times {
				if time.Duration(d).Seconds() <= bound {
					want++
				}
			}
			assert.Equal(t, want, b.Buckets[bound], "up to %g", bound)
		}
		q := rapid.Float64Range(0.01, 1).Draw(t, "q")
		got := h.Quantile(q)
		if got < Bounds[len(Bounds)-1] {
			assert.GreaterOrEqual(t, float64(within(&b, got)), math.Floor(q*float64(len(times))))
		}
	})
	var h Histogram
	for range 10 {
		h.Add(30 * time.Millisecond) // between 25 and 50 ms
	}
	assert.InDelta(t, 0.0375, h.Quantile(0.5), 1e-9)
	h.Add(time.Hour)
	assert.Equal(t, 30.0, h.Quantile(1))
}

// within returns the times up to the bound at or above a value.
func within(b *Buckets, value float64) uint64 {
	for _, bound := range Bounds {
		if value <= bound {
			return b.Buckets[bound]
		}
	}
	return b.Count
}
