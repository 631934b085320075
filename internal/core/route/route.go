// Package route finds the route of a request: the first of a frontend whose condition
// matches.
//
// The proxy and the replay match with it, why explains with it, and the checker
// compares routes. It must never build a request: package request does.
package route

import (
	"net/netip"

	"kestrix/internal/core/config"
	"kestrix/internal/core/request"
)

// What a condition sees is made by package request, which documents it.
type (
	Field   = request.Field
	Lookup  = request.Lookup
	Request = request.Request
)

// The fields of a request, as bits; see package request.
const (
	AskHost   = request.AskHost
	AskPath   = request.AskPath
	AskMethod = request.AskMethod
	AskClient = request.AskClient
	AskHeader = request.AskHeader
	AskQuery  = request.AskQuery
	AskCookie = request.AskCookie
	AskSNI    = request.AskSNI
)

// Fields names them in the order in which they are tried.
var Fields = []struct {
	Bit  Field
	Name string
}{{AskHost, "host"}, {AskPath, "path"}, {AskMethod, "method"}, {AskClient, "client"}, {AskHeader, "header"}, {AskQuery, "query"}, {AskCookie, "cookie"}, {AskSNI, "sni"}}

// Table is a frontend's routes, compiled.
type Table struct {
	Frontend *config.Frontend
	rules    []rule
	Asks     Field // of all routes together, so that a driver need not find out what nobody asks
}

type rule struct {
	host, path, sni       set
	method                words
	client                nets
	header, query, cookie []fieldRule
	asks                  Field  // what the rule itself asks
	any                   []rule // of which one must fit as well, where there are any
}

// set is what a condition wants of a text: one of fits, where there are any, and
// none of not.
type set struct{ fits, not []Pattern }

func newSet(all []config.Match, kind func(string) Pattern) set {
	var s set
	for _, m := range all {
		if m.Not {
			s.not = append(s.not, compile(m, kind))
		} else {
			s.fits = append(s.fits, compile(m, kind))
		}
	}
	return s
}

func (s *set) match(text string) bool {
	for i := range s.not {
		if s.not[i].Match(text) {
			return false
		}
	}
	for i := range s.fits {
		if s.fits[i].Match(text) {
			return true
		}
	}
	return len(s.fits) == 0
}

// words is set for words that are compared as they are.
type words struct{ fits, not []string }

func (w *words) match(s string) bool {
	return !contains(w.not, s) && (len(w.fits) == 0 || contains(w.fits, s))
}

// nets is set for addresses.
type nets struct{ fits, not []netip.Prefix }

func (n *nets) match(a netip.Addr) bool {
	return !inside(n.not, a) && (len(n.fits) == 0 || inside(n.fits, a))
}

func inside(nets []netip.Prefix, a netip.Addr) bool {
	for _, p := range nets {
		if p.Contains(a) {
			return true
		}
	}
	return false
}

func contains(list []string, s string) bool {
	for _, x := range list {
		if x == s {
			return true
		}
	}
	return false
}

// fieldRule is what a condition wants of a named field. One that is absent fits only where
// nothing but not(...) is said.
type fieldRule struct {
	name string
	set  set
}

func (f *fieldRule) match(look Lookup) bool {
	if look != nil {
		if v, ok := look(f.name); ok {
			return f.set.match(v)
		}
	}
	return len(f.set.fits) == 0
}

// Compile prepares a frontend's routes.
func Compile(f *config.Frontend) *Table {
	t := &Table{Frontend: f}
	for _, r := range f.Routes {
		c := compileRule(&r.When)
		t.Asks |= c.asksAll()
		if r.Rewrite.RedirectsBare() {
			t.Asks |= AskPath
		}
		t.rules = append(t.rules, c)
	}
	return t
}

// asksAll returns what a rule asks, its any included.
func (r *rule) asksAll() Field {
	asks := r.asks
	for i := range r.any {
		asks |= r.any[i].asks
	}
	return asks
}

