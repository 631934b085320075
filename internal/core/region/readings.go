package region

import (
	"slices"

	"kestrix/internal/core/request"
)

// Refused stands for no route in the parts of a path: readings of it lead to several routes.
const Refused = -2

// OfPath returns the parts of all requests of one path, with regard to its readings (see
// request.Readings): where one of them leads to another route, the request is Refused.
func (p *Partition) OfPath(path string) []Part {
	paths := append([]string{path}, request.Readings(path)...)
	at := p.space.byName[dimensionKey(pathKind, "")]
	// As many tables as there are readings of each: what is left of it for that reading.
	s := &space{dims: p.space.dims, byName: p.space.byName, tables: p.space.tables}
	var lists [][]int
	for t := range p.space.clauses {
		for _, reading := range paths {
			q, _ := request.Of("GET", "", reading) // in normal form it stays as it is
			var left []clause
			var list []int
			for _, c := range p.space.clauses[t] {
				if k := c.conds[at]; k >= 0 && !s.dims[at].atomOf([]int{k}, &q).holds[0] {
					continue
				}
				c.conds = slices.Clone(c.conds)
				c.conds[at] = -1
				list = append(list, len(left))
				left = append(left, c)
			}
			s.clauses, lists = append(s.clauses, left), append(lists, list)
		}
	}
	of := &Partition{space: s, nodes: map[string]*node{}, likes: p.likes}
	of.root = of.build(0, lists, path == "*")
	known := map[string]int{}
	var out []Part
	for _, x := range of.Parts() {
		var routes []int
		for t := range p.space.clauses {
			read := x.Routes[t*len(paths) : (t+1)*len(paths)]
			takes := read[0]
			if slices.ContainsFunc(read, func(r int) bool { return r != takes }) {
				takes = Refused
			}
			routes = append(routes, takes)
		}
		x.Routes = routes
		if x.Witness != nil {
			x.Witness.Path = path
			x.Witness.finish()
		}
		k, ok := known[routesKey(routes)]
		switch {
		case !ok:
			known[routesKey(routes)] = len(out)
			out = append(out, x)
		case out[k].Maybe && !x.Maybe:
			out[k] = x
		}
	}
	return out
}

// Paths returns the paths that a route of a table takes where it names each by itself, without
// wildcards and regular expressions; nil where it takes others as well.
func (p *Partition) Paths(table, route int) []string {
	at := p.space.byName[dimensionKey(pathKind, "")]
	d := p.space.dims[at]
	var out []string
	for _, c := range p.space.clauses[table] {
		if c.route != route {
			continue
		}
		if c.conds[at] < 0 {
			return nil
		}
		var named []string
		for _, s := range d.conds[c.conds[at]].sets {
			var texts []string
			for _, k := range s.fits {
				if x := d.patterns[k]; x.literal {
					texts = append(texts, x.text)
				}
			}
			if len(texts) == len(s.fits) && len(texts) > 0 {
				named = texts
			}
		}
		if named == nil {
			return nil
		}
		out = append(out, named...)
	}
	return out
}
