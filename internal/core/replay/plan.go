package replay

import (
	"fmt"
	"slices"
	"strings"

	"kestrix/internal/core/config"
	"kestrix/internal/core/route"
	"kestrix/internal/core/scenario"
)

// plan is what a trace is read by. Parsers and the event loop have copies of their
// own: what lies beside what another core writes all the time is slow to read.
type plan struct {
	o        Options
	scenario *scenario.Scenario
	tables   map[string]*table
	only     *table // when records need not say their frontend
	routes   []routeRef
	fronts   []*config.Frontend
	rated    bool // somewhere a rate is enforced
	spread   bool // stamps of whole seconds are
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

// routeRef is a route and the upstream it sends to.
type routeRef struct {
	name     string // FRONTEND/ROUTE
	upstream int32  // -1 for a redirect or reply
	front    int32  // position in plan.fronts
	cfg      *config.Route
	waits    config.Waits
	hashes   bool
	hash     *config.Hash   // nil unless something else than the client's address is hashed
	sticky   *config.Sticky // nil unless clients are known without a cookie of ours
}

// newPlan makes the plan by which a trace is read for a configuration. An error
// says that the options name a frontend that is not there.
func newPlan(c *config.Config, s *scenario.Scenario, o Options) (*plan, error) {
	if s.Load != nil && s.Load.Frontend != "" && o.Frontend == "" {
		o.Frontend = s.Load.Frontend
	}
	p := &plan{o: o, scenario: s, tables: map[string]*table{}, spread: o.Spread != "none"}
	index := map[string]int32{}
	for i, u := range c.Upstreams {
		index[u.Name] = int32(i)
	}
	var names []string
	for _, fe := range c.Frontends {
		t := &table{routes: route.Compile(fe), tcp: fe.Protocol == "tcp", first: int32(len(p.routes)), index: int32(len(p.fronts))}
		p.fronts = append(p.fronts, fe)
		p.rated = p.rated || fe.Limits.Rate > 0
		for _, r := range fe.Routes {
			up, ok := index[r.SendTo.Value]
			if !ok {
				up = -1 // the proxy answers by itself
			}
			ref := routeRef{name: fe.Name + "/" + r.Name, upstream: up, cfg: r, front: t.index}
			if up >= 0 {
				ref.waits = r.Waits(c.Upstreams[up])
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
			p.rated = p.rated || r.Limits.Rate > 0
			p.routes = append(p.routes, ref)
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
func (p *plan) keyed() bool {
	return p.o.Instances > 1 || p.rated || slices.ContainsFunc(p.routes, func(r routeRef) bool { return r.hashes || r.sticky != nil })
}

// shorten notes what is asked of the requests of a frontend, and whether all go one
// way, whatever they ask.
func (p *plan) shorten(t *table) {
	t.asks = t.routes.Asks
	for i := range p.fronts[t.index].Routes {
		r := &p.routes[int(t.first)+i]
		if r.hash != nil {
			t.asks |= map[string]route.Field{"client-prefix": route.AskClient, "path": route.AskPath, "header": route.AskHeader, "cookie": route.AskCookie, "query": route.AskQuery}[r.hash.Key]
		}
		if r.sticky != nil {
			t.asks |= map[string]route.Field{"header": route.AskHeader, "existing-cookie": route.AskCookie}[r.sticky.By]
		}
	}
	t.all = false
	if fe := p.fronts[t.index]; len(fe.Routes) > 0 && fe.Routes[0].When.Empty() {
		r := p.routes[t.first]
		t.all = p.scenario.Streams == nil && r.hash == nil && r.sticky == nil
	}
}

// join has one plan serve for another as well, if a trace that is read by it is
// read for both: their routes, streams and proxies are the same, and no two hash
// or know clients by different things. It says whether it does.
func (p *plan) join(q *plan) bool {
	if p.o.Instances != q.o.Instances || p.o.Seed != q.o.Seed || p.scenario.Streams != q.scenario.Streams ||
		!slices.Equal(p.fronts, q.fronts) || p.rated != q.rated || (p.only == nil) != (q.only == nil) {
		return false
	}
	for i := range p.routes {
		if !p.routes[i].joins(&q.routes[i]) {
			return false
		}
	}
	for i := range p.routes {
		if !p.routes[i].hashes {
			p.routes[i].hashes, p.routes[i].hash = q.routes[i].hashes, q.routes[i].hash
		}
	}
	for _, t := range p.tables {
		p.shorten(t)
	}
	return true
}

// joins reports whether two plans need the same of the requests of a route.
func (a *routeRef) joins(b *routeRef) bool {
	switch {
	case a.upstream != b.upstream:
		return false
	case a.hashes && b.hashes && ((a.hash == nil) != (b.hash == nil) || a.hash != nil && (a.hash.Key != b.hash.Key || a.hash.Name != b.hash.Name)):
		return false
	}
	return (a.sticky == nil) == (b.sticky == nil) && (a.sticky == nil || a.sticky.By == b.sticky.By && a.sticky.Name == b.sticky.Name)
}
