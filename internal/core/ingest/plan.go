package ingest

import (
	"fmt"
	"slices"
	"strings"

	"kestrix/internal/core/config"
	"kestrix/internal/core/route"
	"kestrix/internal/core/scenario"
)

// Plan says what of a record one configuration and scenario need. Parsers and the event
// loop have copies of their own: reading memory that lies beside what another processor
// writes all the time is slow.
type Plan struct {
	o        Options
	scenario *scenario.Scenario
	tables   map[string]*table
	only     *table             // when records need not say their frontend
	Routes   []Route            // of all frontends, in their order
	Fronts   []*config.Frontend // as configured
	Rated    bool               // somewhere a rate is enforced
	spread   bool               // stamps of whole seconds are
}

// table is a frontend's routes and where each leads.
type table struct {
	routes *route.Table
	asks   route.Field // what its routes ask, and the keys of hashes and seats
	all    bool        // the first route takes everything
	tcp    bool        // it takes connections
	first  int32       // position of its first route in plan.routes
	index  int32       // in plan.fronts
}

// Route is a route and the upstream it sends to.
type Route struct {
	Name     string // FRONTEND/ROUTE
	Upstream int32  // -1 for a redirect or reply
	Front    int32  // position in Plan.Fronts
	Config   *config.Route
	Waits    config.Waits
	hashes   bool
	hash     *config.Hash        // nil unless something else than the client's address is hashed
	sticky   *config.Sticky      // nil unless clients are known without a cookie of ours
	paths    []scenario.PathList // by which behaviours tell its requests apart
}

// NewPlan returns the plan by which a trace is read for a configuration. The error says
// which frontends there are where the options name none of them.
func NewPlan(c *config.Config, s *scenario.Scenario, o Options) (*Plan, error) {
	if s.Load != nil && s.Load.Frontend != "" && o.Frontend == "" {
		o.Frontend = s.Load.Frontend
	}
	p := &Plan{o: o, scenario: s, tables: map[string]*table{}, spread: o.Spread != "none"}
	index := map[string]int32{}
	for i, u := range c.Upstreams {
		index[u.Name] = int32(i)
	}
	var names []string
	for _, fe := range c.Frontends {
		t := &table{routes: route.Compile(fe), tcp: fe.Protocol == "tcp", first: int32(len(p.Routes)), index: int32(len(p.Fronts))}
		p.Fronts = append(p.Fronts, fe)
		p.Rated = p.Rated || fe.Limits.Rate > 0
		for _, r := range fe.Routes {
			up, ok := index[r.SendTo.Value]
			if !ok {
				up = -1 // the proxy answers by itself
			}
			ref := Route{Name: fe.Name + "/" + r.Name, Upstream: up, Config: r, Front: t.index}
			if up >= 0 {
				ref.Waits = r.Waits(c.Upstreams[up])
				if fe.Protocol != "tcp" {
					ref.paths = s.Paths(c.Upstreams[up])
				}
				if h := c.Upstreams[up].Hash; h != nil {
					ref.hashes = true
					if h.Key != "client" {
						ref.hash = h
					}
				}
				if s := c.Upstreams[up].Sticky; s != nil && s.By != "cookie" {
					ref.sticky = s
				}
			}
			p.Rated = p.Rated || r.Limits.Rate > 0
			p.Routes = append(p.Routes, ref)
		}
		p.shorten(t)
		p.tables[fe.Name] = t
		names = append(names, fe.Name)
	}
	if o.Frontend != "" {
		p.only = p.tables[o.Frontend]
		if p.only == nil {
			return nil, fmt.Errorf("-frontend: no frontend is called %q; there are: %s", o.Frontend, strings.Join(names, ", "))
		}
	} else if len(names) == 1 {
		p.only = p.tables[names[0]]
	}
	return p, nil
}

// keyed reports whether anything depends on who sends a request, but for telling clients
// apart.
func (p *Plan) keyed() bool {
	return p.o.Instances > 1 || p.Rated || slices.ContainsFunc(p.Routes, func(r Route) bool { return r.hashes || r.sticky != nil })
}

// shorten notes what is asked of the requests of a frontend, and whether all go one
// way, whatever they ask.
func (p *Plan) shorten(t *table) {
	t.asks = t.routes.Asks
	for i := range p.Fronts[t.index].Routes {
		r := &p.Routes[int(t.first)+i]
		if r.hash != nil {
			t.asks |= map[string]route.Field{"client-prefix": route.AskClient, "path": route.AskPath, "header": route.AskHeader, "cookie": route.AskCookie, "query": route.AskQuery}[r.hash.Key]
		}
		if r.paths != nil {
			t.asks |= route.AskPath
		}
		if r.sticky != nil {
			t.asks |= map[string]route.Field{"header": route.AskHeader, "existing-cookie": route.AskCookie}[r.sticky.By]
		}
	}
	t.all = false
	if fe := p.Fronts[t.index]; len(fe.Routes) > 0 && fe.Routes[0].When.Empty() {
		r := p.Routes[t.first]
		t.all = p.scenario.Streams == nil && r.hash == nil && r.sticky == nil && r.paths == nil && !fe.Routes[0].Rewrite.RedirectsBare()
	}
}

// join has one plan serve for another as well, if a trace that is read by it is
// read for both: their routes, streams, lists of paths and proxies are the same, and
// no two hash or know clients by different things. It says whether it does.
func (p *Plan) join(q *Plan) bool {
	if p.o.Instances != q.o.Instances || p.o.Seed != q.o.Seed || p.scenario.Streams != q.scenario.Streams ||
		!slices.Equal(p.Fronts, q.Fronts) || p.Rated != q.Rated || (p.only == nil) != (q.only == nil) {
		return false
	}
	for i := range p.Routes {
		if !p.Routes[i].joins(&q.Routes[i]) {
			return false
		}
	}
	for i := range p.Routes {
		if !p.Routes[i].hashes {
			p.Routes[i].hashes, p.Routes[i].hash = q.Routes[i].hashes, q.Routes[i].hash
		}
	}
	for _, t := range p.tables {
		p.shorten(t)
	}
	return true
}

// joins reports whether two plans need the same of the requests of a route.
func (a *Route) joins(b *Route) bool {
	switch {
	case a.Upstream != b.Upstream, !slices.EqualFunc(a.paths, b.paths, scenario.PathList.Equal):
		return false
	case a.hashes && b.hashes && ((a.hash == nil) != (b.hash == nil) || a.hash != nil && (a.hash.Key != b.hash.Key || a.hash.Name != b.hash.Name)):
		return false
	}
	return (a.sticky == nil) == (b.sticky == nil) && (a.sticky == nil || a.sticky.By == b.sticky.By && a.sticky.Name == b.sticky.Name)
}
