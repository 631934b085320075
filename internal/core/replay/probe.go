package replay

import (
	"fmt"

	"kestrix/internal/core/tick"
	"kestrix/internal/core/upstream"
)

// probe sends one to a backend. A tcp probe passes when the connection stands;
// an http probe then waits for a worker like any request, and takes it one
// millisecond.
func (e *engine) probe(s *server) {
	cfg := s.up.cfg.Probe
	s.probeGen++
	s.probeOpen = true
	late := e.now.Add(cfg.Timeout)
	switch {
	case s.refuse > 0:
		e.probeEnds(s, "connection refused")
	case s.probeFails > 0 && cfg.Kind != "http":
		e.probeEnds(s, "connection refused")
	case s.blackhole > 0 || s.connect >= cfg.Timeout:
		e.heap.Push(late, event{kind: probeLate, server: s.index, gen: s.probeGen})
	default:
		e.heap.Push(e.now.Add(s.connect), event{kind: probeReach, server: s.index, gen: s.probeGen})
		if cfg.Kind == "http" {
			e.heap.Push(late, event{kind: probeLate, server: s.index, gen: s.probeGen})
		}
	}
}

// probeReached is when a probe's connection stands.
func (e *engine) probeReached(s *server, gen uint32) {
	if !s.probeOpen || gen != s.probeGen {
		return
	}
	switch {
	case s.refuse > 0:
		e.probeEnds(s, "connection refused")
	case s.up.cfg.Probe.Kind != "http":
		e.probeEnds(s, "")
	case s.hang > 0 || s.blackhole > 0:
		// Nothing comes; the timeout is on its way.
	case s.busy < s.workers:
		e.work(s, waiting{-1, gen, probeWork})
	case len(s.waiting)-s.head >= s.backlog:
		e.probeEnds(s, "connection refused: its backlog is full")
	default:
		s.push(waiting{-1, gen, probeWork})
	}
}

// probeAnswered is when a worker is done with a probe.
func (e *engine) probeAnswered(s *server, gen uint32) {
	if !s.probeOpen || gen != s.probeGen || s.blackhole > 0 {
		return
	}
	status := 200
	switch {
	case s.reset > 0:
		e.probeEnds(s, "the connection broke")
		return
	case s.probeFails > 0:
		status = 503
	default:
		status = s.status(e.o.Seed, uint64(s.index)<<32|uint64(gen), 0)
	}
	if !s.up.cfg.Probe.Passes(status) {
		e.probeEnds(s, fmt.Sprintf("status %d", status))
		return
	}
	e.probeEnds(s, "")
}

func (e *engine) probeTooLate(s *server, gen uint32) {
	if s.probeOpen && gen == s.probeGen {
		e.probeEnds(s, fmt.Sprintf("no answer within %s", s.up.cfg.Probe.Timeout))
	}
}

// probeEnds hands the core a probe's result; why is empty for one that passed.
func (e *engine) probeEnds(s *server, why string) {
	s.probeOpen = false
	s.up.core.ProbeSeen(e.now, s.id, upstream.Probe{Passed: why == "", Why: why})
	e.note(s.up)
}

// die ends the process of a backend: what is open breaks, and what its workers
// would have done is void.
func (e *engine) die(s *server) {
	s.busy, s.stuck = 0, 0
	s.waiting, s.head = s.waiting[:0], 0
	s.epoch++
	if s.probeOpen && s.up.cfg.Probe.Kind == "http" {
		e.probeEnds(s, "the connection broke")
	}
	for i := range e.requests {
		if r := &e.requests[i]; r.open && r.server == s.index && r.sent {
			r.under |= s.under
			e.settle(int32(i), upstream.Outcome{Kind: upstream.Reset})
		}
	}
}

// moment turns a time into seconds for the result.
func moment(t tick.Time) *float64 {
	s := t.Seconds()
	return &s
}
