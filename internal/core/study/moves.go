package study

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"

	"github.com/cespare/xxhash/v2"

	"kestrix/internal/core/config"
	"kestrix/internal/core/ingest"
	"kestrix/internal/core/region"
	"kestrix/internal/core/route"
	"kestrix/internal/core/scenario"
	"kestrix/internal/core/trace"
)

// TraceMoves is what becomes of the requests of a trace under a change of
// configuration. The keys are documented and stable.
type TraceMoves struct {
	Of        string      `json:"of"` // what was put through: "trace" or "load"
	Requests  int64       `json:"requests"`
	Different int64       `json:"different"` // of them, those that are answered differently
	Unknown   int64       `json:"unknown"`   // of them, those for which a condition asks what the trace does not record
	Moves     []TraceMove `json:"moves"`     // the most frequent first
}

// TraceMove is where some requests of a trace went and where they go.
type TraceMove struct {
	Frontend string `json:"frontend"`
	OldRoute string `json:"old_route"` // empty for none
	NewRoute string `json:"new_route"`
	Old      string `json:"old"`
	New      string `json:"new"`
	Requests int64  `json:"requests"`
	Clients  int64  `json:"clients"` // their addresses, of which at most 200,000 are told apart; 0 where none are recorded
	Example  string `json:"example"` // the first of them: method and path
	Line     int64  `json:"line"`    // where it stands; of a load its number
}

// Mover puts the records of a trace through two configurations.
type Mover struct {
	frontend, host string
	all            []*pair
	pairs          map[string]*pair // by either name
	only           *pair
	moves          TraceMoves
}

// pair is a frontend in both configurations.
type pair struct {
	name     string
	old, now side
	asks     route.Field
	seen     map[[2]int]*movedRequests // by the routes of either side
}

// movedRequests is a move while it is counted.
type movedRequests struct {
	TraceMove
	clients map[uint64]struct{} // hashes of their addresses, the first MostClients of them
}

// MostClients bounds the clients of a move that are told apart.
const MostClients = 200_000

// Put puts what becomes of the requests of a trace beside what was proved of all.
func (d *Diff) Put(t *TraceMoves) {
	d.Trace = t
	for i := range d.Requests {
		m := &d.Requests[i]
		m.Trace = new(int64)
		if k := t.of(m); k >= 0 {
			*m.Trace = t.Moves[k].Requests
		}
	}
}

// of returns the position of a move of the trace, -1 if none of its requests has it.
func (t *TraceMoves) of(m *RequestMove) int {
	return slices.IndexFunc(t.Moves, func(x TraceMove) bool {
		return x.Frontend == m.Frontend && x.OldRoute == m.OldRoute && x.NewRoute == m.NewRoute && x.Old == m.Old && x.New == m.New
	})
}

// Example returns the first request of the trace that a move is about; nil for none.
func (d *Diff) Example(m *RequestMove) *TraceMove {
	if d.Trace == nil {
		return nil
	}
	if k := d.Trace.of(m); k >= 0 {
		return &d.Trace.Moves[k]
	}
	return nil
}

// side is a frontend in one of them; routes is nil where it is not there.
type side struct {
	routes *route.Table
	ends   []string // where each route leads; the last two are for what is refused, and for none
}

// NewMover makes one. The frontend and the host are for records that name none;
// a frontend that neither side has is an error.
func NewMover(old, now *config.Config, frontend, host string) (*Mover, error) {
	m := &Mover{moves: TraceMoves{Of: "trace"}, frontend: frontend, host: host, pairs: map[string]*pair{}}
	renamed := renamedUpstreams(old, now)
	add := func(p *pair, f *config.Frontend, of map[string]string) side {
		s := side{routes: route.Compile(f)}
		for j := range f.Routes {
			s.ends = append(s.ends, leads(f, j, of))
		}
		s.ends = append(s.ends, leads(f, region.Refused, of), leads(f, -1, of))
		p.asks |= s.routes.Asks
		return s
	}
	nobody := side{ends: []string{"no listener"}}
	pairs := pairedFrontends(old, now)
	for _, f := range old.Frontends {
		p := &pair{name: f.Name, now: nobody, seen: map[[2]int]*movedRequests{}}
		p.old = add(p, f, renamed)
		m.all, m.pairs[f.Name] = append(m.all, p), p
		if g := pairs[f.Name]; g != nil {
			p.name, p.now = g.Name, add(p, g, nil)
			m.pairs[g.Name] = p
		}
	}
	for _, g := range now.Frontends {
		if m.pairs[g.Name] == nil {
			p := &pair{name: g.Name, old: nobody, seen: map[[2]int]*movedRequests{}}
			p.now = add(p, g, nil)
			m.all, m.pairs[g.Name] = append(m.all, p), p
		}
	}
	if frontend != "" {
		if m.only = m.pairs[frontend]; m.only == nil {
			return nil, fmt.Errorf("-frontend: no frontend is called %q", frontend)
		}
	} else if len(m.all) == 1 {
		m.only = m.all[0]
	}
	return m, nil
}

