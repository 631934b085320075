package study

import (
	"context"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kestrix/internal/core/replay"
	"kestrix/internal/core/result"
)

// TestAcrossSeeds: the first result is that of a single replay, moments and counts differ
// between seeds, and what a range leaves out is said by their number.
func TestAcrossSeeds(t *testing.T) {
	s := readSituation(t, "testdata/diagnosis/too_little_left.txtar")
	c, sc := s.read(t, map[string]string{"seed": "7", "rate": "250"})
	o := replay.Options{Seed: 7}
	alone, err := replay.Run(context.Background(), c, sc, nil, o)
	require.NoError(t, err)
	told, heard := 0, 0
	r, err := AcrossSeeds(context.Background(), c, sc, nil, o, 6, func(*result.Replay) { heard++ }, func(done, of int) { told = done })
	require.NoError(t, err)
	assert.Equal(t, []int{6, 6}, []int{told, heard})
	seeds := r.Seeds
	r.Seeds, r.Engine, alone.Engine = nil, result.Engine{}, result.Engine{}
	assert.Equal(t, alone, r)
	found := map[string]result.SeedFigure{}
	for _, f := range seeds.Figures {
		found[f.Of+" "+f.What] = f
		assert.LessOrEqual(t, f.Low, f.Median)
		assert.LessOrEqual(t, f.Median, f.High)
	}
	for _, name := range []string{" failed", "gone detected_after", " requests", "app.b1 share"} {
		assert.Less(t, found[name].Low, found[name].High, name)
	}
	var all []*result.Replay
	for i := range 80 {
		all = append(all, &result.Replay{Failed: int64(i)})
	}
	x, ok := spreadOf(figure{what: "failed", value: func(r *result.Replay) *float64 { v := float64(r.Failed); return &v }}, all)
	assert.True(t, ok)
	assert.Equal(t, []float64{2, 39, 77}, []float64{x.Low, x.Median, x.High})
	x, ok = spreadOf(figure{value: func(r *result.Replay) *float64 { return r.Trace.First }}, all)
	assert.False(t, ok)
	assert.Equal(t, 80, x.Never)
}
