// Package histogram counts latencies: Histogram with two significant digits for results,
// Sketch, smaller and coarser, for a row of a timeline.
//
// Package sim adds each latency and asks for percentiles at the end. It must never keep
// the latencies themselves: memory does not grow with the number of requests.
package histogram

import (
	"math/bits"

	"github.com/HdrHistogram/hdrhistogram-go"

	"kestrix/internal/core/result"
)

// Histogram counts latencies by the buckets of HdrHistogram: percentiles have two
// significant digits, in microseconds up to three hours; the mean and the maximum are
// exact. The zero value is empty and takes no room in its Set.
type Histogram struct {
	from  uint32 // position of its counts in Set.counts, once there are any
	Count int64  // latencies added
	sum   int64  // nanoseconds
	max   int64
}

// Set holds the counts of several histograms, all of which must be used with this Set.
// The zero value is ready for use.
type Set struct {
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

// Add counts a latency in nanoseconds, which must not be negative. A histogram takes room
// with its first one: most backends of a large configuration never answer in a short
// trace, and most phases have nothing for most upstreams.
func (t *Set) Add(h *Histogram, ns int64) {
	if h.Count == 0 {
		h.from = uint32(len(t.counts))
		t.counts = append(t.counts, make([]uint32, buckets)...)
	}
	t.counts[h.from+uint32(bucketOf(min(uint64(ns)/1000, longestLatency)))]++
	h.Count++
	h.sum += ns
	h.max = max(h.max, ns)
}

// Latency returns mean, percentiles and maximum of several histograms together.
func (t *Set) Latency(of ...*Histogram) result.Latency {
	var all Histogram
	hist := hdrhistogram.New(1, longestLatency, 2).Export()
	for _, h := range of {
		if h.Count == 0 {
			continue
		}
		for i, n := range t.counts[h.from : h.from+buckets] {
			hist.Counts[i] += int64(n)
		}
		all.Count += h.Count
		all.sum += h.sum
		all.max = max(all.max, h.max)
	}
	if all.Count == 0 {
		return result.Latency{}
	}
	read, top := hdrhistogram.Import(hist), float64(all.max)/1e9
	q := func(p float64) float64 { return min(float64(read.ValueAtQuantile(p))/1e6, top) }
	return result.Latency{
		Mean: float64(all.sum) / float64(all.Count) / 1e9,
		P50:  q(50), P90: q(90), P95: q(95), P99: q(99), P999: q(99.9), Max: top,
	}
}
