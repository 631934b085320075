package replay

import (
	"context"
	"fmt"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"kestrix/internal/core/config"
	"kestrix/internal/core/ingest"
	"kestrix/internal/core/rng"
	"kestrix/internal/core/scenario"
)

// poolText writes a configuration of n equal backends.
func poolText(n int, algorithm, more string) string {
	var b strings.Builder
	fmt.Fprintf(&b, "frontend \"web\" {\n listen = \"127.0.0.1:8080\"\n route \"all\" {\n send_to = upstream.app\n }\n}\n")
	fmt.Fprintf(&b, "upstream \"app\" {\n algorithm = %q\n backends = {\n", algorithm)
	for i := range n {
		fmt.Fprintf(&b, "b%d = \"127.0.0.1:%d\"\n", i, 10000+i)
	}
	fmt.Fprintf(&b, "}\n%s\n}\n", more)
	return b.String()
}

func pool(t testing.TB, n int, algorithm, more string) *config.Config {
	c, found, err := config.Read([]config.File{{Name: "pool.hcl", Source: []byte(poolText(n, algorithm, more))}})
	require.NoError(t, err)
	for _, f := range found {
		require.Fail(t, f.Message, "%s", f.Range)
	}
	return c
}

// BenchmarkReplay measures the event loop alone: arrivals are made beforehand.
// Everything is switched on: routing has been done, and probes, sessions,
// histograms and the timeline take part.
func BenchmarkReplay(b *testing.B) {
	hash := func(method string) string { return "hash {\n method = \"" + method + "\"\n}\n" }
	for _, c := range []struct{ name, algorithm, more string }{
		{"round-robin", "round-robin", ""}, {"least-connections", "least-connections", ""}, {"random", "random", ""},
		{"two-choices", "two-choices", ""}, {"least-latency", "least-latency", ""},
		{"hash-ring", "hash", ""}, {"hash-bounded", "hash", "hash {\n bound = 1.25\n}\n"}, {"hash-modulo", "hash", hash("modulo")},
		{"hash-rendezvous", "hash", hash("rendezvous")},
	} {
		for _, n := range []int{10, 100, 1000} {
			b.Run(fmt.Sprintf("%s/%d", c.name, n), func(b *testing.B) { benchmark(b, pool(b, n, c.algorithm, probe+c.more), n) })
		}
	}
	for _, n := range []int{10, 1000} {
		b.Run(fmt.Sprintf("first-fit/%d", n), func(b *testing.B) {
			text := strings.ReplaceAll(poolText(n, "first-fit", probe), " = \"127.0.0.1:1", " = { max_in_flight = 16, address = \"127.0.0.1:1")
			text = regexp.MustCompile(`(address = "127.0.0.1:\d+")`).ReplaceAllString(text, "$1 }")
			c, found, err := config.Read([]config.File{{Name: "pool.hcl", Source: []byte(text)}})
			require.NoError(b, err)
			require.Empty(b, found)
			benchmark(b, c, n)
		})
	}
	b.Run("sticky/10", func(b *testing.B) {
		benchmark(b, pool(b, 10, "round-robin", probe+"sticky {\n by = \"cookie\"\n}\nretry {\n}\nsuspend {\n}\n"), 10)
	})
}

func benchmark(b *testing.B, c *config.Config, backends int) {
	e, p, err := prepare(context.Background(), Case{Config: c, Scenario: scenario.None()}, Options{Seed: 1})
	require.NoError(b, err)
	_, sequences := ingest.New(scenario.None(), nil, ingest.Options{}, p)
	e.Attach(sequences[0], p)
	e.Begin(0)
	rate := 200.0 * float64(backends) // half of what 16 workers at 40 ms can do
	at := 0.0
	arrivals := make([]ingest.Arrival, 1<<14)
	next := func(n uint64) {
		for i := range arrivals {
			at += rng.Exponential(rng.Bits(1, n+uint64(i), 0, rng.Arrival)) / rate * 1e9
			client := rng.Bits(1, n+uint64(i), 0, rng.Who) % 50000
			arrivals[i] = ingest.Arrival{At: int64(at), Key: client * 0x9e3779b97f4a7c15, Session: uint32(client), Duration: -1, Client: -1, Repeatable: true}
		}
	}
	next(0)
	e.Arrive(arrivals) // reach the steady state
	b.ReportAllocs()
	b.ResetTimer()
	for done := 0; done < b.N; done += len(arrivals) {
		b.StopTimer()
		next(uint64(done + len(arrivals)))
		b.StartTimer()
		e.Arrive(arrivals[:min(len(arrivals), b.N-done)])
	}
	b.ReportMetric(float64(b.N)/b.Elapsed().Seconds(), "requests/s")
}
