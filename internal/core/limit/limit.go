// Package limit limits how many requests a client may send: a rate, and a burst above
// it.
//
// The proxy and the replay call it before a request is routed. It must never read a
// clock: the time is handed in.
package limit

import (
	"encoding/binary"
	"math"
	"net/netip"
	"time"

	"github.com/cespare/xxhash/v2"

	"kestrix/internal/core/tick"
)

// Rate lets each client have a number of requests a second, and a burst of them
// at once. It is the generic cell rate algorithm in its virtual scheduling form
// (ITU-T I.371, annex A): for each client the moment is kept at which its burst
// would be whole again. It is not safe for concurrent use.
type Rate struct {
	every  time.Duration // between two requests at the rate
	slack  time.Duration // how far a burst may run ahead
	recent map[uint64]tick.Time
	older  map[uint64]tick.Time
	size   int
}

// TableSize bounds the clients that a Rate remembers to between this number and
// twice as many; those heard of longest ago are forgotten first, all together.
const TableSize = 1 << 16

// NewRate returns a limiter of so many requests a second with a burst of at least
// one.
func NewRate(perSecond float64, burst int) *Rate {
	every := time.Duration(math.Ceil(float64(time.Second) / perSecond)) // up: never more than the rate
	return &Rate{every: max(every, 1), slack: time.Duration(max(burst-1, 0)) * max(every, 1), recent: map[uint64]tick.Time{}, size: TableSize}
}

// Take reports whether a client may ask now, and if not how long it has to wait
// until it may.
func (r *Rate) Take(now tick.Time, client uint64) (bool, time.Duration) {
	due, ok := r.recent[client]
	if !ok {
		due = r.older[client]
	}
	due = max(due, now)
	if ahead := due.Sub(now); ahead > r.slack {
		return false, ahead - r.slack
	}
	if !ok && len(r.recent) >= r.size {
		r.older, r.recent = r.recent, make(map[uint64]tick.Time, r.size/4)
	}
	r.recent[client] = due.Add(r.every)
	return true, 0
}

// Key is what a client is known by: its address, or the /64 of an IPv6 one,
// which is what a household or a server is commonly given (RFC 6177).
func Key(a netip.Addr) uint64 {
	a = a.Unmap()
	b := a.As16()
	if a.Is6() {
		return xxhash.Sum64(b[:8])
	}
	return uint64(binary.BigEndian.Uint32(b[12:])) * 0x9e3779b97f4a7c15
}
