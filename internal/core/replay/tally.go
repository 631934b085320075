package replay

import (
	"math/bits"

	"github.com/HdrHistogram/hdrhistogram-go"
)

// spread gathers latencies: percentiles by HdrHistogram in microseconds at two
// significant digits, the mean exactly.
type spread struct {
	from uint32 // where its counts begin in the tally, once there are any
	n    int64
	sum  int64 // nanoseconds
	max  int64
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

// spreadSize is how many buckets a spread has: those up to longestLatency, whose
// first eight bits are 160 and which has 34.
const spreadSize = (34-subBits)<<(subBits-1) + 161

// tally holds the counts of all spreads, in the buckets of HdrHistogram, and has
// the library read them when it is asked. What is to be counted is gathered
// first and counted all at once: the counts of many backends lie far apart, and a
// processor fetches them side by side if it need not wait for each.
type tally struct {
	counts []uint32
	due    [512]uint32 // positions in counts
	n      int         // how many are due
}

// room makes room for the counts of a spread when it gets its first latency: most
// backends of a large configuration never answer in a short trace, and most phases
// have nothing for most upstreams.
func (t *tally) room(s *spread) {
	if s.n == 0 {
		s.from = uint32(len(t.counts))
		t.counts = append(t.counts, make([]uint32, spreadSize)...)
	}
}

// add counts a latency in two spreads, such as that of a backend and that of its
// upstream.
func (t *tally) add(a, b *spread, ns int64) {
	at := uint32(bucketOf(min(uint64(ns)/1000, longestLatency)))
	if t.n+2 > len(t.due) {
		t.flush()
	}
	t.room(a)
	t.room(b)
	t.due[t.n], t.due[t.n+1] = a.from+at, b.from+at
	t.n += 2
	a.add(ns)
	b.add(ns)
}

// one counts a latency in one spread.
func (t *tally) one(s *spread, ns int64) {
	if t.n == len(t.due) {
		t.flush()
	}
	t.room(s)
	t.due[t.n] = s.from + uint32(bucketOf(min(uint64(ns)/1000, longestLatency)))
	t.n++
	s.add(ns)
}

func (s *spread) add(ns int64) {
	s.n++
	s.sum += ns
	if ns > s.max {
		s.max = ns
	}
}

func (t *tally) flush() {
	for _, at := range t.due[:t.n] {
		t.counts[at]++
	}
	t.n = 0
}

// latency gives what is known of the latencies of all these spreads together.
func (t *tally) latency(of ...*spread) Latency {
	t.flush()
	var all spread
	hist := hdrhistogram.New(1, longestLatency, 2).Export()
	for _, s := range of {
		if s.n == 0 {
			continue
		}
		for i, n := range t.counts[s.from : s.from+spreadSize] {
			hist.Counts[i] += int64(n)
		}
		all.n += s.n
		all.sum += s.sum
		all.max = max(all.max, s.max)
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
