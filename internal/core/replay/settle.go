package replay

import (
	"kestrix/internal/core/tick"
	"kestrix/internal/core/upstream"
)

// settle ends an attempt and begins the next, if the core says so.
func (e *engine) settle(i int32, o upstream.Outcome) {
	if e.settleOnly(i, o) == upstream.Again {
		e.send(i)
	}
}

func (e *engine) settleOnly(i int32, o upstream.Outcome) upstream.Step {
	r := &e.requests[i]
	w := e.views[r.view]
	u := w.up
	s := &e.servers[r.server]
	r.gen++ // whatever was meant for this attempt is void
	e.row() // up to whose end it was open
	s.open--
	step := w.core.Settle(e.now+w.ahead, &r.q, &r.a, o)
	e.note(w)
	e.schedule(w)
	good := o.Kind == upstream.Answered && o.Status < 500
	if good {
		took := int64(r.until(e.now) - r.a.Began + w.ahead)
		e.tally.gather(&s.latency, took, bucket(uint64(took)/1000))
	} else {
		s.failed++
		r.met |= r.under | s.under
	}
	if r.sent {
		e.hold(u, s.id, r.session)
	}
	if step == upstream.Again {
		return step
	}
	if r.a.Number > 1 {
		e.res.Retried++
		u.retried++
	}
	if good {
		u.answered++
		took := int64(r.until(e.now) - r.arrived)
		e.tally.one(&u.latency[r.phase], took)
		e.row().answer(took)
		e.res.Answered++
		e.saved(r)
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
	return step
}

// answered is settle for a first attempt that nothing came in the way of.
func (e *engine) answered(i int32, r *request, index int32, u *up) {
	e.count(int64(e.now-r.arrived), index, int32(r.phase))
	e.servers[index].open--
	e.hold(u, upstream.BackendID(index-u.first), r.session)
	e.finish(i)
}

// count counts an answer to a first attempt: some time later, with others.
func (e *engine) count(took int64, server, phase int32) {
	t := &e.tally
	if e.now >= e.timeline.end || t.n == len(t.due) {
		e.countAnswers()
		e.row()
	}
	t.due[t.n] = answer{took, server, phase}
	t.n++
}

// row gives the row of the timeline for what happens now.
func (e *engine) row() *row {
	if e.now < e.timeline.end {
		return e.timeline.last
	}
	e.endRow()
	return e.timeline.grow(e.now, e.openNow)
}

// endRow takes into the row under way what has been counted for it elsewhere.
func (e *engine) endRow() {
	if e.timeline.last == nil {
		return
	}
	e.countAnswers()
	for k := range e.servers {
		s := &e.servers[k]
		e.timeline.last.requests[k] += s.came
		s.came, e.openNow[k] = 0, s.open
	}
}

// until is the end of what a client waits for: of a stream, that it begins.
func (r *request) until(now tick.Time) tick.Time {
	if r.stream {
		return r.deadline
	}
	return now
}

// hold notes who holds a session of an application that keeps it locally: the
// backend that its last request reached.
func (e *engine) hold(u *up, by upstream.BackendID, session uint32) {
	h := &u.holder[session]
	if *h > 0 && *h != int16(by)+1 {
		u.sessions.Lost++
	}
	*h = int16(by) + 1
}

// refused is when the core gives a request no backend.
func (e *engine) refused(i int32, why upstream.Reason) {
	r := &e.requests[i]
	u := e.views[r.view].up
	switch why {
	case upstream.RefusedByLoss:
		e.res.Errors.StickyRefused++
		u.sessions.Refused++
	case upstream.NoRoom:
		e.res.Errors.QueueFull++
	case upstream.WaitedTooLong:
		e.res.Errors.QueueTimeout++
	default:
		e.res.Errors.NoBackend++
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

func (e *engine) cause(o upstream.Outcome, stream bool) {
	c := &e.res.Errors
	switch o.Kind {
	case upstream.ConnectRefused:
		c.Refused++
	case upstream.ConnectTimeout:
		c.ConnectTimeout++
	case upstream.AnswerTimeout:
		c.AnswerTimeout++
	case upstream.Answered:
		c.Status5xx++
	default:
		if stream {
			c.BrokenStream++
		} else {
			c.Reset++
		}
	}
}

// fail counts a request that failed for good.
func (e *engine) fail(r *request) {
	e.res.Failed++
	e.phases[r.phase].failed++
	e.row().failed++
	for k := range e.faults {
		if r.met&(1<<k) != 0 {
			e.faults[k].met++
			e.faults[k].lost++
		}
	}
}

// saved counts a request that met faults and was answered all the same.
func (e *engine) saved(r *request) {
	if r.met == 0 {
		return
	}
	for k := range e.faults {
		if r.met&(1<<k) != 0 {
			e.faults[k].met++
		}
	}
}

// note takes the core's changes of state into the story.
func (e *engine) note(v *view) {
	if !v.core.Quiet() {
		e.tell(v)
	}
}

func (e *engine) tell(v *view) {
	e.changes = v.core.Changes(e.changes[:0])
	for _, c := range e.changes {
		s := &v.up.servers[c.Backend]
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
		if len(e.res.Health) >= maxHealth {
			e.res.HealthCut = true
			continue
		}
		h := HealthChange{
			At: (c.At - v.ahead).Seconds(), Upstream: v.up.cfg.Name, Backend: v.core.Backend(c.Backend).Name,
			From: c.From.String(), To: c.To.String(), Why: c.Why,
		}
		if len(v.up.views) > 1 {
			h.Instance = v.instance + 1
		}
		e.res.Health = append(e.res.Health, h)
	}
}

// maxHealth bounds the health story.
const maxHealth = 10_000
