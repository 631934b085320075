package study

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"kestrix/internal/core/balance"
	"kestrix/internal/core/config"
	"kestrix/internal/core/scenario"
)

// Variant is one of several variants of doing the same work that are held side by side.
type Variant struct {
	Name       string
	Choice     string // what of Choices it is; empty: as its configuration says
	Pool       int    // backends in each pool; 0: as its configuration says
	Sticky     string // of Axes.Sticky; empty: as its configuration says
	Configured bool   // it is as the first configuration says
	Config     *config.Config
	Scenario   *scenario.Scenario
	Notes      []string // what of the scenario has no meaning in it
}

// Subject is a configuration under a name, with its scenario.
type Subject struct {
	Name     string
	Config   *config.Config
	Scenario *scenario.Scenario
}

// Axes say in what the variants differ, besides their configurations.
type Axes struct {
	Algorithms []string // by the names of Choices, "ring:1.25" for a bounded one; empty: as configured
	Pools      []int    // numbers of backends; empty: as configured
	Sticky     []string // how clients are known again, none for not at all, header:NAME; empty: as configured
	OnLoss     []string // what becomes of a client whose backend is out; empty: as configured, or move
	Spill      []string // how requests leave their tier and zone, as below:80% or at:80%; empty: as configured
	Upstreams  []string // that are changed; empty: all
}

// Choices are the names of algorithms as compare knows them: methods of hash go by
// their own name.
var Choices = func() (names []string) {
	for _, a := range balance.Algorithms {
		names = append(names, a.Name)
	}
	return names
}()

// LeftOut is a variant that was not tried.
type LeftOut struct {
	Name string `json:"name"`
	Why  string `json:"why"`
}

// choice is a variant of choosing, read from its name.
type choice struct {
	name  string
	base  string // of Choices
	hash  string // method, empty unless it is one
	bound float64
}

func readChoice(name string) (choice, error) {
	base, bound, bounded := strings.Cut(name, ":")
	c := choice{name: base, base: base}
	switch {
	case bounded && (choiceOf(base) == nil || !choiceOf(base).Bounded):
		return c, fmt.Errorf("%q: a bound belongs to the ring, as in ring:1.25", name)
	case bounded:
		f, err := strconv.ParseFloat(bound, 64)
		if err != nil || f < 1.01 || f > 100 {
			return c, fmt.Errorf("%q: the bound of a ring lies from 1.01 to 100, as in ring:1.25", name)
		}
		c.bound = f
		c.name += ", bound " + bound
	}
	if a := choiceOf(base); a != nil {
		if a.Hash {
			c.hash = base
		}
		return c, nil
	}
	hint := config.DidYouMean(base, Choices)
	if base == "hash" {
		hint = "name the method of hash: ring, rendezvous or modulo"
	}
	return c, fmt.Errorf("no algorithm is called %q; %s", name, hint)
}

// choiceOf returns the algorithm of one of Choices, nil for another name.
func choiceOf(name string) *balance.Algorithm {
	if a := balance.Lookup("hash", name); a != nil {
		return a
	}
	return balance.Lookup(name, "")
}

// apply returns an upstream that chooses this way; hash goes by what is configured,
// else by the client.
func (c choice) apply(u *config.Upstream) *config.Upstream {
	x := *u
	if c.hash == "" {
		x.Algorithm, x.Hash = c.name, nil
		return &x
	}
	h := config.Hash{Key: "client"}
	if u.Hash != nil {
		h = *u.Hash
	}
	h.Method, h.Bound = c.hash, c.bound
	x.Algorithm, x.Hash = "hash", &h
	return &x
}

// same reports whether an upstream chooses this way already.
func (c choice) same(u *config.Upstream) bool {
	if c.hash == "" {
		return u.Algorithm == c.name
	}
	return u.Hash != nil && u.Hash.Method == c.hash && u.Hash.Bound == c.bound
}

// choices reads the algorithms of the axes, and checks their pools.
func (a *Axes) choices() ([]choice, error) {
	var choices []choice
	for _, name := range a.Algorithms {
		c, err := readChoice(name)
		if err != nil {
			return nil, err
		}
		if slices.Contains(choices, c) {
			return nil, fmt.Errorf("%q is named twice", name)
		}
		choices = append(choices, c)
	}
	for i, n := range a.Pools {
		if n < 1 || n > 1000 {
			return nil, fmt.Errorf("a pool of %d backends cannot be tried; from 1 to 1000", n)
		}
		if slices.Contains(a.Pools[:i], n) {
			return nil, fmt.Errorf("the pool of %d is named twice", n)
		}
	}
	return choices, nil
}

