package proxy

import (
	"cmp"
	"maps"
	"slices"
	"strings"
	"sync"

	"kestrix/internal/core/cause"
	"kestrix/internal/core/config"
	"kestrix/internal/core/status"
	"kestrix/internal/core/trace"
	"kestrix/internal/live/accesslog"
	"kestrix/internal/live/measure"
)

// requestCounts counts the requests that have ended by route, with their causes of failure and
// their times, and the connections that were closed before a request was read. The zero value
// is ready.
type requestCounts struct {
	mu          sync.Mutex // guards all below
	routes      map[routeName]*routeCounts
	connections map[refusedFor]uint64
}

// routeName names a route of a frontend; the route is empty for requests that none took.
type routeName struct{ frontend, route string }

// routeCounts counts the requests of a route.
type routeCounts struct {
	answered, left, redirected uint64
	statuses                   [5]uint64
	failed                     map[cause.Cause]uint64
	refused                    map[cause.Cause]uint64 // those of failed and left for which no backend was asked
	elapsed, firstByte         measure.Histogram
	exemplars                  *measure.Exemplars // of elapsed; nil before the first
}

// Why a connection is refused, as status.RefusedConnections has it.
const (
	overConnections = "connections" // of its client, by limits { connections }
	overTotal       = "connections_total"
	badProxyHeader  = "proxy_protocol"
)

// connection counts one that was refused.
func (r *requestCounts) connection(frontend, why string) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.connections == nil {
		r.connections = map[refusedFor]uint64{}
	}
	r.connections[refusedFor{frontend, why}]++
}

type refusedFor struct{ frontend, cause string }

// note counts a request that has ended.
func (r *requestCounts) note(a *accesslog.Line) {
	r.mu.Lock()
	defer r.mu.Unlock()
	name := routeName{a.Frontend, a.Route}
	c := r.routes[name]
	if c == nil {
		if r.routes == nil {
			r.routes = map[routeName]*routeCounts{}
		}
		c = &routeCounts{failed: map[cause.Cause]uint64{}, refused: map[cause.Cause]uint64{}}
		r.routes[name] = c
	}
	if class := a.Status/100 - 1; class >= 0 && class < len(c.statuses) {
		c.statuses[class]++
	}
	if a.Kind == trace.HTTP { // the others last for as long as clients want
		c.elapsed.Add(a.Duration)
		if a.TraceID != "" {
			if c.exemplars == nil {
				c.exemplars = new(measure.Exemplars)
			}
			c.exemplars.Add(measure.Exemplar{Seconds: a.Duration.Seconds(), TraceID: a.TraceID, At: a.Time.Add(a.Duration)})
		}
	}
	if a.FirstByte > 0 {
		c.firstByte.Add(a.FirstByte)
	}
	switch a.Cause {
	case cause.None:
		c.answered++
		if a.Upstream == "" && a.Status/100 == 3 {
			c.redirected++
		}
		return
	case cause.ClientLeft:
		c.left++
	default:
		c.failed[a.Cause]++
	}
	if a.Upstream == "" {
		c.refused[a.Cause]++
	}
}

func (r *requestCounts) zero() {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.routes, r.connections = nil, nil
}

// frontends returns the counts of the configured frontends, and of others that had requests,
// sorted by name.
func (r *requestCounts) frontends(configured []*config.Frontend) []status.Frontend {
	r.mu.Lock()
	defer r.mu.Unlock()
	by := map[string]*status.Frontend{}
	of := func(name string) *status.Frontend {
		if by[name] == nil {
			by[name] = &status.Frontend{Name: name, Routes: []status.Route{}}
		}
		return by[name]
	}
	for _, f := range configured {
		of(f.Name)
	}
	for _, name := range r.sorted() {
		c, f := r.routes[name], of(name.frontend)
		x := status.Route{
			Name: name.route, Answered: c.answered, ClientLeft: c.left, Redirected: c.redirected, Statuses: c.statuses, Errors: map[string]uint64{},
			Elapsed: status.Elapsed{P50: c.elapsed.Quantile(0.5), P99: c.elapsed.Quantile(0.99)},
		}
		for why, n := range c.failed {
			x.Errors[why.String()] = n
			x.Failed += n
		}
		f.Answered, f.Failed, f.ClientLeft = f.Answered+x.Answered, f.Failed+x.Failed, f.ClientLeft+x.ClientLeft
		f.Routes = append(f.Routes, x)
	}
	out := []status.Frontend{}
	for _, name := range slices.Sorted(maps.Keys(by)) {
		out = append(out, *by[name])
	}
	return out
}

// sorted returns the routes by frontend and name. The caller holds the lock.
func (r *requestCounts) sorted() []routeName {
	return slices.SortedFunc(maps.Keys(r.routes), func(a, b routeName) int {
		return cmp.Or(strings.Compare(a.frontend, b.frontend), strings.Compare(a.route, b.route))
	})
}

// refused returns the requests for which no backend was asked, by frontend and cause, sorted.
func (r *requestCounts) refused() []status.Refused {
	r.mu.Lock()
	defer r.mu.Unlock()
	counts := map[refusedFor]uint64{}
	for name, c := range r.routes {
		for why, n := range c.refused {
			counts[refusedFor{name.frontend, why.String()}] += n
		}
	}
	out := []status.Refused{}
	for _, k := range sorted(counts) {
		out = append(out, status.Refused{Frontend: k.frontend, Cause: k.cause, Requests: counts[k]})
	}
	return out
}

// refusedConnections returns the connections that were refused, likewise.
func (r *requestCounts) refusedConnections() []status.RefusedConnections {
	r.mu.Lock()
	defer r.mu.Unlock()
	out := []status.RefusedConnections{}
	for _, k := range sorted(r.connections) {
		out = append(out, status.RefusedConnections{Frontend: k.frontend, Cause: k.cause, Connections: r.connections[k]})
	}
	return out
}

// times returns the histograms of each route, sorted by frontend and name. It copies them, so
// that requests wait for the lock no longer than that takes.
func (r *requestCounts) times() []measure.RouteTimes {
	r.mu.Lock()
	defer r.mu.Unlock()
	out := make([]measure.RouteTimes, 0, len(r.routes))
	for _, name := range r.sorted() {
		c := r.routes[name]
		x := measure.RouteTimes{Frontend: name.frontend, Route: name.route, Elapsed: c.elapsed, FirstByte: c.firstByte}
		if c.exemplars != nil {
			x.Exemplars = *c.exemplars
		}
		out = append(out, x)
	}
	return out
}

func sorted(counts map[refusedFor]uint64) []refusedFor {
	return slices.SortedFunc(maps.Keys(counts), func(a, b refusedFor) int {
		return strings.Compare(a.frontend+"\x00"+a.cause, b.frontend+"\x00"+b.cause)
	})
}
