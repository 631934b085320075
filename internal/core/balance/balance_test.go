package balance

import (
	"fmt"
	"math"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"kestrix/internal/core/rng"
)

// named returns an algorithm; methods of hash are written hash/METHOD.
func named(name string) *Algorithm {
	base, method, _ := strings.Cut(name, "/")
	return Lookup(base, method)
}

// names returns the names of all algorithms, as named takes them.
func names() []string {
	var out []string
	for _, a := range Algorithms {
		name := a.Name
		if a.Hash {
			name = "hash/" + name
		}
		out = append(out, name)
	}
	return out
}

func filled(name string, seed uint64, weights ...float64) Picker {
	p := named(name).New(Options{Seed: seed})
	for i, w := range weights {
		p.Set(i, fmt.Sprintf("b%d", i), w)
	}
	return p
}

// serve sends requests that end before the next begins and counts who got them.
func serve(p Picker, n, slots int, tried ...int32) []int {
	counts := make([]int, slots)
	for i := range n {
		q := Query{Random: rng.Bits(7, uint64(i), 1, rng.Pick), Key: rng.Bits(9, uint64(i), 0, rng.Who), Tried: tried}
		s := p.Pick(&q)
		if s < 0 {
			continue
		}
		counts[s]++
		p.Begun(s)
		p.Ended(s, End{})
	}
	return counts
}

// TestTheContract is what every algorithm promises.
func TestTheContract(t *testing.T) {
	for _, name := range names() {
		t.Run(name, func(t *testing.T) {
			t.Run("nobody", func(t *testing.T) {
				assert.Equal(t, -1, filled(name, 1).Pick(&Query{}))
				assert.Equal(t, -1, filled(name, 1, 0, 0).Pick(&Query{}))
			})
			t.Run("never one that is out or skipped", func(t *testing.T) {
				rapid.Check(t, func(t *rapid.T) { neverOut(t, name) })
			})
			t.Run("same seed, same choices", func(t *testing.T) {
				a, b := filled(name, 3, 1, 2, 3, 4), filled(name, 3, 1, 2, 3, 4)
				for i := range 1000 {
					q := Query{Random: rng.Bits(1, uint64(i), 1, rng.Pick), Key: uint64(i) * 0x9e3779b97f4a7c15}
					require.Equal(t, a.Pick(&q), b.Pick(&q), "choice %d", i)
				}
			})
			t.Run("weights are obeyed", func(t *testing.T) {
				if named(name).Unweighted {
					t.Skip("weights do not apply to it")
				}
				weights := []float64{1, 2, 3, 0, 4}
				counts := serve(filled(name, 5, weights...), 20000, 5)
				assert.Zero(t, counts[3], "weight 0 gets nothing")
				for i, w := range weights {
					// The ring's share spreads by about 8 per cent per backend.
					assert.InDelta(t, w/10, float64(counts[i])/20000, 0.035, "slot %d of %v", i, counts)
				}
			})
			t.Run("ties are not won by list order", func(t *testing.T) {
				if named(name).Ordered {
					t.Skip("list order is what it is for")
				}
				firsts := map[int]bool{}
				for seed := range uint64(40) {
					q := Query{Random: rng.Bits(seed, 0, 1, rng.Pick), Key: rng.Bits(seed, 0, 0, rng.Who)}
					firsts[filled(name, seed, 1, 1, 1).Pick(&q)] = true
				}
				assert.Len(t, firsts, 3, "each of three equals comes first under some seed")
			})
			t.Run("one that returns is taken again", func(t *testing.T) {
				if named(name).Ordered {
					t.Skip("the first takes all that it may")
				}
				p := filled(name, 2, 1, 1, 1)
				serve(p, 300, 3)
				p.Set(1, "b1", 0)
				assert.Zero(t, serve(p, 3000, 3)[1])
				p.Set(1, "b1", 1)
				counts := serve(p, 3000, 3)
				assert.InDelta(t, 1000, counts[1], 250, "%v: neither flooded nor starved", counts)
			})
			t.Run("a choice allocates nothing", func(t *testing.T) {
				p := filled(name, 2, 1, 1, 1, 2)
				q := Query{Tried: []int32{1}}
				p.Pick(&q)
				assert.Zero(t, testing.AllocsPerRun(100, func() {
					q.Random++
					q.Key += 0x9e3779b97f4a7c15
					s := p.Pick(&q)
					p.Begun(s)
					p.Ended(s, End{})
				}))
			})
		})
	}
}

