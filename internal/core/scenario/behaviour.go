package scenario

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/hashicorp/hcl/v2"

	"kestrix/internal/core/config"
	"kestrix/internal/core/route"
)

// Behaviour is how the backends that fit a pattern behave. One with paths says only how long
// work takes for requests of these paths.
type Behaviour struct {
	Pattern   string
	Range     hcl.Range
	Paths     []string            // patterns; none: all requests
	Service   config.Distribution // Kind is empty where the default applies
	Workers   int
	Backlog   int
	Connect   time.Duration
	Handshake time.Duration // of TLS, where the upstream has it
	Cores     float64       // that requests in progress share; 0: each progresses as if it were alone
	Cold      Cold          // after a restart
	// Whether the scenario gives them; else they are defaults.
	GivenWorkers, GivenBacklog, GivenConnect, GivenHandshake bool
}

// Cold is how a backend begins whose process has restarted: work takes Factor times as long
// at first, and evenly less until it takes as long as ever. The zero value begins at full speed.
type Cold struct {
	For    time.Duration
	Factor float64
}

// Slows returns how many times as long work takes that begins so long after the restart.
func (c *Cold) Slows(since time.Duration) float64 {
	if since < 0 || since >= c.For {
		return 1
	}
	return c.Factor - (c.Factor-1)*float64(since)/float64(c.For)
}

// Default is the behaviour of a backend that no scenario speaks of.
func Default() Behaviour {
	n := &config.Node{Def: Language.Block("behaviour")}
	return behaviour(n)
}

func behaviour(n *config.Node) Behaviour {
	b := Behaviour{
		Pattern: n.Label.Value, Range: n.Label.Range,
		Service: config.Get[config.Distribution](n, "service"),
		Workers: config.Get[int](n, "workers"), Backlog: config.Get[int](n, "backlog"),
		Connect:      config.Get[time.Duration](n, "connect"),
		GivenWorkers: n.Has("workers"), GivenBacklog: n.Has("backlog"), GivenConnect: n.Has("connect"), GivenHandshake: n.Has("handshake"),
	}
	if b.Handshake = b.Connect; n.Has("handshake") {
		b.Handshake = config.Get[time.Duration](n, "handshake")
	}
	for _, p := range config.Get[[]config.Placed[string]](n, "path") {
		b.Paths = append(b.Paths, p.Value)
	}
	if x := n.One("sharing"); x != nil {
		b.Cores = config.Get[float64](x, "cores")
	}
	if x := n.One("cold"); x != nil {
		b.Cold = Cold{config.Get[time.Duration](x, "for"), config.Get[float64](x, "factor")}
	}
	return b
}

// behaviours reads the behaviours of a scenario.
func (s *Scenario) behaviours(d *config.Decoder, root *config.Node, c *config.Config) {
	names := backendNames(c)
	for _, n := range root.All("behaviour") {
		b := behaviour(n)
		of := config.Placed[string]{Value: b.Pattern, Range: b.Range}
		inFull(d, &of, names)
		b.Pattern = of.Value
		s.Behaviours = append(s.Behaviours, b)
		if !n.Has("path") {
			continue
		}
		for _, key := range []string{"workers", "backlog", "connect", "handshake", "sharing", "cold"} {
			at, given := n.At(key), n.Has(key)
			if x := n.One(key); x != nil {
				at, given = x.Range, true
			}
			if given {
				d.Add(config.IDUnknown, at, key+" is of a backend as a whole, and this behaviour says how long requests of some paths take", "give it in a behaviour without path")
			}
		}
		if !n.Has("service") {
			d.Add(config.IDMissing, n.Range, "the behaviour names paths and does not say how long their requests take", "service = ...")
		}
		pathsFit(d, n)
		if onlyConnections(b.Pattern, c) {
			d.Add(config.IDUnknown, n.At("path"), fmt.Sprintf("the backends of %q serve connections over tcp, which ask for no path", b.Pattern), "remove path")
		}
	}
	for _, u := range c.Upstreams {
		if lists := s.Paths(u); len(lists) > MaxPaths {
			d.Add(config.IDLimit, s.firstOf(lists[MaxPaths]), fmt.Sprintf("behaviours and dependencies tell requests of %s apart by %d lists of paths; at most %d are told apart", u.Name, len(lists), MaxPaths), "give paths that take alike in one behaviour")
		}
	}
}

