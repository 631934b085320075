package upstream

import (
	"time"

	"kestrix/internal/core/tick"
)

// waiter is a request in the queue.
type waiter struct {
	q     Request
	a     Attempt
	since tick.Time
	dead  bool // granted, cancelled or expired
}

// Grant is the end of a wait in the queue: the request and its attempt as they
// were handed in, with the verdict.
type Grant struct {
	Request Request
	Attempt Attempt
	Verdict Verdict
}

// enqueue puts a request in the queue, if that is not full.
func (u *Upstream) enqueue(now tick.Time, q *Request, a *Attempt) Verdict {
	if u.waiting >= u.cfg.Queue.Limit {
		return refuse(NoRoom)
	}
	u.line = append(u.line, waiter{q: *q, a: *a, since: now})
	u.waiting++
	a.ticket = u.lineFirst + uint64(len(u.line)) // one more than its number, so that 0 is none
	u.expectLate()
	return Verdict{Kind: Queued, Backend: None, Reason: InQueue, Seat: None}
}

// waitsFor returns how long requests may wait.
func (u *Upstream) waitsFor() time.Duration {
	if u.cfg.Queue == nil {
		return 0 // a reload has removed the queue
	}
	return u.cfg.Queue.Timeout
}

// expectLate has the end of the first wait become due. All wait equally long, so that
// the others end after it.
func (u *Upstream) expectLate() {
	if u.waiting > 0 && !u.lineDue {
		u.lineDue = true
		u.due.Push(u.line[u.lineHead].since.Add(u.waitsFor()), event{kind: waitOver, gen: u.gen})
	}
}

// late ends the waits of requests that have waited too long.
func (u *Upstream) late(now tick.Time) {
	u.lineDue = false
	for u.waiting > 0 && u.line[u.lineHead].since.Add(u.waitsFor()) <= now {
		u.grant(now, &u.line[u.lineHead], refuse(WaitedTooLong))
	}
	u.expectLate()
}

// waiterOf returns the waiter of a ticket, nil if it waits no more.
func (u *Upstream) waiterOf(ticket uint64) *waiter {
	if ticket <= u.lineFirst || ticket > u.lineFirst+uint64(len(u.line)) {
		return nil
	}
	w := &u.line[ticket-1-u.lineFirst]
	if w.dead {
		return nil
	}
	return w
}

// leave takes a waiter out of the queue.
func (u *Upstream) leave(w *waiter) {
	w.dead = true
	u.waiting--
	for u.lineHead < len(u.line) && u.line[u.lineHead].dead {
		u.lineHead++
	}
	if u.lineHead > 64 && u.lineHead > len(u.line)/2 || u.lineHead == len(u.line) {
		u.lineFirst += uint64(u.lineHead)
		u.line, u.lineHead = u.line[:copy(u.line, u.line[u.lineHead:])], 0
	}
}

// serve grants those that wait what has become free, in the order they came.
func (u *Upstream) serve(now tick.Time) {
	for u.waiting > 0 {
		w := &u.line[u.lineHead] // leave moves the head past those that are dead
		v := u.place(u, now, &w.q, &w.a)
		if v.Kind == Refused && (v.Reason == NoRoom || v.Reason == NoBackend) {
			return
		}
		if v.Kind == Go {
			u.begin(now, &w.a, v.Backend)
		}
		u.grant(now, w, v)
	}
}

// grant ends a wait.
func (u *Upstream) grant(now tick.Time, w *waiter, v Verdict) {
	if len(u.grants) == 0 {
		u.due.Push(now, event{kind: grantsDue, gen: u.gen})
	}
	u.grants = append(u.grants, Grant{w.q, w.a, v})
	u.leave(w)
}

// handOut adds the grants that were made to the actions of the driver.
func (u *Upstream) handOut(actions []Action) []Action {
	for i := range u.grants {
		actions = append(actions, Action{Kind: Granted, Probe: None, Grant: u.grants[i]})
	}
	u.grants = u.grants[:0]
	return actions
}

// Waiting returns how many requests wait in the queue.
func (u *Upstream) Waiting() int { return u.waiting }
