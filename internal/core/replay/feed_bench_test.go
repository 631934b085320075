package replay

import (
	"bytes"
	"context"
	"io"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"kestrix/internal/core/scenario"
	"kestrix/internal/core/trace"
)

// BenchmarkFeed measures all that is done with a log before the event loop:
// reading Combined lines, keeping clients apart, routing, putting in order.
func BenchmarkFeed(b *testing.B) {
	var text []byte
	w, err := trace.ParsePath("/seats/{n}")
	require.NoError(b, err)
	g := trace.NewGenerator(trace.Spec{
		Seed: 1, Start: time.Unix(1_790_000_000, 0), For: 100 * time.Second, Rate: 2000, Arrivals: "poisson", Shape: "steady",
		Clients: 50000, Popularity: 0.8, Paths: []trace.WeightedPath{w}, Mean: 40 * time.Millisecond, CV: 0.6,
	})
	var r trace.Record
	for g.Next(&r) {
		text = append(trace.AppendCombined(text, &r), '\n')
	}
	c := pool(b, 10, "round-robin", "")
	b.SetBytes(int64(len(text)))
	b.ReportAllocs()
	for b.Loop() {
		f, err := newFeed(c, scenario.None(), []Source{{Name: "b", Open: func() (io.ReadCloser, error) { return io.NopCloser(bytes.NewReader(text)), nil }}}, Options{Window: DefaultWindow})
		require.NoError(b, err)
		done := make(chan struct{})
		go func() {
			f.run(context.Background())
			close(done)
		}()
		for batch := range f.out {
			f.giveBack(batch)
		}
		<-done
		require.NoError(b, f.err)
	}
}
