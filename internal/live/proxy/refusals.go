package proxy

import (
	"maps"
	"slices"
	"strings"
	"sync"

	"kestrix/internal/core/cause"
	"kestrix/internal/core/status"
	"kestrix/internal/live/accesslog"
)

// refusals counts the requests that a frontend answered, or reset, without asking
// a backend, by cause. The zero value is ready.
type refusals struct {
	mu    sync.Mutex // guards all below
	count map[refusedFor]uint64
}

type refusedFor struct{ frontend, cause string }

// note counts a request that is over, if it was refused.
func (r *refusals) note(a *accesslog.Line) {
	if a.Upstream != "" || a.Frontend == "" || a.Cause == cause.None {
		return
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.count == nil {
		r.count = map[refusedFor]uint64{}
	}
	r.count[refusedFor{a.Frontend, a.Cause.String()}]++ // frontends and causes are few
}

func (r *refusals) zero() {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.count = nil
}

// all returns the counts, sorted by frontend and cause.
func (r *refusals) all() []status.Refused {
	r.mu.Lock()
	defer r.mu.Unlock()
	out := []status.Refused{}
	for _, k := range slices.SortedFunc(maps.Keys(r.count), func(a, b refusedFor) int {
		return strings.Compare(a.frontend+"\x00"+a.cause, b.frontend+"\x00"+b.cause)
	}) {
		out = append(out, status.Refused{Frontend: k.frontend, Cause: k.cause, Requests: r.count[k]})
	}
	return out
}

// over counts a request that has ended and passes it to the access log.
func (p *Proxy) over(a *accesslog.Line) {
	p.refusals.note(a)
	p.o.Access(a)
}
