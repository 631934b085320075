package balance

import (
	"math"
	"slices"

	"kestrix/internal/core/queue"
	"kestrix/internal/core/rng"
	"kestrix/internal/core/tick"
)

var inTurn = Algorithm{
	Name:  "round-robin",
	Doc:   "each backend in turn, in proportion to the weights, evenly interleaved",
	Why:   "its turn by round-robin",
	Wrong: "requests take very different times, or backends are unequal and no weights say so: it does not look at requests in flight",
	New: func(o Options) Picker {
		at := rng.Bits(o.Seed, 0, 1, rng.Ordering) >> 32
		return &rotation{slots: slots{seed: o.Seed}, at: at, retryAt: at}
	},
}

// rotation goes round a cycle in which every backend stands as often as its
// weight says, spread out evenly. The cycle is laid out as stride scheduling
// does: backend i stands at (k+p)/weight for k = 0, 1, 2..., where p, its place in
// the seeded order, keeps equals apart (Waldspurger and Weihl: Stride Scheduling,
// MIT/LCS/TM-528, 1995). Every full cycle gives each weight its exact count; a
// choice costs O(1), and O(log n) while some are full.
type rotation struct {
	slots
	cycle   []int32
	where   places
	free    bitset // places of the cycle whose slots are not full
	at      uint64 // goes on over changes of the cycle, so that no slot begins favoured
	retryAt uint64 // likewise for retries, which move no first attempt's turn
}

// longestCycle bounds the memory of a cycle. Weights whose sum, after dividing
// by what they have in common, is larger are rounded to fit.
const longestCycle = 1 << 15

func (r *rotation) Pick(q *Query) int {
	if r.dirty {
		r.rebuild()
	}
	order := &r.at
	if q.Retry {
		order = &r.retryAt
	}
	n := uint64(len(r.cycle))
	if *order >= n {
		if n == 0 {
			return -1
		}
		*order %= n
	}
	at := int(*order)
	if r.full[r.cycle[at]] {
		at = r.free.around(at)
	}
	for steps := 0; at >= 0 && steps <= len(r.cycle); steps++ {
		if s := int(r.cycle[at]); !q.tried(s) {
			*order = uint64(at) + 1
			return s
		}
		at = r.free.around(at + 1)
	}
	return -1
}

// SetFull marks a slot that can take no more requests.
func (r *rotation) SetFull(slot int, full bool) {
	r.slots.SetFull(slot, full)
	if !r.dirty {
		for _, at := range r.where.of(slot) {
			r.free.put(int(at), !full)
		}
	}
}

func (r *rotation) rebuild() {
	r.dirty = false
	in := r.in()
	// Equal ones stand in the seeded order.
	slices.SortFunc(in, func(a, b int32) int {
		if r.rank[a] < r.rank[b] {
			return -1
		}
		return 1
	})
	counts := whole(r.weight, in)
	r.cycle = r.cycle[:0]
	total := 0
	for _, c := range counts {
		total += c
	}
	var due queue.Heap[int]
	const scale = 1 << 40
	place := func(i, k int) tick.Time {
		return tick.Time((float64(k) + (float64(i)+0.5)/float64(len(in))) / float64(counts[i]) * scale)
	}
	for i := range in {
		due.Push(place(i, 0), i)
	}
	given := make([]int, len(in))
	for len(r.cycle) < total {
		_, i := due.Pop()
		r.cycle = append(r.cycle, in[i])
		given[i]++
		if given[i] < counts[i] {
			due.Push(place(i, given[i]), i)
		}
	}
	r.where, r.free = placesOf(r.cycle, len(r.weight)), newBitset(len(r.cycle))
	for at, s := range r.cycle {
		r.free.put(at, !r.full[s])
	}
}

// whole turns weights into the smallest whole numbers of the same proportion,
// rounded where they would not fit into a cycle.
func whole(weight []float64, in []int32) []int {
	counts := make([]int, len(in))
	sum, exact := 0.0, true
	for _, s := range in {
		sum += weight[s]
		exact = exact && weight[s] == math.Trunc(weight[s])
	}
	common := 0
	for i, s := range in {
		if exact {
			counts[i] = int(weight[s])
			common = gcd(common, counts[i])
		} else {
			counts[i] = max(1, int(math.Round(weight[s]/sum*1000*float64(len(in)))))
			common = gcd(common, counts[i])
		}
	}
	total := 0
	for i := range counts {
		counts[i] /= common
		total += counts[i]
	}
	if total > longestCycle && len(in) < longestCycle/2 {
		for i := range counts {
			counts[i] = max(1, int(math.Round(float64(counts[i])*longestCycle/float64(total))))
		}
	}
	return counts
}

func gcd(a, b int) int {
	for b != 0 {
		a, b = b, a%b
	}
	return a
}
