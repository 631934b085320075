// Package study answers questions about a configuration by asking the core and running
// replays: why a request goes where it goes, what a change of the configuration moves,
// which variant does better, which backends can be lost, and what a trace says about
// service times.
//
// The commands why, diff, map, compare, sweep, rehearse and trace learn call it. It
// must never have a decision of its own: it asks the code that serves and replays.
package study

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"time"

	"kestrix/internal/core/config"
	"kestrix/internal/core/health"
	"kestrix/internal/core/peer"
	"kestrix/internal/core/request"
	"kestrix/internal/core/rewrite"
	"kestrix/internal/core/route"
	"kestrix/internal/core/tick"
	"kestrix/internal/core/trace"
	"kestrix/internal/core/upstream"
)

// Question is a request, and how often it is asked.
type Question struct {
	Frontend string // empty: told by the port, or the only one
	Method   string
	Host     string // as the client sends it, with a port that is not the scheme's own
	Port     int    // of the URL
	Secure   bool   // the client begins with a TLS handshake
	Path     string // without query
	SNI      string // name in the TLS handshake; empty for none
	Zone     string // of the proxy, instead of what the configuration says
	Client   string
	Query    string              // of the URL, without ?
	Headers  map[string][]string // lines by name in lower case, those of cookies included
	Down     []string            // backends that are taken to be out, by name
	Times    int
	Seed     uint64
	idField  string // that carries the request id; empty for none
}

// Answer is where it goes. The keys are documented and stable.
type Answer struct {
	Frontend   string       `json:"frontend"`
	Listener   string       `json:"listener"`
	Unreached  string       `json:"unreached"` // why the URL reaches no listener, and the answer is of another one; empty if it reaches one
	Route      string       `json:"route"`
	Upstream   string       `json:"upstream"`
	Backend    string       `json:"backend"`
	Reason     string       `json:"reason"`
	Considered []Considered `json:"considered"`
	Routes     []RouteStep  `json:"routes"`
	Passed     *Passed      `json:"passed"` // the request as the backend sees it; null without a backend
	Shares     string       `json:"shares"` // what part of the requests each tier and zone is given; empty without failover
	Series     []Pick       `json:"series"` // one for each time it was asked
}

// Passed is a request as a backend sees it, as far as the configuration says so.
type Passed struct {
	Method  string   `json:"method"`
	Host    string   `json:"host"`
	Path    string   `json:"path"`    // with its query
	Set     []string `json:"set"`     // header fields that the route sets or adds, as "Name: value"
	Removed []string `json:"removed"` // and those it takes away
	Own     []string `json:"own"`     // those that the proxy writes by itself, before
}

// passed makes the request that the first backend sees.
func passed(f *config.Frontend, r *config.Route, q Question, a *Answer, reason string) *Passed {
	p := &Passed{Method: q.Method, Host: q.Host, Path: q.Path, Set: []string{}, Removed: []string{}}
	scheme := "http"
	if f.TLS != nil {
		scheme = "https"
	}
	p.Own = []string{
		"X-Forwarded-For: " + trace.CanonicalClient(q.Client), "X-Forwarded-Host: " + q.Host, "X-Forwarded-Proto: " + scheme,
		"Forwarded: for=" + peer.Node(trace.CanonicalClient(q.Client)) + ";proto=" + scheme + ";host=" + peer.Quote(q.Host), "Via: 1.1 kestrix",
	}
	const id = "{request_id}" // another for each request
	if q.idField != "" {
		p.Own = append(p.Own, q.idField+": "+id)
	}
	if rewrite.ChangesPath(r.Rewrite) {
		if prefix := rewrite.Dropped(r.Rewrite, request.Path(q.Path)); prefix != "" {
			p.Own = append(p.Own, "X-Forwarded-Prefix: "+prefix)
		}
		p.Path = rewrite.Path(r.Rewrite, request.Path(q.Path))
	}
	if q.Query != "" {
		p.Path += "?" + q.Query
	}
	if r.Rewrite != nil && r.Rewrite.Host != "" {
		p.Host = r.Rewrite.Host
	}
	if r.Headers == nil || r.Headers.Request == nil {
		return p
	}
	facts := &rewrite.Facts{Backend: a.Backend, Route: a.Route, Upstream: a.Upstream, Reason: reason, Client: q.Client, Host: q.Host, Attempts: "1", RequestID: id}
	e := r.Headers.Request
	if !rewrite.Concerns(e, q.Client) {
		return p
	}
	p.Removed = append(p.Removed, e.Remove...)
	for _, f := range append(append([]config.FieldValue{}, e.Set...), e.Add...) {
		p.Set = append(p.Set, f.Name+": "+rewrite.Expand(f.Value, facts))
	}
	return p
}

