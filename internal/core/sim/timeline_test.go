package sim

import (
	"testing"
	"time"

	"pgregory.net/rapid"

	"kestrix/internal/core/tick"
)

// TestTheTimelineCountsEverythingOnce holds it to plain counting, over doublings.
func TestTheTimelineCountsEverythingOnce(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		tl := newTimeline(2)
		open := make([]int32, 2)
		var answered, failed, requests int64
		now := tick.Time(0)
		for range rapid.IntRange(1, 60).Draw(t, "steps") {
			now += tick.Time(rapid.Int64Range(0, int64(20*time.Minute)).Draw(t, "wait"))
			r := tl.grow(now, open)
			r.requests[0]++
			requests++
			open[0]++
			if rapid.Bool().Draw(t, "answered") {
				tl.grow(now, open).answer(int64(time.Millisecond))
				answered++
				open[0]--
			} else {
				tl.grow(now, open).failed++
				failed++
			}
		}
		if len(tl.rows) > maxRows {
			t.Fatalf("%d rows", len(tl.rows))
		}
		var a, f, n int64
		for i := range tl.rows {
			a += tl.rows[i].answered
			f += tl.rows[i].failed
			n += int64(tl.rows[i].requests[0])
		}
		if a != answered || f != failed || n != requests {
			t.Fatalf("%d %d %d, want %d %d %d", a, f, n, answered, failed, requests)
		}
		if last := int64(now / tl.width); int(last) != len(tl.rows)-1 {
			t.Fatalf("the last row is %d, the last moment belongs to %d", len(tl.rows)-1, last)
		}
	})
}
