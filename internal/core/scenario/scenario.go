package scenario

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/hashicorp/hcl/v2"
	"github.com/hashicorp/hcl/v2/hclsyntax"

	"kestrix/internal/core/config"
	"kestrix/internal/core/route"
	"kestrix/internal/core/trace"
	"kestrix/internal/core/units"
)

// Scenario is what happens during a replay.
type Scenario struct {
	File      config.File // empty name for none
	Seed      uint64
	Instances int // proxies side by side
	// LoadFactor is how often each request comes, on average; 0 is once.
	LoadFactor float64
	Members    map[string]int       // how many backends a name stands for, by UPSTREAM.BACKEND
	Load       *Load                // nil: requests come from a trace
	Pages      []*trace.Page        // of the load, in the order of their numbers
	Streams    *Streams             // nil: only what the trace says is one
	Patience   *config.Distribution // of clients; nil: they wait for ever
	Again      int                  // how often a client repeats what failed or what it left
	After      config.Distribution  // the time before it does
	// KeepsSessions says that the application keeps a session of each client at the backend
	// that answered it last.
	KeepsSessions bool
	Behaviours    []Behaviour
	Dependencies  []Dependency // in the order in which a request needs them
	Faults        []Fault
	Expects       []Expect
}

// Fault is a scripted failure.
type Fault struct {
	Name     string
	Range    hcl.Range
	Backends []config.Placed[string] // patterns of UPSTREAM.BACKEND
	// Dependencies are names of those that fail; there are no Backends then.
	Dependencies []string
	Proxy        int           // that ends, from 1; 0 for a fault of another kind
	MovesAfter   time.Duration // how long its clients still reach it
	GivenMoves   bool
	Kind         string
	At           time.Duration
	Until        time.Duration // negative: never ends
	Status       int
	Rate         float64
	After        time.Duration // of errors: how long one takes; negative: FastFailure of the service time
	Factor       float64
	FailsFor     time.Duration // of flap
	WorksFor     time.Duration
	Weight       int
}

// FastFailure is the part of its service time that a backend takes for an error, as an
// application does that fails before it has done its work.
const FastFailure = 0.02

// Takes returns how long an error of the fault takes where an answer takes so long.
func (f *Fault) Takes(service time.Duration) time.Duration {
	if f.After >= 0 {
		return f.After
	}
	return time.Duration(float64(service) * FastFailure)
}

// Expect is a condition on the result.
type Expect struct {
	Name  string
	Range hcl.Range
	That  hclsyntax.Expression
	Text  string  // as written
	Seeds int     // with which it is judged; 1: the first alone
	Share float64 // of them that it must be met with
}

// None is the scenario of a replay without one.
func None() *Scenario { return &Scenario{Seed: 1, Instances: 1} }

