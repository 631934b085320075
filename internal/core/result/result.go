// Package result defines what a replay reports: counts, latencies, the timeline, faults
// and expectations, under the keys of its JSON.
//
// Packages sim and replay fill it in; study, report and the commands read it. It holds
// values only: it must never decide, count requests itself, or print.
package result

import (
	"math"
	"slices"

	"kestrix/internal/core/cause"
	"kestrix/internal/core/scenario"
	"kestrix/internal/core/trace"
)

// Replay is what came of a replay. The keys are documented and stable; times
// are seconds from the start of the replay, shares lie from 0 to 1.
type Replay struct {
	Requests     int64                  `json:"requests"`
	Answered     int64                  `json:"answered"`
	Replied      int64                  `json:"replied"` // of answered: by a redirect or reply, without a backend
	Failed       int64                  `json:"failed"`
	ClientLeft   int64                  `json:"client_left"` // their clients left before the answer began
	Unfinished   int64                  `json:"unfinished"`
	Retried      int64                  `json:"retried"`
	AskedAgain   int64                  `json:"asked_again"`  // of requests: those that clients repeated after they had failed or been left
	GivenUp      int64                  `json:"given_up"`     // of requests: those that failed or were left, and that clients did not repeat
	Dependencies map[string]*Dependency `json:"dependencies"` // by name
	Pages        []Page                 `json:"pages"`        // of a load with pages
	Resent       int64                  `json:"resent"`       // of requests: streams that their clients opened again after they had failed
	ErrorRate    float64                `json:"error_rate"`
	Duration     float64                `json:"duration"`
	Throughput   float64                `json:"throughput"` // answered per second
	ProbeRate    float64                `json:"probe_rate"` // probes of all proxies per second

	Latency      Latency              `json:"latency"`
	Elapsed      Latency              `json:"elapsed"` // of all requests, until the answer, the failure or the leaving
	Errors       cause.Counts         `json:"errors"`
	Routes       map[string]int64     `json:"routes"`
	Upstreams    map[string]*Upstream `json:"upstreams"`
	Sessions     Sessions             `json:"sessions"`
	Health       []HealthChange       `json:"health"`
	HealthCut    bool                 `json:"health_cut"` // more changes came than are listed
	Faults       []Fault              `json:"faults"`
	Timeline     Timeline             `json:"timeline"`
	Expectations []scenario.Verdict   `json:"expectations"`
	Trace        Trace                `json:"trace"`
	Overloaded   []Overload           `json:"overloaded"`
	Paths        []Path               `json:"paths"` // the most frequent; null unless they are counted
	Assumed      Assumptions          `json:"assumed"`
	Model        Model                `json:"model"`
	Diagnosis    *Diagnosis           `json:"diagnosis"` // null where nothing failed or waited, and where it was not looked for
	Seeds        *Seeds               `json:"seeds"`     // null for one seed alone
	Partial      bool                 `json:"partial"`   // stopped before its end
	Leave        *Leave               `json:"-"`         // where it was tried
	Course       *Course              `json:"-"`         // where there are faults
	Engine       Engine               `json:"engine"`
}

// Page is what came of a page of a load: a request and what its client fetches after it.
type Page struct {
	Path    string  `json:"path"`
	Loaded  int64   `json:"loaded"`  // all of it was answered
	Failed  int64   `json:"failed"`  // something failed, or its client left it, for good
	Elapsed Latency `json:"elapsed"` // from the first request until everything had ended
}

// Spill is how near backends came to the load at which requests spill.
type Spill struct {
	Reached bool   `json:"reached"` // spill_at of a backend's max_in_flight was in flight
	Backend string `json:"backend"` // that came nearest
	Peak    int    `json:"peak_in_flight"`
	Of      int    `json:"max_in_flight"` // its own
	// BelowWorkers are backends whose max_in_flight is below the workers of the model, so that
	// some of those never work.
	BelowWorkers []string `json:"below_workers"`
}

// Dependency is what came of a service that backends share.
type Dependency struct {
	Calls         int64   `json:"calls"`
	Failed        int64   `json:"failed"`         // calls that failed, or that backends gave up
	Busy          float64 `json:"busy"`           // share of its workers' time
	PeakInFlight  int     `json:"peak_in_flight"` // the most calls open at once, waiting ones included
	Queued        int64   `json:"queued"`         // calls that waited for a worker
	QueuedSeconds float64 `json:"queued_seconds"`
}

// Latency is of answered requests, queueing and retries included, in seconds.
type Latency struct {
	Mean float64 `json:"mean"`
	P50  float64 `json:"p50"`
	P90  float64 `json:"p90"`
	P95  float64 `json:"p95"`
	P99  float64 `json:"p99"`
	P999 float64 `json:"p999"`
	Max  float64 `json:"max"`
}

