package proxy

import (
	"context"

	"kestrix/internal/core/config"
	"kestrix/internal/core/upstream"
)

// decision is what came of asking the core where an attempt goes.
type decision struct {
	verdict upstream.Verdict
	backend *backend // nil unless it goes somewhere
	why     string
}

// decide has the core choose. A request that is told to wait waits here. before
// and after are called with l.mu held, around the choice; either may be nil. ok
// is false when ctx ended before there was a decision.
func (l *pool) decide(ctx context.Context, q *upstream.Request, a *upstream.Attempt, before func(), after func(upstream.Verdict)) (d decision, ok bool) {
	l.mu.Lock()
	if before != nil {
		before()
	}
	v := l.core.Choose(l.proxy.now(), q, a)
	if v.Kind != upstream.Queued {
		d = l.decidedLocked(v, after)
		l.mu.Unlock()
		return d, true
	}
	granted := make(chan upstream.Grant, 1)
	l.waiters[q.ID] = granted
	l.noteLocked()
	l.mu.Unlock()
	select {
	case g := <-granted:
		*a = g.Attempt
		l.mu.Lock()
		defer l.mu.Unlock()
		return l.decidedLocked(g.Verdict, after), true
	case <-ctx.Done():
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	select {
	case g := <-granted: // it came after all, too late
		*a = g.Attempt
	default:
		delete(l.waiters, q.ID)
	}
	if a.Number > 0 {
		l.core.Cancel(l.proxy.now(), q, a)
	}
	l.noteLocked()
	return decision{}, false
}

// decidedLocked notes a verdict. l.mu is held.
func (l *pool) decidedLocked(v upstream.Verdict, after func(upstream.Verdict)) decision {
	d := decision{verdict: v, why: l.core.ReasonWord(v.Reason)}
	switch v.Kind {
	case upstream.Go:
		d.backend = l.backends[v.Backend]
		if v.Seat != upstream.None {
			d.backend.counts.seats++
		}
	case upstream.Refused:
		l.refused++
	}
	if after != nil {
		after(v)
	}
	l.noteLocked()
	return d
}

// grantLocked hands a request that waited its verdict. l.mu is held.
func (l *pool) grantLocked(g *upstream.Grant) {
	if ch := l.waiters[g.Request.ID]; ch != nil {
		delete(l.waiters, g.Request.ID)
		ch <- *g
		return
	}
	if g.Verdict.Kind == upstream.Go {
		l.core.Cancel(l.proxy.now(), &g.Request, &g.Attempt) // nobody waits for it any more
	}
}

// settle tells the core how an attempt ended.
func (l *pool) settle(q *upstream.Request, a *upstream.Attempt, o upstream.Outcome) upstream.Step {
	l.mu.Lock()
	defer l.mu.Unlock()
	now := l.proxy.now()
	l.countLocked(now, a, o)
	step := l.core.Settle(now, q, a, o)
	l.noteLocked()
	return step
}

// repeat settles an attempt of which only the head of the answer is known, if the
// request is tried again; else nothing is settled and the answer is passed on.
// The two go together: others may use up the budget in between.
func (l *pool) repeat(q *upstream.Request, a *upstream.Attempt, o upstream.Outcome) bool {
	l.mu.Lock()
	defer l.mu.Unlock()
	now := l.proxy.now()
	if !l.core.Repeats(now, q, a, o) {
		l.beginsLocked(q, a)
		return false
	}
	l.countLocked(now, a, o)
	l.core.Settle(now, q, a, o)
	l.noteLocked()
	return true
}

// begins tells the core that the answer to an attempt has begun: its backend is not
// silent, however long the rest takes.
func (l *pool) begins(q *upstream.Request, a *upstream.Attempt) {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.beginsLocked(q, a)
}

// beginsLocked is begins with l.mu held.
func (l *pool) beginsLocked(q *upstream.Request, a *upstream.Attempt) {
	if l.cfg.Suspend != nil {
		l.core.FirstByte(l.proxy.now(), q, a)
	}
}

// cancel tells the core of an attempt that shows nothing of the backend, as where the
// client's own request was at fault.
func (l *pool) cancel(q *upstream.Request, a *upstream.Attempt) {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.core.Cancel(l.proxy.now(), q, a)
	l.noteLocked()
}

// sticky returns the session setting in force, nil for none.
func (l *pool) sticky() *config.Sticky {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.cfg.Sticky
}

// hash returns what a hash goes by, nil for another algorithm.
func (l *pool) hash() *config.Hash {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.cfg.Hash
}
