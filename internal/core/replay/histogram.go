package replay

import (
	"math/bits"

	"github.com/HdrHistogram/hdrhistogram-go"
)

// histogram collects latencies: percentiles by HdrHistogram in microseconds at two
// significant digits, the mean exactly.
type histogram struct {
	from uint32 // where its counts begin in histograms, once there are any
	n    int64
	sum  int64 // nanoseconds
	max  int64
}

// histograms holds the counts of all histograms, in the buckets of HdrHistogram, and
// has the library read them at the end.
type histograms struct {
	counts []uint32
}

// longestLatency is where a histogram ends, in microseconds: three hours.
const longestLatency = 3 * 3600 * 1_000_000

// subBits is how many bits of a value tell it from the next: two significant
// digits need 200 steps.
const subBits = 8

// bucketOf returns the bucket of a value: of those below 256 each has its own, of the
// others as many as have the first eight bits in common share one.
func bucketOf(us uint64) int {
	shift := max(bits.Len64(us)-subBits, 0)
	return shift<<(subBits-1) + int(us>>shift)
}

// buckets is how many a histogram has: those up to longestLatency, whose first eight
// bits are 160 and which has 34.
const buckets = (34-subBits)<<(subBits-1) + 161

// add counts a latency. A histogram gets its counts with the first one: most backends
// of a large configuration never answer in a short trace, and most phases have nothing
// for most upstreams.
func (t *histograms) add(h *histogram, ns int64) {
	if h.n == 0 {
		h.from = uint32(len(t.counts))
		t.counts = append(t.counts, make([]uint32, buckets)...)
	}
	t.counts[h.from+uint32(bucketOf(min(uint64(ns)/1000, longestLatency)))]++
	h.n++
	h.sum += ns
	h.max = max(h.max, ns)
}

// latency returns the latencies of several histograms together.
func (t *histograms) latency(of ...*histogram) Latency {
	var all histogram
	hist := hdrhistogram.New(1, longestLatency, 2).Export()
	for _, h := range of {
		if h.n == 0 {
			continue
		}
		for i, n := range t.counts[h.from : h.from+buckets] {
			hist.Counts[i] += int64(n)
		}
		all.n += h.n
		all.sum += h.sum
		all.max = max(all.max, h.max)
	}
	if all.n == 0 {
		return Latency{}
	}
	read, top := hdrhistogram.Import(hist), float64(all.max)/1e9
	q := func(p float64) float64 { return min(float64(read.ValueAtQuantile(p))/1e6, top) }
	return Latency{
		Mean: float64(all.sum) / float64(all.n) / 1e9,
		P50:  q(50), P90: q(90), P95: q(95), P99: q(99), P999: q(99.9), Max: top,
	}
}