// Upstream is what came of one upstream.
type Upstream struct {
	Requests   int64    `json:"requests"`
	Answered   int64    `json:"answered"`
	Failed     int64    `json:"failed"`
	ClientLeft int64    `json:"client_left"`
	Retried    int64    `json:"retried"`
	Spilled    int64    `json:"spilled"` // attempts that the algorithm sent to another tier or zone than the first
	Latency    Latency  `json:"latency"`
	Elapsed    Latency  `json:"elapsed"` // of all requests, until the answer, the failure or the leaving
	Sessions   Sessions `json:"sessions"`
	// RecordedInFlight is how many requests were in flight on average in the busiest bucket
	// of the timeline when the trace was recorded; 0 if it has no durations.
	RecordedInFlight float64             `json:"recorded_in_flight"`
	Imbalance        Imbalance           `json:"imbalance"`
	Spill            *Spill              `json:"spill"` // null unless requests spill by load
	Backends         map[string]*Backend `json:"backends"`
	Order            []string            `json:"-"` // backends as configured
}

// Imbalance is of the requests per weight of the backends: the largest over
// the mean, and the coefficient of variation.
type Imbalance struct {
	MaxOverMean float64 `json:"max_over_mean"`
	CV          float64 `json:"cv"`
}

// ImbalanceOf returns the imbalance of some backends' requests per weight; those without
// weight are not among them.
func ImbalanceOf(x []float64) Imbalance {
	sum, most := 0.0, 0.0
	for _, v := range x {
		sum += v
		most = max(most, v)
	}
	if sum == 0 {
		return Imbalance{}
	}
	mean := sum / float64(len(x))
	squares := 0.0
	for _, v := range x {
		squares += (v - mean) * (v - mean)
	}
	return Imbalance{most / mean, math.Sqrt(squares/float64(len(x))) / mean}
}

// Backend is what came of one backend. Requests counts attempts that reached a
// pick, so those of all backends can add up to more than the upstream's.
type Backend struct {
	State        string  `json:"state"` // at the end
	Requests     int64   `json:"requests"`
	Share        float64 `json:"share"`
	FairShare    float64 `json:"fair_share"` // by weight
	Answered     int64   `json:"answered"`
	Failed       int64   `json:"failed"`
	ClientLeft   int64   `json:"client_left"`
	Latency      Latency `json:"latency"`     // of its answered attempts
	Elapsed      Latency `json:"elapsed"`     // of all its attempts, until the answer, the failure or the leaving
	Connections  int64   `json:"connections"` // new ones that requests were sent on
	PeakInFlight int     `json:"peak_in_flight"`
	Busy         float64 `json:"busy"` // share of its workers' time spent working
	// Queued counts attempts that waited for a worker, in its backlog; QueuedSeconds is how
	// long that was, together.
	Queued        int64   `json:"queued"`
	QueuedSeconds float64 `json:"queued_seconds"`
	SecondsOut    float64 `json:"seconds_out"`
}

// Sessions tells what clients would feel of an application with local session
// state: Moved those that were given another backend permanently, Misses requests
// that reached a backend which did not hold their session.
type Sessions struct {
	Known   bool  `json:"known"` // the trace names sessions, or the scenario says that the application keeps them
	Seen    int64 `json:"seen"`
	Moved   int64 `json:"moved"`
	Refused int64 `json:"refused"`
	Misses  int64 `json:"misses"`
}

// HealthChange is a change of a backend's state.
type HealthChange struct {
	At       float64 `json:"at"`
	Upstream string  `json:"upstream"`
	Backend  string  `json:"backend"`
	From     string  `json:"from"`
	To       string  `json:"to"`
	Why      string  `json:"why"`
	Instance int     `json:"instance,omitempty"` // which of several proxies saw it, from 1
}

// Fault is what came of a fault.
type Fault struct {
	Name           string    `json:"name"`
	Kind           string    `json:"kind"`
	Backends       []string  `json:"backends"`     // UPSTREAM.BACKEND; of a fault of dependencies, those that call them
	Dependencies   []string  `json:"dependencies"` // that it strikes, in place of backends
	Proxy          int       `json:"proxy"`        // that it strikes, from 1; 0 for a fault of backends
	At             float64   `json:"at"`
	Until          *float64  `json:"until"`           // null: never ends
	Began          bool      `json:"began"`           // false: the replay ended before it
	DetectedAfter  *float64  `json:"detected_after"`  // until the last of its backends left rotation; null if one never did
	RecoveredAfter *float64  `json:"recovered_after"` // from its end until all are back; null if never
	Exposed        int64     `json:"exposed"`         // requests of which an attempt failed on it
	ExposedFailed  int64     `json:"exposed_failed"`  // of those, the ones that failed for good
	ExposedLeft    int64     `json:"exposed_left"`    // of those, the ones whose clients left
	Before         Phase     `json:"before"`          // requests that arrived before it began
	During         Phase     `json:"during"`          // while it lasted
	After          Phase     `json:"after"`           // after its end
	Aftermath      Aftermath `json:"aftermath"`
}

