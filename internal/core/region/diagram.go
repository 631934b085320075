package region

import (
	"encoding/binary"
	"fmt"
	"slices"
	"strings"

	"kestrix/internal/core/request"
	"kestrix/internal/core/route"
)

// Partition says of all requests that several frontends may be sent which route of each takes
// them: a decision diagram with a value of several parts (Srinivasan, Kam, Malik and Brayton,
// Algorithms for Discrete Function Manipulation, ICCAD 1990), made from the top, of which a node
// is what is left to ask of those routes that still may take a request.
type Partition struct {
	space     *space
	root      *node
	nodes     map[string]*node
	known     map[string]toldApart // by dimension and conditions
	likes     []string             // hosts of the configuration
	Undecided []string             // conditions whose automata have too many states, as they are written
	size      int
	all       bool // leaves hold all routes that fit, and not the first of each table
	// TooLarge: there are more nodes than are made, so that nothing is said at all.
	TooLarge bool
}

// mostNodes bounds the edges of a diagram.
const mostNodes = 200_000

// node is a place of the diagram.
type node struct {
	routes []int // of a leaf: by table, -1 for none
	dim    int   // that is asked here; of a leaf last
	last   int
	conds  []int // that are asked for
	edges  []edge
	by     map[string]int   // edges by what holds
	best   map[string]reach // see reaches
}

// edge leads on for some values of a dimension.
type edge struct {
	atom atom   // the most plausible
	more []atom // some others
	to   *node
}

// mostExamples is how many values of an edge are kept for examples.
const mostExamples = 3

// New makes the partition of frontends that take the same requests: the same protocol, TLS in
// both or in none. The error says that a condition is none, which the configuration would have
// found.
func New(tables ...*route.Table) (*Partition, error) { return build(false, tables...) }

// Fitting makes the partition of a frontend by all routes whose conditions fit, of which the
// first takes a request: parts have as many routes as fit.
func Fitting(table *route.Table) (*Partition, error) { return build(true, table) }

func build(all bool, tables ...*route.Table) (*Partition, error) {
	s, err := newSpace(tables...)
	if err != nil {
		return nil, err
	}
	p := &Partition{space: s, all: all, nodes: map[string]*node{}, Undecided: []string{}}
	for _, h := range s.dims[s.byName[dimensionKey(hostKind, "")]].byOrder() {
		if !strings.ContainsAny(h, "*") {
			p.likes = append(p.likes, h)
		}
	}
	p.likes = append(p.likes, "tern.example", "other.example")
	lists := make([][]int, len(tables))
	for t := range tables {
		for k := range s.clauses[t] {
			lists[t] = append(lists[t], k)
		}
	}
	p.root = p.build(0, lists, false)
	return p, nil
}

// byOrder returns the texts of the patterns of hosts in the order of the configuration.
func (d *dimension) byOrder() []string {
	out := make([]string, len(d.patterns))
	for text, k := range d.byText {
		if strings.HasPrefix(text, "=") {
			out[k] = strings.ToLower(text[1:])
		}
	}
	return slices.DeleteFunc(out, func(s string) bool { return s == "" })
}

