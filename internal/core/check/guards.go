package check

import (
	"fmt"
	"slices"
	"strings"

	"github.com/hashicorp/hcl/v2"

	"kestrix/internal/core/config"
	"kestrix/internal/core/region"
	"kestrix/internal/core/route"
)

// guardRules are about routes that are meant to keep requests from an upstream.
var guardRules = []*Rule{
	{
		ID: "KX118", Severity: config.Warning, Title: "a condition on clients that keeps nobody out",
		Why:  "those whom it leaves out are taken by another route, which sends them to the same place",
		Mend: "a route behind it for the same paths, with reply { status = 403 }",
		Run: func(p *Pass) {
			p.eachWith(func(r *config.Route) bool { return r.SendTo.Value != "" && asksClients(&r.When) }, func(f *config.Frontend, t *route.Table, i int) {
				r := f.Routes[i]
				open := withoutClients(r.When)
				for _, x := range partsBeside(t, open) {
					if j := x.Routes[0]; j > i && alike(r, f.Routes[j]) {
						p.Report(Finding{
							Range:   clientsAt(r),
							Message: fmt.Sprintf("whom %q leaves out, %q sends to the same upstream %q, in the same way", r.Name, f.Routes[j].Name, r.SendTo.Value),
							Witness: x.Witness.String() + fmt.Sprintf(" goes to %q by %q", r.SendTo.Value, f.Routes[j].Name),
						})
						return
					}
				}
			})
		},
	},
	{
		ID: "KX119", Severity: config.Advice, Title: "a guard with a gap beside it",
		Why:  "a path of one segment more or less reaches what the route refuses, and applications often take it for the same",
		Mend: "a ** at the end takes the whole tree: \"/admin/**\" fits /admin, /admin/ and all below",
		Run: func(p *Pass) {
			p.eachWith(func(r *config.Route) bool { return r.Reply != nil && r.Reply.Status >= 400 }, func(f *config.Frontend, t *route.Table, i int) {
				r := f.Routes[i]
				for _, m := range r.When.Path {
					root, ok := rootOf(m)
					if !ok {
						continue
					}
					wide := r.When
					wide.Path = []config.Match{{Text: root + "/**"}}
					for _, x := range partsBeside(t, wide) {
						j := x.Routes[0]
						if j <= i || f.Routes[j].SendTo.Value == "" || namesBelow(f.Routes[j], root) {
							continue // an exception that somebody has made
						}
						p.Report(Finding{
							Range: m.Range, Message: fmt.Sprintf("%q refuses %s, and what lies beside it in %s/ reaches %q", r.Name, m.Text, root, f.Routes[j].SendTo.Value),
							Witness: fmt.Sprintf("%s goes to %q", x.Witness, f.Routes[j].Name),
						})
						break
					}
				}
			})
		},
	},
}

// eachWith calls f for the routes of http frontends that are meant, where the conditions could be
// read.
func (p *Pass) eachWith(meant func(*config.Route) bool, do func(f *config.Frontend, t *route.Table, i int)) {
	if len(p.reading) > 0 {
		return
	}
	for _, f := range p.Config.Frontends {
		var t *route.Table
		if f.Protocol == "tcp" || len(f.Routes) > mostOverlapping {
			continue
		}
		for i, r := range f.Routes {
			if !meant(r) {
				continue
			}
			if t == nil {
				t = route.Compile(f)
			}
			do(f, t, i)
		}
	}
}

// partsBeside returns what becomes of the requests that fit a condition: the parts whose first
// route is that of the table. Those that are refused because their path is read in several ways are
// left out.
func partsBeside(t *route.Table, when config.When) []region.Part {
	x := *t.Frontend
	x.Routes = []*config.Route{{Name: "beside", When: when}}
	d, err := region.New(t, route.Compile(&x))
	if err != nil || d.TooLarge {
		return nil
	}
	return slices.DeleteFunc(d.Parts(), func(x region.Part) bool {
		if x.Maybe || x.Routes[1] != 0 || x.Routes[0] < 0 {
			return true
		}
		q := x.Witness.Request()
		to, _ := t.Match(&q)
		return to != x.Routes[0]
	})
}

// asksClients reports whether a condition goes by the client's address.
func asksClients(w *config.When) bool {
	return slices.ContainsFunc(w.Parts(), func(p *config.When) bool { return len(p.Client) > 0 })
}

// withoutClients returns a condition that does not.
func withoutClients(w config.When) config.When {
	w.Client = nil
	var rest []config.When
	for _, x := range w.Any {
		if x.Client = nil; x.Empty() {
			rest = nil // one that everything fits
			break
		}
		rest = append(rest, x)
	}
	w.Any = rest
	return w
}

// clientsAt returns where a route asks for clients.
func clientsAt(r *config.Route) hcl.Range {
	for _, w := range r.When.Parts() {
		if len(w.Client) > 0 {
			return w.Client[0].Range
		}
	}
	return r.Range
}

// alike reports whether two routes do the same with a request.
func alike(a, b *config.Route) bool {
	settings := func(r *config.Route) []config.Settings {
		return slices.DeleteFunc(slices.Clone(r.Settings), func(s config.Settings) bool { return s.Block == "when" })
	}
	same := func(x, y config.Settings) bool { return x.Block == y.Block && slices.Equal(x.Keys, y.Keys) }
	return a.SendTo.Value == b.SendTo.Value && a.Answer() == b.Answer() && slices.EqualFunc(settings(a), settings(b), same)
}

// rootOf returns the folder of which a pattern refuses a part: that of "/admin/*", and of "/admin"
// where it does not look like a file.
func rootOf(m config.Match) (string, bool) {
	if m.Not || m.Regexp != nil {
		return "", false
	}
	root := strings.TrimSuffix(strings.TrimSuffix(m.Text, "*"), "/")
	last := root[strings.LastIndexByte(root, '/')+1:]
	return root, last != "" && !strings.Contains(root, "*") && !strings.Contains(last, ".") && strings.HasPrefix(root, "/")
}

// namesBelow reports whether a route asks for paths of a folder by name.
func namesBelow(r *config.Route, root string) bool {
	return slices.ContainsFunc(r.When.Parts(), func(w *config.When) bool {
		return slices.ContainsFunc(w.Path, func(m config.Match) bool { return !m.Not && (m.Regexp != nil || strings.HasPrefix(m.Text, root)) })
	})
}
