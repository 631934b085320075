package check

import (
	"fmt"
	"strings"

	"kestrix/internal/core/config"
	"kestrix/internal/core/region"
	"kestrix/internal/core/route"
)

var nameRules = []*Rule{
	{
		ID: "KX102", Severity: config.Error, Title: "a route sends to an upstream that does not exist",
		Why: "its requests have no backend", Fix: "define the upstream, or correct its name",
		Run: func(p *Pass) {
			var names []string
			for _, u := range p.Config.Upstreams {
				names = append(names, u.Name)
			}
			for _, f := range p.Config.Frontends {
				for _, r := range f.Routes {
					if r.SendTo.Value == "" || p.Config.Upstream(r.SendTo.Value) != nil {
						continue
					}
					hint := "define it: upstream \"" + r.SendTo.Value + "\" {"
					if s := config.Suggest(r.SendTo.Value, names); s != "" {
						hint = "did you mean upstream." + s + "?"
					}
					p.Report(Finding{Range: r.SendTo.Range, Message: fmt.Sprintf("no upstream is called %q", r.SendTo.Value), Hint: hint})
				}
			}
		},
	},
	{
		ID: "KX103", Severity: config.Warning, Title: "an upstream that no route sends to",
		Why: "its backends are probed but get no requests",
		Fix: "add a route for it, or remove it",
		Run: func(p *Pass) {
			used := map[string]bool{}
			for _, f := range p.Config.Frontends {
				for _, r := range f.Routes {
					used[r.SendTo.Value] = true
				}
			}
			for _, u := range p.Config.Upstreams {
				if !used[u.Name] && len(p.Config.Frontends) > 0 {
					p.Report(Finding{Range: u.Range, Message: fmt.Sprintf("no route sends to the upstream %q", u.Name)})
				}
			}
		},
	},
	{
		ID: "KX104", Severity: config.Error, Title: "a name given twice",
		Why: "a reference could mean either, and their figures would be mixed",
		Fix: "rename one of them",
		Run: func(p *Pass) {
			twice := func(kind string, seen map[string]string, name string, at finder) {
				place := at.place()
				if first, ok := seen[name]; ok {
					p.Report(Finding{Range: at.rng, Message: fmt.Sprintf("two %ss are called %q", kind, name), Hint: "the first is at " + first})
					return
				}
				seen[name] = place
			}
			frontends, upstreams := map[string]string{}, map[string]string{}
			for _, f := range p.Config.Frontends {
				twice("frontend", frontends, f.Name, finder{f.Range})
				routes := map[string]string{}
				for _, r := range f.Routes {
					twice("route", routes, r.Name, finder{r.Range})
				}
			}
			for _, u := range p.Config.Upstreams {
				twice("upstream", upstreams, u.Name, finder{u.Range})
			}
		},
	},
	{
		ID: "KX105", Severity: config.Warning, Title: "a route that can never match",
		Why: "the first matching route decides, and an earlier route matches all of these requests",
		Fix: "put the narrower route first, or remove this one",
		Run: func(p *Pass) {
			for _, f := range p.Config.Frontends {
				t := route.Compile(f)
				never, err := region.Nevers(t)
				if err != nil {
					continue // a condition that could not be read
				}
				for _, n := range never {
					r := f.Routes[n.Route]
					if n.Witness == nil && (p.unread(r) || explained(r)) {
						continue // what could not be read takes nothing and proves nothing
					}
					if n.Witness == nil {
						p.Report(Finding{Range: r.Range, Message: fmt.Sprintf("the route %q can never match: no request has all of its conditions", r.Name)})
						continue
					}
					q := n.Witness.Request()
					to, _ := t.Match(&q)
					if to < 0 || to >= n.Route {
						continue // its path is read in several ways
					}
					by, hint := fmt.Sprintf("%q takes everything first", f.Routes[to].Name), fmt.Sprintf("%q is on line %d", f.Routes[to].Name, f.Routes[to].Range.Start.Line)
					if len(n.By) != 1 {
						var names []string
						for _, k := range n.By[:min(len(n.By), 10)] {
							names = append(names, f.Routes[k].Name)
						}
						if by, hint = "routes before it take everything", ""; names != nil {
							by, hint = by+" together", "they are "+strings.Join(names, ", ")
						}
						if more := len(n.By) - len(names); more > 0 {
							hint += fmt.Sprintf(" and %d more", more)
						}
					}
					p.Report(Finding{
						Range:   r.Range,
						Message: fmt.Sprintf("the route %q can never match: %s", r.Name, by),
						Hint:    hint,
						Witness: fmt.Sprintf("%s matches here, and goes to %q", n.Witness, f.Routes[to].Name),
					})
				}
			}
		},
	},
	{
		ID: "KX112", Severity: config.Advice, Title: "two routes of which only their order decides",
		Why: "some requests match both routes, and neither is narrower: sorting the file moves traffic",
		Fix: "exclude with not(...) from the second, or narrow the first",
		Run: func(p *Pass) {
			if len(p.reading) > 0 {
				return // a condition that could not be read fits too much
			}
			for _, f := range p.Config.Frontends {
				if len(f.Routes) > mostOverlapping {
					continue
				}
				t := route.Compile(f)
				overlaps, err := region.Overlaps(t)
				if err != nil {
					continue
				}
				for _, o := range overlaps {
					q := o.Witness.Request()
					if to, _ := t.Match(&q); to != o.First {
						continue
					}
					a, b := f.Routes[o.First], f.Routes[o.Second]
					if a.SendTo.Value == b.SendTo.Value && a.SendTo.Value != "" || refuses(a) || secures(a) { // which come first on purpose
						continue
					}
					p.Report(Finding{
						Range: b.Range, Message: fmt.Sprintf("%q and %q both match some requests, and neither is the narrower one", a.Name, b.Name),
						Hint: fmt.Sprintf("%q is on line %d", a.Name, a.Range.Start.Line), Witness: fmt.Sprintf("%s matches both, and goes to %q because it is first", o.Witness, a.Name),
					})
				}
			}
		},
	},
	{
		ID: "KX106", Severity: config.Warning, Title: "an unused value of let",
		Why: "it seems to have an effect and has none",
		Fix: "remove it, or use it",
		Run: func(p *Pass) {
			for _, l := range p.Config.Lets {
				if !l.Used {
					p.Report(Finding{Range: l.Range, Message: fmt.Sprintf("nothing uses let.%s", l.Name), Edits: p.drop(l.Range)})
				}
			}
		},
	},
}

// mostOverlapping bounds the routes of a frontend that are compared with each other.
const mostOverlapping = 200