// build returns the node at which dimensions from dim on are asked for what is left of the
// clauses of each table. star says that the path is "*".
func (p *Partition) build(dim int, lists [][]int, star bool) *node {
	s := p.space
	if !p.all {
		for t, list := range lists {
			lists[t] = s.upToCertain(t, list, dim)
		}
	}
	ask := s.firstAsked(lists, dim)
	key := nodeKey(ask, lists, star)
	if n := p.nodes[key]; n != nil {
		return n
	}
	n := &node{dim: ask, last: len(s.dims)}
	p.nodes[key] = n
	if ask == len(s.dims) {
		n.routes = p.taking(lists)
		return n
	}
	d := s.dims[ask]
	n.conds, n.by = s.asked(lists, ask), map[string]int{}
	atoms, undecided := p.atoms(ask, n.conds)
	for _, c := range undecided {
		if words := d.wordsOf(c); !slices.Contains(p.Undecided, words) {
			p.Undecided = append(p.Undecided, words)
		}
	}
	if len(undecided) > mostUndecided {
		p.TooLarge = true
		return n
	}
	known := map[*node]int{}
	for _, a := range atoms {
		if star && d.kind == methodKind && a.text != "OPTIONS" {
			continue
		}
		if p.size++; p.size > mostNodes {
			p.TooLarge = true
			return n
		}
		to := p.build(ask+1, s.left(lists, ask, n.conds, &a), star || d.kind == pathKind && a.odd == asterisk)
		k, ok := known[to]
		switch {
		case !ok:
			k = len(n.edges)
			known[to] = k
			n.edges = append(n.edges, edge{atom: a, to: to})
		case a.cost() < n.edges[k].atom.cost():
			n.edges[k].more = append(n.edges[k].more, n.edges[k].atom)
			n.edges[k].atom = a
		default:
			n.edges[k].more = append(n.edges[k].more, a)
		}
		if e := &n.edges[k]; len(e.more) >= mostExamples {
			e.more = e.more[:mostExamples-1]
		}
		n.by[a.key()] = k
	}
	return n
}

// atoms returns those of a dimension by some conditions, which several nodes may ask for.
func (p *Partition) atoms(dim int, conds []int) ([]atom, []int) {
	key := nodeKey(dim, [][]int{conds}, false)
	x, ok := p.known[key]
	if !ok {
		d := p.space.dims[dim]
		x.atoms, x.undecided = d.atoms(conds, p.preferred(d.kind))
		if p.known == nil {
			p.known = map[string]toldApart{}
		}
		p.known[key] = x
	}
	return x.atoms, x.undecided
}

// toldApart is what the values of a dimension are told apart into.
type toldApart struct {
	atoms     []atom
	undecided []int
}

// firstAsked returns the first dimension from dim on that a clause asks for.
func (s *space) firstAsked(lists [][]int, dim int) int {
	for d := dim; d < len(s.dims); d++ {
		for t, list := range lists {
			if slices.ContainsFunc(list, func(k int) bool { return s.clauses[t][k].conds[d] >= 0 }) {
				return d
			}
		}
	}
	return len(s.dims)
}

// asked returns the conditions that clauses have on a dimension.
func (s *space) asked(lists [][]int, dim int) []int {
	var conds []int
	for t, list := range lists {
		for _, k := range list {
			if c := s.clauses[t][k].conds[dim]; c >= 0 {
				conds = append(conds, c)
			}
		}
	}
	slices.Sort(conds)
	return slices.Compact(conds)
}

// left returns the clauses that are left where an atom of a dimension is.
func (s *space) left(lists [][]int, dim int, conds []int, a *atom) [][]int {
	out := make([][]int, len(lists))
	for t, list := range lists {
		for _, k := range list {
			c := s.clauses[t][k].conds[dim]
			if c >= 0 {
				if at, _ := slices.BinarySearch(conds, c); !a.holds[at] {
					continue
				}
			}
			out[t] = append(out[t], k)
		}
	}
	return out
}

// taking returns the routes of a leaf.
func (p *Partition) taking(lists [][]int) []int {
	var out []int
	for t, list := range lists {
		clauses := p.space.clauses[t]
		switch {
		case p.all:
			for _, k := range list {
				out = append(out, clauses[k].route)
			}
			out = slices.Compact(out)
		case len(list) > 0:
			out = append(out, clauses[list[0]].route)
		default:
			out = append(out, -1)
		}
	}
	return out
}

// preferred are texts of a dimension that people know.
func (p *Partition) preferred(k kind) []string {
	switch k {
	case hostKind, sniKind:
		return p.likes
	case pathKind:
		return []string{"/", "/x", "/x/y"}
	}
	return nil
}