// Read reads a scenario and holds it against the configuration whose backends
// it speaks of. The error is a config.UnusableError.
func Read(f config.File, c *config.Config) (*Scenario, config.Findings, error) {
	body, findings, err := config.Parse(f)
	if err != nil {
		return nil, nil, err
	}
	d := config.NewDecoder()
	d.Syntax(findings)
	start := hcl.Range{Filename: f.Name, Start: hcl.InitialPos, End: hcl.InitialPos}
	root := d.Decode(Language, body, start, len(findings) > 0)
	s := &Scenario{File: f, Seed: uint64(config.Get[int](root, "seed")), Instances: config.Get[int](root, "instances"), LoadFactor: config.Get[float64](root, "load_factor")}
	s.members(d, root, c)
	c = s.Expand(c)
	names := backendNames(c)
	if n := root.One("load"); n != nil {
		s.Load = load(d, n, c)
		s.Pages = s.Load.Spec.Pages
		if s.Load.Closed && root.Has("load_factor") {
			d.Add(config.IDUnknown, root.At("load_factor"), "load_factor multiplies arrivals, and the clients of a closed load wait for their responses", "another concurrency in the load block")
		}
	}
	if n := root.One("streams"); n != nil {
		s.Streams = streams(n)
		pathsFit(d, n)
	}
	if n := root.One("clients"); n != nil {
		if n.Has("patience") {
			patience := config.Get[config.Distribution](n, "patience")
			s.Patience = &patience
		}
		s.KeepsSessions, s.Again, s.After = config.Get[bool](n, "sessions"), config.Get[int](n, "again"), config.Get[config.Distribution](n, "after")
		if !n.Has("patience") && !n.Has("sessions") && !n.Has("again") {
			d.Add(config.IDMissing, n.Range, "the clients block says nothing of clients", "patience = ..., again = ..., or sessions = true")
		}
		if n.Has("after") && !n.Has("again") {
			d.Add(config.IDMissing, n.At("after"), "after says when clients repeat requests, and they do not", "again = 2 beside it, or no after")
		}
	}
	s.dependencies(d, root, c)
	s.behaviours(d, root, c)
	titles := map[string]bool{}
	for _, n := range root.All("fault") {
		if titles[n.Label.Value] {
			d.Add(config.IDTwice, n.Label.Range, fmt.Sprintf("two faults are called %q", n.Label.Value), "give one of them another title")
		}
		titles[n.Label.Value] = true
		s.Faults = append(s.Faults, s.fault(d, n, c, names))
	}
	if len(s.Faults) > MaxFaults {
		d.Add(config.IDLimit, s.Faults[MaxFaults].Range, fmt.Sprintf("a scenario holds at most %d faults", MaxFaults), "one fault may strike several backends: backend = [\"booking.*\"]")
	}
	for _, n := range root.All("expect") {
		that := config.Get[hclsyntax.Expression](n, "that")
		if that == nil {
			continue
		}
		r := that.Range()
		s.Expects = append(s.Expects, Expect{n.Label.Value, n.Range, that, strings.Join(strings.Fields(string(r.SliceBytes(f.Source))), " "), config.Get[int](n, "seeds"), config.Get[float64](n, "share")})
		if n.Has("share") && !n.Has("seeds") {
			d.Add(config.IDMissing, n.At("share"), "share says with what part of the seeds the expectation must be met, and there is one seed", "seeds = 20 beside it, or no share")
		}
	}
	d.Findings.Sort()
	return s, d.Findings, nil
}

// MaxFaults is how many faults a scenario may hold.
const MaxFaults = 64

func (s *Scenario) fault(d *config.Decoder, n *config.Node, c *config.Config, names []string) Fault {
	f := Fault{
		Name: n.Label.Value, Range: n.Range, Kind: config.Get[string](n, "kind"),
		Backends: config.Get[[]config.Placed[string]](n, "backend"),
		At:       config.Get[time.Duration](n, "at"), Until: -1,
		Status: config.Get[int](n, "status"), Rate: config.Get[float64](n, "rate"),
		Factor: config.Get[float64](n, "factor"), Weight: config.Get[int](n, "weight"),
		FailsFor: config.Get[time.Duration](n, "fails_for"), WorksFor: config.Get[time.Duration](n, "works_for"),
	}
	if f.After = -1; n.Has("after") {
		f.After = config.Get[time.Duration](n, "after")
	}
	if n.Has("until") {
		f.Until = config.Get[time.Duration](n, "until")
		if f.Until <= f.At {
			d.Add(config.IDLimit, n.At("until"), fmt.Sprintf("the fault ends at %s, which is not after its beginning at %s", units.Duration(f.Until), units.Duration(f.At)), "both count from the start of the replay")
		}
	}
	for _, key := range keysOfKinds() {
		kinds := FaultNames(func(k *FaultKind) bool { return slices.Contains(k.Keys, key) })
		if n.Has(key) && f.Kind != "" && !slices.Contains(kinds, f.Kind) {
			d.Add(config.IDUnknown, n.At(key), fmt.Sprintf("%s belongs to kind = \"%s\", and this fault is %q", key, strings.Join(kinds, "\" or \""), f.Kind), "remove it")
		}
	}
	for i := range f.Backends {
		inFull(d, &f.Backends[i], names)
	}
	f.ofUpstreams(d, n, c)
	f.ofZones(d, n, c)
	f.ofDependencies(d, n, s)
	f.ofProxy(d, n, s)
	if !n.Has("backend") && !n.Has("upstream") && !n.Has("zone") && !n.Has("dependency") && f.Kind != "gone" {
		d.Add(config.IDMissing, n.Range, fmt.Sprintf("the fault %q matches no backend", f.Name), "backend = \"UPSTREAM.BACKEND\", upstream = \"UPSTREAM\" or zone = \"ZONE\"")
	}
	return f
}

