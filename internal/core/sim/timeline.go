package sim

import (
	"kestrix/internal/core/histogram"
	"kestrix/internal/core/tick"
)

// maxRows bounds the timeline; when it is reached buckets double.
const maxRows = 2048

// timeline counts what happens bucket by bucket.
type timeline struct {
	width    tick.Time
	backends int // of all upstreams
	rows     []row
	end      tick.Time // of the bucket under way
	last     *row      // that of the bucket under way
}

type row struct {
	answered, failed, left int64
	latency                *histogram.Sketch // of answered requests
	others                 *histogram.Sketch // of those that failed or whose clients left
	requests, open         []int32           // by backend
}

func newTimeline(backends int) *timeline {
	return &timeline{width: 1e9, backends: backends}
}

// grow returns the row of a moment, making those in between.
func (t *timeline) grow(now tick.Time, open []int32) *row {
	for now >= t.end {
		if n := len(t.rows); n > 0 {
			copy(t.rows[n-1].open, open)
		}
		if len(t.rows) == maxRows {
			t.double()
			continue
		}
		t.rows = append(t.rows, row{requests: make([]int32, t.backends), open: make([]int32, t.backends)})
		t.end += t.width
	}
	t.last = &t.rows[len(t.rows)-1]
	return t.last
}

// double joins rows two by two.
func (t *timeline) double() {
	half := t.rows[:0]
	for i := 0; i < len(t.rows); i += 2 {
		a := t.rows[i]
		if i+1 < len(t.rows) {
			b := t.rows[i+1]
			a.answered += b.answered
			a.failed += b.failed
			a.left += b.left
			a.latency, a.others = histogram.Join(a.latency, b.latency), histogram.Join(a.others, b.others)
			for k := range a.requests {
				a.requests[k] += b.requests[k]
				a.open[k] = b.open[k]
			}
		}
		half = append(half, a)
	}
	clear(t.rows[len(half):])
	t.rows = half
	t.width *= 2
	t.end = t.width * tick.Time(len(t.rows))
}

// unanswered counts the time of a request that ended without an answer.
func (r *row) unanswered(ns int64) {
	if r.others == nil {
		r.others = new(histogram.Sketch)
	}
	r.others.Add(ns)
}

// all adds the times of all requests that ended in the row.
func (r *row) all(to *histogram.Sketch) {
	for _, x := range []*histogram.Sketch{r.latency, r.others} {
		if x != nil {
			histogram.Join(to, x)
		}
	}
}

func (r *row) answer(ns int64) {
	if r.latency == nil {
		r.latency = new(histogram.Sketch)
	}
	r.latency.Add(ns)
	r.answered++
}
