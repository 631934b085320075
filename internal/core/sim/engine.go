// Package sim simulates arrivals against a configuration in virtual time: the decision core
// decides as it does for live traffic, and a model of backends responds, fails and recovers
// as a scenario says.
//
// engine.go is the event loop, handle.go what events do; server.go, streams.go, probe.go and fault.go are the model
// of backends; settle.go ends requests; timeline.go, phase.go and outcome.go count and
// report. Package replay makes one Engine per case. The package must never read a trace or a
// clock, or use random numbers other than those keyed by the seed: the same arrivals and
// seed give the same result.
package sim

import (
	"context"
	"fmt"
	"time"

	"kestrix/internal/core/cause"
	"kestrix/internal/core/config"
	"kestrix/internal/core/histogram"
	"kestrix/internal/core/ingest"
	"kestrix/internal/core/limit"
	"kestrix/internal/core/queue"
	"kestrix/internal/core/result"
	"kestrix/internal/core/rng"
	"kestrix/internal/core/scenario"
	"kestrix/internal/core/tick"
	"kestrix/internal/core/trace"
	"kestrix/internal/core/upstream"
)

// Options say how arrivals are simulated.
type Options struct {
	Seed      uint64                      // keys every random number
	Instances int                         // proxies side by side, each with its own view; 0 is one
	Times     float64                     // how often each arrival comes, on average; 0 is once
	Only      string                      // the upstream whose arrivals come; empty for all
	Resample  bool                        // the clients of the arrivals are drawn with replacement
	Until     trace.Moment                // stops the clock; unset for the end of the arrivals
	Sample    int                         // arrivals of a closed load that are kept
	Stamp     string                      // reported with the result; empty is "start"
	RepeatAll bool                        // requests are repeated whatever their method is
	ByPath    bool                        // backends are counted by the path of requests
	Recorded  bool                        // failures that the trace records happen again, as they were
	Observe   func(Decision)              // is called with each decision; nil for nobody
	Progress  func(bytes, requests int64) // is called now and then; nil for nobody
}

// Decision is one choice of the core.
type Decision struct {
	At       tick.Time // since the first arrival
	Request  uint64    // from 0, in the order of arrival
	Attempt  int
	Upstream string
	Backend  string // empty if refused
	Reason   string // see upstream.ReasonWord
	Instance int    // from 0
}

// Engine is one simulation. Fields that every request uses come first in each part.
type Engine struct {
	clock
	places
	counts
	supply
	model
	cfg      *config.Config
	scenario *scenario.Scenario
	o        Options
}

// clock is virtual time and the events to come.
type clock struct {
	now       tick.Time
	zero      int64     // nanoseconds since the epoch when virtual time began
	stop      tick.Time // when the clock stops, tick.Never if it does not
	faultNext tick.Time // when a fault begins, ends or turns next
	lastAt    tick.Time // of the latest arrival
	events    int64
	begun     bool
	queue     queue.Calendar[event]
	ctx       context.Context // polled every 65,536 events
}

// counts is what the result is made of.
type counts struct {
	breathed  tick.Time // the end of the bucket in which upstreams were last checked for waiting
	timeline  *timeline
	course    *course // nil unless there are faults
	byPath    *byPath // nil unless backends are counted by path
	routes    []int64 // requests by position in supply.refs
	probes    int64
	phases    []phase
	latencies histogram.Set
	moved     sessionSet // sessions that moved, wherever that was
	openNow   []int32    // by server, in flight when the last row of the timeline ended
	repeated  int64      // of the failed and left requests, those that clients repeat
	res       result.Replay
}

// supply is where requests come from, and what is checked before they reach an upstream.
type supply struct {
	times    float64 // how often each arrival comes
	only     int32   // the upstream whose arrivals come, -1 for all
	drawn    []drawn // by number of the client, as far as clients have come; empty unless they are drawn
	clients  uint32  // how many clients were drawn so far
	rated    bool    // a frontend or route enforces a rate
	refs     []ingest.Route
	fronts   []*config.Frontend
	limits   []limit.Set      // by instance
	met      uint64           // arrivals, each counted once
	again    []ingest.Arrival // arrivals that come later: those that are sent again, copies
	asked    []ingest.Arrival // of the requests in flight, by place, where clients repeat them
	spare    []int32          // free places of again
	sample   []ingest.Arrival // the first that clients of a closed load have sent
	sequence *ingest.Sequence
	closed   *closedLoad // nil unless clients wait for their answers
	pages    pages
}

