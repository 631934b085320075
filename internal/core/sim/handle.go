package sim

import (
	"kestrix/internal/core/tick"
	"kestrix/internal/core/upstream"
)

// handle does what an event says.
func (e *Engine) handle(ev event) {
	switch ev.kind & (1<<kindBits - 1) {
	case done:
		e.workerDone(ev)
	case reach:
		e.reached(ev)
	case failAfter, answerLate, streamEnd, streamCut, streamIdle:
		if r := &e.requests[ev.req]; r.gen == ev.gen && r.open {
			e.timeOver(ev.req, ev.kind)
		}
	case patienceEnds:
		if r := &e.requests[ev.req]; r.open && uint32(r.q.ID) == ev.gen {
			e.clientLeaves(ev.req)
		}
	case resend:
		e.sendAgain(ev.req)
	case asksAgain:
		a := e.kept(ev.req)
		e.res.AskedAgain++
		e.ask(&a)
	case nextAsked:
		e.askNext(ev.req)
	case another:
		a := e.kept(ev.req)
		e.lastAt = e.now
		e.ask(&a)
	case callDone, callLate:
		e.callOver(ev)
	case sharedDone:
		e.sharedDone(&e.servers[ev.server], ev.gen)
	case coreDue:
		e.coreDue(e.views[ev.server])
	case probeReach:
		e.probeReached(e.views[ev.req], &e.servers[ev.server], ev.gen)
	case probeLate:
		e.probeTooLate(e.views[ev.req], &e.servers[ev.server], ev.gen)
	case proxyWaits:
		if e.proxies.all[ev.server].starting == ev.gen {
			e.proxyReady(int(ev.server), true)
		}
	default:
		e.turns(ev)
	}
}

// turns has a backend fail or recover.
func (e *Engine) turns(ev event) {
	switch ev.kind {
	case faultBegins:
		e.faultBegins(e.faults[ev.server])
	case faultEnds:
		e.faultEnds(e.faults[ev.server])
	case faultTurns:
		e.faultTurns(e.faults[ev.server])
	}
	e.faultsChanged()
}

// timeOver ends an attempt whose time is over, or a stream.
func (e *Engine) timeOver(i int32, kind eventKind) {
	switch kind & (1<<kindBits - 1) {
	case failAfter:
		e.settle(i, upstream.Outcome{Kind: upstream.ConnectTimeout})
	case answerLate:
		e.settle(i, upstream.Outcome{Kind: upstream.AnswerTimeout})
	default:
		e.streamOver(i, kind)
	}
}

// coreDue has a core do what is due now.
func (e *Engine) coreDue(v *view) {
	if e.now != v.scheduled {
		return // an earlier call has come since
	}
	v.scheduled = tick.Never
	e.actions = v.core.Advance(e.now+v.ahead, e.actions[:0])
	for k := range e.actions {
		if a := &e.actions[k]; a.Kind == upstream.SendProbe {
			e.probe(v, &v.up.servers[a.Probe])
		} else {
			e.granted(v, &a.Grant)
		}
	}
	e.note(v)
	e.schedule(v)
}