// neverOut changes weights, marks slots full and tried, and begins and ends
// requests at random.
func neverOut(t *rapid.T, name string) {
	n := rapid.IntRange(1, 24).Draw(t, "n")
	p := named(name).New(Options{Seed: rapid.Uint64().Draw(t, "seed")})
	weights, full, set := make([]float64, n), make([]bool, n), make([]bool, n)
	var open []int
	for step := range rapid.IntRange(1, 60).Draw(t, "steps") {
		slot := rapid.IntRange(0, n-1).Draw(t, "slot")
		if rapid.Bool().Draw(t, "change") || step == 0 {
			weights[slot] = float64(rapid.IntRange(0, 5).Draw(t, "weight"))
			p.Set(slot, fmt.Sprintf("b%d", slot), weights[slot])
			for i := range slot + 1 {
				set[i] = true // slots are numbers without gaps
			}
			continue
		}
		full[slot] = set[slot] && rapid.Bool().Draw(t, "full")
		if set[slot] {
			p.SetFull(slot, full[slot])
		}
		var tried []int32
		// One that was tried may stand in another group, unknown to this one.
		tried = append(tried, int32(rapid.IntRange(0, n+40).Draw(t, "tried")))
		possible := false
		for i, w := range weights {
			possible = possible || w > 0 && !full[i] && !slices.Contains(tried, int32(i))
		}
		got := p.Pick(&Query{Random: rapid.Uint64().Draw(t, "draw"), Key: rapid.Uint64().Draw(t, "key"), Tried: tried})
		if possible != (got >= 0) {
			t.Fatalf("possible %v, got %d with weights %v, full %v, tried %v", possible, got, weights, full, tried)
		}
		if got < 0 {
			continue
		}
		if weights[got] <= 0 || full[got] || slices.Contains(tried, int32(got)) {
			t.Fatalf("slot %d is out: weights %v, full %v, tried %v", got, weights, full, tried)
		}
		p.Begun(got)
		if open = append(open, got); len(open) > 3 {
			p.Ended(open[0], End{})
			open = open[1:]
		}
	}
}

func TestRoundRobinGivesEachWeightItsExactCountInEveryCycle(t *testing.T) {
	for _, weights := range [][]float64{{1, 1, 1}, {5, 1, 1}, {3, 2, 5}, {100, 50, 25, 25}, {7}, {1000, 1}} {
		p := filled("round-robin", 11, weights...)
		sum, common := 0, 0
		for _, w := range weights {
			sum += int(w)
			common = gcd(common, int(w))
		}
		for range 3 {
			counts := serve(p, sum/common, len(weights))
			for i, w := range weights {
				assert.Equal(t, int(w)/common, counts[i], "weights %v", weights)
			}
		}
	}
}

func TestRoundRobinIsSmooth(t *testing.T) {
	p := filled("round-robin", 4, 5, 1, 1)
	run, longest, last := 0, 0, -1
	for range 70 {
		s := p.Pick(&Query{})
		if s == last {
			run++
		} else {
			run = 1
		}
		last = s
		longest = max(longest, run)
	}
	assert.LessOrEqual(t, longest, 4, "the heavy one is spread over the cycle")
	even := filled("round-robin", 4, 1, 1, 1, 1)
	for i := range 40 {
		a := even.Pick(&Query{})
		if i%4 == 3 {
			assert.GreaterOrEqual(t, a, 0)
		}
	}
	assert.Equal(t, []int{10, 10, 10, 10}, serve(even, 40, 4))
}

func TestRoundRobinTakesLargeAndFractionalWeights(t *testing.T) {
	counts := serve(filled("round-robin", 1, 9973, 9967, 9949, 9941), 40000, 4)
	for _, c := range counts {
		assert.InDelta(t, 10000, c, 50)
	}
	p := filled("round-robin", 1, 32749, 32719, 32717, 1)
	p.Pick(&Query{})
	assert.LessOrEqual(t, len(p.(*rotation).cycle), longestCycle, "whatever the weights, the cycle has room")
	assert.Greater(t, len(p.(*rotation).cycle), longestCycle/2)
	counts = serve(filled("round-robin", 1, 1, 0.1), 11000, 2)
	assert.InDelta(t, 1000, counts[1], 20, "a tenth of the weight, a tenth of the requests")
}

