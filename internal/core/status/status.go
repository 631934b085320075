// Package status describes a running proxy, as its control listener reports it.
//
// The proxy fills it in; status, watch and the status page show it. It must never
// compute: its types are a public format.
package status

import (
	"slices"
	"time"

	"kestrix/internal/core/health"
)

// Status is what control tells of a running proxy.
type Status struct {
	Proxy   string    `json:"proxy_name"` // by which logs know it
	Version string    `json:"version"`
	Commit  string    `json:"commit"` // empty where the program was not built from a checkout
	Began   time.Time `json:"began"`
	Counted time.Time `json:"counted"` // since when requests are counted
	At      time.Time `json:"at"`
	// Frontends are what became of the requests that clients sent, by frontend, sorted.
	Frontends []Frontend `json:"frontends"`
	Refused   []Refused  `json:"refused"` // by frontend and cause, sorted
	// Listeners are the addresses on which clients connect, by address.
	Listeners []Listener `json:"listeners"`
	// Connections are those that were refused, by frontend and cause, sorted.
	Connections  []RefusedConnections `json:"connections"`
	LostLines    uint64               `json:"lost_lines"` // of the access log and the trace that is recorded, since Began
	LostSpans    uint64               `json:"lost_spans"` // of traces, since Began
	Reloads      Reloads              `json:"reloads"`
	Certificates []Certificate        `json:"certificates"` // that clients are shown, by file
	Orders       []Held               `json:"orders"`       // in force whose backend there is not
	Upstreams    []Upstream           `json:"upstreams"`
}

// Frontend is how many requests, or connections of a tcp frontend, have ended there, each
// once however often it was retried, as the access log has a line for each; since
// Status.Counted. A 5xx of a backend is failed.
type Frontend struct {
	Name       string  `json:"name"`
	Answered   uint64  `json:"answered"`
	Failed     uint64  `json:"failed"`
	ClientLeft uint64  `json:"client_left"`
	Routes     []Route `json:"routes"` // those with requests, by name
}

// Route is how many requests of a route have ended, likewise; together they are those of
// the frontend.
type Route struct {
	Name       string            `json:"name"` // empty for requests that no route took
	Answered   uint64            `json:"answered"`
	Failed     uint64            `json:"failed"`
	ClientLeft uint64            `json:"client_left"`
	Redirected uint64            `json:"redirected"` // answered ones, by the proxy with a status from 300 to 399
	Statuses   [5]uint64         `json:"statuses"`   // of responses to clients, 1xx to 5xx, those of the proxy included
	Errors     map[string]uint64 `json:"errors"`     // failed ones, by cause
	Elapsed    Elapsed           `json:"elapsed"`    // estimated within the buckets of the metrics
}

// Listener is an address on which clients connect.
type Listener struct {
	Address     string `json:"address"`
	Frontend    string `json:"frontend"`
	Connections int64  `json:"connections"` // open ones
	Accepted    uint64 `json:"accepted"`    // connections, since Status.Counted
}

// Refused is how many requests a frontend answered, or reset, for a cause, without
// asking a backend; since Status.Counted.
type Refused struct {
	Frontend string `json:"frontend"`
	Cause    string `json:"cause"` // as in the access log
	Requests uint64 `json:"requests"`
}

// RefusedConnections is how many connections were closed before a request was read, or a
// backend asked; since Status.Counted.
type RefusedConnections struct {
	Frontend    string `json:"frontend"`
	Cause       string `json:"cause"` // connections, connections_total, proxy_protocol or tls_failed
	Connections uint64 `json:"connections"`
}

// Reloads is how often the configuration was read again, and what is in force.
type Reloads struct {
	Taken     uint64    `json:"taken"`
	Refused   uint64    `json:"refused"`
	RefusedAt time.Time `json:"refused_at"`    // the newest that was refused; zero for none
	At        time.Time `json:"at"`            // of what is in force
	Hash      string    `json:"configuration"` // begins the SHA-256 of its files
}

// Certificate is one that a frontend or control shows.
type Certificate struct {
	File    string    `json:"file"`
	Name    string    `json:"name,omitempty"` // the host that it was obtained for, by ACME; empty for one from files
	From    time.Time `json:"from"`
	Until   time.Time `json:"until"`             // zero: there is none yet
	Failing string    `json:"failing,omitempty"` // why it could not be obtained or renewed
}

// Upstream is one upstream of a Status.
type Upstream struct {
	Name      string `json:"name"`
	Algorithm string `json:"algorithm"`
	Waiting   int    `json:"waiting"` // requests in the queue
	Queued    uint64 `json:"queued"`  // requests that came into the queue
	Retries   uint64 `json:"retries"` // attempts that repeat a failed one
	// RetryBudget is how many retries the budget allows now; null without a budget.
	RetryBudget *float64  `json:"retry_budget"`
	Refused     uint64    `json:"refused"` // that no backend was given
	Backends    []Backend `json:"backends"`
	Groups      []Group   `json:"groups"` // in the order in which requests spill; empty where nothing spills
}

