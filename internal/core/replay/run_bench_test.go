package replay

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"kestrix/internal/core/config"
	"kestrix/internal/core/ingest"
	"kestrix/internal/core/scenario"
	"kestrix/internal/core/trace"
)

const threeRoutes = `
route "hold" {
  when {
    path   = ["/seats/*/hold"]
    method = ["POST"]
  }
  send_to = upstream.app
}
route "seats" {
  when {
    path = ["/seats/**"]
  }
  send_to = upstream.app
}
route "staff" {
  when {
    path = ["/staff/**"]
  }
  send_to = upstream.app
}
`

// routed is a pool of ten with so many routes before the last.
func routed(b *testing.B, routes, algorithm string) *config.Config {
	text := strings.Replace(poolText(10, algorithm, probe), "route \"all\"", routes+"route \"all\"", 1)
	c, found, err := config.Read([]config.File{{Name: "pool.hcl", Source: []byte(text)}})
	require.NoError(b, err)
	require.Empty(b, found)
	return c
}

// BenchmarkRun measures a whole replay of such a log, on two cores.
func BenchmarkRun(b *testing.B) {
	text := madeLog(b)
	for _, c := range []struct{ name, algorithm, routes string }{
		{"round-robin", "round-robin", ""}, {"least-connections", "least-connections", ""}, {"four-routes", "least-connections", threeRoutes},
	} {
		b.Run(c.name, func(b *testing.B) {
			c := routed(b, c.routes, c.algorithm)
			b.SetBytes(int64(len(text)))
			requests := int64(0)
			for b.Loop() {
				r, err := Run(context.Background(), c, scenario.None(), inMemory(text), Options{})
				require.NoError(b, err)
				requests += r.Requests
			}
			b.ReportMetric(float64(requests)/b.Elapsed().Seconds(), "requests/s")
		})
	}
}

// BenchmarkRunAll measures eight ways of balancing side by side, and one of them
// alone, which is what they are held against.
func BenchmarkRunAll(b *testing.B) {
	text := madeLog(b)
	one := pool(b, 10, "round-robin", probe)
	cases := []Case{of(one, scenario.None())}
	for _, algorithm := range []string{"least-connections", "random", "two-choices", "least-latency"} {
		cases = append(cases, of(variant(one, algorithm, nil), scenario.None()))
	}
	for _, method := range []string{"ring", "rendezvous", "modulo"} {
		cases = append(cases, of(variant(one, "hash", &config.Hash{Key: "client", Method: method}), scenario.None()))
	}
	for _, n := range []int{1, 8} {
		b.Run(fmt.Sprint(n), func(b *testing.B) {
			for b.Loop() {
				_, err := RunAll(context.Background(), cases[:n], inMemory(text), Options{})
				require.NoError(b, err)
			}
		})
	}
}

func inMemory(text []byte) []ingest.Source {
	return []ingest.Source{{Name: "b", Open: func() (io.ReadCloser, error) { return io.NopCloser(bytes.NewReader(text)), nil }}}
}

// madeLog makes 800,000 Combined lines of 50,000 clients.
func madeLog(b *testing.B) []byte {
	var text []byte
	w, err := trace.ParsePath("/seats/{n}")
	require.NoError(b, err)
	g := trace.NewGenerator(trace.Spec{
		Seed: 1, Start: time.Unix(1_790_000_000, 0), For: 400 * time.Second, Rate: 2000, Arrivals: "poisson", Shape: "steady",
		Clients: 50000, Popularity: 0.8, Paths: []trace.WeightedPath{w}, Mean: 40 * time.Millisecond, CV: 0.6,
	})
	var r trace.Record
	for g.Next(&r) {
		text = append(trace.AppendCombined(text, &r), '\n')
	}
	return text
}
