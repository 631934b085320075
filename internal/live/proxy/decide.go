package proxy

import (
	"context"
	"net/http"

	"kestrix/internal/core/config"
	"kestrix/internal/core/request"
	"kestrix/internal/core/upstream"
)

// ask is a request that needs a backend, and what its pool learns of it.
type ask struct {
	upstream.Request
	attempt upstream.Attempt
	parts   *request.Request                 // its host, path and so on, by which sessions and hashes go
	cookies func(name string) []*http.Cookie // nil for a connection
	secure  bool                             // the client's side is TLS, which its cookie says
	session uint64                           // of the client, 0 while there is none
}

// decision is what came of asking the core where an attempt goes.
type decision struct {
	verdict upstream.Verdict
	backend *backend // nil unless it goes somewhere
	why     string
	cookie  *http.Cookie // the seat that the client is to be given; nil for none
}

// decide has the core choose. A request that has to wait waits here. ok is false when ctx
// ended before there was a decision.
func (l *pool) decide(ctx context.Context, q *ask) (d decision, ok bool) {
	l.mu.Lock()
	if q.attempt.Number == 0 {
		l.findSeatLocked(q)
	}
	v := l.core.Choose(l.set.o.Now(), &q.Request, &q.attempt)
	if v.Kind != upstream.Queued {
		d = l.decidedLocked(v, q)
		l.mu.Unlock()
		return d, true
	}
	granted := make(chan upstream.Grant, 1)
	l.waiters[q.ID] = granted
	l.noteLocked()
	l.mu.Unlock()
	select {
	case g := <-granted:
		q.attempt = g.Attempt
		l.mu.Lock()
		defer l.mu.Unlock()
		return l.decidedLocked(g.Verdict, q), true
	case <-ctx.Done():
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	select {
	case g := <-granted: // it came after all, too late
		q.attempt = g.Attempt
	default:
		delete(l.waiters, q.ID)
	}
	if q.attempt.Number > 0 {
		l.core.Cancel(l.set.o.Now(), &q.Request, &q.attempt)
	}
	l.noteLocked()
	return decision{}, false
}

// decidedLocked notes a verdict. l.mu is held.
func (l *pool) decidedLocked(v upstream.Verdict, q *ask) decision {
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
	d.cookie = l.seatCookieLocked(v, q)
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
		l.core.Cancel(l.set.o.Now(), &g.Request, &g.Attempt) // nobody waits for it any more
	}
}

// settle tells the core how an attempt ended.
func (l *pool) settle(q *ask, o upstream.Outcome) upstream.Step {
	l.mu.Lock()
	defer l.mu.Unlock()
	now := l.set.o.Now()
	l.countLocked(now, &q.attempt, o)
	step := l.core.Settle(now, &q.Request, &q.attempt, o)
	l.noteLocked()
	return step
}

// repeat settles an attempt of which only the head of the answer is known, if the
// request is tried again; else nothing is settled and the answer is passed on.
// The two go together: others may use up the budget in between.
func (l *pool) repeat(q *ask, o upstream.Outcome) bool {
	l.mu.Lock()
	defer l.mu.Unlock()
	now := l.set.o.Now()
	if !l.core.Repeats(now, &q.Request, &q.attempt, o) {
		if l.cfg.Suspend != nil { // the answer has begun: the backend is not silent
			l.core.FirstByte(now, &q.Request, &q.attempt)
		}
		return false
	}
	l.countLocked(now, &q.attempt, o)
	l.core.Settle(now, &q.Request, &q.attempt, o)
	l.noteLocked()
	return true
}

// begins tells the core that the answer to an attempt has begun: its backend is not
// silent, however long the rest takes.
func (l *pool) begins(q *ask) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.cfg.Suspend != nil {
		l.core.FirstByte(l.set.o.Now(), &q.Request, &q.attempt)
	}
}

// cancel tells the core of an attempt that shows nothing of the backend, as where the
// client's own request was at fault.
func (l *pool) cancel(q *ask) {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.core.Cancel(l.set.o.Now(), &q.Request, &q.attempt)
	l.noteLocked()
}

// sticky returns the session setting in force, nil for none.
func (l *pool) sticky() *config.Sticky {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.cfg.Sticky
}