// Group is a tier, or the proxy's own zone in it, among which requests spill.
type Group struct {
	Tier    int     `json:"tier"`
	OwnZone bool    `json:"own_zone"`
	Share   float64 `json:"share"` // of new requests; with spill_at 1 for the group that the next one goes to
	// Room is how many requests it may have in flight, of which spill_at starts to spill; null without
	// spill_at.
	Room     *float64 `json:"room"`
	InFlight int      `json:"in_flight"`
}

// Backend is one backend of a Status. Counts are of attempts that have
// ended, since Status.Counted.
type Backend struct {
	Name    string     `json:"name"`
	Address string     `json:"address"`
	State   string     `json:"state"`
	Beneath string     `json:"beneath"` // the state that an operator's, or the backend's own, hides; empty if that is up
	Why     string     `json:"why"`     // of the last change of state; empty without one
	Since   time.Time  `json:"since"`   // of the state
	Rest    float64    `json:"rest"`    // seconds that are left of a suspension
	ByHand  string     `json:"by_hand"` // what an operator set that differs from the file; empty for nothing
	Until   *time.Time `json:"until"`   // when what an operator set ends by itself, or the first of two; null if it does not
	Orders  []Held     `json:"orders"`  // in force, one at most of park and drain, and one of weight
	Zone    string     `json:"zone"`
	Tier    int        `json:"tier"`
	Weight  int        `json:"weight"`
	// ReportedShare is the part of its weight that the backend says it can take, by a
	// self-report probe; null if it says nothing. Weight times that is in force.
	ReportedShare *float64 `json:"reported_share"`
	Share         float64  `json:"share"`      // of the upstream's requests
	FairShare     float64  `json:"fair_share"` // that it would have with everybody up
	InFlight      int      `json:"in_flight"`
	Requests      uint64   `json:"requests"`
	Failed        uint64   `json:"failed"`
	// ClientLeft counts attempts whose clients left before the answer began.
	ClientLeft uint64    `json:"client_left"`
	Statuses   [5]uint64 `json:"statuses"` // of answers, 1xx to 5xx
	Bytes      uint64    `json:"bytes"`    // of answers
	Rate       float64   `json:"rate"`     // requests a second, in the last ten seconds
	P50        float64   `json:"p50"`      // seconds to the head of an answer, in the last five minutes; 0 without one
	P99        float64   `json:"p99"`
	Elapsed    Elapsed   `json:"elapsed"`
	Total      Elapsed   `json:"total"` // as P50 and P99, since Status.Counted
	// SilentSince is when a request was begun that no first byte has followed to any client;
	// null for none, and where suspend { silent_after } does not watch for that.
	SilentSince *time.Time `json:"silent_since"`
	Seats       uint64     `json:"seats"` // sessions that were given to it
	Probe       *ProbeSeen `json:"probe"` // the last one; null before the first
	Probes      Probes     `json:"probes"`
	Recent      *Recent    `json:"recent,omitempty"`
}

// Elapsed is how long attempts took in seconds, in the last five minutes: until the end of
// the answer, the failure, or until the client left.
type Elapsed struct {
	P50 float64 `json:"p50"`
	P99 float64 `json:"p99"`
}

// Recent is what a backend was asked lately, a number for each step of time,
// the oldest first; the last step is not over yet.
type Recent struct {
	Step     float64  `json:"step"` // seconds
	Requests []uint32 `json:"requests"`
	Failed   []uint32 `json:"failed"`
}

// View is what an operator is shown: how everything stands and what happened
// lately, the newest first.
type View struct {
	Status   *Status
	Events   []Event
	User     string    // empty where control has no users
	Operator bool      // orders of this user are carried out
	Failed   []Request // kept ones of all routes, the newest first
}

// RequestsView is the page of kept requests.
type RequestsView struct {
	At     time.Time
	Query  RequestQuery
	Kept   Requests
	Routes []string // FRONTEND/ROUTE of those there are
}

// EventsView is the page of the event log, with what was asked as it was written.
type EventsView struct {
	At                                   time.Time
	Since, Until, Object, Kind, Severity string
	Wrong                                string // what cannot be asked; empty for nothing
	Events                               []Event
}

// Probes is how many have ended, since Status.Counted.
type Probes struct {
	Passed uint64 `json:"passed"`
	Failed uint64 `json:"failed"`
}

// ProbeSeen is a probe that has ended.
type ProbeSeen struct {
	At     time.Time `json:"at"`
	Took   float64   `json:"duration"` // seconds
	Passed bool      `json:"passed"`
	Why    string    `json:"why"` // it failed
}

// InRotation reports whether a backend may be given requests as it stands.
func (b *Backend) InRotation() bool {
	return health.InRotation(b.State) && b.Weight > 0
}

// Unserved reports whether an upstream has no backend in rotation.
func (s *Status) Unserved() bool {
	return slices.ContainsFunc(s.Upstreams, func(u Upstream) bool {
		return !slices.ContainsFunc(u.Backends, func(b Backend) bool { return b.InRotation() })
	})
}

// Named lists the backends as operators name them: UPSTREAM.BACKEND.
func (s *Status) Named() []string {
	var out []string
	for _, u := range s.Upstreams {
		for _, b := range u.Backends {
			out = append(out, u.Name+"."+b.Name)
		}
	}
	slices.Sort(out)
	return out
}