// model is the backends, and the proxies in front of them.
type model struct {
	servers []server
	ups     []*up
	views   []*view // of all instances
	sole    *view   // the only one, nil where there are several
	faults  []*fault
	deps    []*dependency
	called  calls
	proxies proxies
	changes []upstream.Change // reused by tell
	actions []upstream.Action // reused by coreDue
	shaper  *rng.Shaper
	ahead   ahead
}

// New returns an engine that has not begun. The error says that an upstream has more
// backends than a simulation takes. When ctx ends the engine stops soon, and its result is
// partial.
func New(ctx context.Context, c *config.Config, s *scenario.Scenario, o Options) (*Engine, error) {
	e := &Engine{cfg: c, scenario: s, o: o}
	e.ctx, e.stop = ctx, tick.Never
	e.free = -1
	e.times, e.only = 1, -1
	e.limits = make([]limit.Set, max(o.Instances, 1))
	e.phases = make([]phase, 1)
	e.shaper = rng.NewShaper()
	e.addDependencies()
	if err := e.addProxies(); err != nil {
		return nil, err
	}
	backends := 0
	for _, uc := range c.Upstreams {
		backends += len(uc.Backends)
	}
	e.servers = make([]server, backends) // side by side, so that each begins where a line of the cache does
	first := 0
	for _, uc := range c.Upstreams {
		if len(uc.Backends) > 30000 {
			return nil, fmt.Errorf("the upstream %q has %d backends; a replay takes up to 30,000", uc.Name, len(uc.Backends))
		}
		u := &up{cfg: uc, connect: uc.Timeouts.Connect, latency: make([]histogram.Histogram, 1), unanswered: make([]histogram.Histogram, 1), durations: durations{lent: -1}}
		for i := range max(o.Instances, 1) {
			// Each proxy draws and breaks ties in a way of its own.
			v := &view{index: int32(len(e.views)), instance: i, up: u, scheduled: tick.Never}
			if i > 0 {
				v.ahead = tick.Time(rng.Unit(rng.Bits(o.Seed, uint64(i), 0, rng.Phase)) * float64(time.Hour))
			}
			v.core = upstream.New(v.ahead, uc, o.Seed+uint64(i)<<32)
			v.probes, v.conns = make([]probeView, v.core.Slots()), make([]conns, v.core.Slots())
			u.views = append(u.views, v)
			e.views = append(e.views, v)
		}
		u.core, u.living = u.views[0].core, len(u.views)
		u.sticky = uc.Sticky != nil
		u.cookie = u.sticky && uc.Sticky.By == "cookie"
		u.first, u.servers = int32(first), e.servers[first:first+len(uc.Backends)]
		first += len(uc.Backends)
		for _, b := range uc.Backends {
			id, _ := u.views[0].core.Lookup(b.Name)
			sv := &u.servers[id]
			sv.init(u.first+int32(id), u, id, s.Behaviour(uc.Name+"."+b.Name), s.PathServices(uc, b.Name))
			sv.needs = e.needsOf(s.Needs(uc, b.Name))
		}
		u.said = u.takesAsSaid(len(s.Paths(uc)))
		e.ups = append(e.ups, u)
	}
	e.pages.of, e.pages.seen = s.Pages, make([]pageCount, len(s.Pages))
	if o.Times > 0 {
		e.times = o.Times
	}
	for i, u := range c.Upstreams {
		if u.Name == o.Only {
			e.only = int32(i)
		}
	}
	if s.Load != nil && s.Load.Closed {
		e.closed = newClosedLoad(s.Load, o.Seed)
	}
	if len(e.views) == 1 {
		e.sole = e.views[0]
	}
	findUsual(e.servers)
	e.openNow = make([]int32, len(e.servers))
	e.timeline = newTimeline(len(e.servers))
	if o.ByPath {
		e.byPath = &byPath{servers: len(e.servers)}
	}
	if len(s.Faults) > 0 {
		e.course = &course{width: 1e9}
	}
	e.prepareFaults()
	return e, nil
}

