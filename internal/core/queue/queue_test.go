package queue

import (
	"math"
	"sort"
	"testing"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"

	"kestrix/internal/core/rng"
	"kestrix/internal/core/tick"
)

// nearTheEnd has the numbers by which equal times are told apart go round.
const nearTheEnd = math.MaxUint32 - 40

// TestWhatIsDueComesInOrder holds the heap to a stable sort.
func TestWhatIsDueComesInOrder(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		h := Heap[int]{next: nearTheEnd}
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

// TestTheCalendarIsAHeap holds it to the heap, for times near and far, crowded
// and sparse, and through changes of the length of its days.
func TestTheCalendarIsAHeap(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		c, h := Calendar[int]{next: nearTheEnd}, Heap[int]{next: nearTheEnd}
		now := tick.Time(0)
		seed := rapid.Uint64().Draw(t, "seed")
		for phase := range rapid.IntRange(1, 4).Draw(t, "phases") {
			gap := rapid.SampledFrom([]int64{0, 3, 1000, 1e5, 4e7, 3e9, 1e13}).Draw(t, "gap")
			n := rapid.SampledFrom([]int{10, 100, 500, 1000, 3 * lookEvery}).Draw(t, "events")
			for i := range n {
				bits := rng.Bits(seed, uint64(i), uint64(phase), rng.Pick)
				if bits&1 == 0 || h.Len() == 0 {
					at := now + tick.Time(int64(rng.Unit(bits)*float64(gap)))
					c.Push(at, i)
					h.Push(at, i)
				} else {
					wantAt, want := h.Pop()
					if at := c.At(); at != wantAt {
						t.Fatalf("the first is due at %d, want %d", at, wantAt)
					}
					if _, got, ok := c.Take(wantAt - 1); ok {
						t.Fatalf("%d was taken before it was due", got)
					}
					if at, got, ok := c.Take(wantAt + tick.Time(bits>>60)); !ok || at != wantAt || got != want {
						t.Fatalf("took %d at %d, want %d at %d", got, at, want, wantAt)
					}
					now = wantAt
				}
				if c.Len() != h.Len() || bits&6 == 0 && c.At() != h.At() {
					t.Fatalf("%d left, the first at %d; want %d at %d", c.Len(), c.At(), h.Len(), h.At())
				}
			}
		}
		for h.Len() > 0 {
			wantAt, want := h.Pop()
			if at, got := c.Pop(); at != wantAt || got != want {
				t.Fatalf("popped %d at %d, want %d at %d", got, at, want, wantAt)
			}
		}
	})
	var empty Calendar[int]
	assert.Equal(t, tick.Never, empty.At())
	_, _, ok := empty.Take(tick.Never)
	assert.False(t, ok)
}

func TestTimesDoNotWrap(t *testing.T) {
	assert.Equal(t, tick.Never, tick.Never.Add(1))
	assert.Equal(t, tick.Time(5), tick.Time(2).Add(3))
	assert.InDelta(t, 1.5, tick.Time(1_500_000_000).Seconds(), 1e-12)
}