// RouteStep is a route that was tried.
type RouteStep struct {
	Route   string `json:"route"`
	Matches bool   `json:"matches"`
	Why     string `json:"why"`
}

// Considered is a backend and how it stood when the first request was decided.
type Considered struct {
	Backend string `json:"backend"`
	Address string `json:"address"`
	State   string `json:"state"`
	Weight  int    `json:"weight"`
	Chosen  bool   `json:"chosen"`
	Why     string `json:"why"`
}

// Pick is one decision.
type Pick struct {
	Backend string `json:"backend"`
	Address string `json:"address"`
	Reason  string `json:"reason"`
	Why     string `json:"why"`
}

// Why answers a question from a configuration alone, with every backend up.
// The error says what of the question does not fit the configuration.
func Why(c *config.Config, q Question) (*Answer, error) {
	q.idField = c.Identity.RequestField
	f, err := frontend(c, q)
	if err != nil {
		return nil, err
	}
	a := &Answer{Frontend: f.Name, Listener: listener(f, q.Port), Unreached: unreached(f, &q), Considered: []Considered{}, Routes: []RouteStep{}, Series: []Pick{}}
	client := trace.CanonicalClient(q.Client)
	addr, err := netip.ParseAddr(client)
	if err != nil {
		return nil, fmt.Errorf("the client %q is not an IP address", q.Client)
	}
	r := q.request(addr)
	i := a.route(f, q, &r)
	if i < 0 {
		return a, nil
	}
	a.Route, a.Upstream = f.Routes[i].Name, f.Routes[i].SendTo.Value
	if own := f.Routes[i].Answer(); own != "" {
		a.Reason = "the proxy answers by itself: " + ownAnswer(f.Routes[i], q, own)
		return a, nil
	}
	if f.Protocol == "http" && route.Compile(f).Redirects(i, &r) {
		a.Upstream, a.Reason = "", "the proxy answers by itself: redirect 308 to "+r.Path+"/ (bare_prefix)"
		return a, nil
	}
	cfg, err := q.upstream(c, a.Upstream)
	if err != nil {
		return nil, err
	}
	core := upstream.New(0, cfg, q.Seed)
	if err := takeOut(core, cfg, q.Down); err != nil {
		return nil, err
	}
	key, seatKey := trace.ClientKey(q.Client), uint64(0)
	if cfg.Hash != nil {
		key = request.HashKey(cfg.Hash, &r, key)
	}
	if cfg.Sticky != nil {
		seatKey = request.SeatKey(cfg.Sticky, &r, trace.ClientKey(q.Client))
	}
	a.ask(core, f, f.Routes[i], q, key, seatKey)
	return a, nil
}

// route finds the route that takes a request, -1 if none does, and explains it.
func (a *Answer) route(f *config.Frontend, q Question, r *route.Request) int {
	if f.Protocol == "http" {
		if no := request.Valid(q.Method, q.Host, q.target()); no != nil {
			a.Reason = fmt.Sprintf("the request has %s; the answer is %d", no.Why, no.Status)
			return -1
		}
	}
	table := route.Compile(f)
	for _, s := range table.Explain(r) {
		a.Routes = append(a.Routes, RouteStep{s.Route, s.Fits, s.Why})
	}
	i, _ := table.Match(r)
	if i >= 0 {
		return i
	}
	a.Reason = "no route matches; the answer is 404"
	if other := table.Ambiguous(r); other != "" {
		a.Reason = fmt.Sprintf("the path can also be read as %s, which another route takes; the answer is 400", other)
		last := &a.Routes[len(a.Routes)-1]
		last.Matches, last.Why = false, "some servers read the path as "+other
	}
	return -1
}

// ownAnswer returns what a route answers by itself, a redirect with where it leads.
func ownAnswer(r *config.Route, q Question, own string) string {
	if r.Redirect == nil {
		return own
	}
	path := q.Path
	if q.Query != "" {
		path += "?" + q.Query
	}
	return fmt.Sprintf("redirect %d to %s", r.Redirect.Status, r.Redirect.Target(request.Host(q.Host), path))
}

// upstream returns the configuration of an upstream, as a proxy in the zone of the
// question has it.
func (q *Question) upstream(c *config.Config, name string) (*config.Upstream, error) {
	cfg := c.Upstream(name)
	if q.Zone == "" {
		return cfg, nil
	}
	if cfg.Failover == nil || !cfg.Failover.PreferZone {
		return nil, fmt.Errorf("the upstream %q that takes this request does not prefer zones, so -zone changes nothing; failover { prefer = \"zone\" } would", cfg.Name)
	}
	if err := zoneKnown(cfg, q.Zone); err != nil {
		return nil, err
	}
	moved := *cfg
	moved.OwnZone = q.Zone
	return &moved, nil
}

