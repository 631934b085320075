package balance

import (
	"fmt"
	"testing"

	"kestrix/internal/core/rng"
)

// BenchmarkPick chooses, begins and ends requests, of which eight a slot are open
// at a time.
func BenchmarkPick(b *testing.B) {
	for _, name := range names() {
		for _, n := range []int{10, 1000} {
			b.Run(fmt.Sprintf("%s/%d", name, n), func(b *testing.B) { pickAndEnd(b, name, n) })
		}
	}
}

func pickAndEnd(b *testing.B, name string, n int) {
	p := named(name).New(Options{Seed: 1})
	for i := range n {
		p.Set(i, fmt.Sprint(i), 1)
	}
	open := make([]int32, 0, 8*n)
	var q Query
	at := 0
	b.ReportAllocs()
	for i := range b.N {
		q.Now += 1e6
		q.Random = rng.Bits(1, uint64(i), 1, rng.Pick)
		q.Key = q.Random
		slot := p.Pick(&q)
		p.Begun(slot)
		if len(open) < cap(open) {
			open = append(open, int32(slot))
			continue
		}
		ends := int(open[at])
		open[at] = int32(slot)
		if at++; at == len(open) {
			at = 0
		}
		p.Ended(ends, End{q.Now, 40e6, Answered})
	}
}
