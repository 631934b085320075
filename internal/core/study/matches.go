package study

import (
	"fmt"
	"strings"

	"kestrix/internal/core/config"
	"kestrix/internal/core/region"
	"kestrix/internal/core/route"
)

// Matches is the requests that a route takes: those that its condition fits, less those that
// routes before it take. The keys are documented and stable.
type Matches struct {
	Frontend  string     `json:"frontend"`
	Route     string     `json:"route"`
	When      string     `json:"when"`
	Matches   bool       `json:"matches"`   // there is a request that matches its condition
	Examples  []string   `json:"examples"`  // of what it takes; empty if it takes nothing
	Less      []LessThan `json:"less"`      // what its condition fits and another route takes
	Undecided []string   `json:"undecided"` // conditions whose automata have too many states, on which it depends what it takes
}

// LessThan is a route that takes some of what a later one would.
type LessThan struct {
	Route   string `json:"route"`
	When    string `json:"when"`
	Example string `json:"example"`
}

// mostLess bounds the routes before one that are told.
const mostLess = 20

// MatchesOf describes the requests that a route takes, by ROUTE or FRONTEND/ROUTE. The error
// says that there is none, or several.
func MatchesOf(c *config.Config, name string) (*Matches, error) {
	f, i, err := routeCalled(c, name)
	if err != nil {
		return nil, err
	}
	t := route.Compile(f)
	m := &Matches{Frontend: f.Name, Route: f.Routes[i].Name, When: when(&f.Routes[i].When), Examples: []string{}, Less: []LessThan{}, Undecided: []string{}}
	p, err := region.New(t)
	if err != nil {
		return nil, err
	}
	if p.TooLarge {
		return nil, fmt.Errorf("the conditions of the frontend %q tell too many sets of requests apart", f.Name)
	}
	for _, x := range p.Parts() {
		if x.Routes[0] != i {
			continue
		}
		if x.Maybe {
			m.Undecided = p.Undecided
			continue
		}
		for _, w := range p.Examples(x, 3) {
			if q := w.Request(); taken(t, &q) == i {
				m.Examples = append(m.Examples, w.String())
			}
		}
	}
	before, alone := *f, *f
	before.Routes, alone.Routes = f.Routes[:i], f.Routes[i:i+1]
	p, err = region.New(route.Compile(&before), route.Compile(&alone))
	if err != nil || p.TooLarge {
		return m, err
	}
	for _, x := range p.Parts() {
		if x.Routes[1] != 0 || x.Maybe {
			continue
		}
		m.Matches = true
		if k := x.Routes[0]; k >= 0 && len(m.Less) < mostLess {
			m.Less = append(m.Less, LessThan{f.Routes[k].Name, when(&f.Routes[k].When), x.Witness.String()})
		}
	}
	return m, nil
}

// routeCalled returns the frontend and position of a route by its name.
func routeCalled(c *config.Config, name string) (*config.Frontend, int, error) {
	var all, known []string
	var of *config.Frontend
	at := -1
	for _, f := range c.Frontends {
		for i, r := range f.Routes {
			full := f.Name + "/" + r.Name
			known = append(known, full, r.Name)
			if name == full || name == r.Name {
				all, of, at = append(all, full), f, i
			}
		}
	}
	switch {
	case len(all) == 1:
		return of, at, nil
	case len(all) > 1:
		return nil, 0, fmt.Errorf("several routes are called %q: %s", name, strings.Join(all, ", "))
	}
	hint := ""
	if s := config.Suggest(name, known); s != "" {
		hint = "; did you mean " + s + "?"
	}
	return nil, 0, fmt.Errorf("no route is called %q%s", name, hint)
}
