package ingest

import (
	"bytes"

	"kestrix/internal/core/route"
	"kestrix/internal/core/scenario"
	"kestrix/internal/core/trace"
)

// routeCache remembers the routes of requests by what they ask, their method, host and
// path: most requests of a log ask what some before them asked, and hashing a text
// takes less time than matching it against routes. Where two fall on one entry the last
// is remembered. Two whose hashes are equal are taken for one: one chance in 10^19 for
// each request. Without it `kestrix replay CONFIG LOG` of two million Combined lines and
// three routes by path takes an eighth more time, and a quarter more processor time.
type routeCache struct {
	entries       []cachedRoute // a power of two of them; none if this does not pay
	sought, found int
}

// cachedRoute is the route of requests that ask the same.
type cachedRoute struct {
	asks  uint64 // hash of what is asked
	route int32  // position in plan.routes, -1 for none
	set   bool

	redirected bool
	missed     route.Field
	paths      scenario.PathSet
}

// cachedRoutes is how many are remembered: as many as a near cache of a processor has
// room for.
const cachedRoutes = 4096

// newRouteCache returns one for a plan; it remembers nothing where a scenario asks
// which paths are streams.
func newRouteCache(p *Plan) routeCache {
	if p.scenario.Streams != nil {
		return routeCache{}
	}
	return routeCache{entries: make([]cachedRoute, cachedRoutes)}
}

// holds reports whether the routes of a table may be remembered: they go by nothing but
// what is hashed, and the record has it.
func (w *routeCache) holds(t *table, rec *trace.Record) bool {
	const hashed = route.AskMethod | route.AskHost | route.AskPath | route.AskQuery
	return len(w.entries) > 0 && !t.tcp && (t.routes.Asks&^hashed == 0 || len(rec.Headers) == 0 && len(rec.Cookies) == 0 && t.routes.Asks&route.AskClient == 0) && rec.Method != nil && rec.Path != nil
}

// entry returns the entry for a record, and whether it holds its route.
func (w *routeCache) entry(t *table, rec *trace.Record) (*cachedRoute, bool) {
	path := rec.Path
	if t.routes.Asks&route.AskQuery == 0 {
		if i := bytes.IndexByte(path, '?'); i >= 0 {
			path = path[:i]
		}
	}
	hash := quickHash(path) ^ quickHash(rec.Method)*hashAgent ^ uint64(t.index)*hashLength
	if rec.Host != nil {
		hash ^= quickHash(rec.Host) * hashSession
	}
	hash += uint64(rec.Protocol)
	e := &w.entries[hash>>16&uint64(len(w.entries)-1)]
	w.sought++
	if e.asks == hash && e.set {
		w.found++
		return e, true
	}
	if w.sought > 2*cachedRoutes && w.found < w.sought/2 {
		w.entries = nil // they are all different
	}
	e.asks, e.set = hash, false
	return e, false
}

// misses counts records that did not say what a route asked, by the bits of a field.
type misses [8]int64

func (m *misses) add(other *misses) {
	for i, n := range other {
		m[i] += n
	}
}

// miss counts what a record did not say.
func (p *parser) miss(missed route.Field) {
	for i := 0; missed != 0; i, missed = i+1, missed>>1 {
		p.known[i] += int64(missed & 1)
	}
}
