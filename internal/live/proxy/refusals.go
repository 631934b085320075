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
// a backend, and the connections that it closed before there was one, by cause. The zero
// value is ready.
type refusals struct {
	mu          sync.Mutex // guards all below
	count       map[refusedFor]uint64
	connections map[refusedFor]uint64
}

// Why a connection is refused, as status.RefusedConnections has it.
const (
	overConnections = "connections" // of its client, by limits { connections }
	overTotal       = "connections_total"
	badProxyHeader  = "proxy_protocol"
)

// connection counts one that was refused.
func (r *refusals) connection(frontend, why string) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.connections == nil {
		r.connections = map[refusedFor]uint64{}
	}
	r.connections[refusedFor{frontend, why}]++
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
	r.count, r.connections = nil, nil
}

// all returns the counts, sorted by frontend and cause.
func (r *refusals) all() []status.Refused {
	r.mu.Lock()
	defer r.mu.Unlock()
	out := []status.Refused{}
	for _, k := range sorted(r.count) {
		out = append(out, status.Refused{Frontend: k.frontend, Cause: k.cause, Requests: r.count[k]})
	}
	return out
}

// allConnections returns those of connections, likewise.
func (r *refusals) allConnections() []status.RefusedConnections {
	r.mu.Lock()
	defer r.mu.Unlock()
	out := []status.RefusedConnections{}
	for _, k := range sorted(r.connections) {
		out = append(out, status.RefusedConnections{Frontend: k.frontend, Cause: k.cause, Connections: r.connections[k]})
	}
	return out
}

func sorted(counts map[refusedFor]uint64) []refusedFor {
	return slices.SortedFunc(maps.Keys(counts), func(a, b refusedFor) int {
		return strings.Compare(a.frontend+"\x00"+a.cause, b.frontend+"\x00"+b.cause)
	})
}

// over counts a request that has ended and passes it to the access log.
func (p *Proxy) over(a *accesslog.Line) {
	p.refusals.note(a)
	p.o.Access(a)
}
