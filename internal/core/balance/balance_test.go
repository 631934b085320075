package balance

import (
	"fmt"
	"math"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"kestrix/internal/core/draw"
)

// names gives the algorithms in a fixed order.
func algorithms() []string {
	var out []string
	for name := range Algorithms {
		out = append(out, name)
	}
	slices.Sort(out)
	return out
}

func filled(name string, seed uint64, weights ...float64) Picker {
	p := Algorithms[name](Options{Seed: seed})
	for i, w := range weights {
		p.Set(i, fmt.Sprintf("b%d", i), w)
	}
	return p
}

// serve sends requests that end before the next begins and counts who got them.
func serve(p Picker, n, slots int, tried ...int32) []int {
	counts := make([]int, slots)
	for i := range n {
		q := Query{Draw: draw.Bits(7, uint64(i), 1, draw.Pick), Key: draw.Bits(9, uint64(i), 0, draw.Who), Tried: tried}
		s := p.Pick(&q)
		if s < 0 {
			continue
		}
		counts[s]++
		p.Begun(s)
		p.Ended(s)
	}
	return counts
}

// TestTheContract is what every algorithm promises.
func TestTheContract(t *testing.T) {
	for _, name := range algorithms() {
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
					q := Query{Draw: draw.Bits(1, uint64(i), 1, draw.Pick), Key: uint64(i) * 0x9e3779b97f4a7c15}
					require.Equal(t, a.Pick(&q), b.Pick(&q), "choice %d", i)
				}
			})
			t.Run("weights are obeyed", func(t *testing.T) {
				if name == "first-fit" {
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
				if name == "first-fit" {
					t.Skip("list order is what it is for")
				}
				firsts := map[int]bool{}
				for seed := range uint64(40) {
					q := Query{Draw: draw.Bits(seed, 0, 1, draw.Pick), Key: draw.Bits(seed, 0, 0, draw.Who)}
					firsts[filled(name, seed, 1, 1, 1).Pick(&q)] = true
				}
				assert.Len(t, firsts, 3, "each of three equals comes first under some seed")
			})
			t.Run("one that returns is taken again", func(t *testing.T) {
				if name == "first-fit" {
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
					q.Draw++
					q.Key += 0x9e3779b97f4a7c15
					s := p.Pick(&q)
					p.Begun(s)
					p.Ended(s)
				}))
			})
		})
	}
}

// neverOut changes weights, marks slots full and tried, and begins and ends
// requests at random.
func neverOut(t *rapid.T, name string) {
	n := rapid.IntRange(1, 24).Draw(t, "n")
	p := Algorithms[name](Options{Seed: rapid.Uint64().Draw(t, "seed")})
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
			p.Room(slot, !full[slot])
		}
		var tried []int32
		// One that was tried may stand in another group, unknown to this one.
		tried = append(tried, int32(rapid.IntRange(0, n+40).Draw(t, "tried")))
		possible := false
		for i, w := range weights {
			possible = possible || w > 0 && !full[i] && !slices.Contains(tried, int32(i))
		}
		got := p.Pick(&Query{Draw: rapid.Uint64().Draw(t, "draw"), Key: rapid.Uint64().Draw(t, "key"), Tried: tried})
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
			p.Ended(open[0])
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
	counts = serve(filled("round-robin", 1, 1, 0.1), 11000, 2)
	assert.InDelta(t, 1000, counts[1], 20, "a tenth of the weight, a tenth of the requests")
}

// TestLeastConnectionsTakesTheLeastLoaded holds it against looking at each slot.
func TestLeastConnectionsTakesTheLeastLoaded(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		n := rapid.IntRange(1, 40).Draw(t, "n")
		p := Algorithms["least-connections"](Options{Seed: rapid.Uint64().Draw(t, "seed")}).(*leastConnections)
		weigh := rapid.SampledFrom([]*rapid.Generator[float64]{
			rapid.SampledFrom([]float64{0, 3}), // the same for all
			rapid.SampledFrom([]float64{0, 1, 2, 3, 4, 5}),
			rapid.SampledFrom([]float64{0, 0.5, 1, 2.25, 9973, 10000}), // keys of one word do not do
		}).Draw(t, "weights")
		set := func(slot int) { p.Set(slot, fmt.Sprint(slot), weigh.Draw(t, "weight")) }
		for slot := range n {
			set(slot)
		}
		open := make([]int, n)
		p.Pick(&Query{})
		if rapid.Bool().Draw(t, "long") && p.quick {
			for i := range p.slot { // as after so many that they no longer fit
				p.packed.add(int(p.slot[i].leaf), p.packed.step(0, 1<<(loadAt-1-p.packed.bits)-9))
			}
		}
		for range rapid.IntRange(1, 80).Draw(t, "steps") {
			slot := rapid.IntRange(0, n-1).Draw(t, "slot")
			switch rapid.IntRange(0, 9).Draw(t, "what") {
			case 0:
				set(slot)
			case 1:
				p.Room(slot, rapid.Bool().Draw(t, "room"))
			case 2, 3, 4:
				if open[slot] > 0 {
					open[slot]--
					p.Ended(slot)
				}
			default:
				got := p.Pick(&Query{})
				var picked []float64
				for _, x := range p.slot {
					if p.quick {
						if p.packed.competes(int(x.leaf)) {
							x.ties = p.packed.tie(int(x.leaf))
						}
						x.picked = p.base + float64(x.ties)/float64(p.common)
					}
					picked = append(picked, x.picked)
				}
				for i := range n {
					if got < 0 || !p.may(i) {
						require.False(t, got < 0 && p.may(i), "%d may be chosen", i)
						continue
					}
					load, least := float64(open[i])/p.weight[i], float64(open[got])/p.weight[got]
					ahead := picked[i] - picked[got]
					exact := p.quick && math.Abs(ahead) < 1e-9
					require.False(t, load < least || load == least && (ahead < -1e-9 || exact && p.rank[i] < p.rank[got]), "%d rather than %d", i, got)
				}
				if got >= 0 {
					open[got]++
					p.Begun(got)
				}
			}
		}
	})
}

func TestRandomFollowsWeightsWithSomeSkipped(t *testing.T) {
	p := filled("random", 1, 1, 2, 3, 4)
	p.Room(3, false)
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
		before[i] = p.Pick(&Query{Key: draw.Bits(3, uint64(i), 0, draw.Who)})
	}
	p.Set(2, "b2", 0)
	moved := 0
	for i := range before {
		now := p.Pick(&Query{Key: draw.Bits(3, uint64(i), 0, draw.Who)})
		if now != before[i] {
			moved++
			require.Equal(t, 2, before[i], "a key of another backend moved")
		}
	}
	assert.InDelta(t, 0.2, float64(moved)/keys, 0.05)
	p.Set(2, "b2", 1)
	for i := range before {
		require.Equal(t, before[i], p.Pick(&Query{Key: draw.Bits(3, uint64(i), 0, draw.Who)}), "everything is as before")
	}
	// A skipped backend's keys go where they would if it were out.
	tried := []int32{2}
	p2 := filled("hash/ring", 1, 1, 1, 0, 1, 1)
	for i := range 1000 {
		key := draw.Bits(3, uint64(i), 0, draw.Who)
		assert.Equal(t, p2.Pick(&Query{Key: key}), p.Pick(&Query{Key: key, Tried: tried}))
	}
}
