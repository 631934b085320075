package balance

import (
	"cmp"
	"fmt"
	"math"
	"slices"
	"sort"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"kestrix/internal/core/draw"
	"kestrix/internal/core/tick"
)

func keyOf(i int) uint64 { return draw.Bits(3, uint64(i), 0, draw.Who) }

// What share of the keys moves when one of five backends leaves, and how even
// the shares are, is what the methods of hash differ in.
func TestMethodsOfHash(t *testing.T) {
	const keys = 50_000
	for _, c := range []struct {
		name         string
		moves, even  float64 // expected share of keys that move, and its tolerance
		shareWithin  float64
		onlyLeavers  bool
		weightsExact float64
	}{
		{"hash/ring", 0.2, 0.05, 0.25, true, 0.25},
		{"hash/rendezvous", 0.2, 0.005, 0.03, true, 0.03},
		{"hash/modulo", 0.8, 0.01, 0.03, false, 0.03},
	} {
		p := filled(c.name, 1, 1, 1, 1, 1, 1)
		before, counts := make([]int, keys), make([]float64, 5)
		for i := range before {
			before[i] = p.Pick(&Query{Key: keyOf(i)})
			counts[before[i]]++
		}
		for s, n := range counts {
			assert.InEpsilon(t, keys/5, n, c.shareWithin, "%s: slot %d", c.name, s)
		}
		p.Set(2, "b2", 0)
		moved := 0
		for i := range before {
			if p.Pick(&Query{Key: keyOf(i)}) == before[i] {
				continue
			}
			moved++
			if c.onlyLeavers {
				require.Equal(t, 2, before[i], "%s: a key of another backend moved", c.name)
			}
		}
		assert.InDelta(t, c.moves, float64(moved)/keys, c.even, c.name)
	}
}

func TestABoundedRingKeepsEverybodyBelowItsBound(t *testing.T) {
	for _, bound := range []float64{1, 1.25, 2} {
		p := Algorithms["hash/ring"](Options{Seed: 1, Bound: bound})
		weights := []float64{1, 1, 2, 4}
		for i, w := range weights {
			p.Set(i, string(rune('a'+i)), w)
		}
		open := make([]float64, 4)
		total := 0.0
		for i := range 4000 {
			s := p.Pick(&Query{Key: keyOf(i % 7)}) // few keys, which would fall on few backends
			p.Begun(s)
			open[s]++
			total++
			assert.LessOrEqual(t, open[s], math.Ceil(bound*total*weights[s]/8)+1e-9, "bound %g after %d", bound, i)
			if i%3 == 0 {
				for s := range open {
					if open[s] > 0 {
						open[s]--
						total--
						p.Ended(s)
						break
					}
				}
			}
		}
	}
	free, bounded := filled("hash/ring", 1, 1, 1, 1), Algorithms["hash/ring"](Options{Seed: 1, Bound: 1.5})
	for i := range 3 {
		bounded.Set(i, []string{"b0", "b1", "b2"}[i], 1)
	}
	for i := range 100 {
		assert.Equal(t, free.Pick(&Query{Key: keyOf(i)}), bounded.Pick(&Query{Key: keyOf(i)}), "with nothing open the bound changes nothing")
	}
}

// With n requests open on n backends the fullest has about ln n / ln ln n of
// them when drawn, and about ln ln n / ln 2 with two choices.
func TestTwoChoicesAreNearlyEven(t *testing.T) {
	const n = 1000
	fullest := func(name string) int {
		p := Algorithms[name](Options{Seed: 1})
		for i := range n {
			p.Set(i, "", 1)
		}
		open := make([]int, n)
		most := 0
		for i := range n {
			s := p.Pick(&Query{Draw: draw.Bits(5, uint64(i), 1, draw.Pick)})
			p.Begun(s)
			open[s]++
			most = max(most, open[s])
		}
		return most
	}
	assert.GreaterOrEqual(t, fullest("random"), 5)
	assert.LessOrEqual(t, fullest("two-choices"), 3)
}