// ofProxy has the fault end the proxy that it names.
func (f *Fault) ofProxy(d *config.Decoder, n *config.Node, s *Scenario) {
	if f.Kind == "" || !f.Of().Proxy {
		return
	}
	f.Proxy, f.MovesAfter, f.GivenMoves = config.Get[int](n, "proxy"), config.Get[time.Duration](n, "moves_after"), n.Has("moves_after")
	switch {
	case f.Proxy > s.Instances:
		d.Add(config.IDReference, n.At("proxy"), fmt.Sprintf("the fault is of proxy %d, and the scenario has %d", f.Proxy, s.Instances), fmt.Sprintf("instances = %d at the top, or another proxy", f.Proxy))
	case !n.Has("until") && s.Instances == 1:
		d.Add(config.IDMissing, n.Range, "the only proxy ends and never starts again, so that no request is answered after that", "until = ..., or instances = 2 at the top")
	}
	for _, key := range []string{"backend", "upstream", "zone", "dependency"} {
		if n.Has(key) {
			d.Add(config.IDUnknown, n.At(key), key+" says what fails, and this fault is of a proxy", "remove it")
		}
	}
}

// ofUpstreams has the fault strike the backends of the upstreams that it names.
func (f *Fault) ofUpstreams(d *config.Decoder, n *config.Node, c *config.Config) {
	for _, u := range config.Get[[]config.Placed[string]](n, "upstream") {
		if c.Upstream(u.Value) == nil {
			var known []string
			for _, x := range c.Upstreams {
				known = append(known, x.Name)
			}
			hint := ""
			if s := config.Suggest(u.Value, known); s != "" {
				hint = "did you mean \"" + s + "\"?"
			}
			d.Add(config.IDReference, u.Range, fmt.Sprintf("no upstream is called %q", u.Value), hint)
			continue
		}
		f.Backends = append(f.Backends, config.Placed[string]{Value: u.Value + ".*", Range: u.Range})
	}
}

// ofZones has the fault strike the backends in the zones that it names.
func (f *Fault) ofZones(d *config.Decoder, n *config.Node, c *config.Config) {
	for _, z := range config.Get[[]config.Placed[string]](n, "zone") {
		var known []string
		found := false
		for _, u := range c.Upstreams {
			for _, b := range u.Backends {
				if b.Zone == z.Value {
					found = true
					f.Backends = append(f.Backends, config.Placed[string]{Value: u.Name + "." + b.Name, Range: z.Range})
				} else if b.Zone != "" {
					known = append(known, b.Zone)
				}
			}
		}
		if !found {
			hint := "backends name their zone: { address = \"...\", zone = \"north-quay\" }"
			if s := config.Suggest(z.Value, known); s != "" {
				hint = "did you mean \"" + s + "\"?"
			}
			d.Add(config.IDReference, z.Range, fmt.Sprintf("no backend is in the zone %q", z.Value), hint)
		}
	}
}

func backendNames(c *config.Config) []string {
	var out []string
	for _, u := range c.Upstreams {
		for _, b := range u.Backends {
			out = append(out, u.Name+"."+b.Name)
		}
	}
	return out
}

// inFull replaces the name of a backend that only one upstream has by UPSTREAM.BACKEND, and finds fault with a pattern that
// no backend matches.
func inFull(d *config.Decoder, p *config.Placed[string], names []string) {
	full, _ := config.FullName(p.Value, names)
	switch {
	case full != "":
		p.Value = full
	case !fitsAny(p.Value, names):
		unknownBackend(d, *p, names)
	}
}

func unknownBackend(d *config.Decoder, p config.Placed[string], names []string) {
	if _, several := config.FullName(p.Value, names); len(several) > 1 {
		d.Add(config.IDReference, p.Range, fmt.Sprintf("several backends are called %q", p.Value), "write one of "+strings.Join(several, ", "))
		return
	}
	hint := "backends are named UPSTREAM.BACKEND, * is any text"
	if s := config.Suggest(p.Value, names); s != "" {
		hint = "did you mean \"" + s + "\"?"
	}
	d.Add(config.IDReference, p.Range, fmt.Sprintf("no backend is called %q", p.Value), hint)
}

func fitsAny(pattern string, names []string) bool {
	for _, n := range names {
		if Fits(pattern, n) {
			return true
		}
	}
	return false
}

// Fits reports whether a pattern such as "booking.*" fits UPSTREAM.BACKEND.
func Fits(pattern, name string) bool {
	p := route.Plain(pattern)
	return p.Match(name)
}
