package sim

import (
	"time"

	"kestrix/internal/core/config"
	"kestrix/internal/core/ingest"
	"kestrix/internal/core/rng"
	"kestrix/internal/core/upstream"
)

// streamBegins is when the head of a long answer has come: from then on it
// holds no worker.
func (e *Engine) streamBegins(i int32, waits *config.Waits) {
	r := &e.requests[i]
	s := &e.servers[r.server]
	if s.reset > 0 {
		e.settle(i, upstream.Outcome{Kind: upstream.Reset, Final: true})
		return
	}
	r.deadline = e.now // what its client waited for is there
	if o := s.answer(e, r); o.Status >= 400 {
		e.settle(i, o)
		return
	}
	r.flows = true
	w := e.viewOf(r)
	w.core.FirstByte(&r.a)
	e.streamGoesOn(i, waits)
}

// streamGoesOn has a stream that flows end when it is time.
func (e *Engine) streamGoesOn(i int32, waits *config.Waits) {
	r := &e.requests[i]
	lasts, kind := e.streamLasts(r), streamEnd
	if waits.Stream > 0 && lasts > waits.Stream {
		lasts, kind = waits.Stream, streamCut
	}
	if st := e.scenario.Streams; st != nil && waits.Idle > 0 && st.Quiet > waits.Idle && lasts > waits.Idle {
		lasts, kind = waits.Idle, streamIdle
	}
	e.queue.Push(max(r.deadline.Add(lasts), e.now), event{kind: kind, req: i, gen: r.gen})
}

// streamLasts is how long a stream goes on if nothing happens to it.
func (e *Engine) streamLasts(r *inFlight) time.Duration {
	if r.duration >= 0 {
		return time.Duration(r.duration)
	}
	st := e.scenario.Streams
	if st == nil {
		return 0
	}
	return e.span(&st.Lasts, rng.Bits(e.o.Seed, r.q.ID, 0, rng.Lasts))
}

// span turns random bits into a time of a distribution.
func (e *Engine) span(d *config.Distribution, bits uint64) time.Duration {
	switch mean := float64(d.Mean); d.Kind {
	case "exponential":
		return time.Duration(mean * rng.Exponential(bits))
	case "lognormal":
		return time.Duration(rng.NewLogNormal(mean, d.CV).Draw(e.shaper, bits))
	}
	return d.Mean
}

// streamOver is when a stream ends by itself, or is ended by the proxy.
func (e *Engine) streamOver(i int32, kind eventKind) {
	r := &e.requests[i]
	s := &e.servers[r.server]
	switch kind {
	case streamIdle:
		// Nothing came for too long; the proxy breaks it.
		e.settle(i, upstream.Outcome{Kind: upstream.IdleCut, Final: true})
	case streamCut:
		e.settle(i, upstream.Outcome{Kind: upstream.CutOff, Final: true})
	default:
		if s.hang > 0 || s.blackhole > 0 {
			r.overdue = true // its end does not come through
			return
		}
		e.settle(i, upstream.Outcome{Kind: upstream.Answered, Status: 200, FirstByte: max(s.connect, 1)})
	}
}

// fallsSilent has an open stream broken by the idle timeout, unless its backend
// speaks before.
func (e *Engine) fallsSilent(i int32) {
	r := &e.requests[i]
	if idle := e.refs[r.route].Waits.Idle; idle > 0 {
		e.queue.Push(e.now.Add(idle), event{kind: streamIdle, req: i, gen: r.gen})
	}
}

// closeStreams ends the streams of a proxy with a backend that is down or parked, where
// on_down wants that.
func (e *Engine) closeStreams(v *view, s *server) {
	for _, i := range e.openOn(s) {
		r := &e.requests[i]
		tcp := e.fronts[e.refs[r.route].Front].Protocol == "tcp"
		if r.open && r.flows && r.server == s.index && e.viewOf(r) == v && v.up.cfg.ClosesOnDown(tcp) {
			e.settle(i, upstream.Outcome{Kind: upstream.TakenOut, Final: true})
		}
	}
}

// speaksAgain lets the streams of a backend go on that was silent.
func (e *Engine) speaksAgain(s *server) {
	for _, i := range e.openOn(s) {
		r := &e.requests[i]
		if !r.open || !r.flows || r.server != s.index {
			continue // what came while it hung is never answered
		}
		if r.overdue {
			e.settle(i, upstream.Outcome{Kind: upstream.Answered, Status: 200, FirstByte: max(s.connect, 1)})
			continue
		}
		r.gen++ // what was to break it for its silence is void
		e.streamGoesOn(i, &e.refs[r.route].Waits)
	}
}

// reconnect has the client of a failed stream open it again, if the scenario
// says so, for what is left of it.
func (e *Engine) reconnect(r *inFlight) {
	st := e.scenario.Streams
	if st == nil || !st.Resend {
		return
	}
	left := e.streamLasts(r) - e.now.Sub(r.arrived) - st.ResendAfter
	if left <= 0 {
		return
	}
	a := ingest.Arrival{
		Key: r.q.Key, SeatKey: r.q.SeatKey, Duration: int64(left), Session: r.session, Route: r.route, Repeatable: r.q.Repeatable,
		Stream: true, Instance: uint8(e.views[r.view].instance), Front: uint16(e.refs[r.route].Front), Client: -1,
	}
	e.queue.Push(e.now.Add(st.ResendAfter), event{kind: resend, req: e.keep(&a)})
}

// sendAgain opens a stream that had failed.
func (e *Engine) sendAgain(i int32) {
	a := e.kept(i)
	e.res.Resent++
	e.ask(&a)
}
