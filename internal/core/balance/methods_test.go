package balance

import (
	"cmp"
	"crypto/sha256"
	"fmt"
	"math"
	"slices"
	"sort"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"kestrix/internal/core/rng"
	"kestrix/internal/core/tick"
)

func client(i int) uint64 { return rng.Bits(3, uint64(i), 0, rng.Who) }

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
			before[i] = p.Pick(&Query{Key: client(i)})
			counts[before[i]]++
		}
		for s, n := range counts {
			assert.InEpsilon(t, keys/5, n, c.shareWithin, "%s: slot %d", c.name, s)
		}
		p.Set(2, "b2", 0)
		moved := 0
		for i := range before {
			if p.Pick(&Query{Key: client(i)}) == before[i] {
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
		p := named("hash/ring").New(Options{Seed: 1, Bound: bound})
		weights := []float64{1, 1, 2, 4}
		for i, w := range weights {
			p.Set(i, string(rune('a'+i)), w)
		}
		open := make([]float64, 4)
		total := 0.0
		for i := range 4000 {
			s := p.Pick(&Query{Key: client(i % 7)}) // few keys, which would fall on few backends
			p.Begun(s)
			open[s]++
			total++
			assert.LessOrEqual(t, open[s], math.Ceil(bound*total*weights[s]/8)+1e-9, "bound %g after %d", bound, i)
			if i%3 == 0 {
				for s := range open {
					if open[s] > 0 {
						open[s]--
						total--
						p.Ended(s, End{})
						break
					}
				}
			}
		}
	}
	free, bounded := filled("hash/ring", 1, 1, 1, 1), named("hash/ring").New(Options{Seed: 1, Bound: 1.5})
	for i := range 3 {
		bounded.Set(i, []string{"b0", "b1", "b2"}[i], 1)
	}
	for i := range 100 {
		assert.Equal(t, free.Pick(&Query{Key: client(i)}), bounded.Pick(&Query{Key: client(i)}), "with nothing open the bound changes nothing")
	}
}

// With n requests open on n backends the fullest has about ln n / ln ln n of
// them when drawn, and about ln ln n / ln 2 with two choices.
func TestTwoChoicesAreNearlyEven(t *testing.T) {
	const n = 1000
	fullest := func(name string) int {
		p := named(name).New(Options{Seed: 1})
		for i := range n {
			p.Set(i, "", 1)
		}
		open := make([]int, n)
		most := 0
		for i := range n {
			s := p.Pick(&Query{Random: rng.Bits(5, uint64(i), 1, rng.Pick)})
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
	takes := []time.Duration{20 * time.Millisecond, 20 * time.Millisecond, 400 * time.Millisecond}
	now := tick.Time(0)
	one := func(how func(s int) End) int {
		now = now.Add(100 * time.Millisecond)
		s := p.Pick(&Query{Now: now})
		p.Begun(s)
		p.Ended(s, how(s))
		return s
	}
	serve := func(n int) []int {
		counts := make([]int, 3)
		for range n {
			counts[one(func(s int) End { return End{now, takes[s], Answered} })]++
		}
		return counts
	}
	counts := serve(300)
	assert.Less(t, counts[2], 15, "the slow one is tried now and then: %v", counts)
	assert.Positive(t, counts[2])
	takes[2] = 5 * time.Millisecond
	serve(300)
	assert.Greater(t, serve(300)[2], 150, "it has become fast, and that is found out")
	for range 20 {
		one(func(s int) End {
			if s == 2 {
				return End{now, time.Millisecond, Failed}
			}
			return End{now, time.Millisecond, Answered}
		})
	}
	assert.NotEqual(t, 2, p.Pick(&Query{Now: now}), "failing fast is not taken for being fast")

	// Requests in flight count; what was not timed shows nothing; a client that left
	// shows that it would have taken longer, never that it is fast.
	both := func(how Ending, took time.Duration) Picker {
		p := filled("least-latency", 1, 1, 1)
		for s := range 2 {
			p.Begun(s)
			p.Ended(s, End{now, 10 * time.Millisecond, Answered})
		}
		p.Begun(0)
		p.Ended(0, End{now, took, how})
		return p
	}
	p = both(Untimed, time.Hour)
	first := p.Pick(&Query{Now: now})
	p.Begun(first)
	assert.NotEqual(t, first, p.Pick(&Query{Now: now}))
	p = both(Abandoned, time.Microsecond)
	p.Begun(1)
	assert.Equal(t, 0, p.Pick(&Query{Now: now}), "no slower, and no faster")
	assert.Equal(t, 1, both(Abandoned, time.Second).Pick(&Query{Now: now}), "at least a second")
	assert.Equal(t, 1, both(Failed, 0).Pick(&Query{Now: now}), "the price of a failure")

	// A newcomer gets one request, and counts as the mean of the others until it has
	// answered.
	p = both(Untimed, 0)
	p.Set(2, "new", 1)
	require.Equal(t, 2, p.Pick(&Query{Now: now}))
	p.Begun(2)
	assert.NotEqual(t, 2, p.Pick(&Query{Now: now}), "it has one in flight, and the others none")
	p.Begun(0)
	p.Begun(0)
	p.Begun(1)
	p.Begun(1)
	assert.Equal(t, 2, p.Pick(&Query{Now: now}), "two of mean latency cost less than three")

	// While nobody has answered, those whose first requests are under way get the others, and not
	// those that fail at once.
	p = filled("least-latency", 1, 1, 1, 1, 1)
	failed := 0
	for range 100 {
		s := p.Pick(&Query{Now: now})
		p.Begun(s)
		if s >= 2 {
			failed++
			p.Ended(s, End{now, 0, Failed})
		}
	}
	assert.Equal(t, 2, failed, "one each, to find out")

	// An end that is reported late does not turn time back, and what is forgotten over a
	// long time does not overflow.
	p = filled("least-latency", 1, 1, 1)
	end := func(s int, at tick.Time, took time.Duration) {
		p.Begun(s)
		p.Ended(s, End{at, took, Answered})
	}
	end(0, now, 10*time.Millisecond)
	later := now.Add(4000 * time.Second)
	end(0, later, time.Millisecond)
	end(1, later, 5*time.Millisecond)
	end(0, later.Add(-time.Second), time.Microsecond)
	assert.Equal(t, 0, p.Pick(&Query{Now: later}))
}

func TestFirstFitFillsInOrder(t *testing.T) {
	p := filled("first-fit", 1, 1, 5, 1)
	p.(Orderer).Order([]int32{2, 0, 1})
	var got []int
	for range 4 {
		s := p.Pick(&Query{})
		got = append(got, s)
		if s >= 0 {
			p.SetFull(s, true)
		}
	}
	assert.Equal(t, []int{2, 0, 1, -1}, got)
}

// TestBitsetsFindTheNext compares them with looking at each number.
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

// TestTheRingGoesRoundTheCircle compares the ring with going from point to point: few
// backends and many, of unlike weights, with and without a bound, full and tried ones,
// keys at points and next to them, and points that stand close together.
func TestTheRingGoesRoundTheCircle(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		r := ring.New(Options{Bound: rapid.SampledFrom([]float64{0, 0, 1.1, 2}).Draw(t, "bound")}).(*ringPicker)
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
			r.indexPoints()
		}
		for slot := range n {
			r.SetFull(slot, rapid.IntRange(0, 9).Draw(t, "full") == 0)
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
			if got := r.Pick(&q); got != want {
				t.Fatalf("%d points, key %x: %d, not %d", len(r.points), q.Key, got, want)
			}
		}
	})
}

