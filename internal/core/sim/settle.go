package sim

import (
	"kestrix/internal/core/cause"
	"kestrix/internal/core/health"
	"kestrix/internal/core/result"
	"kestrix/internal/core/upstream"
)

// settle ends an attempt and begins the next, if the core says so.
func (e *Engine) settle(i int32, o upstream.Outcome) {
	if e.ends(i, o) {
		e.send(i)
	}
}

// ends ends an attempt. It reports whether the request is tried again.
func (e *Engine) ends(i int32, o upstream.Outcome) bool {
	r := &e.requests[i]
	w := e.viewOf(r)
	u := w.up
	s := &e.servers[r.server]
	r.gen++ // whatever was meant for this attempt is void
	if e.now >= e.timeline.end {
		e.row()
	}
	s.open--
	step := w.core.Settle(e.now+w.ahead, &r.q, &r.a, o)
	e.note(w)
	e.schedule(w)
	good := o.Kind == upstream.Answered && o.Cause() == cause.None || o.Kind == upstream.CutOff
	if good {
		took, waited := int64(e.now-r.a.Began+w.ahead), int64(e.now-r.arrived)
		if r.stream { // its client waited until it began
			took, waited = took-int64(e.now-r.deadline), int64(r.deadline-r.arrived)
		}
		e.latencies.Add(&s.latency, took)
		if step == upstream.Finished {
			e.latencies.Add(&u.latency[r.phase], waited)
			e.timeline.last.answer(waited)
			if e.course != nil {
				e.course.row(r.arrived).Elapsed += float64(waited) / 1e9
			}
		}
	} else {
		e.latencies.Add(&s.lost, int64(e.now-r.a.Began+w.ahead))
		switch o.Kind {
		case upstream.ClientLeft:
			s.left++
		case upstream.IdleCut, upstream.TakenOut: // the proxy's doing, and no failure of the backend
		default:
			s.failed++
		}
		r.met |= r.under | s.under
		r.struck = r.met != 0
	}
	if r.sent {
		e.hold(u, s.id, r.session)
		e.disconnect(w, s, r, o)
	}
	if step == upstream.Again {
		return true
	}
	if r.a.Number > 1 {
		e.res.Retried++
		u.retried++
	}
	if good {
		u.answered++
		e.res.Answered++
		if r.struck {
			e.saved(r)
		}
	} else if o.Kind == upstream.ClientLeft {
		e.left(r)
	} else {
		e.cause(o, r.stream)
		u.failed++
		if o.Kind == upstream.ConnectRefused {
			u.turnsAway()
		}
		e.fail(r)
		if r.stream {
			e.reconnect(r)
		}
	}
	e.finish(i)
	return false
}

// row returns the row of the timeline for what happens now.
func (e *Engine) row() *row {
	if e.now < e.timeline.end {
		return e.timeline.last
	}
	e.endRow()
	return e.timeline.grow(e.now, e.openNow)
}

// endRow takes into the row under way what each server has been sent since it began.
func (e *Engine) endRow() {
	if e.timeline.last == nil {
		return
	}
	for k := range e.servers {
		s := &e.servers[k]
		e.timeline.last.requests[k] += s.came
		s.came, e.openNow[k] = 0, s.open
	}
}

// hold notes who holds a session of an application that keeps it locally: the
// backend that its last request reached.
func (e *Engine) hold(u *up, by upstream.BackendID, session uint32) {
	h := &u.holder[session]
	if *h > 0 && *h != int16(by)+1 {
		u.sessions.Misses++
	}
	*h = int16(by) + 1
}

// refused is when the core gives a request no backend.
func (e *Engine) refused(i int32, why upstream.Reason) {
	r := &e.requests[i]
	u := e.views[r.view].up
	e.res.Errors[why.Cause()]++
	if why == upstream.RefusedByLoss {
		u.sessions.Refused++
	}
	if r.a.Number > 1 {
		e.res.Retried++
		u.retried++
	}
	u.failed++
	if why != upstream.RefusedByLoss {
		u.turnsAway()
	}
	e.fail(r)
	if r.stream {
		e.reconnect(r)
	}
	e.finish(i)
}