// Aftermath is what came of the requests that arrived after the end of a fault, until all was
// as before: as few failed, and they took as long.
type Aftermath struct {
	Requests int64    `json:"requests"` // 0: there were too few to tell by, or none before the fault
	Failed   int64    `json:"failed"`
	Until    *float64 `json:"until"` // from the end of the fault; null: never in the replay
}

// Course is how requests fared by the moment at which they arrived.
type Course struct {
	Width float64 // of a row, in seconds
	Rows  []CourseRow
}

// CourseRow is what came of the requests that arrived in a time.
type CourseRow struct {
	Arrived, Failed, Left int64
	Elapsed               float64 // of all together, in seconds
}

// Add adds what came of others.
func (r *CourseRow) Add(x CourseRow) {
	r.Arrived += x.Arrived
	r.Failed += x.Failed
	r.Left += x.Left
	r.Elapsed += x.Elapsed
}

// Between returns what came of the requests of some time, in whole rows: those that begin in it.
func (c *Course) Between(from, to float64) (out CourseRow) {
	first := max(int(math.Ceil(from/c.Width-1e-9)), 0)
	for i := first; i < len(c.Rows) && float64(i)*c.Width < to-1e-9; i++ {
		out.Add(c.Rows[i])
	}
	return out
}

// Phase is what came of the requests that arrived in a part of the replay.
type Phase struct {
	Requests   int64   `json:"requests"`
	Answered   int64   `json:"answered"`
	Failed     int64   `json:"failed"`
	ClientLeft int64   `json:"client_left"`
	ErrorRate  float64 `json:"error_rate"`
	Latency    Latency `json:"latency"`
	Elapsed    Latency `json:"elapsed"` // of all, until the answer, the failure or the leaving
}

// Path is what backends the requests of a path reached.
type Path struct {
	Path     string           `json:"path"` // without its query; empty for unknown ones, and for those after the first 65,535
	Attempts int64            `json:"attempts"`
	Backends map[string]int64 `json:"backends"` // attempts by UPSTREAM.BACKEND
}

// Overload is an upstream in which requests waited without a pause up to the last arrival,
// be it that all of it was asked for more than it can do, or one backend.
type Overload struct {
	Upstream string  `json:"upstream"`
	From     float64 `json:"from"`    // since when something waited without a pause
	Until    float64 `json:"until"`   // the last arrival
	Waiting  int64   `json:"waiting"` // then, in backlogs and in the queue
}

// Timeline is the course of the replay, in buckets of so many seconds.
type Timeline struct {
	Bucket float64       `json:"bucket"`
	Rows   []TimelineRow `json:"rows"`
	Coarse []CoarseRow   `json:"-"` // the same in at most CoarseRows parts, for drawing
}

// CoarseRow is a part of the course of a replay, PerRow rows of the timeline, with the times
// of all requests that ended in it.
type CoarseRow struct {
	At, P50, P95, P99 float64
}

// CoarseRows is how many there are at most.
const CoarseRows = 120

// PerRow is how many rows of the timeline go into a coarse one.
func (t *Timeline) PerRow() int { return max((len(t.Rows)+CoarseRows-1)/CoarseRows, 1) }

// TimelineRow is one bucket, by the time it began.
type TimelineRow struct {
	At         float64                           `json:"at"`
	Answered   int64                             `json:"answered"`
	Failed     int64                             `json:"failed"`
	ClientLeft int64                             `json:"client_left"`
	P50        float64                           `json:"p50"`
	P95        float64                           `json:"p95"`
	P99        float64                           `json:"p99"`
	Elapsed    Percentiles                       `json:"elapsed"` // of all requests that ended in the bucket
	Upstreams  map[string]map[string]TimelineBox `json:"upstreams"`
}

// Percentiles are those of a bucket, in seconds; 0 of nothing.
type Percentiles struct {
	P50 float64 `json:"p50"`
	P95 float64 `json:"p95"`
	P99 float64 `json:"p99"`
}

// TimelineBox is a backend in a bucket: attempts begun in it, and how many were
// open at its end.
type TimelineBox struct {
	Requests int64 `json:"requests"`
	InFlight int64 `json:"in_flight"`
}

