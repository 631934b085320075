package check

import (
	"fmt"
	"regexp"
	"slices"
	"strings"

	"github.com/hashicorp/hcl/v2"

	"kestrix/internal/core/config"
	"kestrix/internal/core/region"
	"kestrix/internal/core/request"
	"kestrix/internal/core/route"
)

// guardRules are about routes that are meant to keep requests from an upstream.
var guardRules = []*Rule{
	{
		ID: "KX118", Severity: config.Warning, Title: "a condition on clients that excludes no client",
		Why: "another route sends the excluded clients to the same upstream",
		Fix: "a later route for the same paths, with reply { status = 403 }",
		Run: func(p *Pass) {
			p.eachWith(func(r *config.Route) bool { return r.SendTo.Value != "" && asksClients(&r.When) }, func(f *config.Frontend, t *route.Table, i int) {
				r := f.Routes[i]
				open := withoutClients(r.When)
				for _, x := range partsBeside(t, open) {
					if j := x.Routes[0]; j > i && alike(r, f.Routes[j]) {
						p.Report(Finding{
							Range:   clientsAt(r),
							Message: fmt.Sprintf("%[2]q sends the clients that %[1]q excludes to the same upstream %[3]q", r.Name, f.Routes[j].Name, r.SendTo.Value),
							Witness: x.Witness.String() + fmt.Sprintf(" goes to %q by %q", r.SendTo.Value, f.Routes[j].Name),
						})
						return
					}
				}
			})
		},
	},
	{
		ID: "KX119", Severity: config.Advice, Title: "a guard with a gap",
		Why: "a path of one segment more or less passes the guard, and many applications treat it as the same page",
		Fix: "a ** at the end matches the whole tree: \"/admin/**\" matches /admin, /admin/ and everything below",
		Run: func(p *Pass) {
			p.eachWith(func(r *config.Route) bool { return refuses(r) }, func(f *config.Frontend, t *route.Table, i int) {
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
							Range: m.Range, Message: fmt.Sprintf("%q refuses %s, and other paths below %s/ reach %q", r.Name, m.Text, root, f.Routes[j].SendTo.Value),
							Witness: fmt.Sprintf("%s goes to %q", x.Witness, f.Routes[j].Name), Edits: p.replace(m.Range, fmt.Sprintf("%q", root+"/**")),
						})
						break
					}
				}
			})
		},
	},
	{
		ID: "KX120", Severity: config.Warning, Title: "a refusal that another host name bypasses",
		Why: "the client chooses the Host field, and a route without a host condition matches that request",
		Fix: "remove host from the refusal, or add the hosts to the condition of the other route",
		Run: func(p *Pass) {
			p.eachWith(func(r *config.Route) bool { return refuses(r) && len(r.When.Host) > 0 && len(r.When.Path) > 0 }, func(f *config.Frontend, t *route.Table, i int) {
				r := f.Routes[i]
				open := r.When
				open.Host = nil
				p.walkedPast(f, t, i, open, r.When.Host[0].Range, "other hosts than "+config.Words(r.When.Host), func(x *config.When) bool { return len(x.Host) == 0 })
			})
		},
	},
	{
		ID: "KX121", Severity: config.Advice, Title: "a refusal that another letter case bypasses",
		Why: "values of header fields and cookies are compared with their letter case, and the client chooses it",
		Fix: "a value in any case, as regexp(\"(?i)http\"), or not(...) around the only allowed value",
		Run: func(p *Pass) {
			p.eachWith(func(r *config.Route) bool { return refuses(r) || r.Redirect != nil }, func(f *config.Frontend, t *route.Table, i int) {
				r := f.Routes[i]
				for _, of := range fieldLists {
					for n, pair := range *of.list(&r.When) {
						if of.name == "header" && len(p.Config.Trusted) > 0 && forwarded(pair.Name.Value) {
							continue // which no client writes, but a trusted proxy
						}
						open := r.When
						pairs := slices.Clone(*of.list(&open))
						if pairs[n].Matches = anyCase(pair.Matches); pairs[n].Matches == nil {
							continue
						}
						*of.list(&open) = pairs
						p.walkedPast(f, t, i, open, pair.Name.Range, fmt.Sprintf("%s %s in another letter case", of.name, pair.Name.Value), func(x *config.When) bool {
							return !slices.ContainsFunc(*of.list(x), func(other config.MatchPair) bool { return strings.EqualFold(other.Name.Value, pair.Name.Value) })
						})
					}
				}
			})
		},
	},
}

// refuses reports whether a route is meant to keep requests away.
func refuses(r *config.Route) bool { return r.Reply != nil && r.Reply.Status >= 400 }

// secures reports whether a route sends clients from http to the same page by https.
func secures(r *config.Route) bool {
	return r.Redirect != nil && strings.HasPrefix(r.Redirect.To, "https://{host}")
}