// cause counts why a request failed in the end, by its last attempt.
func (e *Engine) cause(o upstream.Outcome, stream bool) {
	c := o.Cause()
	if stream && c == cause.Reset {
		c = cause.BrokenStream
	}
	e.res.Errors[c]++
}

// left counts a request whose client left.
func (e *Engine) left(r *inFlight) {
	e.unanswered(r)
	e.views[r.view].up.left++
	e.res.ClientLeft++
	e.phases[r.phase].left++
	e.timeline.last.left++
	if e.course != nil {
		e.course.row(r.arrived).Left++
	}
	e.saved(r)
	for k := range e.faults {
		if r.met&(1<<k) != 0 {
			e.faults[k].left++
		}
	}
}

// clientLeaves is when the patience of a client ends: it leaves, unless its answer has
// begun.
func (e *Engine) clientLeaves(i int32) {
	r := &e.requests[i]
	if r.stream && r.flows {
		return
	}
	if r.server >= 0 {
		e.settle(i, upstream.Outcome{Kind: upstream.ClientLeft, Final: true})
		return
	}
	w := e.viewOf(r)
	w.core.Cancel(e.now+w.ahead, &r.a)
	e.schedule(w)
	e.left(r)
	e.finish(i)
}

// fail counts a request that failed in the end.
func (e *Engine) fail(r *inFlight) {
	e.unanswered(r)
	e.res.Failed++
	e.phases[r.phase].failed++
	e.timeline.last.failed++
	if e.course != nil {
		e.course.row(r.arrived).Failed++
	}
	for k := range e.faults {
		if r.met&(1<<k) != 0 {
			e.faults[k].met++
			e.faults[k].lost++
		}
	}
}

// unanswered counts the time of a request that ends without an answer.
func (e *Engine) unanswered(r *inFlight) {
	r.lost = true
	waited := int64(e.now - r.arrived)
	e.latencies.Add(&e.views[r.view].up.unanswered[r.phase], waited)
	e.row().unanswered(waited)
	if e.course != nil {
		e.course.row(r.arrived).Elapsed += float64(waited) / 1e9
	}
}

// saved counts a request that met faults and was answered all the same.
func (e *Engine) saved(r *inFlight) {
	for k := range e.faults {
		if r.met&(1<<k) != 0 {
			e.faults[k].met++
		}
	}
}

// note takes the core's changes of state into the story.
func (e *Engine) note(v *view) {
	if !v.gone && !v.core.Quiet() {
		e.tell(v)
	}
}

func (e *Engine) tell(v *view) {
	e.changes = v.core.Changes(e.changes[:0])
	var gone []*server // whose streams are closed, once all is noted
	for _, c := range e.changes {
		s := &v.up.servers[c.Backend]
		if c.From != c.To && (c.To == health.Down || c.To == health.Parked) {
			gone = append(gone, s)
		}
		in := v.core.Eligible(c.Backend)
		p := &v.probes[c.Backend]
		if !in && !p.out {
			p.out, p.outSince = true, e.now
			s.outs++
		} else if in && p.out {
			p.out = false
			s.outs--
			s.outTime += e.now - p.outSince
		}
		e.faultsSee(s)
		if c.ByWeight {
			continue
		}
		if len(e.res.Health) >= maxHealth {
			e.res.HealthCut = true
			continue
		}
		h := result.HealthChange{
			At: (c.At - v.ahead).Seconds(), Upstream: v.up.cfg.Name, Backend: v.core.Backend(c.Backend).Name,
			From: c.From.String(), To: c.To.String(), Why: c.Why,
		}
		if len(v.up.views) > 1 {
			h.Instance = v.instance + 1
		}
		e.res.Health = append(e.res.Health, h)
	}
	for _, s := range gone {
		e.closeStreams(v, s)
	}
}

// maxHealth bounds the health story.
const maxHealth = 10_000