// Add puts one record through both. An error says that the record's frontend
// is not known.
func (m *Mover) Add(rec *trace.Record) error {
	p := m.only
	if rec.Frontend != nil {
		if p = m.pairs[string(rec.Frontend)]; p == nil {
			return fmt.Errorf("the record names the frontend %q, which neither configuration has", rec.Frontend)
		}
	}
	if p == nil {
		return errors.New("there are several frontends and this record names none; say which with -frontend")
	}
	var q route.Request
	ingest.Request(rec, p.asks, m.host, &q)
	i, missed := p.old.match(&q)
	j, missedNow := p.now.match(&q)
	m.moves.Requests++
	if missed|missedNow != 0 {
		m.moves.Unknown++
	}
	if p.old.ends[i] == p.now.ends[j] {
		return nil
	}
	m.moves.Different++
	at := p.seen[[2]int{i, j}]
	if at == nil {
		at = &movedRequests{clients: map[uint64]struct{}{}, TraceMove: TraceMove{
			Frontend: p.name, OldRoute: p.old.name(i), NewRoute: p.now.name(j), Old: p.old.ends[i], New: p.now.ends[j], Line: rec.Line,
			Example: fmt.Sprintf("%s %s", cmp.Or(string(rec.Method), "?"), cmp.Or(string(rec.Path), "?")),
		}}
		p.seen[[2]int{i, j}] = at
	}
	at.Requests++
	if rec.Client != nil && len(at.clients) < MostClients {
		at.clients[xxhash.Sum64String(trace.CanonicalClient(trace.Text(rec.Client)))] = struct{}{}
	}
	return nil
}

// AddLoad puts the requests that a scenario's load makes through both, with the draws of a seed,
// until ctx ends.
func (m *Mover) AddLoad(ctx context.Context, l *scenario.Load, seed uint64) error {
	m.moves.Of = "load"
	spec := l.Spec
	spec.Seed = seed
	g := trace.NewGenerator(spec)
	var rec trace.Record
	next := func() bool { return g.Next(&rec) }
	if l.Closed {
		asked, page, part := 0, (*trace.Page)(nil), 0
		next = func() bool {
			if page != nil && part < len(page.Fetches) {
				g.Fetch(&rec, part)
				part++
				return true
			}
			g.Ask(&rec, asked%max(l.Concurrency, 1))
			asked++
			page, part = rec.Page, 0
			return asked <= l.Requests
		}
	}
	for next() {
		rec.Line++
		if l.Frontend != "" {
			rec.Frontend = []byte(l.Frontend)
		}
		if err := m.Add(&rec); err != nil {
			return err
		}
		if rec.Line%1024 == 0 && ctx.Err() != nil {
			break
		}
	}
	return nil
}

// name returns the name of a route by its position in ends, empty for none.
func (s *side) name(i int) string {
	if s.routes == nil || i >= len(s.ends)-2 {
		return ""
	}
	return s.routes.Frontend.Routes[i].Name
}

// match returns the position in ends.
func (s *side) match(q *route.Request) (int, route.Field) {
	if s.routes == nil {
		return 0, 0
	}
	i, missed := s.routes.Match(q)
	switch {
	case i >= 0:
	case s.routes.Ambiguous(q) != "":
		i = len(s.ends) - 2
	default:
		i = len(s.ends) - 1
	}
	return i, missed
}

// Moves returns what was counted.
func (m *Mover) Moves() *TraceMoves {
	out := m.moves
	out.Moves = []TraceMove{}
	for _, p := range m.all {
		for _, one := range p.seen {
			one.Clients = int64(len(one.clients))
			out.Moves = append(out.Moves, one.TraceMove)
		}
	}
	slices.SortFunc(out.Moves, func(a, b TraceMove) int {
		return cmp.Or(cmp.Compare(b.Requests, a.Requests), cmp.Compare(a.Frontend, b.Frontend), cmp.Compare(a.Line, b.Line))
	})
	return &out
}