// walkedPast tells of a request that fits what a refusal would take if it were wider, and that a later
// route sends to an upstream without asking for what the refusal goes by: one that does is an
// exception that somebody has made.
func (p *Pass) walkedPast(f *config.Frontend, t *route.Table, i int, open config.When, at hcl.Range, who string, asksNot func(*config.When) bool) {
	for _, x := range partsBeside(t, open) {
		j := x.Routes[0]
		if j <= i || f.Routes[j].SendTo.Value == "" || slices.ContainsFunc(f.Routes[j].When.Parts(), func(w *config.When) bool { return !asksNot(w) }) {
			continue
		}
		p.Report(Finding{
			Range: at, Message: fmt.Sprintf("requests that %q refuses reach %q with %s", f.Routes[i].Name, f.Routes[j].SendTo.Value, who),
			Witness: fmt.Sprintf("%s goes to %q by %q", x.Witness, f.Routes[j].SendTo.Value, f.Routes[j].Name),
		})
		return
	}
}

// fieldLists are the conditions on fields that a client writes.
var fieldLists = []struct {
	name string
	list func(*config.When) *[]config.MatchPair
}{
	{"header", func(w *config.When) *[]config.MatchPair { return &w.Header }},
	{"cookie", func(w *config.When) *[]config.MatchPair { return &w.Cookie }},
}

// forwarded reports whether a header field is one in which a proxy says whom it forwards for.
func forwarded(name string) bool {
	name = strings.ToLower(name)
	return name == "forwarded" || strings.HasPrefix(name, "x-forwarded-")
}

// anyCase returns plain values with any letter case; nil where one is an expression, or excluded, or
// has no letters.
func anyCase(all []config.Match) []config.Match {
	var out []config.Match
	letters := false
	for _, m := range all {
		if m.Not || m.Regexp != nil {
			return nil
		}
		letters = letters || strings.ToLower(m.Text) != strings.ToUpper(m.Text)
		text := "(?i)" + strings.ReplaceAll(regexp.QuoteMeta(m.Text), `\*`, ".*")
		re, err := regexp.Compile("^(?:" + text + ")$")
		if err != nil {
			return nil
		}
		out = append(out, config.Match{Text: text, Regexp: re, Range: m.Range})
	}
	if !letters {
		return nil
	}
	return out
}

// eachWith calls f for the routes of http frontends that are meant, where the conditions could be
// read.
func (p *Pass) eachWith(meant func(*config.Route) bool, do func(f *config.Frontend, t *route.Table, i int)) {
	if len(p.reading) > 0 {
		return
	}
	for _, f := range p.Config.Frontends {
		var t *route.Table
		if f.Protocol == "tcp" || len(f.Routes) > mostNarrowed {
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
	near, routes := nearby(t, &when)
	d, err := asked(near, when)
	if err != nil || d.TooLarge {
		return nil
	}
	var out []region.Part
	for _, x := range d.Parts() {
		if x.Maybe || x.Routes[1] != 0 || x.Routes[0] < 0 {
			continue
		}
		x.Routes = []int{routes[x.Routes[0]], 0}
		q := x.Witness.Request()
		if to, _ := t.Match(&q); to == x.Routes[0] {
			out = append(out, x)
		}
	}
	return out
}

// asked tells apart by the routes of a table and by whether a condition fits, which is route 0 of the
// second table.
func asked(t *route.Table, when config.When) (*region.Partition, error) {
	x := *t.Frontend
	x.Routes = []*config.Route{{Name: "asked", When: when}}
	return region.New(t, route.Compile(&x))
}

// nearby returns a table of those routes that may take a request that fits all conditions, and where they stand
// in the whole table: of many routes few are about the same hosts and paths.
func nearby(t *route.Table, all ...*config.When) (*route.Table, []int) {
	x := *t.Frontend
	x.Routes = nil
	var at []int
	for i, r := range t.Frontend.Routes {
		if !slices.ContainsFunc(all, func(w *config.When) bool { return apart(w, &r.When) }) {
			x.Routes, at = append(x.Routes, r), append(at, i)
		}
	}
	return route.Compile(&x), at
}

// apart reports that no request fits both of two conditions, as their hosts and the beginnings of their
// paths show; false says nothing.
func apart(a, b *config.When) bool { return hostsApart(a, b) || pathsApart(a, b) }

func hostsApart(a, b *config.When) bool {
	name := func(m config.Match) (string, bool) {
		return request.Host(m.Text), !m.Not && m.Regexp == nil && !strings.Contains(m.Text, "*")
	}
	return listsApart(a.Host, b.Host, name, func(x, y string) bool { return x == y })
}

func pathsApart(a, b *config.When) bool {
	begins := func(m config.Match) (string, bool) {
		before, _, _ := strings.Cut(m.Text, "*")
		return request.Path(strings.TrimSuffix(before, "/")), !m.Not && m.Regexp == nil && strings.HasPrefix(m.Text, "/")
	}
	return listsApart(a.Path, b.Path, begins, func(x, y string) bool { return strings.HasPrefix(x, y) || strings.HasPrefix(y, x) })
}

// listsApart reports that each text of one list and each of the other is known, and that no two meet.
func listsApart(x, y []config.Match, known func(config.Match) (string, bool), meet func(x, y string) bool) bool {
	for _, m := range x {
		p, ok := known(m)
		if !ok {
			return false
		}
		for _, n := range y {
			if q, ok := known(n); !ok || meet(p, q) {
				return false
			}
		}
	}
	return len(x) > 0 && len(y) > 0
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
