package upstream

import "kestrix/internal/core/tick"

// waiter is a request in the queue.
type waiter struct {
	q    Request
	a    Attempt
	dead bool // granted, cancelled or expired
}

// Grant is the end of a wait in the queue: the request and its attempt as they
// were handed in, with the verdict.
type Grant struct {
	Request Request
	Attempt Attempt
	Verdict Verdict
}

// enqueue puts a request in the queue, if there is room.
func (u *Upstream) enqueue(now tick.Time, q *Request, a *Attempt) Verdict {
	c := u.cfg.Queue
	if u.waiting >= c.Limit {
		return Verdict{Kind: Refused, Backend: None, Reason: NoRoom, Seat: None}
	}
	u.line = append(u.line, waiter{q: *q, a: *a})
	u.waiting++
	a.ticket = u.lineFirst + uint64(len(u.line)) // one more than its number, so that 0 is none
	u.due.Push(now.Add(c.Timeout), event{kind: waitOver, at: tick.Time(a.ticket)})
	return Verdict{Kind: Queued, Backend: None, Reason: InQueue, Seat: None}
}

// waiterOf gives the waiter of a ticket, nil if it waits no more.
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
	gone := 0
	for gone < len(u.line) && u.line[gone].dead {
		gone++
	}
	u.lineFirst += uint64(gone)
	if gone == len(u.line) {
		u.line = u.line[:0]
	} else if gone > 0 {
		u.line = u.line[:copy(u.line, u.line[gone:])]
	}
}

// serve gives those that wait what has become free, in the order they came.
func (u *Upstream) serve(now tick.Time) {
	for u.waiting > 0 {
		w := &u.line[0] // leave keeps the first alive
		v := u.decide(now, &w.q, &w.a)
		if v.Kind == Refused && (v.Reason == NoRoom || v.Reason == NoBackend) {
			return
		}
		u.grant(now, w, v)
	}
}

// grant ends a wait.
func (u *Upstream) grant(now tick.Time, w *waiter, v Verdict) {
	u.grants = append(u.grants, Grant{w.q, w.a, v})
	u.grantedAt = now
	u.leave(w)
}

// late ends the wait of a request that has waited too long.
func (u *Upstream) late(now tick.Time, ticket uint64) {
	if w := u.waiterOf(ticket); w != nil {
		u.grant(now, w, Verdict{Kind: Refused, Backend: None, Reason: WaitedTooLong, Seat: None})
	}
}

// handOut adds the grants that were made to the actions of the driver.
func (u *Upstream) handOut(actions []Action) []Action {
	for i := range u.grants {
		actions = append(actions, Action{Kind: Granted, Probe: None, Grant: u.grants[i]})
	}
	u.grants = u.grants[:0]
	return actions
}

// Waiting gives how many requests wait in the queue.
func (u *Upstream) Waiting() int { return u.waiting }
