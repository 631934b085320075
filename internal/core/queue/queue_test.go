package queue

import (
	"sort"
	"testing"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"

	"kestrix/internal/core/tick"
)

// TestWhatIsDueComesInOrder holds the heap to a stable sort.
func TestWhatIsDueComesInOrder(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		var h Heap[int]
		type due struct {
			at tick.Time
			n  int
		}
		var model []due
		for i, at := range rapid.SliceOfN(rapid.Int64Range(0, 20), 1, 200).Draw(t, "times") {
			if at < 5 && h.Len() > 0 {
				sort.SliceStable(model, func(a, b int) bool { return model[a].at < model[b].at })
				gotAt, got := h.Pop()
				if gotAt != model[0].at || got != model[0].n {
					t.Fatalf("popped %d at %d, want %d at %d", got, gotAt, model[0].n, model[0].at)
				}
				model = model[1:]
				continue
			}
			h.Push(tick.Time(at), i)
			model = append(model, due{tick.Time(at), i})
		}
		if h.Len() != len(model) {
			t.Fatalf("%d left, want %d", h.Len(), len(model))
		}
	})
	var empty Heap[int]
	assert.Equal(t, tick.Never, empty.At())
}

func TestTimesDoNotWrap(t *testing.T) {
	assert.Equal(t, tick.Never, tick.Never.Add(1))
	assert.Equal(t, tick.Time(5), tick.Time(2).Add(3))
	assert.InDelta(t, 1.5, tick.Time(1_500_000_000).Seconds(), 1e-12)
}
