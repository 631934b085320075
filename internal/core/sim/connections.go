package sim

import (
	"time"

	"kestrix/internal/core/tick"
	"kestrix/internal/core/upstream"
)

// conns are the connections of a proxy to a backend that wait for a request, as the live proxy
// keeps them: the one used last is taken first. Of HTTP/2 there is one, which any number of
// requests share.
type conns struct {
	free   []conn // oldest use first
	shared conn   // of HTTP/2; while it is being made, used is when it will stand
	open   bool   // shared is there
}

// conn is a connection to a backend.
type conn struct{ born, used tick.Time }

// mostKept is how many unused connections to a backend are kept, as by the live proxy.
const mostKept = 512

// close closes all.
func (c *conns) close() { c.free, c.open = c.free[:0], false }

// connect has an attempt take a connection, and returns how long it takes until that stands: 0
// for one that is kept. Streams, which may end as something else than HTTP, are not sent on those.
func (e *Engine) connect(v *view, s *server, r *inFlight) time.Duration {
	c := &v.conns[s.id]
	wait := v.up.cfg.Timeouts.Kept
	age := v.up.cfg.Timeouts.Age
	switch {
	case r.stream || v.up.cfg.ProxyProtocol != "":
	case v.up.cfg.HTTP2():
		return e.connectShared(c, s, r, wait, age)
	default:
		for n := len(c.free); n > 0; n = len(c.free) {
			x := c.free[n-1]
			if e.now.Sub(x.used) >= wait {
				c.free = c.free[:0] // the others have waited for longer
				break
			}
			c.free = c.free[:n-1]
			if age == 0 || e.now.Sub(x.born) < age {
				r.kept, r.born = true, x.born
				return 0
			}
		}
	}
	s.dials++
	r.kept, r.born = false, e.now
	return s.connect
}

// connectShared is connect over HTTP/2.
func (e *Engine) connectShared(c *conns, s *server, r *inFlight, wait, age time.Duration) time.Duration {
	if x := &c.shared; c.open && (age == 0 || e.now.Sub(x.born) < age) && e.now.Sub(x.used) < wait {
		left := max(x.used.Sub(e.now), 0) // until it stands
		r.kept, r.born = left == 0, x.born
		x.used = max(x.used, e.now)
		return left
	}
	s.dials++
	c.shared, c.open = conn{e.now, e.now.Add(s.connect)}, s.refuse == 0 && s.blackhole == 0
	r.kept, r.born = false, e.now
	return s.connect
}

// disconnect has an attempt that was sent leave its connection: it is kept for the next request
// if it has answered this one.
func (e *Engine) disconnect(v *view, s *server, r *inFlight, o upstream.Outcome) {
	c := &v.conns[s.id]
	switch {
	case v.up.cfg.HTTP2():
		if c.shared.born == r.born && (o.Kind == upstream.AnswerTimeout || o.Kind == upstream.Reset) {
			c.open = false // nothing more is asked on one that may be dead
		} else {
			c.shared.used = max(c.shared.used, e.now)
		}
	case o.Kind == upstream.Answered && !r.stream && v.up.cfg.ProxyProtocol == "" && len(c.free) < mostKept:
		c.free = append(c.free, conn{r.born, e.now})
	}
}
