package config

import (
	"fmt"
	"net/netip"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/hashicorp/hcl/v2"
)

// File is one source that was read.
type File struct {
	Name   string
	Source []byte
}

// Config is a configuration as it was read, with the places of what matters,
// so that rules can point at them.
type Config struct {
	raw    []File  // as they were read
	pieces []piece // what Resolved replaces in them
	nodes  []*Node // the top of each file

	Files     []File
	Frontends []*Frontend
	Upstreams []*Upstream
	AccessLog AccessLog // at the top; see AccessLogs
	Identity  Identity
	Tracing   *Tracing // nil: none
	EventLog  EventLog
	Syslog    Syslog
	// ConnectionsTotal is how many connections clients may have open together; 0:
	// as the machine allows.
	ConnectionsTotal int
	Control          *Control       // nil: none
	Zone             Placed[string] // where this proxy stands; empty if not said
	Trusted          []netip.Prefix // proxies in front of this one
	TrustedAt        hcl.Range
	// ClientFrom is the field of trusted proxies that names the client:
	// x-forwarded-for or forwarded.
	ClientFrom   string
	ClientFromAt hcl.Range      // no place where it is the default
	Record       Placed[string] // a file for a trace; empty for none
	// StopNotice is for how long a stopping proxy is not ready and still accepts.
	StopNotice      time.Duration
	StopNoticeGiven bool
	Settings        []Settings // at the top
	Lets            []Let
	Broken          bool // the syntax had errors: what is missing may only have been unreadable
}

// Upstream returns the upstream of that name, nil if there is none.
func (c *Config) Upstream(name string) *Upstream {
	for _, u := range c.Upstreams {
		if u.Name == name {
			return u
		}
	}
	return nil
}

// Frontend returns the frontend of that name, nil if there is none.
func (c *Config) Frontend(name string) *Frontend {
	for _, f := range c.Frontends {
		if f.Name == name {
			return f
		}
	}
	return nil
}

// Backends counts the backends of all upstreams.
func (c *Config) Backends() int {
	n := 0
	for _, u := range c.Upstreams {
		n += len(u.Backends)
	}
	return n
}

// Frontend is where traffic enters.
type Frontend struct {
	Name     string
	Range    hcl.Range
	Listen   []Placed[Address]
	Protocol string // http or tcp
	// ProxyProtocol: connections begin with a PROXY protocol header.
	ProxyProtocol bool
	ProtocolAt    hcl.Range
	Routes        []*Route
	TLS           *FrontTLS // nil: none
	Timeouts      FrontTimeouts
	Limits        Limits
	ClearHTTP2    bool             // HTTP/2 without TLS is taken
	PassFields    []Placed[string] // of ProxyFields
	Errors        Errors
	AccessLogs    []AccessLog // besides the one at the top
	Settings      []Settings
}

// Route is a rule of a frontend; the first whose When fits decides.
type Route struct {
	Name   string
	Range  hcl.Range
	When   When
	SendTo Placed[string] // name of an upstream; empty for a redirect or reply, or if it could not be read

	Redirect *Redirect // nil: none
	Reply    *Reply    // nil: none
	Rewrite  *Rewrite  // nil: none
	Headers  *Headers  // nil: none
	Timeouts Waits     // 0: as the upstream says
	Settings []Settings
	// StreamRequests: bodies go to the backend from their first byte on.
	StreamRequests bool
	StreamAt       hcl.Range // where the longest stream stands; of the route's head if it does not
	Limits         Limits
}

// Answer words what a route answers by itself, empty if it sends to an upstream.
func (r *Route) Answer() string {
	switch {
	case r.Redirect != nil:
		return fmt.Sprintf("redirect %d to %s", r.Redirect.Status, r.Redirect.To)
	case r.Reply != nil:
		return fmt.Sprintf("reply %d", r.Reply.Status)
	}
	return ""
}

// Redirect sends a client elsewhere.
type Redirect struct {
	Range  hcl.Range
	To     string // may hold {host} and {path}
	Status int
}

// Target returns where a request is sent: host without port, path with query.
func (r *Redirect) Target(host, path string) string {
	return strings.NewReplacer("{host}", host, "{path}", path).Replace(r.To)
}

// Reply is a fixed answer.
type Reply struct {
	Range       hcl.Range
	Status      int
	Body        string
	ContentType string
}

// When is the condition of a route. Everything given must fit; a list means
// any of them. Without anything it fits all.
type When struct {
	Range  hcl.Range // of the block; of the route if there is none
	Host   []Match
	Path   []Match
	Method []Match
	Client []ClientMatch
	Header []MatchPair
	Query  []MatchPair
	Cookie []MatchPair
	SNI    []Match
	Any    []When // of several, one must fit as well
}