// pathsFit reports patterns of paths that no path fits.
func pathsFit(d *config.Decoder, n *config.Node) {
	for _, p := range config.Get[[]config.Placed[string]](n, "path") {
		switch {
		case strings.Contains(p.Value, "?"):
			d.Add(config.IDType, p.Range, fmt.Sprintf("no path matches %q: the query of a request is not of its path", p.Value), "leave out what follows the ?")
		case !strings.HasPrefix(p.Value, "/") && p.Value != "**":
			d.Add(config.IDType, p.Range, fmt.Sprintf("no path matches %q: each begins with /", p.Value), fmt.Sprintf("%q", "/"+p.Value))
		}
	}
}

// onlyConnections reports whether all backends that a pattern fits, and to which routes send, are
// sent connections over tcp.
func onlyConnections(pattern string, c *config.Config) bool {
	sent := map[string]bool{} // by protocol
	for _, f := range c.Frontends {
		for _, r := range f.Routes {
			u := c.Upstream(r.SendTo.Value)
			if u != nil && slices.ContainsFunc(u.Backends, func(b config.Backend) bool { return Fits(pattern, u.Name+"."+b.Name) }) {
				sent[f.Protocol] = true
			}
		}
	}
	return sent["tcp"] && len(sent) == 1
}

// firstOf returns where a list of paths first stands.
func (s *Scenario) firstOf(l PathList) hcl.Range {
	if i := slices.IndexFunc(s.Behaviours, func(b Behaviour) bool { return l.Equal(b.list()) }); i >= 0 {
		return s.Behaviours[i].Range
	}
	i := slices.IndexFunc(s.Dependencies, func(x Dependency) bool { return l.Equal(listOf(x.Paths)) })
	return s.Dependencies[i].Range
}

// Behaviour returns how a backend behaves: the last of the behaviours without paths that fit.
func (s *Scenario) Behaviour(name string) Behaviour {
	for i := len(s.Behaviours) - 1; i >= 0; i-- {
		if b := &s.Behaviours[i]; len(b.Paths) == 0 && Fits(b.Pattern, name) {
			return *b
		}
	}
	return Default()
}

// Liken has a backend, by UPSTREAM.BACKEND, behave as another one does.
func (s *Scenario) Liken(name, original string) {
	s.Dependencies = slices.Clone(s.Dependencies)
	for i := range s.Dependencies {
		if x := &s.Dependencies[i]; x.UsedBy(original) && !x.UsedBy(name) {
			x.Backends = append(slices.Clone(x.Backends), config.Placed[string]{Value: name})
		}
	}
	if len(s.Behaviours) == 0 {
		return
	}
	for _, b := range s.Behaviours {
		if len(b.Paths) > 0 && Fits(b.Pattern, original) {
			b.Pattern = name
			s.Behaviours = append(s.Behaviours, b)
		}
	}
	b := s.Behaviour(original)
	b.Pattern = name
	s.Behaviours = append(s.Behaviours, b)
}

// MaxPaths is by how many lists of paths the requests of an upstream are told apart: one for
// each bit of PathSet.
const MaxPaths = 8

// PathSet is the lists of paths, of Scenario.Paths, that the path of a request is in: a bit for
// each, the first one lowest.
type PathSet uint8

// PathList is a list of patterns of paths that a behaviour names.
type PathList struct {
	text     string // the patterns, by lines
	patterns []route.Pattern
}

// Equal reports whether two lists are of the same patterns.
func (l PathList) Equal(other PathList) bool { return l.text == other.text }

// Paths returns the lists of paths by which the behaviours of the backends of an upstream tell
// requests apart.
func (s *Scenario) Paths(u *config.Upstream) []PathList {
	var out []PathList
	for i := range s.Behaviours {
		b := &s.Behaviours[i]
		l := b.list()
		fits := func(x config.Backend) bool { return Fits(b.Pattern, u.Name+"."+x.Name) }
		if len(b.Paths) > 0 && slices.ContainsFunc(u.Backends, fits) && !slices.ContainsFunc(out, l.Equal) {
			out = append(out, l)
		}
	}
	for i := range s.Dependencies {
		x := &s.Dependencies[i]
		l := listOf(x.Paths)
		fits := func(b config.Backend) bool { return x.UsedBy(u.Name + "." + b.Name) }
		if len(x.Paths) > 0 && slices.ContainsFunc(u.Backends, fits) && !slices.ContainsFunc(out, l.Equal) {
			out = append(out, l)
		}
	}
	return out
}

