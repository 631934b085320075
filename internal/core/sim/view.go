package sim

import (
	"time"

	"kestrix/internal/core/config"
	"kestrix/internal/core/histogram"
	"kestrix/internal/core/result"
	"kestrix/internal/core/tick"
	"kestrix/internal/core/upstream"
)

// up is an upstream and what is counted of it.
type up struct {
	cfg                                                *config.Upstream
	views                                              []*view            // by instance
	living                                             int                // of them, those whose proxy has not ended
	core                                               *upstream.Upstream // of the first of them
	servers                                            []server           // by upstream.BackendID
	connect                                            time.Duration      // the connect timeout
	first                                              int32              // position of their first in engine.servers
	sticky                                             bool
	cookie                                             bool
	seat                                               []int16  // by session, backend+1; cookies of clients
	issued                                             []uint32 // by session, when its cookie was issued, in seconds
	holder                                             []int16  // by session, backend+1; who holds the application's session
	sessions                                           result.Sessions
	moved                                              sessionSet // those that moved here
	requests, answered, failed, left, retried, spilled int64
	latency                                            []histogram.Histogram // of answered requests, by phase
	unanswered                                         []histogram.Histogram // of those that failed or whose clients left, by phase
	calm                                               tick.Time             // when last nothing waited for a worker or in the queue
	waited                                             int64                 // how many did since then, at the last look
	durations                                          durations
	said                                               []bool // see takesAsSaid
	turned                                             int64  // turned away for want of room since the last look, with no fault on
}

// viewOf returns how a request's proxy sees its upstream.
func (e *Engine) viewOf(r *inFlight) *view {
	if e.sole != nil {
		return e.sole // can be told without waiting for the request
	}
	return e.views[r.view]
}

// view is an upstream as one proxy sees it.
type view struct {
	gone      bool  // its proxy has ended
	index     int32 // position in engine.views
	instance  int
	up        *up
	core      *upstream.Upstream
	ahead     tick.Time   // of the replay's clock: proxies were not started together
	scheduled tick.Time   // of the coreDue event that is on its way
	probes    []probeView // by upstream.BackendID
	conns     []conns     // likewise
}

// probeView is what one proxy knows of the probes of a backend.
type probeView struct {
	gen      uint32
	open     bool
	out      bool // of rotation
	outSince tick.Time
}

// sessionSet is a set of sessions, by their numbers, as bits.
type sessionSet []uint64

// add adds a session, and returns 1 if it was not there, else 0.
func (s *sessionSet) add(session uint32) int64 {
	at, bit := int(session/64), uint64(1)<<(session%64)
	if at >= len(*s) {
		*s = append(*s, make([]uint64, max(at+1-len(*s), len(*s)))...)
	}
	if (*s)[at]&bit != 0 {
		return 0
	}
	(*s)[at] |= bit
	return 1
}

// see makes room for a session and counts a new one.
func (u *up) see(session uint32) {
	for int(session) >= len(u.holder) {
		u.holder = append(u.holder, make([]int16, max(1024, len(u.holder)))...)
		if u.cookie {
			u.seat = append(u.seat, make([]int16, len(u.holder)-len(u.seat))...)
			u.issued = append(u.issued, make([]uint32, len(u.holder)-len(u.issued))...)
		}
	}
	if u.holder[session] == 0 {
		u.holder[session] = -1 // seen, held by nobody yet
		u.sessions.Seen++
	}
}

// schedule sees to it that the core is called when it has something due.
func (e *Engine) schedule(v *view) {
	if v.gone {
		return
	}
	at := v.core.Next()
	if at != tick.Never {
		at -= v.ahead
	}
	if at < v.scheduled {
		v.scheduled = at
		e.queue.Push(at, event{kind: coreDue, server: v.index})
	}
}