// compileRule prepares a condition.
func compileRule(w *config.When) rule {
	c := rule{host: newSet(w.Host, Host), path: newSet(w.Path, Path), sni: newSet(w.SNI, Host)}
	for _, m := range w.Method {
		if m.Not {
			c.method.not = append(c.method.not, m.Text)
		} else {
			c.method.fits = append(c.method.fits, m.Text)
		}
	}
	for _, p := range w.Client {
		if p.Not {
			c.client.not = append(c.client.not, p.Prefix)
		} else {
			c.client.fits = append(c.client.fits, p.Prefix)
		}
	}
	c.header, c.query, c.cookie = fieldRules(w.Header), fieldRules(w.Query), fieldRules(w.Cookie)
	for bit, n := range map[Field]int{
		AskHost: len(w.Host), AskPath: len(w.Path), AskMethod: len(w.Method), AskClient: len(w.Client),
		AskHeader: len(w.Header), AskQuery: len(w.Query), AskCookie: len(w.Cookie), AskSNI: len(w.SNI),
	} {
		if n > 0 {
			c.asks |= bit
		}
	}
	for i := range w.Any {
		c.any = append(c.any, compileRule(&w.Any[i]))
	}
	return c
}

func fieldRules(pairs []config.MatchPair) []fieldRule {
	var out []fieldRule
	for _, p := range pairs {
		out = append(out, fieldRule{p.Name.Value, newSet(p.Matches, Plain)})
	}
	return out
}

// Match returns the position of the route that takes the request, and which unknown
// fields kept a route from matching. It is -1 if no route matches, and also if
// servers read the path in several ways that lead to different routes; see
// Ambiguous.
func (t *Table) Match(q *Request) (int, Field) {
	i, missed := t.first(q)
	if t.Asks&AskPath != 0 && q.Unknown&AskPath == 0 && t.other(q, i) != "" {
		return -1, missed
	}
	return i, missed
}

// Redirects reports whether a request that route i takes is answered by a redirect to its
// path with a / behind it: the path is the prefix that the route drops, and the route takes
// the other one, too.
func (t *Table) Redirects(i int, q *Request) bool {
	r := t.Frontend.Routes[i].Rewrite
	if !r.RedirectsBare() || q.Unknown&AskPath != 0 || q.Path != request.Path(r.DropPrefix) {
		return false
	}
	other := *q
	other.Path += "/"
	j, _ := t.first(&other)
	return j == i
}

// Ambiguous returns another reading of the path that leads to another route, empty
// if there is none.
func (t *Table) Ambiguous(q *Request) string {
	if t.Asks&AskPath == 0 || q.Unknown&AskPath != 0 {
		return ""
	}
	i, _ := t.first(q)
	return t.other(q, i)
}

// other returns a reading of the path that leads to another route than i.
func (t *Table) other(q *Request, i int) string {
	for _, path := range request.Readings(q.Path) {
		read := *q
		read.Path = path
		if j, _ := t.first(&read); j != i {
			return path
		}
	}
	return ""
}

// first returns the first route that matches, -1 if none does, and which unknown
// fields kept one from matching.
func (t *Table) first(q *Request) (int, Field) {
	var missed Field
	for i := range t.rules {
		r := &t.rules[i]
		if r.asks == 0 && r.any == nil {
			return i, missed
		}
		fits, unknown := r.fits(q)
		if fits {
			return i, missed
		}
		missed |= unknown
	}
	return -1, missed
}

// fits reports whether a rule takes a request; if not, it may be for want of unknown fields.
func (r *rule) fits(q *Request) (bool, Field) {
	if un := r.asks & q.Unknown; un != 0 {
		return false, un
	}
	if r.asks != 0 && r.fails(q) != 0 {
		return false, 0
	}
	var missed Field
	for i := range r.any {
		fits, unknown := r.any[i].fits(q)
		if fits {
			return true, 0
		}
		missed |= unknown
	}
	return r.any == nil, missed
}

// fails returns the first field that does not fit, 0 if all do; any is not looked at.
func (r *rule) fails(q *Request) Field {
	switch {
	case r.asks&AskHost != 0 && !r.host.match(q.Host):
		return AskHost
	case r.asks&AskPath != 0 && !r.path.match(q.Path):
		return AskPath
	case r.asks&AskMethod != 0 && !r.method.match(q.Method):
		return AskMethod
	case r.asks&AskClient != 0 && !r.client.match(q.Client):
		return AskClient
	case r.asks&AskHeader != 0 && !allMatch(r.header, q.Header):
		return AskHeader
	case r.asks&AskQuery != 0 && !allMatch(r.query, q.Query):
		return AskQuery
	case r.asks&AskCookie != 0 && !allMatch(r.cookie, q.Cookie):
		return AskCookie
	case r.asks&AskSNI != 0 && !r.sni.match(q.SNI):
		return AskSNI
	}
	return 0
}

func allMatch(rules []fieldRule, look Lookup) bool {
	for i := range rules {
		if !rules[i].match(look) {
			return false
		}
	}
	return true
}
