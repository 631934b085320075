package study

import (
	"cmp"
	"errors"
	"fmt"
	"slices"

	"kestrix/internal/core/config"
	"kestrix/internal/core/ingest"
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

// side is a frontend in one of them; routes is nil where it is not there.
type side struct {
	routes *route.Table
	ends   []string // where each route leads; the last is for none
}

// NewMover makes one. The frontend and the host are for records that name none;
// a frontend that neither side has is an error.
func NewMover(old, now *config.Config, frontend, host string) (*Mover, error) {
	m := &Mover{frontend: frontend, host: host, pairs: map[string]*pair{}}
	for i, c := range []*config.Config{old, now} {
		for _, f := range c.Frontends {
			p := m.pairs[f.Name]
			if p == nil {
				p = &pair{name: f.Name, old: side{ends: []string{"nobody listens"}}, now: side{ends: []string{"nobody listens"}}, seen: map[[2]int]*TraceMove{}}
				m.pairs[f.Name] = p
			}
			s := side{routes: route.Compile(f)}
			for j := range f.Routes {
				s.ends = append(s.ends, leads(f, j))
			}
			s.ends = append(s.ends, leads(f, -1))
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
			Frontend: p.name, Old: p.old.ends[i], New: p.now.ends[j], Line: rec.Line,
			Example: fmt.Sprintf("%s %s", cmp.Or(string(rec.Method), "?"), cmp.Or(string(rec.Path), "?")),
		}
		p.seen[[2]int{i, j}] = at
	}
	at.Requests++
	return nil
}

// match returns the position in ends.
func (s *side) match(q *route.Request) (int, route.Field) {
	if s.routes == nil {
		return 0, 0
	}
	i, missed := s.routes.Match(q)
	if i < 0 {
		i = len(s.ends) - 1
	}
	return i, missed
}

// Moves returns what was counted; ways between routes that word the same are one.
func (m *Mover) Moves() *TraceMoves {
	out := m.moves
	merged := map[[3]string]*TraceMove{}
	for _, p := range m.pairs {
		for _, one := range p.seen {
			key := [3]string{one.Frontend, one.Old, one.New}
			t := merged[key]
			if t == nil {
				c := *one
				merged[key] = &c
				continue
			}
			t.Requests += one.Requests
			if one.Line < t.Line {
				t.Line, t.Example = one.Line, one.Example
			}
		}
	}
	out.Moves = make([]TraceMove, 0, len(merged))
	for _, t := range merged {
		out.Moves = append(out.Moves, *t)
	}
	slices.SortFunc(out.Moves, func(a, b TraceMove) int {
		return cmp.Or(cmp.Compare(b.Requests, a.Requests), cmp.Compare(a.Frontend, b.Frontend), cmp.Compare(a.Old, b.Old), cmp.Compare(a.New, b.New))
	})
	return &out
}
