package study

import (
	"cmp"
	"errors"
	"fmt"
	"slices"

	"kestrix/internal/core/config"
	"kestrix/internal/core/ingest"
	"kestrix/internal/core/region"
	"kestrix/internal/core/route"
	"kestrix/internal/core/trace"
)

// TraceMoves is what becomes of the requests of a trace under a change of
// configuration. The keys are documented and stable.
type TraceMoves struct {
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
	Example  string `json:"example"` // the first of them: method and path
	Line     int64  `json:"line"`    // where it stands
}

// Mover puts the records of a trace through two configurations.
type Mover struct {
	frontend, host string
	pairs          map[string]*pair
	only           *pair
	moves          TraceMoves
}

// pair is a frontend in both configurations.
type pair struct {
	name     string
	old, now side
	asks     route.Field
	seen     map[[2]int]*TraceMove // by the routes of either side
}

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
	m := &Mover{frontend: frontend, host: host, pairs: map[string]*pair{}}
	renamed := renamedUpstreams(old, now)
	for i, c := range []*config.Config{old, now} {
		for _, f := range c.Frontends {
			p := m.pairs[f.Name]
			if p == nil {
				p = &pair{name: f.Name, old: side{ends: []string{"nobody listens"}}, now: side{ends: []string{"nobody listens"}}, seen: map[[2]int]*TraceMove{}}
				m.pairs[f.Name] = p
			}
			s := side{routes: route.Compile(f)}
			of := renamed
			if i == 1 {
				of = nil
			}
			for j := range f.Routes {
				s.ends = append(s.ends, leads(f, j, of))
			}
			s.ends = append(s.ends, leads(f, region.Refused, of), leads(f, -1, of))
			p.asks |= s.routes.Asks
			if i == 0 {
				p.old = s
			} else {
				p.now = s
			}
		}
	}
	if frontend != "" {
		if m.only = m.pairs[frontend]; m.only == nil {
			return nil, fmt.Errorf("-frontend: no frontend is called %q", frontend)
		}
	} else if len(m.pairs) == 1 {
		for _, p := range m.pairs {
			m.only = p
		}
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
		at = &TraceMove{
			Frontend: p.name, OldRoute: p.old.name(i), NewRoute: p.now.name(j), Old: p.old.ends[i], New: p.now.ends[j], Line: rec.Line,
			Example: fmt.Sprintf("%s %s", cmp.Or(string(rec.Method), "?"), cmp.Or(string(rec.Path), "?")),
		}
		p.seen[[2]int{i, j}] = at
	}
	at.Requests++
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
	for _, p := range m.pairs {
		for _, one := range p.seen {
			out.Moves = append(out.Moves, *one)
		}
	}
	slices.SortFunc(out.Moves, func(a, b TraceMove) int {
		return cmp.Or(cmp.Compare(b.Requests, a.Requests), cmp.Compare(a.Frontend, b.Frontend), cmp.Compare(a.Line, b.Line))
	})
	return &out
}