// TestModuloTakesFractionalWeights: as in a slow start, where a tenth of the weight is a
// tenth of the keys.
func TestModuloTakesFractionalWeights(t *testing.T) {
	counts := serve(filled("hash/modulo", 1, 1, 0.1), 22000, 2)
	assert.InDelta(t, 2000, counts[1], 200)
	counts = serve(filled("hash/modulo", 1, 2.5, 2.5), 2000, 2)
	assert.InDelta(t, 1000, counts[1], 100)
}

// TestLeastLatencyOfMany: of more than it looks at one by one, it looks at two, and takes
// the faster; weights count for those that have not answered as well.
func TestLeastLatencyOfMany(t *testing.T) {
	p := filled("least-latency", 1, slices.Repeat([]float64{1}, 40)...)
	now, fast := tick.Time(0), 0
	for i := range 4000 {
		now = now.Add(10 * time.Millisecond)
		s := p.Pick(&Query{Now: now, Random: rng.Bits(7, uint64(i), 1, rng.Pick)})
		took := 10 * time.Millisecond
		if s%2 == 1 {
			took = 100 * time.Millisecond
		}
		if i >= 1000 && s%2 == 0 {
			fast++
		}
		p.Begun(s)
		p.Ended(s, End{now, took, Answered})
	}
	assert.InDelta(t, 3000*0.75, fast, 300, "three of four pairs have a fast one")

	p = filled("least-latency", 1, 1, 4, 2)
	for s := range 3 {
		p.Begun(s)
		if s != 1 {
			p.Ended(s, End{now, 10 * time.Millisecond, Answered})
		}
	}
	p.Begun(0)
	p.Begun(2)
	assert.Equal(t, 1, p.Pick(&Query{Now: now}), "it has one in flight as the others, four times the weight, and no answer yet")
	p.Ended(1, End{now, 10 * time.Millisecond, Answered})
	p.Begun(1)
	assert.Equal(t, 1, p.Pick(&Query{Now: now}), "all are as fast now, and it still has four times the weight")
}

// TestHashesStayWhatTheyAre: which backend has a key must not change from version to
// version, or an upgrade would move every client.
func TestHashesStayWhatTheyAre(t *testing.T) {
	sums := map[string]string{}
	for name, want := range map[string]string{
		"hash/ring": "333031343234203011231002321013211002330203121420013331114102", "hash/rendezvous": "411013200130011033322313241131133022310013013324134133003134", "hash/modulo": "000233313333403110034332130322133401333033242441113223333410",
	} {
		p := filled(name, 1, 1, 2, 1, 3, 1)
		got := ""
		for i := range 3000 {
			got += fmt.Sprint(p.Pick(&Query{Key: client(i)}))
		}
		assert.Equal(t, want, got[:60], name)
		sums[name] = fmt.Sprintf("%x", sha256.Sum256([]byte(got)))[:8]
	}
	assert.Equal(t, map[string]string{"hash/ring": "4dd1d7fc", "hash/rendezvous": "98399daf", "hash/modulo": "b0d647f5"}, sums)
}
