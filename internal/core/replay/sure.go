package replay

import (
	"kestrix/internal/core/tick"
	"kestrix/internal/core/upstream"
)

// Of most requests all that will become of them is known when they come: they are
// sent to a backend that answers as it should, a worker is free, and no fault begins
// or ends before they are answered. They need no place among the requests, and one
// event, at their end. What they count for is the same.

// longestSure is the longest that such a request may take: what an event holds.
const longestSure = 1<<48 - 1

// direct has the core choose a backend for a request that comes now before it is given
// a place, which most do without. False, with nothing done, says that this cannot be.
func (e *engine) direct(a *arrival, u *up, n uint64) bool {
	if id := u.core.First(e.now, n, a.key); id != upstream.None {
		if !e.sure(a, u, id, n) {
			e.a.Reset()
			e.a.Number, e.a.Backend, e.a.Began = 1, id, e.now
			e.chosen(a, u, n, upstream.Verdict{Kind: upstream.Go, Backend: id, Reason: upstream.ByAlgorithm, Seat: upstream.None})
		}
		return true
	}
	if u.cfg.Queue != nil {
		return false // it may wait, and is known by its place
	}
	e.describe(&e.q, a, u, n)
	e.a.Reset()
	v := u.core.Choose(e.now, &e.q, &e.a)
	switch {
	case v.Kind != upstream.Go || !e.sure(a, u, v.Backend, n):
		e.chosen(a, u, n, v)
	case v.Seat != upstream.None:
		e.seated(u, a.session, v)
	}
	return true
}

// sure takes in a request for which the core has chosen a backend, if its future is
// known.
func (e *engine) sure(a *arrival, u *up, id upstream.BackendID, n uint64) bool {
	s := &u.servers[id]
	from := e.now.Add(e.delay)
	if s.busy+s.coming >= s.workers || !s.calm || !s.plain || e.delay > u.cfg.Timeouts.Connect {
		return false
	}
	takes := e.serviceDraw(s, n, 1, a.duration)
	until := from + takes
	took := until - e.now
	if until >= e.calmTill || took > longestSure || until > from.Add(e.refs[a.route].waits.Answer) {
		return false
	}
	index := u.first + int32(id)
	e.came(s)
	e.open++
	s.busy++
	s.worked += min(until, e.stop) - min(from, e.stop)
	e.heap.Push(until, event{kind: sureDone, server: index, req: int32(a.session), gen: uint32(took), epoch: uint16(took >> 32)})
	return true
}

// chosen takes in any other that the core has decided on.
func (e *engine) chosen(a *arrival, u *up, n uint64, v upstream.Verdict) {
	i := e.request(a, u, n)
	e.requests[i].a = e.a
	if e.place(i, v) {
		e.send(i)
	}
}

// sureDone is when a request whose future was known is answered.
func (e *engine) sureDone(ev event) {
	s := &e.servers[ev.server]
	s.busy--
	if s.queued > 0 {
		e.next(s)
	}
	u := e.upOf[ev.server]
	id, took := upstream.BackendID(ev.server-u.first), tick.Time(ev.gen)|tick.Time(ev.epoch)<<32
	if !u.core.Done(e.now, id, e.now-took) {
		at := upstream.Attempt{Number: 1, Backend: id, Began: e.now - took}
		u.core.Settle(e.now, &upstream.Request{}, &at, upstream.Outcome{Kind: upstream.Answered, Status: 200})
		e.note(u.views[0])
		e.schedule(u.views[0])
	}
	e.count(int64(took), ev.server, int32(len(e.phases)-1))
	s.open--
	e.hold(u, id, uint32(ev.req))
	e.open--
}