// ask has a core choose for each request of the question, and explains the first.
func (a *Answer) ask(core *upstream.Upstream, f *config.Frontend, r *config.Route, q Question, key, seatKey uint64) {
	seat := upstream.None
	for n := range max(q.Times, 1) {
		req := upstream.Request{ID: uint64(n), Key: key, SeatKey: seatKey, Seat: seat, Repeatable: request.Idempotent(q.Method)}
		var at upstream.Attempt
		now := tick.Time(0).Add(time.Duration(n) * time.Millisecond)
		before := core.Members(now)
		v := core.Choose(now, &req, &at)
		p := Pick{Reason: core.ReasonWord(v.Reason), Why: sentence(core, key, v)}
		if v.Backend != upstream.None {
			b := core.Backend(v.Backend)
			p.Backend, p.Address = b.Name, b.Address.String()
			core.Settle(now, &req, &at, upstream.Outcome{Kind: upstream.Answered, Status: 200})
		}
		if v.Seat != upstream.None && core.Config().Sticky.By == "cookie" {
			seat = v.Seat
		}
		if n == 0 {
			a.Backend, a.Reason = p.Backend, p.Why
			a.Considered = considered(core, before, v)
			a.Shares = shares(core)
			if p.Backend != "" && f.Protocol == "http" {
				a.Passed = passed(f, r, q, a, p.Reason)
			}
		}
		a.Series = append(a.Series, p)
	}
}

// target returns the request target, as a client sends it.
func (q *Question) target() string {
	if q.Query == "" {
		return q.Path
	}
	return q.Path + "?" + q.Query
}

// request returns what the question asks for.
func (q *Question) request(client netip.Addr) route.Request {
	r, _ := request.Of(q.Method, q.Host, q.Path)
	r.Client, r.SNI, r.Query = client, strings.ToLower(q.SNI), request.Query(q.Query)
	r.Header = func(name string) (string, bool) { return request.Joined(q.Headers[strings.ToLower(name)]) }
	r.Cookie = request.Cookies(q.Headers["cookie"])
	return r
}

// zoneKnown holds a zone against those in which backends stand: another one would
// change nothing, and is misspelt most of the time.
func zoneKnown(cfg *config.Upstream, zone string) error {
	var known []string
	for _, b := range cfg.Backends {
		if b.Zone == zone {
			return nil
		}
		if b.Zone != "" && !slices.Contains(known, b.Zone) {
			known = append(known, b.Zone)
		}
	}
	hint := "there are: " + strings.Join(known, ", ")
	if s := config.Suggest(zone, known); s != "" {
		hint = "did you mean " + s + "?"
	}
	return fmt.Errorf("no backend of the upstream %q is in the zone %q; %s", cfg.Name, zone, hint)
}

// takeOut takes backends out of rotation, as an operator would.
func takeOut(core *upstream.Upstream, cfg *config.Upstream, down []string) error {
	for _, name := range down {
		id, ok := core.Lookup(strings.TrimPrefix(name, cfg.Name+"."))
		if !ok {
			var known []string
			for _, b := range cfg.Backends {
				known = append(known, b.Name)
			}
			hint := "there are: " + strings.Join(known, ", ")
			if s := config.Suggest(name, known); s != "" {
				hint = "did you mean " + s + "?"
			}
			return fmt.Errorf("the upstream %q that takes this request has no backend %q; %s", cfg.Name, name, hint)
		}
		core.Operate(0, id, upstream.Park, 0)
	}
	return nil
}

// frontend finds the one that takes the request.
func frontend(c *config.Config, q Question) (*config.Frontend, error) {
	var names []string
	var byPort []*config.Frontend
	for _, f := range c.Frontends {
		names = append(names, f.Name)
		for _, l := range f.Listen {
			if l.Value.Port == q.Port {
				byPort = append(byPort, f)
				break
			}
		}
	}
	switch {
	case q.Frontend != "":
		if f := c.Frontend(q.Frontend); f != nil {
			return f, nil
		}
		return nil, fmt.Errorf("no frontend is called %q; there are: %s", q.Frontend, strings.Join(names, ", "))
	case len(c.Frontends) == 1:
		return c.Frontends[0], nil
	case len(byPort) == 1 && q.Port != 0:
		return byPort[0], nil
	}
	return nil, fmt.Errorf("several frontends could take it; say which with -frontend: %s", strings.Join(names, ", "))
}

// listener returns the address of a frontend that a port belongs to; the first, if
// it belongs to none, as when a question names no port.
func listener(f *config.Frontend, port int) string {
	for _, l := range f.Listen {
		if l.Value.Port == port && port != 0 {
			return l.Value.String()
		}
	}
	if len(f.Listen) == 0 {
		return ""
	}
	return f.Listen[0].Value.String()
}