func TestLeastLatencyLeavesTheSlowAloneAndTriesItAgain(t *testing.T) {
	p := filled("least-latency", 1, 1, 1, 1)
	timer := p.(Timer)
	takes := []time.Duration{20 * time.Millisecond, 20 * time.Millisecond, 400 * time.Millisecond}
	now := tick.Time(0)
	serve := func(n int) []int {
		counts := make([]int, 3)
		for range n {
			now = now.Add(100 * time.Millisecond)
			s := p.Pick(&Query{Now: now})
			counts[s]++
			p.Begun(s)
			p.Ended(s)
			timer.Took(s, now, takes[s], false)
		}
		return counts
	}
	counts := serve(300)
	assert.Less(t, counts[2], 15, "the slow one is tried now and then: %v", counts)
	assert.Positive(t, counts[2])
	takes[2] = 5 * time.Millisecond
	serve(300)
	assert.Greater(t, serve(300)[2], 150, "it has become quick, and that is found out")
	// One that fails at once is not taken for quick.
	for range 20 {
		now = now.Add(100 * time.Millisecond)
		s := p.Pick(&Query{Now: now})
		p.Begun(s)
		p.Ended(s)
		timer.Took(s, now, time.Millisecond, s == 2)
	}
	assert.NotEqual(t, 2, p.Pick(&Query{Now: now}))
	// What is open counts.
	p = filled("least-latency", 1, 1, 1)
	for s := range 2 {
		p.(Timer).Took(s, now, 10*time.Millisecond, false)
	}
	first := p.Pick(&Query{Now: now})
	p.Begun(first)
	assert.NotEqual(t, first, p.Pick(&Query{Now: now}))
	// Who tells of it late does not turn time back.
	p = filled("least-latency", 1, 1, 1)
	p.(Timer).Took(0, now, 0, false)
	p.(Timer).Took(1, now, 5*time.Millisecond, false)
	p.(Timer).Took(0, now.Add(-time.Second), time.Microsecond, false)
	assert.Zero(t, p.Pick(&Query{Now: now}))
}

// TestLeastLatencyTakesTheCheapest holds the quick way of finding it against looking
// at each in turn.
func TestLeastLatencyTakesTheCheapest(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		n := rapid.IntRange(1, FewSlots).Draw(t, "slots")
		l := newLeastLatency(Options{Seed: rapid.Uint64().Draw(t, "seed")}).(*leastLatency)
		for slot := range n {
			l.Set(slot, fmt.Sprint(slot), rapid.SampledFrom([]float64{1, 1, 2, 0}).Draw(t, "weight"))
		}
		now, open := tick.Time(0), []int{}
		for range rapid.IntRange(1, 80).Draw(t, "steps") {
			now = now.Add(rapid.SampledFrom([]time.Duration{0, time.Millisecond, time.Second, 300 * time.Second}).Draw(t, "wait"))
			got, want := l.Pick(&Query{Now: now}), -1
			for _, s := range l.members {
				if want < 0 || l.better(int(s), want, now) {
					want = int(s)
				}
			}
			require.Equal(t, want, got)
			if got >= 0 {
				l.Begun(got)
				open = append(open, got)
			}
			if len(open) > 0 && rapid.Bool().Draw(t, "ends") {
				l.Answered(open[0], now, rapid.SampledFrom([]time.Duration{0, time.Millisecond, time.Millisecond, time.Second}).Draw(t, "took"))
				open = open[1:]
			}
		}
	})
}

func TestFirstFitFillsInOrder(t *testing.T) {
	p := filled("first-fit", 1, 1, 5, 1)
	p.(Ordered).Order([]int32{2, 0, 1})
	var got []int
	for range 4 {
		s := p.Pick(&Query{})
		got = append(got, s)
		if s >= 0 {
			p.Room(s, false)
		}
	}
	assert.Equal(t, []int{2, 0, 1, -1}, got)
}

