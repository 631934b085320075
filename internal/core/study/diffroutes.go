package study

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"

	"kestrix/internal/core/config"
	"kestrix/internal/core/region"
	"kestrix/internal/core/request"
	"kestrix/internal/core/route"
)

// renamedUpstreams returns upstreams that are only called otherwise: their new names by their
// old ones.
func renamedUpstreams(old, now *config.Config) map[string]string {
	out := map[string]string{}
	for _, a := range old.Upstreams {
		if now.Upstream(a.Name) != nil {
			continue
		}
		for _, b := range now.Upstreams {
			if old.Upstream(b.Name) == nil && !isValue(out, b.Name) && sameUpstream(a, b) {
				out[a.Name] = b.Name
				break
			}
		}
	}
	return out
}

func isValue(m map[string]string, value string) bool {
	return slices.Contains(slices.Collect(maps.Values(m)), value)
}

// sameUpstream reports whether two upstreams are the same but for their names.
func sameUpstream(a, b *config.Upstream) bool {
	x := *b
	x.Name = a.Name
	d := Diff{}
	d.upstream(a, &x)
	return len(d.Backends)+len(d.Clients)+len(d.Settings) == 0 && slices.EqualFunc(a.Backends, b.Backends, func(x, y config.Backend) bool {
		return x.Name == y.Name && x.Tier == y.Tier && x.Zone == y.Zone
	})
}

// frontends compares where traffic enters, and what becomes of it.
func (d *Diff) frontends(old, now *config.Config, renamed map[string]string) {
	pairs := pairedFrontends(old, now)
	for _, f := range old.Frontends {
		switch g := pairs[f.Name]; {
		case g == nil:
			d.Listeners = append(d.Listeners, Change{"frontend " + f.Name, listens(f), ""})
		case g.Name != f.Name:
			d.Renamed = append(d.Renamed, Change{"frontend", f.Name, g.Name})
		}
	}
	for _, g := range now.Frontends {
		i := slices.IndexFunc(old.Frontends, func(f *config.Frontend) bool { return pairs[f.Name] == g })
		if i < 0 {
			d.Listeners = append(d.Listeners, Change{"frontend " + g.Name, "", listens(g)})
			continue
		}
		f := old.Frontends[i]
		if listens(f) != listens(g) {
			d.Listeners = append(d.Listeners, Change{"frontend " + g.Name, listens(f), listens(g)})
		}
		if speaks(f) != speaks(g) {
			d.Listeners = append(d.Listeners, Change{"frontend " + g.Name, speaks(f), speaks(g)})
		}
		d.settings(g.Name, f.Settings, g.Settings)
		if f.Protocol == g.Protocol {
			d.requests(old, now, f, g, renamed)
		}
	}
}

// pairedFrontends returns the frontends of now by the names of old ones: those of the same name, and
// of those whose name is gone the one that came and listens on the same addresses.
func pairedFrontends(old, now *config.Config) map[string]*config.Frontend {
	pairs := map[string]*config.Frontend{}
	for _, f := range old.Frontends {
		if g := now.Frontend(f.Name); g != nil {
			pairs[f.Name] = g
			continue
		}
		for _, g := range now.Frontends {
			if old.Frontend(g.Name) == nil && listens(g) == listens(f) {
				pairs[f.Name] = g
				break
			}
		}
	}
	return pairs
}

// speaks words what clients of a frontend speak.
func speaks(f *config.Frontend) string {
	if f.TLS != nil {
		return f.Protocol + " over TLS"
	}
	return f.Protocol + " in clear text"
}

func listens(f *config.Frontend) string {
	var out []string
	for _, l := range f.Listen {
		out = append(out, l.Value.String())
	}
	slices.Sort(out)
	return strings.Join(out, ", ")
}

// requests finds the requests that a frontend answers differently: all of them, by proof.
func (d *Diff) requests(old, now *config.Config, f, g *config.Frontend, renamed map[string]string) {
	a, b := route.Compile(f), route.Compile(g)
	p, err := region.New(a, b)
	if err == nil && p.TooLarge {
		err = fmt.Errorf("the conditions of its routes tell too many sets of requests apart")
	}
	if err != nil {
		d.Undecided = append(d.Undecided, Undecided{g.Name, "all requests", err.Error()})
		return
	}
	parts := p.Parts()
	for _, x := range parts {
		i, j := x.Routes[0], x.Routes[1]
		m := RequestMove{Frontend: g.Name, OldRoute: routeName(f, i), NewRoute: routeName(g, j), Old: leads(f, i, renamed), New: leads(g, j, nil)}
		if m.Old == m.New {
			continue
		}
		if x.Maybe {
			d.Undecided = append(d.Undecided, Undecided{g.Name, fmt.Sprintf("whether requests go from %s to %s: %s, then %s", nameOr(m.OldRoute), nameOr(m.NewRoute), m.Old, m.New), "the automata of these conditions have too many states: " + strings.Join(p.Undecided, "; ")})
			continue
		}
		q := x.Witness.Request()
		if was, is := answers(a, &q, renamed), answers(b, &q, nil); was != m.Old || is != m.New {
			// Servers read its path in several ways, and it is refused.
			if w := d.severalReadings(p, f, g, i, j, renamed); w != nil {
				x.Witness, q = w, w.Request()
				m.Old, m.New = answers(a, &q, renamed), answers(b, &q, nil)
				i, _ = a.Match(&q)
				j, _ = b.Match(&q)
				m.OldRoute, m.NewRoute = routeName(f, i), routeName(g, j)
			} else {
				continue
			}
		}
		m.Request, m.Where, m.Clients = x.Witness.String(), where(p, f, g, i, j, &q), movesBetween(old, now, f, g, i, j, renamed)
		d.Requests = append(d.Requests, m)
	}
	d.readings(f, g, a, b, parts, renamed)
}

