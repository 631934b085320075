package pool

import "time"

// firstBounds are the upper bounds of the buckets of kestrix_backend_first_byte_seconds, in
// seconds.
var firstBounds = [...]float64{0.001, 0.0025, 0.005, 0.01, 0.025, 0.05, 0.1, 0.25, 0.5, 1, 2.5, 5, 10, 30}

// Buckets is a histogram as it is told.
type Buckets struct {
	Count   uint64
	Sum     float64            // seconds
	Buckets map[float64]uint64 // counts up to each bound
}

// latencies counts times to the head of an answer by the bounds: each in the bucket of the
// least bound that it does not exceed, the last being that of what exceeds all.
type latencies struct {
	counts [len(firstBounds) + 1]uint64
	sum    time.Duration
}

// add counts a time.
func (t *latencies) add(took time.Duration) {
	i, seconds := 0, took.Seconds()
	for i < len(firstBounds) && seconds > firstBounds[i] {
		i++
	}
	t.counts[i]++
	t.sum += took
}

// buckets tells them as they are scraped.
func (t *latencies) buckets() Buckets {
	out := Buckets{Sum: t.sum.Seconds(), Buckets: make(map[float64]uint64, len(firstBounds))}
	for i, n := range t.counts {
		out.Count += n
		if i < len(firstBounds) {
			out.Buckets[firstBounds[i]] = out.Count
		}
	}
	return out
}

// FirstBytes returns the latencies of its backends, by name.
func (l *Pool) FirstBytes() map[string]Buckets {
	l.mu.Lock()
	names, all := make([]string, 0, len(l.backends)), make([]latencies, 0, len(l.backends))
	for _, b := range l.backends {
		if b != nil {
			names, all = append(names, b.Name), append(all, b.counts.buckets)
		}
	}
	l.mu.Unlock()
	out := make(map[string]Buckets, len(names))
	for i := range all {
		out[names[i]] = all[i].buckets()
	}
	return out
}
