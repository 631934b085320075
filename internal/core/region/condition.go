package region

import (
	"net/netip"
	"slices"
	"strings"

	"kestrix/internal/core/config"
	"kestrix/internal/core/route"
)

// kind is a part of a request that a condition asks for.
type kind uint8

const (
	hostKind kind = iota
	pathKind
	methodKind
	clientKind
	sniKind
	headerKind
	queryKind
	cookieKind
)

// dimension is a part of a request, with a name where there are several of the kind. In the
// order of the diagram hosts come first, which keep most routes apart, and paths next.
type dimension struct {
	kind kind
	name string
	tcp  bool // of a connection: nothing but client and sni is there
	tls  bool // a name may come in a handshake
	unix bool // clients may have no address

	patterns []*pattern
	byText   map[string]int // positions in patterns
	prefixes []netip.Prefix
	methods  []string
	conds    []cond
	byWords  map[string]int // positions in conds
}

// cond is what clauses want of a dimension: every one of several sets.
type cond struct {
	sets  []set
	words string
}

// set is what is wanted of a value: one of fits, where there are any, and none of not, as
// positions of patterns, prefixes or methods.
type set struct {
	fits, not []int
}

// holds reports whether a value is wanted, of which hit tells what it fits. One that is absent
// fits nothing.
func (c *cond) holds(hit []bool) bool {
	for _, s := range c.sets {
		at := func(k int) bool { return hit[k] }
		if slices.ContainsFunc(s.not, at) || len(s.fits) > 0 && !slices.ContainsFunc(s.fits, at) {
			return false
		}
	}
	return true
}

// clause is a conjunction of conditions, by dimension; of several clauses of a route one must
// fit.
type clause struct {
	route int
	conds []int // positions in the conds of the dimension; -1 asks nothing
}

// space is what the routes of several tables ask, by dimensions.
type space struct {
	dims    []*dimension
	byName  map[string]int
	clauses [][]clause // by table
	tables  []*route.Table
}

// newSpace returns that of tables that have the same requests.
func newSpace(tables ...*route.Table) (*space, error) {
	s := &space{byName: map[string]int{}, tables: tables}
	tcp := tables[0].Frontend.Protocol == "tcp"
	// Dimensions first: their order is that of the diagram.
	names := map[kind]map[string]string{headerKind: {}, queryKind: {}, cookieKind: {}}
	tls, unix := tcp, false
	for _, t := range tables {
		f := t.Frontend
		tls = tls || f.TLS != nil
		for _, l := range f.Listen {
			unix = unix || l.Value.Unix != ""
		}
		for _, r := range f.Routes {
			for _, w := range r.When.Parts() {
				for k, pairs := range map[kind][]config.MatchPair{headerKind: w.Header, queryKind: w.Query, cookieKind: w.Cookie} {
					for _, p := range pairs {
						names[k][nameOf(k, p.Name.Value)] = p.Name.Value
					}
				}
			}
		}
	}
	add := func(k kind, name string) {
		s.byName[dimensionKey(k, name)] = len(s.dims)
		s.dims = append(s.dims, &dimension{kind: k, name: name, tcp: tcp, tls: tls, unix: unix, byText: map[string]int{}, byWords: map[string]int{}})
	}
	for k := hostKind; k <= sniKind; k++ {
		add(k, "")
	}
	for k := headerKind; k <= cookieKind; k++ {
		var sorted []string
		for name := range names[k] {
			sorted = append(sorted, name)
		}
		slices.Sort(sorted)
		for _, name := range sorted {
			add(k, name)
		}
	}
	for _, t := range tables {
		var clauses []clause
		for i, r := range t.Frontend.Routes {
			parts := r.When.Parts()
			for k := range parts {
				if k == 0 && len(parts) > 1 {
					continue // with each of the others
				}
				c, err := s.clause(i, parts[0], parts[k])
				if err != nil {
					return nil, err
				}
				clauses = append(clauses, c)
			}
		}
		s.clauses = append(s.clauses, clauses)
	}
	return s, nil
}

// nameOf returns the name by which a field is told from others.
func nameOf(k kind, name string) string {
	if k == headerKind {
		return strings.ToLower(name)
	}
	return name
}