// upToCertain returns what is left of the clauses of a table: those up to the first that asks
// nothing more and so takes all that comes to it.
func (s *space) upToCertain(t int, list []int, dim int) []int {
	for i, k := range list {
		if !slices.ContainsFunc(s.clauses[t][k].conds[dim:], func(c int) bool { return c >= 0 }) {
			return list[:i+1]
		}
	}
	return list
}

// nodeKey tells nodes apart.
func nodeKey(dim int, lists [][]int, star bool) string {
	b := binary.AppendUvarint(nil, uint64(dim))
	if star {
		b = append(b, '*')
	}
	for _, list := range lists {
		b = append(b, '|')
		for _, k := range list {
			b = binary.AppendUvarint(b, uint64(k)+1)
		}
		b = append(b, 0)
	}
	return string(b)
}

// reach is how a leaf is reached from a node at least cost.
type reach struct {
	routes []int
	cost   int
	edge   int  // of the node; -1 at the leaf
	maybe  bool // only through a condition that is not decided
}

// reaches returns the leaves that a node leads to.
func (n *node) reaches() map[string]reach {
	if n.best != nil {
		return n.best
	}
	n.best = map[string]reach{}
	if n.edges == nil && n.dim == n.last {
		n.best[routesKey(n.routes)] = reach{routes: n.routes, edge: -1}
		return n.best
	}
	for i := range n.edges {
		e := &n.edges[i]
		for key, r := range e.to.reaches() {
			x := reach{r.routes, r.cost + e.atom.cost(), i, r.maybe || e.atom.undecided}
			if old, ok := n.best[key]; !ok || old.maybe && !x.maybe || old.maybe == x.maybe && x.cost < old.cost {
				n.best[key] = x
			}
		}
	}
	return n.best
}

func routesKey(routes []int) string { return fmt.Sprint(routes) }

// Part is the requests that certain routes take, one of each table, -1 for none.
type Part struct {
	Routes  []int
	Maybe   bool     // it is not known whether there are any: a condition is not decided
	Witness *Witness // one of them; nil where Maybe
	key     string
}

// Parts returns the parts in which there are requests, or may be.
func (p *Partition) Parts() []Part {
	var out []Part
	for key, r := range p.root.reaches() {
		x := Part{Routes: r.routes, Maybe: r.maybe, key: key}
		if !r.maybe {
			x.Witness = p.witness(key)
		}
		out = append(out, x)
	}
	slices.SortFunc(out, func(a, b Part) int { return slices.Compare(a.Routes, b.Routes) })
	return out
}

// witness returns the request that leads to a leaf at least cost.
func (p *Partition) witness(key string) *Witness {
	w := newWitness(p.space.dims[0].tcp)
	for n := p.root; ; {
		r := n.reaches()[key]
		if r.edge < 0 {
			break
		}
		e := &n.edges[r.edge]
		w.set(p.space.dims[n.dim], &e.atom)
		n = e.to
	}
	w.finish()
	return w
}

// Examples returns up to so many requests of a part, as different as may be.
func (p *Partition) Examples(x Part, most int) []*Witness {
	var out []*Witness
	for _, path := range p.root.ways(x.key, most) {
		w := newWitness(p.space.dims[0].tcp)
		for _, step := range path {
			w.set(p.space.dims[step.dim], &step.atom)
		}
		w.finish()
		out = append(out, w)
	}
	return out
}

// way is a value of a dimension on the way to a leaf.
type way struct {
	dim  int
	atom atom
}