// list returns the paths of a behaviour.
func (b *Behaviour) list() PathList { return listOf(b.Paths) }

// listOf returns the list of some patterns.
func listOf(paths []string) PathList {
	l := PathList{text: strings.Join(paths, "\n")}
	for _, p := range paths {
		l.patterns = append(l.patterns, route.Path(p))
	}
	return l
}

// Hold reports whether a path in normal form (see request.Path) is in the list.
func (l *PathList) Hold(path string) bool {
	return slices.ContainsFunc(l.patterns, func(p route.Pattern) bool { return p.Match(path) })
}

// String returns the patterns.
func (l *PathList) String() string { return strings.ReplaceAll(l.text, "\n", ", ") }

// PathsOf returns in which lists a path in normal form is (see request.Path).
func PathsOf(path string, lists []PathList) PathSet {
	var set PathSet
	for k := range lists {
		if lists[k].Hold(path) {
			set |= 1 << k
		}
	}
	return set
}

// PathService is how long work takes for requests of some paths.
type PathService struct {
	Set     PathSet // with one bit
	List    PathList
	Service config.Distribution
}

// UnknownService is how long work takes where neither scenario nor trace say.
var UnknownService = config.Distribution{Kind: "lognormal", Mean: 40 * time.Millisecond, CV: 0.6}

// PathServices returns how long a backend of an upstream takes for requests of some paths: the
// first whose bit is in the set of a request holds for it, which is the last of the scenario.
func (s *Scenario) PathServices(u *config.Upstream, name string) []PathService {
	lists := s.Paths(u)
	var out []PathService
	for i := len(s.Behaviours) - 1; i >= 0; i-- {
		b := &s.Behaviours[i]
		if len(b.Paths) == 0 || !Fits(b.Pattern, u.Name+"."+name) {
			continue
		}
		p := PathService{List: b.list(), Service: b.Service}
		if k := slices.IndexFunc(lists, p.List.Equal); k >= 0 {
			p.Set = 1 << k
		}
		out = append(out, p)
	}
	return out
}

// Needs is a dependency that a backend calls, and for which requests.
type Needs struct {
	Dependency int     // its position in Scenario.Dependencies
	Set        PathSet // with one bit; 0 for all requests
	List       PathList
}

// Holds reports whether a request whose path is in these lists needs the dependency.
func (n *Needs) Holds(of PathSet) bool { return n.Set == 0 || n.Set&of != 0 }

// Needs returns the dependencies that a backend of an upstream calls.
func (s *Scenario) Needs(u *config.Upstream, name string) (out []Needs) {
	lists := s.Paths(u)
	for i := range s.Dependencies {
		x := &s.Dependencies[i]
		if !x.UsedBy(u.Name + "." + name) {
			continue
		}
		n := Needs{Dependency: i, List: listOf(x.Paths)}
		if len(x.Paths) > 0 {
			n.Set = 1 << slices.IndexFunc(lists, n.List.Equal)
		}
		out = append(out, n)
	}
	return out
}

// Alike reports whether two backends of an upstream behave alike.
func (s *Scenario) Alike(u *config.Upstream, one, other string) bool {
	x, y := s.Behaviour(u.Name+"."+one), s.Behaviour(u.Name+"."+other)
	same := func(a, b PathService) bool { return a.Set == b.Set && a.Service == b.Service }
	return x.Service == y.Service && x.Workers == y.Workers && x.Backlog == y.Backlog && x.Connect == y.Connect && x.Handshake == y.Handshake && x.Cores == y.Cores && x.Cold == y.Cold &&
		slices.EqualFunc(s.PathServices(u, one), s.PathServices(u, other), same) &&
		slices.EqualFunc(s.Needs(u, one), s.Needs(u, other), func(a, b Needs) bool { return a.Dependency == b.Dependency && a.Set == b.Set })
}
