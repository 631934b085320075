package balance

import (
	"math"
	"math/bits"
)

// sums selects slots in proportion to weights that change: a tree of partial sums
// (Wong and Easton: An Efficient Method for Weighted Sampling Without
// Replacement, SIAM Journal on Computing 9, 1980). A change and a choice cost
// O(log n). Weights are whole numbers of millionths, so that what is taken off
// leaves nothing behind.
type sums struct {
	tree []uint64 // tree[1] is the sum of all; leaves stand from size on
	size int
}

func newSums(n int) sums {
	s := sums{size: 1}
	for s.size < n {
		s.size *= 2
	}
	s.tree = make([]uint64, 2*s.size)
	return s
}

func (s *sums) put(slot int, weight float64) {
	i := s.size + slot
	s.tree[i] = uint64(math.Round(weight * 1e6))
	for i >>= 1; i > 0; i >>= 1 {
		s.tree[i] = s.tree[2*i] + s.tree[2*i+1]
	}
}

// find returns the slot that random bits lead to, -1 if all weigh nothing.
func (s *sums) find(random uint64) int {
	if s.tree[1] == 0 {
		return -1
	}
	x, _ := bits.Mul64(random, s.tree[1])
	i := 1
	for i < s.size {
		i *= 2
		if x >= s.tree[i] {
			x -= s.tree[i]
			i++
		}
	}
	return i - s.size
}