// ways returns up to so many ways to a leaf: first those by different edges and values here.
func (n *node) ways(key string, most int) [][]way {
	if n.edges == nil {
		return [][]way{nil}
	}
	var first, further [][]way
	for i := range n.edges {
		e := &n.edges[i]
		if r, ok := e.to.reaches()[key]; !ok || r.maybe || len(first) >= most {
			continue
		}
		rest := e.to.ways(key, most)
		for k, a := range e.examples() {
			first = append(first, append([]way{{n.dim, a}}, rest[min(k, len(rest)-1)]...))
		}
		for _, x := range rest[1:] {
			further = append(further, append([]way{{n.dim, e.atom}}, x...))
		}
	}
	all := append(first, further...)
	slices.SortStableFunc(all[:len(first)], func(a, b []way) int { return waysCost(a) - waysCost(b) })
	return all[:min(most, len(all))]
}

// examples returns values of an edge: of each atom one, and then more of the first.
func (e *edge) examples() []atom {
	var out []atom
	for _, a := range append([]atom{e.atom}, e.more...) {
		if !a.undecided {
			out = append(out, a)
		}
	}
	if e.atom.absent || e.atom.undecided {
		return out
	}
	for _, text := range e.atom.others {
		a := e.atom
		a.text = text
		out = append(out, a)
	}
	return out
}

func waysCost(w []way) int {
	n := 0
	for i := range w {
		n += w[i].atom.cost()
	}
	return n
}

// At returns which routes take a request, by the diagram, without regard to other readings of
// its path (see route.Table.Match). It is nil where a condition is not decided.
func (p *Partition) At(q *request.Request) []int {
	n := p.root
	for n.edges != nil {
		d := p.space.dims[n.dim]
		a := d.atomOf(n.conds, q)
		k, ok := n.by[a.key()]
		if !ok || n.edges[k].atom.undecided {
			return nil
		}
		n = n.edges[k].to
	}
	return n.routes
}

// Holds words what a route of a table asks for that a request has, and what it asks for that the
// request has not. Of several any blocks it is the first that fits, or the first.
func (p *Partition) Holds(table, route int, q *request.Request) (has, lacks []string) {
	for _, c := range p.space.clauses[table] {
		if c.route != route {
			continue
		}
		var with, without []string
		for at, k := range c.conds {
			if k < 0 {
				continue
			}
			d := p.space.dims[at]
			if d.atomOf([]int{k}, q).holds[0] {
				with = append(with, d.wordsOf(k))
			} else {
				without = append(without, d.wordsOf(k))
			}
		}
		if without == nil {
			return with, nil
		}
		if lacks == nil {
			has, lacks = with, without
		}
	}
	return has, lacks
}

// atomOf returns what holds of a request.
func (d *dimension) atomOf(conds []int, q *request.Request) atom {
	var a atom
	look := map[kind]request.Lookup{headerKind: q.Header, queryKind: q.Query, cookieKind: q.Cookie}[d.kind]
	hit := make([]bool, max(len(d.patterns), len(d.prefixes), len(d.methods)))
	text := map[kind]string{hostKind: q.Host, pathKind: q.Path, sniKind: q.SNI}[d.kind]
	switch d.kind {
	case methodKind:
		for k, m := range d.methods {
			hit[k] = m == q.Method
		}
		if q.Method == "OPTIONS" {
			a.odd = asterisk
		}
	case clientKind:
		for k, p := range d.prefixes {
			hit[k] = p.Contains(q.Client)
		}
	case headerKind, queryKind, cookieKind:
		present := look != nil
		if present {
			text, present = look(d.name)
		}
		if present {
			d.fit(text, conds, hit)
		}
	default:
		d.fit(text, conds, hit)
		if d.kind == pathKind && text == "*" {
			a.odd = asterisk
		}
	}
	for _, c := range conds {
		a.holds = append(a.holds, d.conds[c].holds(hit))
	}
	return a
}

// fit tells which patterns of some conditions a text fits.
func (d *dimension) fit(text string, conds []int, hit []bool) {
	used := d.used(conds)
	var patterns []*pattern
	for _, k := range used {
		patterns = append(patterns, d.patterns[k])
	}
	for k, fits := range newRunner(paths, patterns).fits(text) {
		hit[used[k]] = fits
	}
}
