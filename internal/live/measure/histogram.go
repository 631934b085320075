// Package measure counts times in histograms of fixed buckets, as collectors of metrics want
// them. Pools count by backend, the proxy by route. It must never read a clock.
package measure

import "time"

// Bounds are the upper bounds of the buckets, in seconds.
var Bounds = [...]float64{0.001, 0.0025, 0.005, 0.01, 0.025, 0.05, 0.1, 0.25, 0.5, 1, 2.5, 5, 10, 30}

// Histogram counts times, each in the bucket of the least bound that it does not exceed; the
// last bucket has those above all bounds. The zero value is empty. It is not safe for
// concurrent use; a copy is independent.
type Histogram struct {
	counts [len(Bounds) + 1]uint64
	sum    time.Duration
}

// Add counts a time.
func (h *Histogram) Add(d time.Duration) {
	i, seconds := 0, d.Seconds()
	for i < len(Bounds) && seconds > Bounds[i] {
		i++
	}
	h.counts[i]++
	h.sum += d
}

// Buckets is a histogram with cumulative counts.
type Buckets struct {
	Count   uint64
	Sum     float64            // seconds
	Buckets map[float64]uint64 // times up to each bound
}

// Buckets returns the counts as collectors read them.
func (h *Histogram) Buckets() Buckets {
	out := Buckets{Sum: h.sum.Seconds(), Buckets: make(map[float64]uint64, len(Bounds))}
	for i, n := range h.counts {
		out.Count += n
		if i < len(Bounds) {
			out.Buckets[Bounds[i]] = out.Count
		}
	}
	return out
}

// Quantile estimates a quantile in seconds, by linear interpolation within its bucket; q is
// from 0 to 1. It is 0 for an empty histogram, and the highest bound for times above it.
func (h *Histogram) Quantile(q float64) float64 {
	total := uint64(0)
	for _, n := range h.counts {
		total += n
	}
	if total == 0 {
		return 0
	}
	rank, below, low := q*float64(total), 0.0, 0.0
	for i, n := range h.counts[:len(Bounds)] {
		if below+float64(n) >= rank && n > 0 {
			return low + (Bounds[i]-low)*max(rank-below, 0)/float64(n)
		}
		below, low = below+float64(n), Bounds[i]
	}
	return Bounds[len(Bounds)-1]
}

// Exemplar is a time of a request that has a trace id.
type Exemplar struct {
	Seconds float64
	TraceID string
	At      time.Time
}

// Exemplars are the latest exemplar of each bucket; zero where there is none.
type Exemplars [len(Bounds) + 1]Exemplar

// Add takes an exemplar.
func (x *Exemplars) Add(e Exemplar) {
	i := 0
	for i < len(Bounds) && e.Seconds > Bounds[i] {
		i++
	}
	x[i] = e
}

// RouteTimes are the times of the requests of a route, streams and connections excepted.
type RouteTimes struct {
	Frontend, Route string // Route is empty for requests that no route took
	Elapsed         Histogram
	Exemplars       Exemplars // of Elapsed
	FirstByte       Histogram // of the last attempt, to the header of its response
}
