package balance

import (
	"math"

	"github.com/cespare/xxhash/v2"

	"kestrix/internal/core/rng"
)

var rendezvous = Algorithm{
	Name: "rendezvous",
	Hash: true, Fixed: true,
	Doc:   "highest random weight: each key ranks all backends; only the keys of a backend that leaves or joins move; even shares, cost proportional to the backends",
	Why:   "the backend that ranks first for the key",
	Wrong: "a few clients make most of the requests, or there are hundreds of backends: it looks at each of them",
	New:   func(o Options) Picker { return &rendezvousPicker{slots: slots{seed: o.Seed}} },
}

// rendezvousPicker is highest random weight hashing: each key ranks all backends by a
// hash of both and takes the first (Thaler, Ravishankar: Using Name-Based
// Mappings to Increase Hit Rates, IEEE/ACM Transactions on Networking 6, 1998),
// weighted by the logarithm of the hash. A backend that leaves moves only the
// keys it had, and its share is exact but for chance; the price is that a choice
// looks at every backend, O(n).
type rendezvousPicker struct {
	slots
	hashes []uint64 // of names
}

func (r *rendezvousPicker) Set(slot int, name string, weight float64) {
	r.slots.Set(slot, name, weight)
	for len(r.hashes) < len(r.weight) {
		r.hashes = append(r.hashes, 0)
	}
	r.hashes[slot] = xxhash.Sum64String(name)
}

func (r *rendezvousPicker) Pick(q *Query) int {
	best, bestWeight, bestUnit := -1, 0.0, 0.0
	for i, w := range r.weight {
		if w <= 0 || r.full[i] || q.tried(i) {
			continue
		}
		u := rng.Unit(rng.Bits(r.hashes[i], q.Key, 0, rng.Rank))
		// Among equal weights the larger number wins, with or without a logarithm.
		if best < 0 || w == bestWeight && u > bestUnit || w != bestWeight && score(w, u) > score(bestWeight, bestUnit) {
			best, bestWeight, bestUnit = i, w, u
		}
	}
	return best
}

// score grows with the weight and with the number u from 0 to 1.
func score(w, u float64) float64 { return -w / math.Log(max(u, math.SmallestNonzeroFloat64)) }
