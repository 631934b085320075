package proxy

import (
	"maps"
	"slices"
	"strings"
	"sync"

	"kestrix/internal/core/cause"
	"kestrix/internal/core/config"
	"kestrix/internal/core/status"
	"kestrix/internal/live/accesslog"
)

// refusals counts what became of the requests of each frontend; those that it answered,
// or reset, without asking a backend, and the connections that it closed before there was
// one, by cause. The zero value is ready.
type refusals struct {
	mu          sync.Mutex // guards all below
	frontends   map[string]*status.Frontend
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

// note counts a request that is over.
func (r *refusals) note(a *accesslog.Line) {
	r.mu.Lock()
	defer r.mu.Unlock()
	f := r.frontend(a.Frontend)
	switch a.Cause {
	case cause.None:
		f.Answered++
		return
	case cause.ClientLeft:
		f.ClientLeft++
	default:
		f.Failed++
	}
	if a.Upstream != "" {
		return
	}
	if r.count == nil {
		r.count = map[refusedFor]uint64{}
	}
	r.count[refusedFor{a.Frontend, a.Cause.String()}]++ // frontends and causes are few
}

// frontend returns the counts of one. The caller holds the lock.
func (r *refusals) frontend(name string) *status.Frontend {
	if f := r.frontends[name]; f != nil {
		return f
	}
	if r.frontends == nil {
		r.frontends = map[string]*status.Frontend{}
	}
	f := &status.Frontend{Name: name}
	r.frontends[name] = f
	return f
}

func (r *refusals) zero() {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.frontends, r.count, r.connections = nil, nil, nil
}

// outcomes returns the counts of each frontend, sorted by name: those given, also if
// they have none, and others that had requests.
func (r *refusals) outcomes(configured []*config.Frontend) []status.Frontend {
	r.mu.Lock()
	defer r.mu.Unlock()
	for _, f := range configured {
		r.frontend(f.Name)
	}
	out := []status.Frontend{}
	for _, name := range slices.Sorted(maps.Keys(r.frontends)) {
		out = append(out, *r.frontends[name])
	}
	return out
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