// Trace is what was read.
type Trace struct {
	Records    int64            `json:"records"`
	BadLines   int64            `json:"bad_lines"`
	Bad        []trace.Bad      `json:"bad"`
	First      *float64         `json:"first"` // seconds since the epoch
	Last       *float64         `json:"last"`
	Clients    int64            `json:"clients"` // distinct addresses
	Unknown    map[string]int64 `json:"unknown"` // requests in which a route's condition met a field that is not known
	Spread     string           `json:"spread"`  // even: stamps of whole seconds are spread within their second
	Shifted    int64            `json:"shifted"` // how many stamps that moved
	OutOfOrder int64            `json:"out_of_order"`
	Durations  Durations        `json:"durations"`
	Unnamed    *trace.Unnamed   `json:"unnamed"` // a field of log lines that may be a duration and has no name; null for none
}

// Durations is how many requests of upstreams the trace gives a service time, and how many
// of them were in flight when it was recorded.
type Durations struct {
	Recorded int64 `json:"recorded"` // answered requests with a duration, which is taken for their service time
	Failed   int64 `json:"failed"`   // recorded failures, whose durations are none
	Missing  int64 `json:"missing"`  // without a duration
	Streams  int64 `json:"streams"`  // long answers and connections, which hold no worker
}

// Assumption is a figure of the model that is neither from the trace nor from the
// scenario, or one from the trace that may mislead.
type Assumption struct {
	What    string `json:"what"`    // one of the words below
	Value   string `json:"value"`   // as a reader is told
	Because string `json:"because"` // why it had to be assumed
	Instead string `json:"instead"` // what gives the figure itself
	Times   bool   `json:"times"`   // all times of the result rest on it
}

// Words of Assumption.What.
const (
	ServiceTimes = "service times"
	Backends     = "backends" // their workers, backlogs and connecting
	Arrivals     = "arrivals"
	Copies       = "copies" // from whom and when the additional requests of a load factor come
	Patience     = "patience"
	Sharing      = "sharing"     // whether work in progress slows down other work
	ColdStarts   = "cold starts" // how fast a backend is whose process restarted
	Proxies      = "proxies"     // how soon the clients of one that is gone reach another
	Dependencies = "dependencies"
	Repeats      = "repeats" // whether clients ask again
	Waiting      = "waiting"
	LastField    = "last field"
)

// Assumptions are those of a result, the most important first.
type Assumptions []Assumption

// OfTimes reports whether all times of the result rest on one of them.
func (all Assumptions) OfTimes() bool {
	return slices.ContainsFunc(all, func(a Assumption) bool { return a.Times })
}

// Model is what the replay went by, whatever its source, so that nothing is hidden.
type Model struct {
	Seed      uint64                  `json:"seed"`
	Instances int                     `json:"instances"` // proxies side by side
	Stamp     string                  `json:"stamp"`     // start or end: what of a request the trace's time was taken for
	Patience  string                  `json:"patience"`  // after which clients leave; empty if they wait for ever
	Again     int                     `json:"again"`     // how often clients repeat what failed or what they left
	After     string                  `json:"after"`     // the time before they do; empty if they do not
	Backends  map[string]BackendModel `json:"backends"`  // by UPSTREAM.BACKEND
	// Dependencies are by name: the words of the scenario.
	Dependencies map[string]string `json:"dependencies"`
}

// BackendModel is how a backend was taken to behave.
type BackendModel struct {
	Service   string  `json:"service"`
	Workers   int     `json:"workers"`
	Backlog   int     `json:"backlog"`
	Connect   float64 `json:"connect"`
	Handshake float64 `json:"handshake"` // of TLS
	Cores     float64 `json:"cores"`     // that work in progress shares; 0: it takes as long however much there is
	// After a restart work takes ColdFactor times as long at first, and evenly less for ColdFor
	// seconds; 0 for a backend that is as fast as ever at once.
	ColdFor    float64 `json:"cold_for"`
	ColdFactor float64 `json:"cold_factor"`
}

// Engine is how the replay itself ran; it alone may differ between two runs.
type Engine struct {
	Events            int64   `json:"events"`
	WallSeconds       float64 `json:"wall_seconds"`
	RequestsPerSecond float64 `json:"requests_per_second"`
}

// Leave is what becomes of clients that are known when a backend of each upstream
// leaves for good: how many of their requests reach another backend than before,
// although that one is still there. It is found by replaying some requests once
// more, without any fault and with one backend of each upstream parked half-way.
type Leave struct {
	Backends []string `json:"backends"` // that left, as UPSTREAM.BACKEND
	Requests int64    `json:"requests"` // that came later, of clients that were with another backend
	Moved    int64    `json:"moved"`    // of them, that were given yet another
	Share    float64  `json:"share"`    // moved of requests
	Pushed   *float64 `json:"pushed"`   // share of requests that overload gives another one besides; null where no client keeps its backend
}
