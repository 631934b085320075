package region

import (
	"slices"

	"kestrix/internal/core/config"
	"kestrix/internal/core/route"
)

// Never is a route that takes no request.
type Never struct {
	Route   int
	By      []int    // the earlier routes that take what fits it, for the first mostBy of these routes
	Witness *Witness // a request that fits it and goes to another; nil if nothing fits it
}

// mostBy is for how many routes of a frontend it is found out who takes their requests: that
// means to compare each with all before it.
const mostBy = 20

// Nevers returns the routes that take no request. Nothing is said of a route that a condition
// keeps undecided.
func Nevers(t *route.Table) ([]Never, error) {
	p, err := New(t)
	if err != nil || p.TooLarge {
		return nil, err
	}
	takes := map[int]bool{}
	for _, x := range p.Parts() {
		takes[x.Routes[0]] = true
	}
	var out []Never
	for i, r := range t.Frontend.Routes {
		if takes[i] {
			continue
		}
		// The routes up to this one, against it alone.
		before, alone := *t.Frontend, *t.Frontend
		before.Routes, alone.Routes = t.Frontend.Routes[:i], []*config.Route{r}
		if len(out) >= mostBy {
			before.Routes = nil
		}
		p, err := New(route.Compile(&before), route.Compile(&alone))
		if err != nil {
			return nil, err
		}
		n := Never{Route: i}
		for _, x := range p.Parts() {
			if x.Routes[1] == 0 && !x.Maybe {
				if x.Routes[0] >= 0 {
					n.By = append(n.By, x.Routes[0])
				}
				if n.Witness == nil || x.Witness.cost() < n.Witness.cost() {
					n.Witness = x.Witness
				}
			}
		}
		slices.Sort(n.By)
		out = append(out, n)
	}
	return out, nil
}

// Overlap is two routes that both fit some requests although neither fits all that the other
// does.
type Overlap struct {
	First, Second int      // positions in the frontend
	Witness       *Witness // fits both; the first takes it
}

// Overlaps returns those of a frontend: of each route the one with the first that it overlaps.
func Overlaps(t *route.Table) ([]Overlap, error) {
	p, err := Fitting(t)
	if err != nil || p.TooLarge {
		return nil, err
	}
	type pair [2]int
	both, without := map[pair]*Witness{}, map[pair]bool{} // without: the first fits, and not the second
	parts := p.Parts()
	for _, x := range parts {
		for _, i := range x.Routes {
			for j := range t.Frontend.Routes {
				switch {
				case !slices.Contains(x.Routes, j):
					without[pair{i, j}] = true
				case j > i && i == x.Routes[0] && !x.Maybe && (both[pair{i, j}] == nil || x.Witness.cost() < both[pair{i, j}].cost()):
					both[pair{i, j}] = x.Witness
				}
			}
		}
	}
	var out []Overlap
	for j := range t.Frontend.Routes {
		for i := range j {
			if w := both[pair{i, j}]; w != nil && without[pair{i, j}] && without[pair{j, i}] {
				out = append(out, Overlap{i, j, w})
				break
			}
		}
	}
	return out, nil
}
