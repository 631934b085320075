package scenario

import (
	"fmt"
	"slices"
	"time"

	"github.com/hashicorp/hcl/v2"

	"kestrix/internal/core/config"
	"kestrix/internal/core/units"
)

// Dependency is a service that several backends share, such as a database: each calls it when it
// has done its own work on a request, and holds its worker until the call ends.
type Dependency struct {
	Name     string
	Range    hcl.Range
	Backends []config.Placed[string] // patterns of UPSTREAM.BACKEND
	Paths    []string                // patterns of the requests that need it; none: all
	Service  config.Distribution
	Workers  int           // calls that it works on at once
	Backlog  int           // calls that wait; others fail at once
	Timeout  time.Duration // after which a backend gives a call up; 0 for never
	Status   int           // with which a backend answers when a call failed
	Probes   bool          // whether http probes need it as well
}

// MaxDependencies is how many a scenario may hold.
const MaxDependencies = 8

// dependencies reads the dependencies of a scenario.
func (s *Scenario) dependencies(d *config.Decoder, root *config.Node, c *config.Config) {
	names := backendNames(c)
	for _, n := range root.All("dependency") {
		x := Dependency{
			Name: n.Label.Value, Range: n.Range, Backends: config.Get[[]config.Placed[string]](n, "backend"),
			Service: config.Get[config.Distribution](n, "service"), Workers: config.Get[int](n, "workers"), Backlog: config.Get[int](n, "backlog"),
			Timeout: config.Get[time.Duration](n, "timeout"), Status: config.Get[int](n, "status"), Probes: config.Get[bool](n, "probes"),
		}
		for i := range x.Backends {
			inFull(d, &x.Backends[i], names)
		}
		pathsFit(d, n)
		for _, p := range config.Get[[]config.Placed[string]](n, "path") {
			x.Paths = append(x.Paths, p.Value)
		}
		if s.Dependency(x.Name) != nil {
			d.Add(config.IDTwice, n.Label.Range, fmt.Sprintf("two dependencies are called %q", x.Name), "give one of them another name")
		}
		s.Dependencies = append(s.Dependencies, x)
	}
	if len(s.Dependencies) > MaxDependencies {
		d.Add(config.IDLimit, s.Dependencies[MaxDependencies].Range, fmt.Sprintf("a scenario holds at most %d dependencies", MaxDependencies), "")
	}
}

// Dependency returns the dependency of a name, nil if there is none.
func (s *Scenario) Dependency(name string) *Dependency {
	for i := range s.Dependencies {
		if s.Dependencies[i].Name == name {
			return &s.Dependencies[i]
		}
	}
	return nil
}

// UsedBy reports whether a backend, by UPSTREAM.BACKEND, calls it.
func (x *Dependency) UsedBy(backend string) bool {
	return slices.ContainsFunc(x.Backends, func(p config.Placed[string]) bool { return Fits(p.Value, backend) })
}

// Calls reports whether a backend, by UPSTREAM.BACKEND, calls one of some dependencies.
func (s *Scenario) Calls(backend string, some []string) bool {
	return slices.ContainsFunc(some, func(name string) bool {
		x := s.Dependency(name)
		return x != nil && x.UsedBy(backend)
	})
}

// ofDependencies has the fault strike the dependencies that it names.
func (f *Fault) ofDependencies(d *config.Decoder, n *config.Node, s *Scenario) {
	var names []string
	for _, x := range s.Dependencies {
		names = append(names, x.Name)
	}
	for _, p := range config.Get[[]config.Placed[string]](n, "dependency") {
		if s.Dependency(p.Value) == nil {
			hint := `dependency "` + p.Value + `" { ... } describes one`
			if like := config.Suggest(p.Value, names); like != "" {
				hint = "did you mean \"" + like + "\"?"
			}
			d.Add(config.IDReference, p.Range, fmt.Sprintf("no dependency is called %q", p.Value), hint)
		}
		f.Dependencies = append(f.Dependencies, p.Value)
	}
	if len(f.Dependencies) == 0 {
		return
	}
	if kinds := FaultNames(OfDependency); f.Kind != "" && !slices.Contains(kinds, f.Kind) {
		d.Add(config.IDUnknown, n.At("kind"), fmt.Sprintf("a dependency cannot fail as %q", f.Kind), "one of "+listed(kinds))
	}
	if n.Has("backend") || n.Has("upstream") || n.Has("zone") {
		d.Add(config.IDUnknown, n.At("dependency"), "the fault strikes backends and a dependency at once", "make two faults of it")
	}
}

// String says what a dependency is, in a few words.
func (x *Dependency) String() string {
	var patterns []string
	for _, p := range x.Backends {
		patterns = append(patterns, p.Value)
	}
	out := fmt.Sprintf("called by %s; %s, %d workers, a backlog of %d", listed(patterns), x.Service, x.Workers, x.Backlog)
	if len(x.Paths) > 0 {
		out += "; for " + listed(x.Paths)
	}
	if x.Timeout > 0 {
		out += "; given up after " + units.Duration(x.Timeout)
	}
	return out
}

// DependencyTexts returns what the dependencies are, by name.
func (s *Scenario) DependencyTexts() map[string]string {
	out := map[string]string{}
	for i := range s.Dependencies {
		out[s.Dependencies[i].Name] = s.Dependencies[i].String()
	}
	return out
}
