package scenario

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"time"

	"github.com/hashicorp/hcl/v2"

	"kestrix/internal/core/config"
	"kestrix/internal/core/route"
	"kestrix/internal/core/trace"
)

// Load is the requests of a replay without a trace.
type Load struct {
	Range    hcl.Range
	Spec     trace.Spec // what is asked, by whom; of an open load also when
	Frontend string     // that takes them; empty if there is only one

	// Of a closed load, whose clients wait for their answers.
	Closed      bool
	Requests    int
	Concurrency int
	Think       config.Distribution
}

// Streams says which requests are long answers.
type Streams struct {
	Paths       []route.Pattern
	Lasts       config.Distribution
	Quiet       time.Duration // the longest silence in them
	Resend      bool          // clients connect again when one breaks
	ResendAfter time.Duration
}

func load(d *config.Decoder, n *config.Node, c *config.Config) *Load {
	l := &Load{Range: n.Range, Frontend: config.Get[string](n, "frontend"), Closed: n.Has("requests") || n.Has("concurrency")}
	loadKeys(d, n, l)
	l.Requests, l.Concurrency, l.Think = config.Get[int](n, "requests"), config.Get[int](n, "concurrency"), config.Get[config.Distribution](n, "think")
	l.Spec = trace.Spec{
		Start: time.Unix(0, 0).UTC(), For: config.Get[time.Duration](n, "for"), Rate: config.Get[float64](n, "rate"),
		Arrivals: config.Get[string](n, "arrivals"), Shape: config.Get[string](n, "shape"),
		Clients: config.Get[int](n, "clients"), Popularity: config.Get[float64](n, "popularity"), Host: config.Get[string](n, "host"),
		Behind: config.Get[float64](n, "behind"), Addresses: config.Get[int](n, "addresses"), Sessions: config.Get[bool](n, "sessions"),
		Headers: sent(d, n, "header"), Cookies: sent(d, n, "cookie"),
	}
	if n.Has("addresses") && !n.Has("behind") {
		d.Add(config.IDMissing, n.At("addresses"), "addresses are those of the clients behind them, and no client is", `behind = "20%" beside it, or no addresses`)
	}
	if l.Closed {
		l.Spec.Rate, l.Spec.Clients, l.Spec.Popularity = 1, max(l.Concurrency, 1), 0
	}
	for _, p := range config.Get[[]config.Placed[string]](n, "paths") {
		w, err := trace.ParsePath(p.Value)
		if err != nil {
			d.Add(config.IDType, p.Range, err.Error(), "")
			continue
		}
		l.Spec.Paths = append(l.Spec.Paths, w)
	}
	pages(d, n, l)
	if len(d.Findings) == 0 {
		if err := l.Spec.Validate(); err != nil {
			d.Add(config.IDLimit, n.Range, err.Error(), "")
		}
	}
	loadFrontend(d, n, l, c)
	return l
}

// pages reads what clients fetch after some paths.
func pages(d *config.Decoder, n *config.Node, l *Load) {
	var paths []string
	for _, p := range l.Spec.Paths {
		paths = append(paths, p.Path)
	}
	for _, x := range n.All("page") {
		p := &trace.Page{N: len(l.Spec.Pages) + 1, Path: x.Label.Value, AtOnce: config.Get[int](x, "at_once")}
		switch {
		case !slices.Contains(paths, p.Path):
			d.Add(config.IDReference, x.Label.Range, fmt.Sprintf("no path of the load is %q", p.Path), "its paths are "+strings.Join(paths, ", "))
		case slices.ContainsFunc(l.Spec.Pages, func(o *trace.Page) bool { return o.Path == p.Path }):
			d.Add(config.IDTwice, x.Label.Range, fmt.Sprintf("the page %q is given twice", p.Path), "give all that it fetches in one block")
		}
		for _, f := range config.Get[[]config.Placed[string]](x, "fetches") {
			w, err := trace.ParsePath(f.Value)
			if err == nil && w.Weight != 1 {
				err = fmt.Errorf("%q: a part of a page is fetched once, so that it has no weight", f.Value)
			}
			if err != nil {
				d.Add(config.IDType, f.Range, err.Error(), "")
			}
			p.Fetches = append(p.Fetches, w)
		}
		if len(p.Fetches) > 1000 {
			d.Add(config.IDLimit, x.At("fetches"), "a page fetches at most 1,000 parts", "")
		}
		l.Spec.Pages = append(l.Spec.Pages, p)
	}
}

// sent reads what clients send with each request: the inner blocks of a name.
func sent(d *config.Decoder, n *config.Node, block string) (out []trace.Sent) {
	for _, x := range n.All(block) {
		s := trace.Sent{Name: x.Label.Value}
		if slices.ContainsFunc(out, func(o trace.Sent) bool { return strings.EqualFold(o.Name, s.Name) }) {
			d.Add(config.IDTwice, x.Label.Range, fmt.Sprintf("the %s %q is given twice", block, s.Name), "give all values in one block")
		}
		for _, v := range config.Get[[]config.Placed[string]](x, "values") {
			w, err := trace.ParseSent(v.Value)
			if err != nil {
				d.Add(config.IDType, v.Range, err.Error(), "")
			}
			s.Values = append(s.Values, w)
		}
		out = append(out, s)
	}
	return out
}

