package pool

import "github.com/HdrHistogram/hdrhistogram-go"

// firstBounds are the upper bounds of the buckets of kestrix_backend_first_byte_seconds.
var firstBounds = []float64{0.001, 0.0025, 0.005, 0.01, 0.025, 0.05, 0.1, 0.25, 0.5, 1, 2.5, 5, 10, 30}

// Buckets is a histogram as it is told.
type Buckets struct {
	Count   uint64
	Sum     float64            // seconds
	Buckets map[float64]uint64 // counts up to each bound
}

// FirstBytes returns the latencies of its backends, by name.
func (l *Pool) FirstBytes() map[string]Buckets {
	out := map[string]Buckets{}
	l.mu.Lock()
	defer l.mu.Unlock()
	for _, b := range l.backends {
		if b != nil {
			out[b.Name] = inBuckets(b.counts.first)
		}
	}
	return out
}

// inBuckets counts what a histogram in microseconds holds up to each bound. A
// value counts where its step of the histogram ends, so that none is told to be
// quicker than it was.
func inBuckets(h *hdrhistogram.Histogram) Buckets {
	out := Buckets{Buckets: make(map[float64]uint64, len(firstBounds))}
	for _, bound := range firstBounds {
		out.Buckets[bound] = 0
	}
	if h == nil {
		return out
	}
	for _, bar := range h.Distribution() {
		if bar.Count == 0 {
			continue
		}
		n := uint64(bar.Count)
		out.Count += n
		out.Sum += float64(n) * float64(bar.From+bar.To) / 2e6
		for _, bound := range firstBounds {
			if float64(bar.To) <= bound*1e6 {
				out.Buckets[bound] += n
			}
		}
	}
	return out
}