// Empty reports whether the condition fits everything.
func (w *When) Empty() bool {
	return len(w.Host)+len(w.Path)+len(w.Method)+len(w.Client)+len(w.Header)+len(w.Query)+len(w.Cookie)+len(w.SNI)+len(w.Any) == 0
}

// AsksSNI reports whether the condition goes by the name in a TLS handshake.
func (w *When) AsksSNI() bool {
	return slices.ContainsFunc(w.Parts(), func(p *When) bool { return len(p.SNI) > 0 })
}

// Parts returns the condition itself, and those of its any blocks.
func (w *When) Parts() []*When {
	out := []*When{w}
	for i := range w.Any {
		out = append(out, &w.Any[i])
	}
	return out
}

// Upstream is a named group of backends that serve the same thing.
type Upstream struct {
	Name         string
	Range        hcl.Range
	Algorithm    string
	AlgorithmAt  hcl.Range
	Hash         *Hash // with algorithm hash, and only then
	Backends     []Backend
	BackendsAt   hcl.Range
	From         Placed[string] // the file that gives Backends; empty: the configuration does
	Partial      bool           // some backends could not be read, so that their number says nothing
	Probe        *Probe         // nil: none
	Suspend      *Suspend       // nil: off
	Sticky       *Sticky        // nil: off
	Retry        *Retry         // nil: off
	Failover     *Failover      // nil: off
	Queue        *Queue         // nil: off
	OwnZone      string         // of the proxy, where failover prefers zones; else empty
	Timeouts     Timeouts
	TLS          *UpstreamTLS  // nil: none
	Ramp         time.Duration // slow start; 0: off
	RampAt       hcl.Range
	ResolveEach  bool          // each address of a name is a backend
	ResolveEvery time.Duration // between two lookups at most
	ResolveFloor time.Duration // and at least
	// ProxyProtocol: v1 or v2, the header that connections to backends begin
	// with; empty for none.
	ProxyProtocol   string
	ProxyProtocolAt hcl.Range
	HTTPVersion     string // 1.1 or 2
	HTTPVersionAt   hcl.Range
	TryAnyway       bool       // when_all_down = "try-anyway"
	ConnectFrom     netip.Addr // not valid: as the system chooses
	OnDown          string     // keep or close; empty: close connections of tcp, keep other streams
	Settings        []Settings
}

// HTTP2 reports whether backends are spoken to in HTTP/2.
func (u *Upstream) HTTP2() bool { return u.HTTPVersion == "2" }

// ClosesOnDown reports whether what is open with a backend that goes down or is parked is
// closed: a connection of tcp, or a stream of http.
func (u *Upstream) ClosesOnDown(tcp bool) bool {
	return u.OnDown == "close" || u.OnDown == "" && tcp
}

// Each returns the upstream with a backend for each address of a name, as far as
// they are known: its name is that of the backend with the address behind it.
// Without an address there is no backend.
func (u *Upstream) Each(members func(Address) []Member) *Upstream {
	out := *u
	out.Backends = nil
	for _, b := range u.Backends {
		if _, isIP := b.Address.IP(); isIP || b.Address.Unix != "" {
			out.Backends = append(out.Backends, b)
			continue
		}
		for _, m := range members(b.Address) {
			out.Backends = append(out.Backends, b.Member(m))
		}
	}
	return &out
}

// Member is what an address of a name stands for. What a service has besides is 0 for a host.
type Member struct {
	Addr         netip.Addr
	Port, Weight int
	Rank         int // of its priority, 0 for the first: so many tiers behind that of the backend
}

// Member returns the backend that one address of a backend's name stands for.
func (b Backend) Member(m Member) Backend {
	b.Name += "-" + m.Addr.String()
	port := b.Address.Port
	if m.Port != 0 {
		port = m.Port
		b.Name += "-" + strconv.Itoa(port)
		b.Tier += m.Rank
		if b.Weight > 0 { // else it is to get nothing
			b.Weight = m.Weight
		}
	}
	b.Address = Address{Host: m.Addr.String(), Port: port}
	return b
}

// TotalWeight is the sum of the weights of its backends.
func (u *Upstream) TotalWeight() int {
	total := 0
	for _, b := range u.Backends {
		total += b.Weight
	}
	return total
}

