package replay

import (
	"bytes"

	"kestrix/internal/core/route"
	"kestrix/internal/core/trace"
)

// ways remembers which way requests went by what they ask, their method and path: most
// requests of a log ask what some before them asked, and to hash a text takes less time
// than to go through routes. Where two fall on one place the last is remembered. Two
// whose hashes are equal are taken for one: it is one chance in 10^19 for each request.
type ways struct {
	slots         []way // a power of two of them; none if this does not pay
	queries       bool  // what follows the ? counts
	sought, found int
}

// way is where requests go that ask the same.
type way struct {
	asks   uint64 // hash of method and path as they are written
	route  int32  // position in plan.routes, -1 for none
	holds  bool
	missed route.Field
}

// manyWays is how many are remembered: what a near cache holds.
const manyWays = 4096

// newWays makes one for a table. It remembers nothing where routes ask who the client is,
// or a scenario which paths are streams.
func newWays(p *plan, t *table) ways {
	w := ways{queries: t.routes.Asks&route.AskQuery != 0}
	if !t.tcp && p.scenario.Streams == nil && t.routes.Asks&route.AskClient == 0 {
		w.slots = make([]way, manyWays)
	}
	return w
}

// of gives the place for a line, and whether it holds its way.
func (w *ways) of(asks []byte) (*way, bool) {
	if !w.queries {
		if i := bytes.IndexByte(asks, '?'); i >= 0 {
			asks = asks[:i]
		}
	}
	hash := quickHash(asks)
	s := &w.slots[hash>>16&uint64(len(w.slots)-1)]
	w.sought++
	if s.asks == hash && s.holds {
		w.found++
		return s, true
	}
	if w.sought > 2*manyWays && w.found < w.sought/2 {
		w.slots = nil // they are all different
	}
	s.asks, s.holds = hash, false
	return s, false
}

// way finds the route of a line.
func (p *parser) way(l *trace.Plain, text []byte, a *arrival, from *sender) {
	var s *way
	if len(p.ways.slots) > 0 {
		known := false
		if s, known = p.ways.of(l.Asked(text)); known {
			a.route = s.route
			p.miss(s.missed)
			return
		}
	}
	if l.Record(text, &p.rec); p.only.tcp {
		p.rec.Protocol = trace.TCP
	}
	missed := p.find(p.only, &p.rec, a, from)
	switch {
	case s == nil:
	case a.route >= 0 && (p.routes[a.route].hash != nil || p.routes[a.route].sticky != nil):
		// More is asked of it than its route.
	default:
		s.route, s.missed, s.holds = a.route, missed, true
	}
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
