package queue

import (
	"fmt"
	"testing"

	"kestrix/internal/core/rng"
	"kestrix/internal/core/tick"
)

// BenchmarkHold takes one out and puts one in, later by a random time, as an
// event loop does (the hold model; Jones: An Empirical Comparison of
// Priority-Queue and Event-Set Implementations, Communications of the ACM 29,
// 1986).
func BenchmarkHold(b *testing.B) {
	type event [2]uint64
	for _, n := range []int{80, 800, 8000} {
		later := make([]tick.Time, 1<<12)
		for i := range later {
			later[i] = tick.Time(40e6 * rng.Exponential(rng.Bits(1, uint64(i), 0, rng.Pick)))
		}
		b.Run(fmt.Sprintf("heap/%d", n), func(b *testing.B) {
			var h Heap[event]
			for i := range n {
				h.Push(later[i&(1<<12-1)], event{})
			}
			for i := range b.N {
				at, e := h.Pop()
				h.Push(at+later[i&(1<<12-1)], e)
			}
		})
		b.Run(fmt.Sprintf("calendar/%d", n), func(b *testing.B) {
			var c Calendar[event]
			for i := range n {
				c.Push(later[i&(1<<12-1)], event{})
			}
			for i := range b.N {
				at, e := c.Pop()
				c.Push(at+later[i&(1<<12-1)], e)
			}
		})
	}
}
