package trace

import (
	"bytes"
	"io"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// made returns the text of a generated trace.
func made(t testing.TB, seconds int, rate float64, asJSON bool) []byte {
	var paths []WeightedPath
	for _, p := range []string{"/seats/{n}=4", "POST /bookings=1", "/sailings/today=4"} {
		w, err := ParsePath(p)
		require.NoError(t, err)
		paths = append(paths, w)
	}
	s := Spec{
		Seed: 1, Start: time.Date(2026, 11, 23, 6, 30, 0, 0, time.UTC), For: time.Duration(seconds) * time.Second, Rate: rate,
		Arrivals: "poisson", Shape: "steady", Clients: 2000, Popularity: 0.8, Paths: paths, Mean: 40 * time.Millisecond, CV: 0.6,
	}
	require.NoError(t, s.Validate())
	g := NewGenerator(s)
	var out []byte
	var r Record
	for g.Next(&r) {
		if asJSON {
			out = AppendJSON(out, &r)
		} else {
			out = AppendCombined(out, &r)
		}
		out = append(out, '\n')
	}
	return out
}

// BenchmarkCombined measures reading Combined lines; BenchmarkMemory the bare
// pass over the same bytes that it is held against.
func BenchmarkCombined(b *testing.B) { benchmarkRead(b, made(b, 100, 1000, false)) }

func BenchmarkJSONLines(b *testing.B) { benchmarkRead(b, made(b, 100, 1000, true)) }

func BenchmarkMemory(b *testing.B) {
	text := made(b, 100, 1000, false)
	b.SetBytes(int64(len(text)))
	for b.Loop() {
		if bytes.Count(text, []byte("\n")) == 0 {
			b.Fatal("no lines")
		}
	}
}

func benchmarkRead(b *testing.B, text []byte) {
	b.SetBytes(int64(len(text)))
	b.ReportAllocs()
	var rec Record
	for b.Loop() {
		r, err := NewReader("bench", bytes.NewReader(text), Options{})
		require.NoError(b, err)
		for {
			if err := r.Next(&rec); err == io.EOF {
				break
			} else if err != nil {
				b.Fatal(err)
			}
		}
	}
}
