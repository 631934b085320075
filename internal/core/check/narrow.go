package check

import (
	"fmt"
	"slices"

	"github.com/hashicorp/hcl/v2"

	"kestrix/internal/core/config"
	"kestrix/internal/core/region"
	"kestrix/internal/core/route"
)

// narrowRules are about conditions that change nothing, and about requests that meet none.
var narrowRules = []*Rule{
	{
		ID: "KX114", Severity: config.Advice, Title: "requests without a route",
		Why: "the proxy answers them with 404, and the configuration does not show whether that is intended",
		Fix: "a last route without when: with send_to, or with a reply",
		Run: func(p *Pass) {
			if len(p.reading) > 0 {
				return // a condition that could not be read fits too much or too little
			}
			for _, f := range p.Config.Frontends {
				if f.Protocol == "tcp" || len(f.Routes) == 0 || slices.ContainsFunc(f.Routes, func(r *config.Route) bool { return r.When.Empty() }) {
					continue
				}
				t := route.Compile(f)
				d, err := region.New(t, route.Compile(hostsOf(f)))
				if err != nil || d.TooLarge {
					continue
				}
				for _, x := range d.Parts() {
					if x.Routes[0] >= 0 || x.Routes[1] != 0 || x.Maybe {
						continue
					}
					q := x.Witness.Request()
					if to, _ := t.Match(&q); to < 0 {
						p.Report(Finding{Range: f.Range, Message: fmt.Sprintf("every route of %q has conditions, and there are requests that match none", f.Name), Witness: x.Witness.String() + " matches no route"})
					}
				}
			}
		},
	},
	{
		ID: "KX115", Severity: config.Advice, Title: "a condition that never narrows",
		Why: "the route matches the same requests without it",
		Fix: "remove it, or correct it",
		Run: func(p *Pass) {
			if len(p.reading) > 0 {
				return
			}
			for _, f := range p.Config.Frontends {
				if len(f.Routes) > mostNarrowed {
					continue
				}
				for _, r := range f.Routes {
					for _, e := range elements(r) {
						if same(f, r, e.without) {
							p.Report(Finding{Range: e.at, Message: fmt.Sprintf("%s of the route %q: %s", e.what, r.Name, e.says)})
						}
					}
				}
			}
		},
	},
}

// hostsOf returns a frontend with a route for the hosts that its routes ask for: that those for
// other hosts find no route is what everybody expects.
func hostsOf(f *config.Frontend) *config.Frontend {
	var when config.When
	seen := map[string]bool{}
	for _, r := range f.Routes {
		if len(r.When.Host) == 0 {
			when = config.When{}
			break
		}
		if words := config.List(r.When.Host); !seen[words] {
			seen[words] = true
			when.Any = append(when.Any, config.When{Host: r.When.Host})
		}
	}
	x := *f
	x.Routes = []*config.Route{{Name: "hosts", When: when}}
	return &x
}

// mostNarrowed bounds the routes of a frontend whose conditions are looked at one by one; docs/routes.md says so.
const mostNarrowed = 2000

// same reports whether a route by itself takes the same requests with another condition.
func same(f *config.Frontend, r *config.Route, other config.When) bool {
	x := *r
	x.When = other
	alone, changed := *f, *f
	alone.Routes, changed.Routes = []*config.Route{r}, []*config.Route{&x}
	d, err := region.New(route.Compile(&alone), route.Compile(&changed))
	if err != nil || d.TooLarge || len(d.Undecided) > 0 {
		return false
	}
	return !slices.ContainsFunc(d.Parts(), func(p region.Part) bool { return p.Routes[0] != p.Routes[1] })
}

// element is a part of a condition, and the condition without it.
type element struct {
	what    string // as it is written
	says    string // what it means that it changes nothing
	at      hcl.Range
	without config.When
}

// elements returns the parts of a route's condition that could be left out.
func elements(r *config.Route) []element {
	var out []element
	for k, w := range r.When.Parts() {
		// put returns the whole condition with another one for this part.
		put := func(change func(w *config.When)) config.When {
			whole, part := r.When, *w
			change(&part)
			if k == 0 {
				part.Any = whole.Any
				return part
			}
			whole.Any = slices.Clone(whole.Any)
			whole.Any[k-1] = part
			return whole
		}
		for _, l := range []struct {
			name string
			of   func(w *config.When) *[]config.Match
		}{
			{"host", func(w *config.When) *[]config.Match { return &w.Host }}, {"path", func(w *config.When) *[]config.Match { return &w.Path }},
			{"method", func(w *config.When) *[]config.Match { return &w.Method }}, {"sni", func(w *config.When) *[]config.Match { return &w.SNI }},
		} {
			list := *l.of(w)
			for i, m := range list {
				e := element{what: l.name + " " + m.String(), says: saysOf(m.Not, len(list)), at: m.Range}
				e.without = put(func(w *config.When) { *l.of(w) = slices.Delete(slices.Clone(list), i, i+1) })
				out = append(out, e)
			}
		}
		for i, c := range w.Client {
			e := element{what: "client " + c.Prefix.String(), says: saysOf(c.Not, len(w.Client)), at: c.Range}
			if c.Not {
				e.what = fmt.Sprintf("client not(%s)", c.Prefix)
			}
			e.without = put(func(x *config.When) { x.Client = slices.Delete(slices.Clone(w.Client), i, i+1) })
			out = append(out, e)
		}
		for _, l := range []struct {
			name string
			of   func(w *config.When) *[]config.MatchPair
		}{
			{"header", func(w *config.When) *[]config.MatchPair { return &w.Header }}, {"query", func(w *config.When) *[]config.MatchPair { return &w.Query }},
			{"cookie", func(w *config.When) *[]config.MatchPair { return &w.Cookie }},
		} {
			pairs := *l.of(w)
			for n, pair := range pairs {
				for i, m := range pair.Matches {
					e := element{what: fmt.Sprintf("%s %s: %s", l.name, pair.Name.Value, m), says: saysOf(m.Not, len(pair.Matches)), at: m.Range}
					e.without = put(func(w *config.When) {
						changed := slices.Clone(pairs)
						if changed[n].Matches = slices.Delete(slices.Clone(pair.Matches), i, i+1); len(changed[n].Matches) == 0 {
							changed = slices.Delete(changed, n, n+1)
						}
						*l.of(w) = changed
					})
					out = append(out, e)
				}
			}
		}
	}
	return out
}

// saysOf words what it means that an entry of a list of so many changes nothing.
func saysOf(not bool, of int) string {
	switch {
	case not:
		return "nothing that the rest matches is excluded by it"
	case of == 1:
		return "every request has it"
	}
	return "the others of the list take all that it matches"
}