// severalReadings returns a request that is answered differently of those that old route i and
// new route j take but for the readings of their paths, if it finds one. If it cannot know it
// says so.
func (d *Diff) severalReadings(p *region.Partition, f, g *config.Frontend, i, j int, renamed map[string]string) *region.Witness {
	paths := p.Paths(0, i)
	if paths == nil {
		paths = p.Paths(1, j)
	}
	maybe := paths == nil
	for _, path := range paths {
		for _, x := range p.OfPath(path) {
			if leads(f, x.Routes[0], renamed) != leads(g, x.Routes[1], nil) {
				if !x.Maybe {
					return x.Witness
				}
				maybe = true
			}
		}
	}
	if maybe {
		d.Undecided = append(d.Undecided, Undecided{
			g.Name, fmt.Sprintf("whether requests go from %s to %s: %s, then %s", nameOr(routeName(f, i)), nameOr(routeName(g, j)), leads(f, i, renamed), leads(g, j, nil)),
			"their paths can be read in several ways, which lead to several routes, so that they may all be refused",
		})
	}
	return nil
}

// answers words what becomes of a request.
func answers(t *route.Table, q *request.Request, renamed map[string]string) string {
	return leads(t.Frontend, taken(t, q), renamed)
}

// taken returns the route that takes a request, -1 for none and region.Refused where it is refused.
func taken(t *route.Table, q *request.Request) int {
	i, _ := t.Match(q)
	if i < 0 && t.Ambiguous(q) != "" {
		return region.Refused
	}
	return i
}

func routeName(f *config.Frontend, i int) string {
	if i < 0 {
		return ""
	}
	return f.Routes[i].Name
}

func nameOr(route string) string {
	if route == "" {
		return "no route"
	}
	return fmt.Sprintf("%q", route)
}

// where words what the requests have in common that old route i and new route j take: what
// either asks for and they have; and what the routes of the same names ask for that they do not
// have, on the other side.
func where(p *region.Partition, f, g *config.Frontend, i, j int, q *request.Request) string {
	var parts []string
	add := func(format string, words []string) {
		for _, w := range words {
			if text := fmt.Sprintf(format, w); !slices.Contains(parts, text) {
				parts = append(parts, text)
			}
		}
	}
	has, _ := p.Holds(0, i, q)
	add("%s", has)
	has, _ = p.Holds(1, j, q)
	add("%s", has)
	named := func(f *config.Frontend, name string) int {
		return slices.IndexFunc(f.Routes, func(r *config.Route) bool { return r.Name == name })
	}
	if i >= 0 {
		if k := named(g, f.Routes[i].Name); k >= 0 && k != j {
			_, lacks := p.Holds(1, k, q)
			add("no longer %s", lacks)
		}
	}
	if j >= 0 {
		if k := named(f, g.Routes[j].Name); k >= 0 && k != i {
			_, lacks := p.Holds(0, k, q)
			add("not %s before", lacks)
		}
	}
	return cmp.Or(strings.Join(parts, ", "), "everything else")
}

// readings looks for requests that are refused on one side alone, because readings of their
// path lead to different routes there. Where each route of one side has the requests of one of
// the other, readings lead apart on both or on none.
func (d *Diff) readings(f, g *config.Frontend, a, b *route.Table, parts []region.Part, renamed map[string]string) {
	if (a.Asks|b.Asks)&route.AskPath == 0 {
		return
	}
	forth, back, one := map[int]int{}, map[int]int{}, true
	for _, x := range parts {
		i, j := x.Routes[0], x.Routes[1]
		if k, ok := forth[i]; ok && k != j {
			one = false
		}
		if k, ok := back[j]; ok && k != i {
			one = false
		}
		forth[i], back[j] = j, i
	}
	if one {
		return
	}
	moves := func(x region.Part) int { // those that are answered differently first: near them it is likely
		if leads(f, x.Routes[0], renamed) != leads(g, x.Routes[1], nil) {
			return 0
		}
		return 1
	}
	tried := slices.DeleteFunc(slices.Clone(parts), func(x region.Part) bool { return x.Maybe })
	slices.SortStableFunc(tried, func(x, y region.Part) int { return moves(x) - moves(y) })
	for _, x := range tried[:min(len(tried), mostTried)] {
		for _, path := range several(x.Witness.Path) {
			w := *x.Witness
			w.Path = path
			q := w.Request()
			if was, is := answers(a, &q, renamed), answers(b, &q, nil); was != is {
				i, _ := a.Match(&q)
				j, _ := b.Match(&q)
				d.Requests = append(d.Requests, RequestMove{
					Frontend: g.Name, Where: "a path that servers read in several ways (//, %2F, %5C, ;), which lead to several routes on one side", Request: w.String(), Old: was, New: is,
					OldRoute: routeName(f, i), NewRoute: routeName(g, j),
				})
				return
			}
		}
	}
	d.Undecided = append(d.Undecided, Undecided{g.Name, "requests whose path servers read in several ways (//, %2F, %5C, ;)", "routes of one side have the requests of several of the other, so that such a request may be refused on one side alone"})
}

// mostTried bounds the parts near which a request is looked for that is refused on one side alone.
const mostTried = 200

// several returns ways to write a path that servers read in several ways, one of them as the
// path.
func several(path string) []string {
	out := []string{"/" + path, strings.TrimSuffix(path, "/") + ";x"}
	if i := strings.LastIndexByte(path, '/'); i > 0 {
		out = append(out, path[:i]+"%2F"+path[i+1:])
	}
	return out
}
