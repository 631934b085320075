package replay

import (
	"math/bits"

	"github.com/HdrHistogram/hdrhistogram-go"
)

// spread gathers latencies: percentiles by HdrHistogram in microseconds at two
// significant digits, the mean exactly.
type spread struct {
	from uint32 // where its counts begin in the tally, once there are any
	due  uint32 // how many of gathered.recent have not been counted
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

// gathered is the spread of a backend. The counts of many backends lie far apart: what
// comes is noted beside the rest, one line of a cache after the other, and counted when
// there is so much that several fall on each line of the counts.
type gathered struct {
	spread
	recent [noted]uint16 // buckets
}

// noted is how much is noted before it is counted: four lines with what stands before it.
const noted = (4*64 - 32) / 2

// gather takes a latency in.
func (t *tally) gather(g *gathered, ns int64, bucket uint32) {
	if g.n == 0 {
		t.room(&g.spread)
	}
	g.add(ns)
	g.recent[g.due] = uint16(bucket)
	if g.due++; g.due == noted {
		t.settle(g)
	}
}

// settle counts what has been noted.
func (t *tally) settle(g *gathered) {
	counts := t.counts[g.from:]
	for _, at := range g.recent[:g.due] {
		counts[at]++
	}
	g.due = 0
}

// tally holds the counts of all spreads, in the buckets of HdrHistogram, and has
// the library read them when it is asked.
type tally struct {
	counts []uint32
	// What was answered at the first attempt is gathered and counted all at once,
	// see countAnswers.
	due [512]answer
	n   int // how many are due
}

// answer is one to be counted.
type answer struct {
	took   int64 // nanoseconds
	server int32
	phase  int32
}

// room makes room for the counts of a spread when it gets its first latency: most
// backends of a large configuration never answer in a short trace, and most phases
// have nothing for most upstreams.
func (t *tally) room(s *spread) {
	s.from = uint32(len(t.counts))
	t.counts = append(t.counts, make([]uint32, spreadSize)...)
}

// one counts a latency in one spread.
func (t *tally) one(s *spread, ns int64) {
	if s.n == 0 {
		t.room(s)
	}
	t.counts[s.from+bucket(uint64(ns)/1000)]++
	s.add(ns)
}

func bucket(us uint64) uint32 { return uint32(bucketOf(min(us, longestLatency))) }

// countAnswers counts what is due: for its backend, its upstream and the row of the
// timeline. Many at a time cost half of as many one at a time: the counts of many
// backends lie far apart, and a processor fetches them side by side if it need not
// wait for each.
func (e *engine) countAnswers() {
	t := &e.tally
	if t.n == 0 {
		return
	}
	row := e.timeline.last
	if row.latency == nil {
		row.latency = new(sketch)
	}
	times := row.latency
	row.answered += int64(t.n)
	e.res.Answered += int64(t.n)
	u, phase, of := e.ups[0], int32(-1), &spread{}
	var run spread // since either of them changed
	for i := range t.due[:t.n] {
		a := &t.due[i]
		if s := e.upOf[a.server]; s != u || a.phase != phase {
			u.answersOf(of, &run)
			u, phase = s, a.phase
			if of = &u.latency[phase]; of.n == 0 {
				t.room(of)
			}
			run = spread{from: of.from}
		}
		us := uint64(a.took) / 1000
		at := bucket(us)
		t.gather(&e.servers[a.server].latency, a.took, at)
		t.counts[run.from+at]++
		run.add(a.took)
		times.count(us)
	}
	u.answersOf(of, &run)
	t.n = 0
}

// answersOf adds answers that have been counted already, all in a row.
func (u *up) answersOf(of, run *spread) {
	u.answered += run.n
	of.join(run)
}

func (s *spread) add(ns int64) {
	s.n++
	s.sum += ns
	if ns > s.max {
		s.max = ns
	}
}

// join adds what another has, but for its counts.
func (s *spread) join(other *spread) {
	s.n += other.n
	s.sum += other.sum
	s.max = max(s.max, other.max)
}

// latency gives what is known of the latencies of all these spreads together.
func (t *tally) latency(of ...*spread) Latency {
	var all spread
	hist := hdrhistogram.New(1, longestLatency, 2).Export()
	for _, s := range of {
		if s.n == 0 {
			continue
		}
		for i, n := range t.counts[s.from : s.from+spreadSize] {
			hist.Counts[i] += int64(n)
		}
		all.join(s)
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