// TestEveryAlgorithmIsDescribed: what is missing from a value in the table would be
// missing from the reference, why and the advice.
func TestEveryAlgorithmIsDescribed(t *testing.T) {
	for _, a := range Algorithms {
		assert.NotEmpty(t, a.Doc, "%s: Doc", a.Name)
		assert.NotEmpty(t, a.Why, "%s: Why", a.Name)
		assert.NotEmpty(t, a.Wrong, "%s: Wrong", a.Name)
		require.NotNil(t, a.New, "%s: New", a.Name)
		_, ordered := a.New(Options{}).(Orderer)
		assert.Equal(t, a.Ordered, ordered, "%s: Ordered, and a picker that takes an order", a.Name)
	}
	for _, name := range names() {
		// An algorithm that says that it uses no random bits chooses alike without.
		a, b := filled(name, 3, 1, 2, 3, 4), filled(name, 3, 1, 2, 3, 4)
		same := true
		for i := range 200 {
			x, y := Query{Key: uint64(i) << 56, Random: rng.Bits(1, uint64(i), 1, rng.Pick)}, Query{Key: uint64(i) << 56}
			same = same && a.Pick(&x) == b.Pick(&y)
		}
		if !named(name).Random {
			assert.True(t, same, "%s uses Query.Random without saying so", name)
		}
	}
	assert.Nil(t, Lookup("hash", "round-robin"))
	assert.Nil(t, Lookup("ring", ""))
}

// TestLeastConnectionsTakesTheLeastLoaded compares it with looking at each slot.
func TestLeastConnectionsTakesTheLeastLoaded(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		n := rapid.IntRange(1, 40).Draw(t, "n")
		p := leastConnections.New(Options{Seed: rapid.Uint64().Draw(t, "seed")}).(*leastConnectionsPicker)
		weigh := rapid.SampledFrom([]*rapid.Generator[float64]{
			rapid.SampledFrom([]float64{0, 3}),
			rapid.SampledFrom([]float64{0, 1, 2, 3, 4, 5}),
			rapid.SampledFrom([]float64{0, 0.5, 1, 2.25, 9973, 10000}),
		}).Draw(t, "weights")
		set := func(slot int) { p.Set(slot, fmt.Sprint(slot), weigh.Draw(t, "weight")) }
		for slot := range n {
			set(slot)
		}
		open := make([]int, n)
		if rapid.Bool().Draw(t, "long") {
			p.now = rebaseAt - 1 // turns are soon counted from 0 again
			for i := range p.at {
				p.at[i] += p.now
			}
			p.dirty = true
		}
		for range rapid.IntRange(1, 80).Draw(t, "steps") {
			slot := rapid.IntRange(0, n-1).Draw(t, "slot")
			switch rapid.IntRange(0, 9).Draw(t, "what") {
			case 0:
				set(slot)
			case 1:
				p.SetFull(slot, rapid.Bool().Draw(t, "full"))
			case 2, 3, 4:
				if open[slot] > 0 {
					open[slot]--
					p.Ended(slot, End{})
				}
			default:
				got := p.Pick(&Query{})
				for i := range n {
					if got < 0 || !p.may(i) {
						require.False(t, got < 0 && p.may(i), "%d may be chosen", i)
						continue
					}
					load, least := float64(open[i])/p.weight[i], float64(open[got])/p.weight[got]
					before := p.due(i) < p.due(got) || p.due(i) == p.due(got) && p.rank[i] < p.rank[got]
					require.False(t, load < least || load == least && before, "%d rather than %d", i, got)
				}
				if got >= 0 {
					open[got]++
					p.Begun(got)
				}
			}
		}
	})
}

// TestTiesGoByTurns: idle equals get equal parts, and one that was slow or away
// catches up by a few requests, not by all that it missed.
func TestTiesGoByTurns(t *testing.T) {
	for _, name := range []string{"least-connections", "two-choices"} {
		counts := serve(filled(name, 5, 1, 1, 1), 3000, 3)
		for _, n := range counts {
			assert.InDelta(t, 1000, n, 15, "%s: idle equals within 1.5 %% after 1,000 each: %v", name, counts)
		}
		p := filled(name, 5, 2, 2, 2)
		slow := p.Pick(&Query{})
		p.Begun(slow) // one request of three seconds, while 300 others come and go
		for i := range 300 {
			s := p.Pick(&Query{Random: rng.Bits(7, uint64(i), 1, rng.Pick)})
			p.Begun(s)
			p.Ended(s, End{})
		}
		p.Ended(slow, End{})
		row := 0
		for i := 0; ; i++ {
			s := p.Pick(&Query{Random: rng.Bits(8, uint64(i), 1, rng.Pick)})
			p.Begun(s)
			p.Ended(s, End{})
			if s != slow {
				break
			}
			row++
		}
		assert.LessOrEqual(t, row, 5, "%s: it is not herded upon", name)
		p.Set(slow, "b", 0)
		serve(p, 3000, 3)
		p.Set(slow, "b", 2)
		counts = serve(p, 300, 3)
		assert.InDelta(t, 100, counts[slow], 12, "%s: one that returns gets its share: %v", name, counts)
	}
}