// Begin starts virtual time. at is the first arrival, in nanoseconds since the epoch.
func (e *Engine) Begin(at int64) {
	e.begun, e.zero = true, at
	for i, f := range e.faults {
		e.queue.Push(tick.Time(f.cfg.At), event{kind: faultBegins, server: int32(i)})
	}
	e.faultsChanged()
	for _, v := range e.views {
		e.schedule(v)
	}
	if e.o.Until.Set() {
		e.stop = tick.Time(e.o.Until.In(e.sequence.Origin(), 0) - at)
	}
}

// until handles all that happens up to a moment.
func (e *Engine) until(to tick.Time) {
	to = min(to, e.stop-1)
	for {
		at, ev, ok := e.queue.Take(to)
		if !ok {
			return
		}
		e.now = at
		if e.events++; e.events&0xffff == 0 && e.ctx.Err() != nil {
			return
		}
		e.handle(ev)
	}
}

// Begun reports whether there was an arrival.
func (e *Engine) Begun() bool { return e.begun }

// Arrive simulates up to each arrival in turn and takes it in. They must be in the order of
// time, and the engine must have begun.
func (e *Engine) Arrive(block []ingest.Arrival) {
	for i := range block {
		e.arrive(&block[i])
	}
}

// arrive takes a request in.
func (e *Engine) arrive(a *ingest.Arrival) {
	at := max(tick.Time(a.At-e.zero), e.now)
	e.until(at)
	if at >= e.stop {
		e.now = e.stop
		return
	}
	if e.events&0xffff == 0 && e.ctx.Err() != nil {
		return // until has stopped half-way
	}
	e.now = at
	e.events++
	e.lastAt = at
	if e.pages.of != nil {
		if a = e.gather(a); a == nil {
			return
		}
	}
	if e.times != 1 || e.only >= 0 || e.o.Resample {
		e.multiply(a)
		return
	}
	e.ask(a)
}

// ask takes a request in that comes now.
func (e *Engine) ask(a *ingest.Arrival) {
	at := e.now
	if e.timeline.end != e.breathed {
		e.breathed = e.timeline.end
		e.breathe()
	}
	n := e.res.Requests
	e.res.Requests++
	if a.Page > 0 {
		e.pages.begins(a.Page, at)
	}
	ph := &e.phases[len(e.phases)-1]
	ph.requests++
	if e.proxies.lost > 0 {
		there := e.reach(a)
		if there == nil {
			e.res.Errors[cause.Closing]++
			e.turnedAway(a)
			return
		}
		a = there
	}
	if e.rated && e.limits[a.Instance].Front(at, e.fronts[a.Front], a.Limited) > 0 {
		e.res.Errors[cause.RateLimited]++
		e.turnedAway(a)
		return
	}
	if a.Route < 0 {
		e.res.Errors[cause.NoRoute]++
		e.turnedAway(a)
		return
	}
	e.routes[a.Route]++
	if e.rated && e.limits[a.Instance].Route(at, e.fronts[a.Front], e.refs[a.Route].Config, a.Limited) > 0 {
		e.res.Errors[cause.RateLimited]++
		e.turnedAway(a)
		return
	}
	if e.refs[a.Route].Upstream < 0 || a.Redirected {
		// A redirect or reply takes no time worth telling and meets no backend.
		e.latencies.Add(&ph.elsewhere, 0)
		e.res.Answered++
		e.res.Replied++
		ph.answered++
		e.row().answered++
		e.over(a.Page, a.Client, true, leastPause)
		return
	}
	u := e.ups[e.refs[a.Route].Upstream]
	if u.requests++; e.byPath != nil {
		e.byPath.arrived(n, a.Path)
	}
	u.see(a.Session)
	e.send(e.admit(a, u, uint64(n)))
}

