// Package tick is the core's notion of time: a count of nanoseconds that never goes
// back.
//
// The replay hands in virtual time, the live proxy the time since it started. It must
// never ask a clock, and imports nothing of the project.
package tick

import (
	"math"
	"time"
)

// Time is a moment in nanoseconds since the driver's own beginning. It never
// goes back. The zero value is the beginning.
type Time int64

// Never is later than every moment: nothing is due.
const Never = Time(math.MaxInt64)

// Add returns the moment d later, and Never where that cannot be counted.
func (t Time) Add(d time.Duration) Time {
	sum := t + Time(d)
	if d > 0 && sum < t {
		return Never
	}
	return sum
}

// Sub returns the time from u to t.
func (t Time) Sub(u Time) time.Duration { return time.Duration(t - u) }

// Seconds returns the moment in seconds since the beginning.
func (t Time) Seconds() float64 { return float64(t) / 1e9 }
