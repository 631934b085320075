package study

import (
	"cmp"
	"math"
	"math/bits"
	"slices"

	"kestrix/internal/core/rng"
)

// level is the share of comparisons of equals that may tell some of them apart.
const level = 0.05

// fewestSeeds returns with how many seeds so many tests can tell anything apart at all: the
// least p that so many pairs of results can have still stays below the level after Holm's
// correction for the number of tests; but at least 10.
func fewestSeeds(tests int) int {
	return max(10, int(math.Ceil(math.Log2(2/level*float64(max(tests, 1))))))
}

// mostExact is up to how many differences all their signs are tried.
const mostExact = 18

// signFlip returns the two-sided p value of a paired permutation test by sign flips (Fisher:
// The Design of Experiments, 1935, section 21): the share of all ways to give the
// differences other signs in which their sum is as far from 0 as it is. Of more than 18
// differences it draws so many ways, keyed by their number alone, and counts the observed
// one among them. 1 for differences that are all 0.
func signFlip(differences []float64, draws int) float64 {
	observed, scale := 0.0, 0.0
	var moving []float64 // 0 has no sign
	for _, d := range differences {
		if d != 0 {
			moving = append(moving, d)
			observed += d
			scale += math.Abs(d)
		}
	}
	n := len(moving)
	if n == 0 {
		return 1
	}
	far := math.Abs(observed) - 1e-9*scale // of sums that differ by rounding alone
	if n > mostExact {
		hits := 1
		for k := range draws {
			sum, signs := 0.0, uint64(0)
			for i, d := range moving {
				if i%64 == 0 {
					signs = rng.Bits(uint64(n), uint64(k), uint64(i/64), rng.Signs)
				}
				sum += math.Copysign(1, float64(signs&1)-0.5) * d
				signs >>= 1
			}
			if math.Abs(sum) >= far {
				hits++
			}
		}
		return float64(hits) / float64(draws+1)
	}
	// Half of all ways, the other half mirrors them: one sign turns from each to the next,
	// in the order of a Gray code.
	sum, hits := observed, 0
	for k := range uint64(1) << (n - 1) {
		if k > 0 {
			i := bits.TrailingZeros64(k)
			sum -= 2 * moving[i]
			moving[i] = -moving[i]
		}
		if math.Abs(sum) >= far {
			hits++
		}
	}
	return float64(hits) / float64(uint64(1)<<(n-1))
}

// holm corrects p values for their number (Holm: A simple sequentially rejective multiple
// test procedure, 1979), in place: what is at most the level then is told apart.
func holm(p []float64) {
	order := make([]int, len(p))
	for i := range order {
		order[i] = i
	}
	slices.SortStableFunc(order, func(a, b int) int { return cmp.Compare(p[a], p[b]) })
	least := 0.0
	for k, i := range order {
		least = max(least, min(p[i]*float64(len(p)-k), 1))
		p[i] = least
	}
}
