package histogram

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"kestrix/internal/core/result"
)

// A histogram without values takes no room in its set.
func TestSet(t *testing.T) {
	var set Set
	var s, u, empty Histogram
	for range 3 {
		set.Latency(&s, &u)
	}
	assert.Empty(t, set.counts)
	set.Add(&s, 40e6)
	set.Add(&u, 40e6)
	for range 20 {
		set.Add(&s, 20e6)
	}
	assert.Len(t, set.counts, 2*buckets)
	l := set.Latency(&s)
	assert.InDelta(t, 0.44/21, l.Mean, 1e-9)
	assert.InDelta(t, 0.02, l.P95, 3e-4)
	assert.InDelta(t, 0.04, l.P99, 3e-4)
	assert.InDelta(t, 0.04, set.Latency(&u, &empty).P50, 3e-4)
	assert.InDelta(t, 0.48/22, set.Latency(&s, &u).Mean, 1e-9)
	assert.Equal(t, result.Latency{}, set.Latency(&empty))
}

func TestSketchQuantile(t *testing.T) {
	var s Sketch
	for i := range int64(1000) {
		s.Add((i + 1) * 1e6) // 1 ms to 1 s
	}
	for _, p := range []float64{0.01, 0.5, 0.9, 0.99} {
		assert.InEpsilon(t, p, s.Quantile(p), 0.065, "%v", p)
	}
	assert.Zero(t, new(Sketch).Quantile(0.99))
	var odd Sketch
	odd.Add(0)
	odd.Add(1 << 60)
	assert.Positive(t, odd.Quantile(1))
}