// TestTurnsAreCountedAnew: after so many that floating point would no longer keep them
// apart, who joins then joins as at the beginning.
func TestTurnsAreCountedAnew(t *testing.T) {
	var seen [2]string
	for i := range seen {
		var x turns
		x.set(0, 0, 1)
		x.set(1, 0, 1)
		next := func(slots int) int {
			s := 0
			for k := 1; k < slots; k++ {
				if x.due(k) < x.due(s) {
					s = k
				}
			}
			return s
		}
		rebased := false
		for n := 0; n < 1000 || i == 1 && (!rebased || n%2 == 1); n++ {
			s := next(2)
			rebased = x.take(s) || rebased
			require.Equal(t, n%2, s)
		}
		x.set(2, 0, 1)
		for range 12 {
			s := next(3)
			x.take(s)
			seen[i] += fmt.Sprint(s)
		}
	}
	assert.Equal(t, seen[0], seen[1])
}

// TestRetriesMoveNoTurn: of two backends with one dead every second request meets it,
// however often it is tried again.
func TestRetriesMoveNoTurn(t *testing.T) {
	p := filled("round-robin", 2, 1, 1)
	met := 0
	for range 100 {
		s := p.Pick(&Query{})
		if s == 0 {
			met++
			assert.Equal(t, 1, p.Pick(&Query{Retry: true, Tried: []int32{0}}))
		}
	}
	assert.Equal(t, 50, met)
	p = filled("round-robin", 2, 1, 1, 1)
	retries := map[int]int{}
	for range 30 {
		retries[p.Pick(&Query{Retry: true, Tried: []int32{0}})]++
	}
	assert.Equal(t, map[int]int{1: 15, 2: 15}, retries, "retries go round by themselves")
}

func TestRandomFollowsWeightsWithSomeSkipped(t *testing.T) {
	p := filled("random", 1, 1, 2, 3, 4)
	p.SetFull(3, true)
	counts := serve(p, 40000, 4)
	assert.Zero(t, counts[3])
	for i, want := range []float64{1.0 / 6, 2.0 / 6, 3.0 / 6} {
		// Four standard deviations of a binomial share.
		assert.InDelta(t, want, float64(counts[i])/40000, 4*math.Sqrt(want*(1-want)/40000))
	}
}

func TestTheRingMovesOnlyTheLeaversKeys(t *testing.T) {
	const keys = 20000
	p := filled("hash/ring", 1, 1, 1, 1, 1, 1)
	before := make([]int, keys)
	for i := range before {
		before[i] = p.Pick(&Query{Key: rng.Bits(3, uint64(i), 0, rng.Who)})
	}
	p.Set(2, "b2", 0)
	moved := 0
	for i := range before {
		now := p.Pick(&Query{Key: rng.Bits(3, uint64(i), 0, rng.Who)})
		if now != before[i] {
			moved++
			require.Equal(t, 2, before[i], "a key of another backend moved")
		}
	}
	assert.InDelta(t, 0.2, float64(moved)/keys, 0.05)
	p.Set(2, "b2", 1)
	for i := range before {
		require.Equal(t, before[i], p.Pick(&Query{Key: rng.Bits(3, uint64(i), 0, rng.Who)}), "everything is as before")
	}
	// A skipped backend's keys go where they would if it were out.
	tried := []int32{2}
	p2 := filled("hash/ring", 1, 1, 1, 0, 1, 1)
	for i := range 1000 {
		key := rng.Bits(3, uint64(i), 0, rng.Who)
		assert.Equal(t, p2.Pick(&Query{Key: key}), p.Pick(&Query{Key: key, Tried: tried}))
	}
}
