package proxy

import (
	"math"
	"time"
)

// bodyRate holds a body to a least rate over any ratePeriod in which it is waited
// for, to within a rateSlice. Time in which the proxy does not read does not count: the
// client cannot send then. It is for one reader; with a least of 0 there is no limit.
type bodyRate struct {
	least  int64             // bytes a second
	waited time.Duration     // all in all
	slices [rateSlices]int64 // bytes that came in the last slices of waited, as a ring
}

const (
	ratePeriod = 30 * time.Second
	rateSlices = 6
	rateSlice  = ratePeriod / rateSlices
)

// came notes bytes that came after a wait.
func (r *bodyRate) came(n int, wait time.Duration) {
	if r.least == 0 {
		return
	}
	before := r.waited / rateSlice
	r.waited += wait
	now := r.waited / rateSlice
	for s := max(before+1, now-rateSlices+1); s <= now; s++ {
		r.slices[s%rateSlices] = 0
	}
	r.slices[now%rateSlices] += int64(n)
}

// left returns how long may be waited, if nothing comes meanwhile, until the body
// is too slow.
func (r *bodyRate) left() time.Duration {
	if r.least == 0 {
		return math.MaxInt64
	}
	sum := int64(0)
	for _, n := range r.slices {
		sum += n
	}
	// At the end of each slice from the one at hand on, the period that ends there
	// is looked at; a slice after the other is not in it any more.
	for end := r.waited/rateSlice + 1; ; end++ {
		if end >= rateSlices && sum < r.least*int64(ratePeriod/time.Second) {
			return end*rateSlice - r.waited
		}
		sum -= r.slices[end%rateSlices]
	}
}
