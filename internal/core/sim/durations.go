package sim

import (
	"kestrix/internal/core/ingest"
	"kestrix/internal/core/tick"
)

// durations is what the trace says of how long the requests of an upstream took.
type durations struct {
	lent    int64 // of the latest answered request that has one, in nanoseconds; -1 before it
	own     int64 // requests with a duration of their own
	failed  int64 // that failed when they were recorded: theirs is no service time
	missing int64 // without one
	said    int64 // of failed and missing: the scenario says how long they take
	streams int64 // long answers and connections, whose durations are no service times either
	work    int64 // durations of the requests of the bucket under way, together
	most    float64
}

// of returns how long a worker has for a request, -1 if nothing recorded says how long. A request
// without a usable duration takes as long as the answered one before it (hot-deck
// imputation: Andridge and Little, A Review of Hot Deck Imputation for Survey Non-response,
// International Statistical Review 78, 2010): what the application takes, and not what a
// client waited for an error. failures says that recorded failures are to happen again, said
// that the scenario says how long the request takes.
func (d *durations) of(a *ingest.Arrival, failures, said bool) int64 {
	if a.Stream {
		d.streams++
		return a.Duration
	}
	d.work += max(a.Duration, 0)
	switch failed := a.Recorded > 0; {
	case failed && !failures:
		d.failed++
	case a.Duration < 0:
		d.missing++
	default:
		d.own++
		if !failed {
			d.lent = a.Duration
		}
		return a.Duration
	}
	if said {
		d.said++
	}
	return d.lent
}

// bucketEnds notes how many requests were in flight, on average, when the trace was
// recorded, in a bucket of the timeline that is over (Little's law: Little, A Proof for the
// Queuing Formula L = λW, Operations Research 9, 1961).
func (d *durations) bucketEnds(width tick.Time) {
	d.most = max(d.most, float64(d.work)/float64(width))
	d.work = 0
}