// Variants lists the variants: every configuration in every algorithm and with every size
// of pool. An error says which of the axes cannot be used.
func Variants(subjects []Subject, axes Axes) ([]Variant, []LeftOut, error) {
	choices, err := axes.choices()
	if err != nil {
		return nil, nil, err
	}
	seats, err := axes.seats(subjects)
	if err != nil {
		return nil, nil, err
	}
	spills, err := axes.spills(subjects)
	if err != nil {
		return nil, nil, err
	}
	var variants []Variant
	var left []LeftOut
	for i, s := range subjects {
		if len(s.Config.Upstreams) == 0 {
			return nil, nil, fmt.Errorf("%s has no upstream, and so nothing to vary", s.Name)
		}
		for _, name := range axes.Upstreams {
			if s.Config.Upstream(name) == nil {
				return nil, nil, fmt.Errorf("no upstream of %s is called %q", s.Name, name)
			}
		}
		pools := axes.Pools
		if len(pools) == 0 {
			pools = []int{0}
		}
		for _, n := range pools {
			w := Variant{Config: s.Config, Scenario: s.Scenario, Configured: i == 0 && n == 0}
			var names []string
			if len(subjects) > 1 {
				names = append(names, s.Name)
			}
			if n > 0 {
				w = axes.resize(w, n)
				w.Pool = n
				names = append(names, strconv.Itoa(n)+map[bool]string{true: " backend", false: " backends"}[n == 1])
			}
			for _, seat := range seats {
				x, name := axes.seat(w, seat)
				for _, spill := range spills {
					y, also, why := axes.spill(x, spill)
					all := slices.Concat(names, name, also)
					if why != "" {
						left = append(left, LeftOut{strings.Join(all, ", "), why})
						continue
					}
					more, out := axes.choose(y, choices, all)
					variants, left = append(variants, more...), append(left, out...)
				}
			}
		}
	}
	now := slices.ContainsFunc(variants, func(v Variant) bool { return v.Configured })
	if len(axes.Sticky)+len(axes.OnLoss)+len(axes.Spill) > 0 && len(axes.Pools) == 0 && !now {
		variants = append([]Variant{{Name: "as configured", Configured: true, Config: subjects[0].Config, Scenario: subjects[0].Scenario}}, variants...)
	}
	return variants, left, nil
}

// touches reports whether an upstream is one of those that are changed.
func (a *Axes) touches(u *config.Upstream) bool {
	return len(a.Upstreams) == 0 || slices.Contains(a.Upstreams, u.Name)
}

// with returns a configuration of which the upstreams that are changed were.
func (a *Axes) with(c *config.Config, change func(*config.Upstream) *config.Upstream) *config.Config {
	out := *c
	out.Upstreams = nil
	for _, u := range c.Upstreams {
		if a.touches(u) {
			u = change(u)
		}
		out.Upstreams = append(out.Upstreams, u)
	}
	return &out
}

// choose returns a variant in each of the algorithms, and as it is if none of them is
// what it does.
func (a *Axes) choose(w Variant, choices []choice, names []string) ([]Variant, []LeftOut) {
	name := func(last ...string) string {
		all := append(slices.Clone(names), last...)
		if len(all) == 0 {
			return "as configured"
		}
		return strings.Join(all, ", ")
	}
	if len(choices) == 0 {
		w.Name = name()
		return []Variant{w}, nil
	}
	var out []Variant
	var left []LeftOut
	asIs := false
	for _, c := range choices {
		same, full := true, ""
		for _, u := range w.Config.Upstreams {
			if !a.touches(u) || len(u.Backends) < 2 {
				continue
			}
			same = same && c.same(u)
			for _, b := range u.Backends {
				if choiceOf(c.base).Fill && b.MaxInFlight == 0 && full == "" {
					full = fmt.Sprintf("it needs max_in_flight of every backend, and %s.%s has none", u.Name, b.Name)
				}
			}
		}
		if full != "" {
			left = append(left, LeftOut{name(c.name), full})
			continue
		}
		x := w
		x.Name, x.Choice, x.Configured = name(c.name), c.base, w.Configured && same
		x.Config = a.with(w.Config, c.apply)
		if x.Configured {
			x.Config = w.Config
		}
		asIs = asIs || x.Configured
		out = append(out, x)
	}
	if w.Configured && !asIs {
		w.Name = name("as configured")
		out = append([]Variant{w}, out...)
	}
	return out, left
}

// resize returns a variant with so many backends in each pool that is changed: the first
// ones of the configuration, and when they do not do, likenesses of them, which
// behave alike.
func (a *Axes) resize(w Variant, n int) Variant {
	s := *w.Scenario
	s.Behaviours = slices.Clip(s.Behaviours)
	w.Config = a.with(w.Config, func(u *config.Upstream) *config.Upstream {
		x := *u
		x.Backends = slices.Clone(u.Backends[:min(n, len(u.Backends))])
		for i := len(u.Backends); i < n && len(u.Backends) > 0; i++ {
			b := u.Backends[i%len(u.Backends)]
			original := u.Name + "." + b.Name
			b.Name = likeness(u, b.Name, i/len(u.Backends)+1)
			s.Liken(u.Name+"."+b.Name, original)
			x.Backends = append(x.Backends, b)
		}
		return &x
	})
	w.Scenario, w.Notes = &s, nil
	for i := range s.Faults {
		if !strikes(&s.Faults[i], w.Config) {
			w.Notes = append(w.Notes, fmt.Sprintf("%q matches no backend in it", s.Faults[i].Name))
		}
	}
	return w
}

// strikes reports whether a fault has anybody to strike.
func strikes(f *scenario.Fault, c *config.Config) bool {
	for _, u := range c.Upstreams {
		for _, b := range u.Backends {
			for _, p := range f.Backends {
				if scenario.Fits(p.Value, u.Name+"."+b.Name) {
					return true
				}
			}
		}
	}
	return false
}

// likeness returns a name for another backend of a kind that no backend has.
func likeness(u *config.Upstream, name string, k int) string {
	for {
		like := fmt.Sprintf("%s-%d", name, k)
		if !slices.ContainsFunc(u.Backends, func(b config.Backend) bool { return b.Name == like }) {
			return like
		}
		k += len(u.Backends)
	}
}
