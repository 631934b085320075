package proxy

import (
	"cmp"
	"maps"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"kestrix/internal/core/cause"
	"kestrix/internal/core/status"
	"kestrix/internal/core/trace"
	"kestrix/internal/live/accesslog"
)

// How many requests of each kind are kept for a route, and how much of a text.
const (
	keptRequests = 100
	keptText     = 1000
)

// ring keeps the latest requests. The zero value is ready.
type ring struct {
	all  []*keptRequest
	next int // the oldest, once all are there
}

// keptRequest is a request with its place in the order in which they ended.
type keptRequest struct {
	status.Request
	n uint64
}

func (r *ring) add(x *keptRequest) {
	if len(r.all) < keptRequests {
		r.all = append(r.all, x)
		return
	}
	r.all[r.next] = x
	r.next = (r.next + 1) % keptRequests
}

// keeper keeps the latest requests of each route that failed, and those that lasted long. The
// zero value keeps none.
type keeper struct {
	slowFrom atomic.Int64 // nanoseconds; 0: nothing is kept
	mu       sync.Mutex   // guards all below
	ended    uint64
	routes   map[routeName]*keptOf
}

// keptOf are the requests of a route.
type keptOf struct{ failed, slow ring }

// note keeps a request that has ended if it failed or lasted long.
func (k *keeper) note(a *accesslog.Line) {
	from := time.Duration(k.slowFrom.Load())
	if from == 0 {
		return
	}
	failed := a.Cause != cause.None && a.Cause != cause.ClientLeft
	slow := a.Kind == trace.HTTP && a.Duration >= from // the others last for as long as clients want
	if !failed && !slow {
		return
	}
	x := &keptRequest{Request: toKeep(a)}
	x.Slow = slow
	k.mu.Lock()
	defer k.mu.Unlock()
	k.ended++
	x.n = k.ended
	name := routeName{a.Frontend, a.Route}
	of := k.routes[name]
	if of == nil {
		if k.routes == nil {
			k.routes = map[routeName]*keptOf{}
		}
		of = new(keptOf)
		k.routes[name] = of
	}
	if slow {
		of.slow.add(x)
	}
	if failed {
		of.failed.add(x)
	}
}

// toKeep copies what is kept of a request, so that nothing else of it stays in memory.
func toKeep(a *accesslog.Line) status.Request {
	text := func(s string) string { return strings.Clone(s[:min(len(s), keptText)]) }
	x := status.Request{
		RequestID: text(a.RequestID), At: a.Time, Frontend: a.Frontend, Route: a.Route, Upstream: a.Upstream, Client: text(a.Client), Method: text(a.Method), Host: text(a.Host), Path: text(a.Path),
		Protocol: text(a.Protocol), Status: a.Status, Cause: a.Cause.String(), Bytes: a.Bytes, Duration: a.Duration.Seconds(), TraceID: text(a.TraceID), Attempts: []status.RequestAttempt{},
	}
	if a.Upstream != "" {
		id := a.ID
		x.ID = &id
	}
	for _, t := range a.Tries {
		x.Attempts = append(x.Attempts, status.RequestAttempt{
			Backend: t.Backend, Address: t.Address, Reason: t.Reason, At: a.Time.Add(t.Began), Connect: t.Connect.Seconds(), FirstByte: t.FirstByte.Seconds(), Duration: t.Duration.Seconds(),
			Status: t.Status, Cause: t.Cause.String(),
		})
	}
	return x
}

// newest returns the requests of a ring, the newest first.
func (r *ring) newest() []*keptRequest {
	out := make([]*keptRequest, 0, len(r.all))
	for i := range r.all {
		out = append(out, r.all[(r.next+len(r.all)-1-i)%len(r.all)])
	}
	return out
}

// find returns the requests that a query selects, the newest first.
func (k *keeper) find(q status.RequestQuery) []status.Request {
	k.mu.Lock()
	defer k.mu.Unlock()
	found := map[*keptRequest]struct{}{} // one may be in two rings
	for name, c := range k.routes {
		if q.Frontend != "" && q.Frontend != name.frontend || q.Route != "" && q.Route != name.route {
			continue
		}
		for i, r := range []*ring{&c.failed, &c.slow} {
			perCause := map[string]int{}
			for _, x := range r.newest() {
				if selects(&q, &x.Request, i == 0) && (q.PerCause == 0 || perCause[x.Cause] < q.PerCause) {
					perCause[x.Cause]++
					found[x] = struct{}{}
				}
			}
		}
	}
	all := slices.SortedFunc(maps.Keys(found), func(a, b *keptRequest) int { return cmp.Compare(b.n, a.n) })
	out := make([]status.Request, 0, len(all))
	perCause := map[string]int{}
	for _, x := range all {
		if perCause[x.Cause]++; q.PerCause > 0 && perCause[x.Cause] > q.PerCause || q.Most > 0 && len(out) == q.Most {
			continue
		}
		out = append(out, x.Request)
	}
	return out
}

// selects reports whether a query selects a request, that failed or did not.
func selects(q *status.RequestQuery, x *status.Request, failed bool) bool {
	return (q.ID == "" || q.ID == x.RequestID || x.ID != nil && q.ID == strconv.FormatUint(*x.ID, 10)) &&
		(q.Cause == "" || q.Cause == x.Cause) &&
		(q.Failed == q.Slow || q.Failed && failed || q.Slow && x.Slow)
}

// Requests returns the kept requests that a query selects, the newest first.
func (p controlled) Requests(q status.RequestQuery) status.Requests {
	return status.Requests{Most: keptRequests, SlowFrom: time.Duration(p.kept.slowFrom.Load()).Seconds(), Requests: p.kept.find(q)}
}

// beginTry notes that a backend is about to be asked.
func (x *exchange) beginTry(reason string) {
	a := &x.access
	if a.Tries == nil {
		a.Tries = x.tries[:0]
	}
	a.Connect, a.FirstByte = 0, 0
	a.Tries = append(a.Tries, accesslog.Try{Backend: a.Backend, Address: a.Address, Reason: reason, Began: time.Since(a.Time)})
}

// endTry notes what came of the attempt. It is called at the beginning of the next one, and
// at the end of the request.
func endTry(a *accesslog.Line) {
	n := len(a.Tries)
	if n == 0 || a.Tries[n-1].Duration > 0 {
		return
	}
	t := &a.Tries[n-1]
	t.Connect, t.FirstByte, t.Duration = a.Connect, a.FirstByte, max(time.Since(a.Time)-t.Began, 1)
}

// failedTry notes why an attempt failed, or with which status.
func (x *exchange) failedTry(why cause.Cause, code int) {
	if n := len(x.access.Tries); n > 0 {
		x.access.Tries[n-1].Cause, x.access.Tries[n-1].Status = why, code
	}
}

// lastTry ends the last attempt with the request: what became of one that is not known by now
// is what became of the other.
func lastTry(a *accesslog.Line) {
	endTry(a)
	n := len(a.Tries)
	if n == 0 || a.Backend == "" {
		return
	}
	t := &a.Tries[n-1]
	if t.Cause == cause.None && t.Status == 0 {
		if t.Cause = a.Cause; t.FirstByte > 0 && a.Kind != trace.TCP {
			t.Status = a.Status
		}
	}
}