// loadKeys reports keys that are missing, or belong to the other kind of load.
func loadKeys(d *config.Decoder, n *config.Node, l *Load) {
	open := []string{"rate", "for", "arrivals", "shape", "clients", "popularity"}
	switch {
	case l.Closed && !n.Has("requests"):
		d.Add(config.IDMissing, n.Range, "a closed load has no requests", "requests = 4000 says how many there are in all")
	case l.Closed && !n.Has("concurrency"):
		d.Add(config.IDMissing, n.Range, "a closed load has no concurrency", "concurrency = 100 says how many clients there are")
	case !l.Closed && !n.Has("rate"):
		d.Add(config.IDMissing, n.Range, "load says not how much", `rate = "200/s" for requests that come whatever is answered, or requests = 4000 and concurrency = 100 for clients that wait`)
	}
	for _, key := range open {
		if l.Closed && n.Has(key) {
			d.Add(config.IDUnknown, n.At(key), key+" belongs to an open load, and this one is closed: its clients wait for their answers", "remove it, or requests and concurrency")
		}
	}
	if !l.Closed && n.Has("think") {
		d.Add(config.IDUnknown, n.At("think"), "think belongs to a closed load, and this one is open: requests come whatever is answered", "remove it")
	}
}

// loadFrontend reports a frontend that is not named, or not there.
func loadFrontend(d *config.Decoder, n *config.Node, l *Load, c *config.Config) {
	var names []string
	for _, f := range c.Frontends {
		names = append(names, f.Name)
	}
	switch {
	case l.Frontend == "" && len(names) > 1:
		d.Add(config.IDMissing, n.Range, "the configuration has several frontends, and load says not which of them takes its requests", fmt.Sprintf("frontend = %q", names[0]))
	case l.Frontend != "" && c.Frontend(l.Frontend) == nil:
		hint := ""
		if s := config.Suggest(l.Frontend, names); s != "" {
			hint = "did you mean \"" + s + "\"?"
		}
		d.Add(config.IDReference, n.At("frontend"), fmt.Sprintf("no frontend is called %q", l.Frontend), hint)
	}
}

func streams(n *config.Node) *Streams {
	s := &Streams{
		Lasts: config.Get[config.Distribution](n, "lasts"), Quiet: config.Get[time.Duration](n, "quiet"),
		Resend: config.Get[bool](n, "resend"), ResendAfter: config.Get[time.Duration](n, "resend_after"),
	}
	for _, p := range config.Get[[]config.Placed[string]](n, "path") {
		s.Paths = append(s.Paths, route.Path(p.Value))
	}
	return s
}

// Hold reports whether a path in normal form (see request.Path) is that of a
// stream.
func (s *Streams) Hold(path string) bool {
	for i := range s.Paths {
		if s.Paths[i].Match(path) {
			return true
		}
	}
	return false
}

// members reads how many backends names stand for.
func (s *Scenario) members(d *config.Decoder, root *config.Node, c *config.Config) {
	s.Members = map[string]int{}
	for _, n := range root.All("members") {
		name := n.Label
		found, each := false, false
		for _, u := range c.Upstreams {
			for _, b := range u.Backends {
				if u.Name+"."+b.Name == name.Value {
					_, isIP := b.Address.IP()
					found, each = true, u.ResolveEach && !isIP && b.Address.Unix == ""
				}
			}
		}
		switch {
		case !found:
			unknownBackend(d, name, backendNames(c))
		case !each:
			d.Add(config.IDReference, name.Range, fmt.Sprintf("%q stands for itself alone", name.Value), `only a name in an upstream with resolve = "each" stands for several backends`)
		case s.Members[name.Value] > 0:
			d.Add(config.IDTwice, name.Range, fmt.Sprintf("members of %q are given twice", name.Value), "remove one of them")
		}
		s.Members[name.Value] = max(config.Get[int](n, "count"), 1)
	}
}

// Expand returns the configuration as a proxy would see it that has looked names
// up: each stands for as many backends as the scenario says.
func (s *Scenario) Expand(c *config.Config) *config.Config {
	if len(s.Members) == 0 {
		return c
	}
	out := *c
	out.Upstreams = nil
	for _, u := range c.Upstreams {
		x := *u
		x.Backends = nil
		for _, b := range u.Backends {
			n := s.Members[u.Name+"."+b.Name]
			if n == 0 {
				x.Backends = append(x.Backends, b)
			}
			for i := range n {
				x.Backends = append(x.Backends, b.Member(config.Member{Addr: netip.AddrFrom4([4]byte{192, 0, 2, byte(i + 1)})}))
			}
		}
		out.Upstreams = append(out.Upstreams, &x)
	}
	return &out
}
