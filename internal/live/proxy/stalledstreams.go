package proxy

import (
	"slices"
	"sync"
	"time"

	"kestrix/internal/live/wire"
)

// stalls watches the streams of a connection of HTTP/2 whose answers wait for
// their client. The library waits for a window to open for ever; a client that
// opens none would hold a backend for each of its streams.
//
// A stream of which nothing was taken for its time is reset, whatever the reason.
// Of those that can send nothing because of their client, and that for stalledFor,
// a connection may hold so many; the ones that have waited longest are reset.
// Where that does not help, since the connection takes nothing at all, it is
// closed. The zero value is ready.
type stalls struct {
	mu      sync.Mutex // guards all below
	waiting map[*stall]struct{}
	timer   *time.Timer // nil while nothing waits
}

// stall is a write that waits for its client.
type stall struct {
	guard  *wire.Guard
	stream uint32
	since  time.Time
	idle   time.Duration // after which nothing was taken for too long
	most   int           // streams of the connection that may be stalled
	reset  func()
	cut    time.Time // when it was reset; zero while it was not
}

const (
	// stalledFor is how long a client may let nothing come of a stream before the
	// stream counts as stalled: many windows of a slow client open in that time.
	stalledFor = time.Second
	stallsLook = 250 * time.Millisecond // how often is looked, at most
	stallsLast = time.Second            // from a reset that cannot be sent to the end of the connection
)

// begin starts to watch a write. The caller must call end with the result.
func (s *stalls) begin(w *stall) *stall {
	w.since = time.Now()
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.waiting == nil {
		s.waiting = map[*stall]struct{}{}
	}
	s.waiting[w] = struct{}{}
	if s.timer == nil {
		s.timer = time.AfterFunc(min(stallsLook, w.idle), s.look)
	}
	return w
}

// end ends the watch, and reports whether the stream was reset.
func (s *stalls) end(w *stall) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	delete(s.waiting, w)
	return !w.cut.IsZero()
}

// look resets what has waited for too long.
func (s *stalls) look() {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.timer = nil; len(s.waiting) == 0 {
		return
	}
	type waits struct {
		*stall
		since time.Time
	}
	var stalled []waits
	now, next := time.Now(), stallsLook
	for w := range s.waiting {
		if !w.cut.IsZero() {
			if now.Sub(w.cut) >= stallsLast {
				w.guard.EndWrite()
			}
			continue
		}
		moved, since := w.guard.Waits(w.stream)
		last := latest(w.since, moved)
		if left := w.idle - now.Sub(last); left <= 0 {
			w.cut = now
			w.reset()
			continue
		} else if left < next {
			next = left
		}
		if !since.IsZero() && now.Sub(latest(w.since, since)) >= stalledFor {
			stalled = append(stalled, waits{w, last})
		}
	}
	if len(stalled) > 0 {
		slices.SortFunc(stalled, func(a, b waits) int { return a.since.Compare(b.since) })
		for _, w := range stalled[:max(len(stalled)-stalled[0].most, 0)] {
			w.cut = now
			w.reset()
		}
	}
	s.timer = time.AfterFunc(max(next, time.Millisecond), s.look)
}

func latest(a, b time.Time) time.Time {
	if b.After(a) {
		return b
	}
	return a
}
