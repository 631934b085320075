package sim

import (
	"fmt"

	"kestrix/internal/core/tick"
	"kestrix/internal/core/units"
	"kestrix/internal/core/upstream"
)

// probe sends one to a backend. One that asks nothing passes when the connection is
// made; any other then waits for a worker like a request, and takes it one millisecond.
func (e *Engine) probe(v *view, s *server) {
	cfg := s.up.cfg.Probe
	p := &v.probes[s.id]
	p.gen++
	p.open = true
	e.probes++
	late := e.now.Add(cfg.Timeout)
	switch {
	case s.probeLies > 0:
		s.coming++
		e.queue.Push(e.now.Add(s.connect), event{kind: probeReach, server: s.index, req: v.index, gen: p.gen})
	case s.refuse > 0:
		e.probeEnds(v, s, "connection refused")
	case s.probeFails > 0 && !cfg.Asks():
		e.probeEnds(v, s, "connection refused")
	case s.blackhole > 0 || s.connect >= cfg.Timeout:
		e.queue.Push(late, event{kind: probeLate, server: s.index, req: v.index, gen: p.gen})
	default:
		s.coming++
		e.queue.Push(e.now.Add(s.connect), event{kind: probeReach, server: s.index, req: v.index, gen: p.gen})
		if cfg.Asks() {
			e.queue.Push(late, event{kind: probeLate, server: s.index, req: v.index, gen: p.gen})
		}
	}
}

// probeReached is when a probe's connection stands.
func (e *Engine) probeReached(v *view, s *server, gen uint32) {
	s.coming--
	p := &v.probes[s.id]
	if !p.open || gen != p.gen {
		return
	}
	switch {
	case s.probeLies > 0:
		e.probeEnds(v, s, "")
	case s.refuse > 0:
		e.probeEnds(v, s, "connection refused")
	case !s.up.cfg.Probe.Asks():
		e.probeEnds(v, s, "")
	case s.hang > 0 || s.blackhole > 0:
		// Nothing comes; the timeout is on its way.
	case s.busy < s.workers:
		e.work(s, waiting{-1 - v.index, gen, probeWork, 0}, e.now)
	case s.queued >= s.backlog:
		e.probeEnds(v, s, "connection refused: its backlog is full")
	default:
		s.push(waiting{-1 - v.index, gen, probeWork, 0})
	}
}

// probeAnswered is when a worker is done with a probe; failed is the status of one whose dependency
// failed, 0 where none did.
func (e *Engine) probeAnswered(v *view, s *server, gen uint32, failed int) {
	p := &v.probes[s.id]
	if !p.open || gen != p.gen || s.blackhole > 0 {
		return
	}
	status := 200
	switch {
	case failed > 0:
		status = failed // of a dependency
	case s.reset > 0:
		e.probeEnds(v, s, "the connection broke")
		return
	case s.probeFails > 0:
		status = 503
	default:
		if f := s.error(e.o.Seed, uint64(v.index)<<48|uint64(s.index)<<32|uint64(gen), 0, true); f != nil {
			status = f.Status
		}
	}
	if !s.up.cfg.Probe.Passes(status) {
		e.probeEnds(v, s, fmt.Sprintf("status %d", status))
		return
	}
	e.probeEnds(v, s, "")
}

func (e *Engine) probeTooLate(v *view, s *server, gen uint32) {
	p := &v.probes[s.id]
	if p.open && gen == p.gen {
		e.probeEnds(v, s, fmt.Sprintf("no answer within %s", units.Duration(s.up.cfg.Probe.Timeout)))
	}
}

// probeEnds hands the core a probe's result; why is empty for one that passed.
func (e *Engine) probeEnds(v *view, s *server, why string) {
	v.probes[s.id].open = false
	v.core.ProbeSeen(e.now+v.ahead, s.id, upstream.Probe{Passed: why == "", Why: why})
	e.note(v)
	if e.proxies.lost > 0 {
		e.proxyReady(v.instance, false)
	}
}

// die ends the process of a backend: what is open breaks, and what its workers
// would have done is void.
func (e *Engine) die(s *server) {
	s.busy, s.stuck = 0, 0
	s.waiting, s.head, s.queued = s.waiting[:0], 0, 0
	s.epoch++
	if s.shared != nil {
		s.shared.Clear(e.now)
		s.shared.turn++
	}
	for _, v := range s.up.views {
		v.conns[s.id].close()
		if v.probes[s.id].open && s.up.cfg.Probe.Asks() {
			e.probeEnds(v, s, "the connection broke")
		}
	}
	for _, i := range e.openOn(s) {
		if r := &e.requests[i]; r.open && r.server == s.index && r.sent {
			r.under |= s.under
			e.settle(i, upstream.Outcome{Kind: upstream.Reset})
		}
	}
}

// moment turns a time into seconds for the result.
func moment(t tick.Time) *float64 {
	s := t.Seconds()
	return &s
}