// unreached says why a URL reaches no listener of a frontend.
func unreached(f *config.Frontend, q *Question) string {
	there := slices.ContainsFunc(f.Listen, func(l config.Placed[config.Address]) bool { return l.Value.Port == q.Port })
	switch {
	case q.Port != 0 && !there:
		return fmt.Sprintf("no listener is on port %d", q.Port)
	case f.Protocol == "tcp":
		return ""
	case q.Secure && f.TLS == nil:
		return "the listener speaks http without TLS, and the URL says https"
	case !q.Secure && f.TLS != nil:
		return "the listener speaks https, and the URL says http"
	}
	return ""
}

// sentence words why a backend was chosen.
func sentence(core *upstream.Upstream, key uint64, v upstream.Verdict) string {
	cfg := core.Config()
	switch v.Reason {
	case upstream.KeptSeat:
		return fmt.Sprintf("the client keeps its backend (sticky by %s)", cfg.Sticky.By)
	case upstream.LostSeat:
		return "its backend is out, so it moves here permanently"
	case upstream.NoBackend:
		return "no backend is in rotation; the answer is 503"
	case upstream.NoRoom:
		return "every backend has max_in_flight requests open; the answer is 503"
	case upstream.InQueue:
		return "every backend has max_in_flight requests open; it waits in the queue"
	case upstream.Spilled:
		return "the first tier or zone lacks capacity or room, so this one spilled"
	case upstream.OnTrial:
		return "its rest after failures is over, and one request shows whether it works again"
	case upstream.TriedAnyway:
		return "no backend is in rotation, and when_all_down = \"try-anyway\""
	case upstream.ByAlgorithm:
		a := cfg.Balance()
		why := a.Why
		if a.Hash {
			why = fmt.Sprintf("%s (hash %016x): %s", hashedBy(cfg.Hash), key, a.Why)
		}
		if v.Seat != upstream.None {
			why += "; the client now has its seat here"
		}
		return why
	}
	return v.Reason.String()
}

// hashedBy returns what a hash goes by.
func hashedBy(h *config.Hash) string {
	return map[string]string{
		"client": "the client's address", "client-prefix": "the client's network", "path": "the path",
		"header": "the header field " + h.Name, "cookie": "the cookie " + h.Name, "query": "the query parameter " + h.Name,
	}[h.Key]
}

// shares words what part of the requests each tier, and the own zone, is given.
func shares(core *upstream.Upstream) string {
	var out []string
	for _, g := range core.Shares() {
		name := fmt.Sprintf("tier %d", g.Tier)
		if core.Config().OwnZone != "" {
			name += map[bool]string{true: " in " + core.Config().OwnZone, false: " elsewhere"}[g.OwnZone]
		}
		if f := core.Config().Failover; f != nil && f.SpillAt > 0 {
			text := fmt.Sprintf("%s has %d of %.0f in flight", name, g.InFlight, g.Room)
			if g.Share > 0 {
				text += " and gets the next request"
			}
			out = append(out, text)
			continue
		}
		out = append(out, fmt.Sprintf("%s is %.0f%% healthy and gets %.1f%%", name, 100*g.Healthy, 100*g.Share))
	}
	return strings.Join(out, ", ")
}

func considered(core *upstream.Upstream, before []upstream.Member, v upstream.Verdict) []Considered {
	out := []Considered{}
	for _, m := range before {
		c := Considered{Backend: m.Name, Address: core.Backend(m.ID).Address.String(), State: m.State.String(), Weight: m.Weight, Chosen: m.ID == v.Backend}
		switch {
		case c.Chosen:
			c.Why = "chosen"
		case m.State == health.Parked:
			c.Why = "taken to be out"
		case m.Weight == 0:
			c.Why = "its weight is 0: it gets no new requests"
		case m.Full:
			c.Why = "it has max_in_flight requests open"
		default:
			c.Why = "eligible, not selected"
			b, cfg := core.Backend(m.ID), core.Config()
			switch f := cfg.Failover; {
			case f == nil || v.Backend == upstream.None:
			case b.Tier != core.Backend(v.Backend).Tier:
				c.Why = fmt.Sprintf("this one was for tier %d, and it is in tier %d", core.Backend(v.Backend).Tier, b.Tier)
			case cfg.OwnZone != "" && (b.Zone == cfg.OwnZone) != (core.Backend(v.Backend).Zone == cfg.OwnZone):
				c.Why = "this one was for the other zones"
				if b.Zone != cfg.OwnZone {
					c.Why = "this one was for the proxy's own zone, " + cfg.OwnZone
				}
			}
			if v.Reason == upstream.KeptSeat {
				c.Why = "eligible; the client has its seat elsewhere"
			}
		}
		out = append(out, c)
	}
	return out
}