func dimensionKey(k kind, name string) string { return string(rune('0'+k)) + name }

// clause reads a condition, or what is asked beside an any block and in it, which may be the
// same.
func (s *space) clause(i int, outer, inner *config.When) (clause, error) {
	c := clause{route: i, conds: make([]int, len(s.dims))}
	for k := range c.conds {
		c.conds[k] = -1
	}
	byDim := map[int]*cond{}
	parts := []*config.When{outer}
	if inner != outer {
		parts = append(parts, inner)
	}
	for _, w := range parts {
		for _, x := range needs(w) {
			at := s.byName[dimensionKey(x.kind, nameOf(x.kind, x.name))]
			set, err := s.dims[at].texts(x.matches, x.text)
			if err != nil {
				return c, err
			}
			if byDim[at] == nil {
				byDim[at] = &cond{}
			}
			d := byDim[at]
			d.sets = append(d.sets, set)
			d.words = strings.TrimPrefix(d.words+" and "+config.Words(x.matches), " and ")
		}
	}
	for at, d := range byDim {
		c.conds[at] = s.dims[at].intern(d)
	}
	return c, nil
}

// want is what a condition wants of a dimension; text writes patterns with wildcards.
type want struct {
	kind    kind
	name    string
	matches []config.Match
	text    func(string) string
}

// wants returns what a condition wants, any aside.
func needs(w *config.When) []want {
	var clients []config.Match
	for _, p := range w.Client {
		clients = append(clients, config.Match{Text: p.Prefix.String(), Not: p.Not})
	}
	all := []want{{hostKind, "", w.Host, hostText}, {pathKind, "", w.Path, pathText}, {methodKind, "", w.Method, nil}, {clientKind, "", clients, nil}, {sniKind, "", w.SNI, hostText}}
	for _, f := range []struct {
		kind  kind
		pairs []config.MatchPair
	}{{headerKind, w.Header}, {queryKind, w.Query}, {cookieKind, w.Cookie}} {
		for _, p := range f.pairs {
			all = append(all, want{f.kind, p.Name.Value, p.Matches, plainText})
		}
	}
	return slices.DeleteFunc(all, func(x want) bool { return len(x.matches) == 0 })
}

// texts returns the set of matches of a dimension.
func (d *dimension) texts(ms []config.Match, text func(string) string) (set, error) {
	var out set
	for _, m := range ms {
		k, err := d.element(m, text)
		if err != nil {
			return out, err
		}
		if m.Not {
			out.not = append(out.not, k)
		} else {
			out.fits = append(out.fits, k)
		}
	}
	return out, nil
}

// element returns the position of what a match fits.
func (d *dimension) element(m config.Match, text func(string) string) (int, error) {
	m.Not = false
	key := m.String()
	if m.Regexp == nil {
		key = "=" + m.Text
	}
	k, ok := d.byText[key]
	if ok {
		return k, nil
	}
	switch d.kind {
	case methodKind:
		k = len(d.methods)
		d.methods = append(d.methods, m.Text)
	case clientKind:
		p, err := netip.ParsePrefix(m.Text)
		if err != nil {
			return 0, err
		}
		k = len(d.prefixes)
		d.prefixes = append(d.prefixes, p)
	default:
		p, err := newPattern(m, text)
		if err != nil {
			return 0, err
		}
		k = len(d.patterns)
		d.patterns = append(d.patterns, p)
	}
	d.byText[key] = k
	return k, nil
}

// intern returns the position of a condition, the same for those of the same sets.
func (d *dimension) intern(c *cond) int {
	key := make([]byte, 0, 32)
	for _, s := range c.sets {
		key = append(key, 'S')
		for _, list := range [][]int{s.fits, s.not} {
			key = append(key, 'L')
			for _, k := range list {
				key = append(key, byte(k), byte(k>>8), byte(k>>16))
			}
		}
	}
	k, ok := d.byWords[string(key)]
	if !ok {
		k = len(d.conds)
		d.conds = append(d.conds, *c)
		d.byWords[string(key)] = k
	}
	return k
}
