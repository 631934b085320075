package pool

import (
	"context"
	"net/http"

	"kestrix/internal/core/config"
	"kestrix/internal/core/request"
	"kestrix/internal/core/upstream"
)

// Request is a request that needs a backend, and what its pool learns of it.
type Request struct {
	upstream.Request
	Attempt upstream.Attempt
	Parts   *request.Request                 // its host, path and so on, by which sessions and hashes go
	Cookies func(name string) []*http.Cookie // nil for a connection
	Secure  bool                             // the client's side is TLS, which its cookie says
	Session uint64                           // of the client, 0 while there is none
}

// Decision is what came of asking the core where an attempt goes.
type Decision struct {
	Verdict upstream.Verdict
	Backend *Backend // nil unless it goes somewhere
	Reason  string
	Cookie  *http.Cookie // the seat that the client is to be given; nil for none
}

// Decide has the core choose. A request that has to wait waits here. ok is false when ctx
// ended before there was a decision.
func (l *Pool) Decide(ctx context.Context, q *Request) (d Decision, ok bool) {
	l.mu.Lock()
	if q.Attempt.Number == 0 {
		l.findSeatLocked(q)
	}
	v := l.core.Choose(l.set.o.Now(), &q.Request, &q.Attempt)
	if v.Kind != upstream.Queued {
		d = l.decidedLocked(v, q)
		l.mu.Unlock()
		return d, true
	}
	l.queued++
	granted := make(chan upstream.Grant, 1)
	l.waiters[q.ID] = granted
	l.noteLocked()
	l.mu.Unlock()
	select {
	case g := <-granted:
		q.Attempt = g.Attempt
		l.mu.Lock()
		defer l.mu.Unlock()
		return l.decidedLocked(g.Verdict, q), true
	case <-ctx.Done():
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	select {
	case g := <-granted: // it came after all, too late
		q.Attempt = g.Attempt
	default:
		delete(l.waiters, q.ID)
	}
	if q.Attempt.Number > 0 {
		l.core.Cancel(l.set.o.Now(), &q.Request, &q.Attempt)
	}
	l.noteLocked()
	return Decision{}, false
}

// decidedLocked notes a verdict. l.mu is held.
func (l *Pool) decidedLocked(v upstream.Verdict, q *Request) Decision {
	d := Decision{Verdict: v, Reason: l.core.ReasonWord(v.Reason)}
	switch v.Kind {
	case upstream.Go:
		d.Backend = l.backends[v.Backend]
		if v.Seat != upstream.None {
			d.Backend.counts.seats++
		}
	case upstream.Refused:
		l.refused++
	}
	d.Cookie = l.seatCookieLocked(v, q)
	l.noteLocked()
	return d
}

// grantLocked hands a request that waited its verdict. l.mu is held.
func (l *Pool) grantLocked(g *upstream.Grant) {
	if ch := l.waiters[g.Request.ID]; ch != nil {
		delete(l.waiters, g.Request.ID)
		ch <- *g
		return
	}
	if g.Verdict.Kind == upstream.Go {
		l.core.Cancel(l.set.o.Now(), &g.Request, &g.Attempt) // nobody waits for it any more
	}
}

// Settle tells the core how an attempt ended.
func (l *Pool) Settle(q *Request, o upstream.Outcome) upstream.Step {
	l.mu.Lock()
	defer l.mu.Unlock()
	now := l.set.o.Now()
	l.countLocked(now, &q.Attempt, o)
	if o.Kind == upstream.ConnectRefused || o.Kind == upstream.ConnectTimeout {
		l.unreachable()
	}
	step := l.core.Settle(now, &q.Request, &q.Attempt, o)
	if step == upstream.Again {
		l.retries++
	}
	l.noteLocked()
	return step
}

// Repeat settles an attempt of which only the head of the answer is known, if the
// request is tried again; else nothing is settled and the answer is passed on.
// The two go together: others may use up the budget in between.
func (l *Pool) Repeat(q *Request, o upstream.Outcome) bool {
	l.mu.Lock()
	defer l.mu.Unlock()
	now := l.set.o.Now()
	if !l.core.Repeats(now, &q.Request, &q.Attempt, o) {
		if l.cfg.Suspend != nil { // the answer has begun: the backend is not silent
			l.core.FirstByte(now, &q.Request, &q.Attempt)
		}
		return false
	}
	l.countLocked(now, &q.Attempt, o)
	l.core.Settle(now, &q.Request, &q.Attempt, o)
	l.retries++
	l.noteLocked()
	return true
}

// begins tells the core that the answer to an attempt has begun: its backend is not
// silent, however long the rest takes.
func (l *Pool) Begun(q *Request) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.cfg.Suspend != nil {
		l.core.FirstByte(l.set.o.Now(), &q.Request, &q.Attempt)
	}
}

// Cancel tells the core of an attempt that shows nothing of the backend, as where the
// client's own request was at fault.
func (l *Pool) Cancel(q *Request) {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.core.Cancel(l.set.o.Now(), &q.Request, &q.Attempt)
	l.noteLocked()
}

// Sticky returns the session setting in force, nil for none.
func (l *Pool) Sticky() *config.Sticky {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.cfg.Sticky
}