// Probe is an active health check.
type Probe struct {
	Range     hcl.Range
	Kind      string      // a name of ProbeKinds
	Port      int         // 0: that of the backend
	Path      string      // of an http probe
	Method    string      // likewise
	Host      string      // likewise; empty: the backend's address
	Headers   []FieldPair // likewise
	Status    []StatusRange
	Body      string // pattern with *; empty takes any
	Send      string // of a tcp probe
	Name      string // of a tls probe; empty: that of the upstream's tls block, or the backend's host
	Verify    bool   // likewise
	Service   string // of a grpc probe
	Every     time.Duration
	EveryDown time.Duration // while down or recovering
	Jitter    float64       // share of the interval, 0 to 1
	Timeout   time.Duration
	DownAfter int
	UpAfter   int
	EveryAt   hcl.Range
	PathAt    hcl.Range
	TimeoutAt hcl.Range
}

// Asks reports whether an application must answer the probe.
func (p *Probe) Asks() bool { return p.Of().Asks(p) }

// Passes reports whether a status passes. Only an http probe may take another than 200.
func (p *Probe) Passes(status int) bool {
	if p.Kind != "http" {
		return status == 200
	}
	for _, r := range p.Status {
		if status >= r.From && status <= r.To {
			return true
		}
	}
	return false
}

// StatusRange is a range of HTTP statuses, both ends included.
type StatusRange struct{ From, To int }

// Suspend is the passive health check: real traffic failed, so the backend
// rests for a while.
type Suspend struct {
	Range     hcl.Range
	After     int
	Rest      time.Duration
	Growth    float64
	Longest   time.Duration
	Keep      float64 // share of the backends, 0 to 1
	On        *FailureSet
	LongestAt hcl.Range
	// SilentAfter is how long a backend may answer nothing, with After requests begun;
	// 0 for as long as it likes.
	SilentAfter time.Duration
}

// Sticky is the session setting.
type Sticky struct {
	Range  hcl.Range
	By     string // cookie, existing-cookie, address or header
	Name   string // of the cookie or header field
	TTL    time.Duration
	OnLoss string // move or refuse
	Secret string // empty: made at each start
	Pass   bool   // backends receive the cookie of our own
}

// Retry says what is repeated.
type Retry struct {
	Range    hcl.Range
	Attempts int // at most, the first included
	On       *FailureSet
	Budget   float64 // retries per request, at most; 0 is no limit
}

// Hash says what the algorithm of that name goes by.
type Hash struct {
	Range  hcl.Range
	Key    string // client, client-prefix, header, cookie, path or query
	Name   string // of the header field, cookie or query parameter
	Method string // ring, rendezvous or modulo
	Bound  float64
}

// Failover says which backends are given requests while others lack capacity.
type Failover struct {
	Range      hcl.Range
	PreferZone bool
	SpillBelow float64 // share of healthy capacity, above 0 to 1
	SpillAt    float64 // share of a backend's max_in_flight, above 0 to 1; 0: it spills by health
}

// Queue lets requests wait while every backend is full.
type Queue struct {
	Range   hcl.Range
	Limit   int
	Timeout time.Duration
}

// Timeouts of an upstream.
type Timeouts struct {
	Range   hcl.Range
	Connect time.Duration
	Kept    time.Duration // how long an unused connection is kept
	Age     time.Duration // how long a connection serves further requests; 0: for ever
	Waits
}

// Waits are the timeouts that a route may change.
type Waits struct {
	Answer time.Duration // to the head of an answer
	Idle   time.Duration // on which nothing moves
	Stream time.Duration // longest life of a stream; 0 is no limit
	given  [3]bool
}

// Waits returns the timeouts that hold for a route's requests to an upstream.
func (r *Route) Waits(u *Upstream) Waits {
	w := u.Timeouts.Waits
	for i, p := range []struct{ to, from *time.Duration }{{&w.Answer, &r.Timeouts.Answer}, {&w.Idle, &r.Timeouts.Idle}, {&w.Stream, &r.Timeouts.Stream}} {
		if r.Timeouts.given[i] {
			*p.to = *p.from
		}
	}
	return w
}

// FrontTimeouts say how long a client is waited for.
type FrontTimeouts struct {
	RequestHeader time.Duration
	RequestBody   time.Duration // the longest pause in it
	Idle          time.Duration // between two requests
	HalfClosed    time.Duration // until an answer begins, after the client has ended its direction
}

// Limits are what one client may ask for; 0 is no limit.
type Limits struct {
	Range       hcl.Range
	HeaderSize  int64 // bytes; of a frontend only
	Connections int   // of a frontend only
	BodyRate    int64 // bytes a second, the least; of a frontend only
	Stalled     int   // streams of a connection; of a frontend only
	BodySize    int64
	Rate        float64 // requests a second
	Burst       int
}

// Let is a value of one's own.
type Let struct {
	Name  string
	Range hcl.Range
	Used  bool
}