// admit returns the place of a request that has just arrived.
func (e *Engine) admit(a *ingest.Arrival, u *up, n uint64) int32 {
	i := e.take()
	r := &e.requests[i]
	// Field by field: to make a whole one anew costs more, and gen goes on.
	e.describe(&r.q, a, u, n)
	r.q.Tag = i
	r.a.Reset()
	r.session, r.view, r.server, r.route = a.Session, u.views[a.Instance].index, 0, a.Route
	r.sent, r.open, r.stream, r.flows, r.overdue, r.struck = false, true, a.Stream, false, false, false
	r.recorded, r.phase, r.who, r.page, r.paths = 0, int16(len(e.phases)-1), a.Client, a.Page, a.Paths
	r.arrived, r.deadline, r.duration = e.now, 0, u.durations.of(a, e.o.Recorded, u.said[a.Paths])
	if e.o.Recorded {
		r.recorded = a.Recorded
	}
	r.under, r.met, r.lost, r.held = 0, 0, false, a.Held
	e.open++
	if e.scenario.Again > 0 {
		e.remember(i, a)
	}
	if e.course != nil {
		e.course.row(e.now).Arrived++
	}
	if p := e.scenario.Patience; p != nil {
		waits := e.span(p, rng.Bits(e.o.Seed, n, 0, rng.Patience))
		e.queue.Push(e.now.Add(waits), event{kind: patienceEnds, req: i, gen: uint32(n)})
	}
	return i
}

// describe tells the core of a request that came now.
func (e *Engine) describe(q *upstream.Request, a *ingest.Arrival, u *up, n uint64) {
	q.ID, q.Key, q.SeatKey, q.Seat, q.SeatAge, q.Repeatable = n, a.Key, a.SeatKey, upstream.None, 0, a.Repeatable || e.o.RepeatAll
	if u.cookie {
		q.Seat = upstream.BackendID(u.seat[a.Session]) - 1
		q.SeatAge = e.now.Sub(tick.Time(u.issued[a.Session]) * 1e9)
	}
}

// turnedAway counts a request that failed before it came to an upstream.
func (e *Engine) turnedAway(a *ingest.Arrival) {
	ph := &e.phases[len(e.phases)-1]
	ph.failed++
	e.res.Failed++
	e.row().unanswered(0)
	e.timeline.last.failed++
	e.latencies.Add(&ph.elsewhere, 0)
	if !e.repeats(a) {
		e.over(a.Page, a.Client, false, leastPause)
	}
}

// finish gives a request's place back.
func (e *Engine) finish(i int32) {
	e.giveBack(i)
	r := &e.requests[i]
	if r.lost && !r.stream && e.scenario.Again > 0 && e.repeats(&e.asked[i]) {
		return
	}
	if r.who >= 0 || r.page > 0 {
		pause := time.Duration(0)
		if e.now == r.arrived {
			pause = leastPause
		}
		e.over(r.page, r.who, !r.lost, pause)
	}
}

// Drain simulates until no request is in flight and none is to come, or the clock stops.
func (e *Engine) Drain() {
	for (e.open > 0 || e.closed.remains() || len(e.again) > len(e.spare)) && e.ctx.Err() == nil {
		at := e.queue.At()
		if at == tick.Never || at >= e.stop {
			break
		}
		e.until(at)
		if e.o.Progress != nil && e.closed != nil && e.events&0xffff == 0 {
			e.o.Progress(0, e.res.Requests)
		}
	}
	if e.stop != tick.Never && e.open > 0 && e.ctx.Err() == nil {
		e.now = e.stop
	}
	e.res.Unfinished = e.open
	e.res.Partial = e.ctx.Err() != nil
}

// Attach sets where arrivals come from: their sequence, and the plan of this engine's own
// configuration and scenario. It must be called before Begin.
func (e *Engine) Attach(l *ingest.Sequence, p *ingest.Plan) {
	e.sequence, e.routes, e.refs, e.fronts, e.rated = l, make([]int64, len(p.Routes)), p.Routes, p.Fronts, p.Rated
}

// Follow begins at the first arrival of a reader and takes all in, until it ends, the clock
// stops or the context has ended.
func (e *Engine) Follow(blocks *ingest.Reader) {
	for block := blocks.Next(); block != nil; block = blocks.Next() {
		if !e.begun {
			e.Begin(block[0].At)
		}
		e.Arrive(block)
		if e.o.Progress != nil {
			e.o.Progress(blocks.Offset(), e.res.Requests)
		}
		if e.ctx.Err() != nil || e.now >= e.stop {
			return
		}
	}
}