// TestBitsetsFindTheNext holds them to plain looking.
func TestBitsetsFindTheNext(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		n := rapid.SampledFrom([]int{1, 63, 64, 65, 4096, 4097, 300000}).Draw(t, "n")
		b, in := newBitset(n), map[int]bool{}
		for range rapid.IntRange(0, 40).Draw(t, "changes") {
			i := rapid.IntRange(0, n-1).Draw(t, "i")
			in[i] = rapid.Bool().Draw(t, "in")
			b.put(i, in[i])
		}
		from := rapid.IntRange(0, n).Draw(t, "from")
		want := -1
		for i, set := range in {
			if set && i >= from && (want < 0 || i < want) {
				want = i
			}
		}
		if got := b.next(from); got != want {
			t.Fatalf("the next of %d from %d on is %d, want %d", n, from, got, want)
		}
	})
}

// TestTheRingGoesRoundTheCircle holds the ring against going from point to point: few
// backends and many, of unlike weights, with and without a bound, full and tried ones,
// keys at points and beside them, and more points in an arc than it holds.
func TestTheRingGoesRoundTheCircle(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		r := newRing(Options{Bound: rapid.SampledFrom([]float64{0, 0, 1.1, 2}).Draw(t, "bound")}).(*ring)
		n := rapid.SampledFrom([]int{1, 2, 3, 40, 300}).Draw(t, "slots")
		for i := range n {
			r.Set(i, fmt.Sprint("b", i), float64(rapid.SampledFrom([]int{1, 1, 1, 0, 5, 200}).Draw(t, "weight")))
		}
		r.rebuild()
		if crowd := rapid.IntRange(0, 40).Draw(t, "crowd"); crowd > 0 && len(r.points) > 0 {
			// They stand close to each other, from a place of one on.
			from := rapid.IntRange(0, len(r.points)-1).Draw(t, "from")
			for k := range min(crowd, len(r.points)-from-1) {
				if to := r.points[from].at + uint32(k); to <= r.points[from+k+1].at {
					r.points[from+k+1].at = to
				}
			}
			slices.SortStableFunc(r.points, func(a, b point) int { return cmp.Compare(a.at, b.at) })
			r.lineUp()
		}
		for slot := range n {
			r.Room(slot, rapid.IntRange(0, 9).Draw(t, "full") > 0)
		}
		for range rapid.IntRange(0, 3*n).Draw(t, "open") {
			r.Begun(rapid.IntRange(0, n-1).Draw(t, "at"))
		}
		for range 20 {
			q := Query{Key: rapid.Uint64().Draw(t, "key")}
			if len(r.points) > 0 && rapid.Bool().Draw(t, "at a point") {
				at := int64(r.points[rapid.IntRange(0, len(r.points)-1).Draw(t, "point")].at) + int64(rapid.IntRange(-1, 1).Draw(t, "beside"))
				q.Key = uint64(uint32(at)) << 32
			}
			for range rapid.IntRange(0, 2).Draw(t, "tried") {
				q.Tried = append(q.Tried, int32(rapid.IntRange(0, n).Draw(t, "whom")))
			}
			first := sort.Search(len(r.points), func(i int) bool { return r.points[i].at >= placeOf(q.Key) })
			want, spare := -1, -1
			for k := range r.points {
				s := int(r.points[(first+k)%len(r.points)].slot)
				if r.full[s] || q.tried(s) {
					continue
				}
				if spare < 0 {
					spare = s
				}
				if !r.over(s) {
					want = s
					break
				}
			}
			if want < 0 {
				want = spare
			}
			r.Fetch([]uint64{q.Key})
			if got := r.Pick(&q); got != want {
				t.Fatalf("%d points, key %x: %d, not %d", len(r.points), q.Key, got, want)
			}
		}
	})
}
