package replay

import (
	"math"
	"math/bits"

	"github.com/HdrHistogram/hdrhistogram-go"

	"kestrix/internal/core/tick"
)

// spread gathers latencies: percentiles by HdrHistogram in microseconds at two
// significant digits, the mean exactly. It counts by itself, in the buckets of
// HdrHistogram, and has the library read them when it is asked.
type spread struct {
	counts []uint32 // made on first use
	n      int64
	sum    int64 // nanoseconds
	max    int64
}

// longestLatency is where the histogram ends, in microseconds: three hours.
const longestLatency = 3 * 3600 * 1_000_000

// subBits is how many bits of a value tell it from the next: two significant
// digits need 200 steps.
const subBits = 8

// bucketOf gives the bucket of a value: of those below 256 each has its own, of the
// others as many as have the first eight bits in common share one.
func bucketOf(us uint64) int {
	shift := max(bits.Len64(us)-subBits, 0)
	return shift<<(subBits-1) + int(us>>shift)
}

func (s *spread) add(ns int64) {
	if s.counts == nil {
		s.counts = make([]uint32, bucketOf(longestLatency)+1)
	}
	s.counts[bucketOf(min(uint64(ns)/1000, longestLatency))]++
	s.n++
	s.sum += ns
	if ns > s.max {
		s.max = ns
	}
}

// merge adds another's latencies.
func (s *spread) merge(o *spread) {
	if o.counts == nil {
		return
	}
	if s.counts == nil {
		s.counts = make([]uint32, len(o.counts))
	}
	for i, n := range o.counts {
		s.counts[i] += n
	}
	s.n += o.n
	s.sum += o.sum
	s.max = max(s.max, o.max)
}

// histogram hands the counts to the library.
func (s *spread) histogram() *hdrhistogram.Histogram {
	h := hdrhistogram.New(1, longestLatency, 2)
	counts := h.Export().Counts
	for i, n := range s.counts {
		counts[i] = int64(n)
	}
	return hdrhistogram.Import(&hdrhistogram.Snapshot{LowestTrackableValue: 1, HighestTrackableValue: longestLatency, SignificantFigures: 2, Counts: counts})
}

func (s *spread) latency() Latency {
	if s.n == 0 {
		return Latency{}
	}
	top, hist := float64(s.max)/1e9, s.histogram()
	q := func(p float64) float64 { return min(float64(hist.ValueAtQuantile(p))/1e6, top) }
	return Latency{
		Mean: float64(s.sum) / float64(s.n) / 1e9,
		P50:  q(50), P90: q(90), P95: q(95), P99: q(99), P999: q(99.9), Max: top,
	}
}

// sketch is a small histogram for one row of the timeline: sixteen steps an
// octave, so that a percentile is right to about 3 per cent.
type sketch [sketchSize]uint32

const (
	sketchSteps = 16
	sketchSize  = 36 * sketchSteps // from 1 microsecond to beyond 9 hours
)

func (s *sketch) add(ns int64) {
	us := uint64(max(ns/1000, 1))
	octave := bits.Len64(us) - 1
	step := int(us<<(63-octave)>>59) & (sketchSteps - 1)
	s[min(octave*sketchSteps+step, sketchSize-1)]++
}

// quantile gives the upper edge, in seconds, of the step in which the share p
// of all values is reached.
func (s *sketch) quantile(p float64) float64 {
	total := uint64(0)
	for _, n := range s {
		total += uint64(n)
	}
	if total == 0 {
		return 0
	}
	want := uint64(math.Ceil(p * float64(total)))
	seen := uint64(0)
	for i, n := range s {
		if seen += uint64(n); seen >= want {
			edge := math.Ldexp(1+float64(i%sketchSteps+1)/sketchSteps, i/sketchSteps)
			return math.Round(edge) / 1e6
		}
	}
	return 0
}

// maxRows bounds the timeline; when it is reached buckets double.
const maxRows = 2048

// timeline counts what happens bucket by bucket.
type timeline struct {
	width    tick.Time
	backends int // of all upstreams
	rows     []row
	end      tick.Time // of the bucket under way
	last     *row      // that of the bucket under way
}

type row struct {
	answered, failed int64
	latency          *sketch
	requests, open   []int32 // by backend
}

func newTimeline(backends int) *timeline {
	return &timeline{width: 1e9, backends: backends}
}

// at gives the row of a moment, making those in between.
func (t *timeline) at(now tick.Time, open []int32) *row {
	if now < t.end {
		return t.last
	}
	return t.grow(now, open)
}

func (t *timeline) grow(now tick.Time, open []int32) *row {
	for now >= t.end {
		if n := len(t.rows); n > 0 {
			copy(t.rows[n-1].open, open)
		}
		if len(t.rows) == maxRows {
			t.double()
			continue
		}
		t.rows = append(t.rows, row{requests: make([]int32, t.backends), open: make([]int32, t.backends)})
		t.end += t.width
	}
	t.last = &t.rows[len(t.rows)-1]
	return t.last
}

// double joins rows two by two.
func (t *timeline) double() {
	half := t.rows[:0]
	for i := 0; i < len(t.rows); i += 2 {
		a := t.rows[i]
		if i+1 < len(t.rows) {
			b := t.rows[i+1]
			a.answered += b.answered
			a.failed += b.failed
			a.latency = join(a.latency, b.latency)
			for k := range a.requests {
				a.requests[k] += b.requests[k]
				a.open[k] = b.open[k]
			}
		}
		half = append(half, a)
	}
	clear(t.rows[len(half):])
	t.rows = half
	t.width *= 2
	t.end = t.width * tick.Time(len(t.rows))
}

func join(a, b *sketch) *sketch {
	if a == nil || b == nil {
		if a == nil {
			return b
		}
		return a
	}
	for i := range a {
		a[i] += b[i]
	}
	return a
}

func (r *row) answer(ns int64) {
	if r.latency == nil {
		r.latency = new(sketch)
	}
	r.latency.add(ns)
	r.answered++
}
