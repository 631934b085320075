package balance

import (
	"math"

	"github.com/cespare/xxhash/v2"

	"kestrix/internal/core/draw"
)

// rendezvous is highest random weight hashing: each key ranks all backends by a
// hash of both and takes the first (Thaler, Ravishankar: Using Name-Based
// Mappings to Increase Hit Rates, IEEE/ACM Transactions on Networking 6, 1998),
// weighted by the logarithm of the hash. A backend that leaves moves only the
// keys it had, and its share is exact but for chance; the price is that a choice
// looks at every backend, O(n).
type rendezvous struct {
	slots
	hashes []uint64 // of names
}

func newRendezvous(o Options) Picker { return &rendezvous{slots: slots{seed: o.Seed}} }

func (r *rendezvous) Set(slot int, name string, weight float64) {
	r.slots.Set(slot, name, weight)
	for len(r.hashes) < len(r.weight) {
		r.hashes = append(r.hashes, 0)
	}
	r.hashes[slot] = xxhash.Sum64String(name)
}

func (r *rendezvous) Pick(q *Query) int {
	best, bestWeight, bestUnit := -1, 0.0, 0.0
	for i, w := range r.weight {
		if w <= 0 || r.full[i] || q.tried(i) {
			continue
		}
		u := draw.Unit(draw.Bits(r.hashes[i], q.Key, 0, draw.Rank))
		// Among equal weights the larger number wins, with or without a logarithm.
		if best < 0 || w == bestWeight && u > bestUnit || w != bestWeight && score(w, u) > score(bestWeight, bestUnit) {
			best, bestWeight, bestUnit = i, w, u
		}
	}
	return best
}

// score grows with the weight and with the number u drawn from 0 to 1.
func score(w, u float64) float64 { return -w / math.Log(max(u, math.SmallestNonzeroFloat64)) }
