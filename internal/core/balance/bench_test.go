package balance

import (
	"fmt"
	"testing"

	"kestrix/internal/core/draw"
)

// BenchmarkPick chooses, begins and ends requests, of which eight a slot are open
// at a time.
func BenchmarkPick(b *testing.B) {
	for _, name := range algorithms() {
		for _, n := range []int{10, 1000} {
			b.Run(fmt.Sprintf("%s/%d", name, n), func(b *testing.B) { pickAndEnd(b, name, n) })
		}
	}
}

func pickAndEnd(b *testing.B, name string, n int) {
	p := Algorithms[name](Options{Seed: 1})
	for i := range n {
		p.Set(i, fmt.Sprint(i), 1)
	}
	timer, _ := p.(Timer)
	open := make([]int32, 0, 8*n)
	var q Query
	at := 0
	b.ReportAllocs()
	for i := range b.N {
		q.Now += 1e6
		q.Draw = draw.Bits(1, uint64(i), 1, draw.Pick)
		q.Key = q.Draw
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
		if timer != nil {
			timer.Answered(ends, q.Now, 40e6)
		} else {
			p.Ended(ends)
		}
	}
}
