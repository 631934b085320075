// Package replay sends a trace through a configuration in virtual time: the
// decision core decides as it would for live traffic, and a model of backends
// answers, fails and comes back as the scenario says.
package replay

import (
	"context"
	"errors"
	"fmt"
	"time"

	"kestrix/internal/core/config"
	"kestrix/internal/core/draw"
	"kestrix/internal/core/limit"
	"kestrix/internal/core/queue"
	"kestrix/internal/core/scenario"
	"kestrix/internal/core/tick"
	"kestrix/internal/core/trace"
	"kestrix/internal/core/upstream"
)

// Options say how a trace is replayed.
type Options struct {
	Seed     uint64
	Spread   string        // "even" or "none": what becomes of stamps of whole seconds
	Window   time.Duration // within which records are put in order
	Frontend string        // which takes records that name none; needed where there are several
	Host     string        // the host of records that name none
	Read     trace.Options // how

	// Observe is told of each decision, nil for nobody.
	Observe func(Decision)
	// Progress is told from time to time how far reading has come: bytes of
	// the source under way, and requests so far. nil for nobody.
	Progress func(bytes, requests int64)
}

// Decision is one choice of the core.
type Decision struct {
	At       tick.Time
	Request  uint64 // from 0, in the order of arrival
	Attempt  int
	Upstream string
	Backend  string // empty if refused
	Reason   string
}

// DefaultWindow is within which records out of order are put right.
const DefaultWindow = 10 * time.Second

// lane holds what comes a fixed delay after it was begun: it is in order by
// itself and needs no heap.
type lane struct {
	items []laneItem
	head  int
}

type laneItem struct {
	at tick.Time
	ev event
}

func (l *lane) at() tick.Time {
	if l.head == len(l.items) {
		return tick.Never
	}
	return l.items[l.head].at
}

func (l *lane) push(at tick.Time, e event) {
	if l.head > 1024 && l.head > len(l.items)/2 {
		n := copy(l.items, l.items[l.head:])
		l.items, l.head = l.items[:n], 0
	}
	l.items = append(l.items, laneItem{at, e})
}

func (l *lane) pop() event {
	e := l.items[l.head].ev
	l.head++
	if l.head == len(l.items) {
		l.items, l.head = l.items[:0], 0
	}
	return e
}

// event is something that happens at a moment.
type event struct {
	req    int32 // position in engine.requests
	gen    uint32
	server int32 // position in engine.servers, or of an upstream or fault
	kind   eventKind
	epoch  uint16 // of the server, so that what a dead process would have done is void
}

type eventKind uint16

const (
	reach      eventKind = iota // a connection stands and the request is sent
	done                        // a worker is done
	failAfter                   // connecting took too long
	answerLate                  // the answer timeout
	streamEnd
	streamCut // the stream timeout
	coreDue   // the core has something due
	probeReach
	probeLate
	faultBegins
	faultEnds
)

// request is one under way.
type request struct {
	q        upstream.Request
	a        upstream.Attempt
	gen      uint32 // goes up with each attempt, so that what was meant for an earlier one is void
	session  uint32
	up       int32
	server   int32
	next     int32 // of the free list
	sent     bool  // the backend has it
	open     bool
	stream   bool
	arrived  tick.Time
	began    tick.Time // the attempt
	deadline tick.Time // of its answer
	duration int64     // from the trace
	route    int32     // position in engine.refs
	under    uint64    // faults its backend was under when it was begun
	met      uint64    // faults on which an attempt failed
}

type engine struct {
	ctx      context.Context
	o        Options
	cfg      *config.Config
	scenario *scenario.Scenario
	now      tick.Time
	zero     int64 // nanoseconds since the epoch of the replay's start
	heap     queue.Heap[event]
	connect  lane
	delay    time.Duration // the connect time that the lane serves
	ups      []*up
	servers  []*server
	faults   []*fault
	requests []request
	free     int32
	open     int64
	events   int64
	timeline *timeline
	openNow  []int32 // by server
	res      Result
	routes   []int64
	refs     []routeRef
	limits   limit.Set
	changes  []upstream.Change
	actions  []upstream.Action
	shaper   *draw.Shaper
}

// up is an upstream and what is counted of it.
type up struct {
	index                      int32
	cfg                        *config.Upstream
	core                       *upstream.Upstream
	scheduled                  tick.Time // of the coreDue event that is on its way
	servers                    []*server // by upstream.BackendID
	sticky                     bool
	cookie                     bool
	seat                       []int16  // by session, backend+1; cookies of clients
	issued                     []uint32 // by session, when its cookie was issued, in seconds
	holder                     []int16  // by session, backend+1; who holds the application's session
	sessions                   Sessions
	requests, answered, failed int64
	latency                    spread
}

// Run replays. The error is that of reading the trace, or says which option
// cannot be used; when ctx ends, the result of what was done comes with
// Partial set.
func Run(ctx context.Context, c *config.Config, s *scenario.Scenario, sources []Source, o Options) (*Result, error) {
	if o.Window == 0 {
		o.Window = DefaultWindow
	}
	if o.Spread == "" {
		o.Spread = "even"
	}
	f, err := newFeed(c, sources, o)
	if err != nil {
		return nil, err
	}
	e, err := newEngine(ctx, c, s, o)
	if err != nil {
		return nil, err
	}
	inner, stop := context.WithCancel(ctx)
	defer stop()
	finished := make(chan struct{})
	go func() {
		defer close(finished)
		f.run(inner)
	}()
	e.attach(f)
	started := false
	for batch := range f.out {
		if !started {
			started = true
			e.begin(batch[0].at)
		}
		for i := range batch {
			e.arrive(f, &batch[i])
		}
		if o.Progress != nil {
			o.Progress(f.read.Load(), e.res.Requests)
		}
		f.spare <- batch
		if ctx.Err() != nil {
			break
		}
	}
	stop()
	<-finished
	if f.err != nil && ctx.Err() == nil {
		return nil, f.err
	}
	if !started && ctx.Err() == nil {
		return nil, errors.New("the trace gave nothing to replay")
	}
	if started {
		e.drain()
	}
	return e.result(f), nil
}

func newEngine(ctx context.Context, c *config.Config, s *scenario.Scenario, o Options) (*engine, error) {
	e := &engine{ctx: ctx, o: o, cfg: c, scenario: s, free: -1, shaper: draw.NewShaper()}
	delays := map[time.Duration]int{}
	for i, uc := range c.Upstreams {
		if len(uc.Backends) > 30000 {
			return nil, fmt.Errorf("the upstream %q has %d backends; a replay takes up to 30,000", uc.Name, len(uc.Backends))
		}
		u := &up{index: int32(i), cfg: uc, core: upstream.New(0, uc, o.Seed), scheduled: tick.Never}
		u.sticky = uc.Sticky != nil
		u.cookie = u.sticky && uc.Sticky.By == "cookie"
		for range u.core.Slots() {
			u.servers = append(u.servers, nil)
		}
		for _, b := range uc.Backends {
			id, _ := u.core.Lookup(b.Name)
			sv := newServer(int32(len(e.servers)), u, id, s.Behaviour(uc.Name+"."+b.Name))
			e.servers = append(e.servers, sv)
			u.servers[id] = sv
			delays[sv.connect]++
		}
		e.ups = append(e.ups, u)
	}
	most := 0
	for d, n := range delays {
		if n > most || n == most && d < e.delay {
			e.delay, most = d, n
		}
	}
	e.openNow = make([]int32, len(e.servers))
	e.timeline = newTimeline(len(e.servers))
	e.prepareFaults()
	return e, nil
}

// begin starts virtual time at the first arrival.
func (e *engine) begin(at int64) {
	e.zero = at
	for i, f := range e.faults {
		e.heap.Push(tick.Time(f.cfg.At), event{kind: faultBegins, server: int32(i)})
	}
	for _, u := range e.ups {
		e.schedule(u)
	}
}

// schedule sees to it that the core is called when it has something due.
func (e *engine) schedule(u *up) {
	if at := u.core.Next(); at < u.scheduled {
		u.scheduled = at
		e.heap.Push(at, event{kind: coreDue, server: u.index})
	}
}

// until handles all that happens up to a moment.
func (e *engine) until(to tick.Time) {
	for {
		h, l := e.heap.At(), e.connect.at()
		at := min(h, l)
		if at > to || at == tick.Never {
			return
		}
		e.now = at
		if e.events++; e.events&0xffff == 0 && e.ctx.Err() != nil {
			return
		}
		if l <= h {
			e.handle(e.connect.pop())
		} else {
			_, ev := e.heap.Pop()
			e.handle(ev)
		}
	}
}

// arrive takes a request in.
func (e *engine) arrive(f *feed, a *arrival) {
	at := max(tick.Time(a.at-e.zero), e.now)
	e.until(at)
	if e.events&0xffff == 0 && e.ctx.Err() != nil {
		return // until has stopped half-way
	}
	e.now = at
	e.events++
	n := e.res.Requests
	e.res.Requests++
	front := f.fronts[a.front]
	if f.rated && e.limits.Front(at, front, a.limited) > 0 {
		e.res.Errors.RateLimited++
		e.fail(nil)
		return
	}
	if a.route < 0 {
		e.res.Errors.NoRoute++
		e.fail(nil)
		return
	}
	e.routes[a.route]++
	if f.rated && e.limits.Route(at, front, f.routes[a.route].cfg, a.limited) > 0 {
		e.res.Errors.RateLimited++
		e.fail(nil)
		return
	}
	if f.routes[a.route].upstream < 0 {
		// A redirect or reply takes no time worth telling and meets no backend.
		e.res.Answered++
		e.res.Replied++
		e.timeline.at(at, e.openNow).answered++
		return
	}
	u := e.ups[f.routes[a.route].upstream]
	u.requests++
	i := e.take()
	r := &e.requests[i]
	// Field by field: to make a whole one anew costs more, and gen goes on.
	r.q = upstream.Request{ID: uint64(n), Key: a.key, SeatKey: a.seatKey, Tag: i, Seat: upstream.None, Repeatable: a.repeat}
	r.a.Reset()
	r.session, r.up, r.server, r.route = a.session, u.index, 0, a.route
	r.sent, r.open, r.stream = false, true, a.stream
	r.arrived, r.began, r.deadline, r.duration = at, 0, 0, a.duration
	r.under, r.met = 0, 0
	u.see(a.session)
	if u.cookie {
		r.q.Seat = upstream.BackendID(u.seat[a.session]) - 1
		r.q.SeatAge = at.Sub(tick.Time(u.issued[a.session]) * 1e9)
	}
	e.open++
	e.send(i)
}

// see makes room for a session and counts a new one.
func (u *up) see(session uint32) {
	for int(session) >= len(u.holder) {
		u.holder = append(u.holder, make([]int16, max(1024, len(u.holder)))...)
		if u.cookie {
			u.seat = append(u.seat, make([]int16, len(u.holder)-len(u.seat))...)
			u.issued = append(u.issued, make([]uint32, len(u.holder)-len(u.issued))...)
		}
	}
	if u.holder[session] == 0 {
		u.holder[session] = -1 // seen, held by nobody yet
		u.sessions.Seen++
	}
}

// take gives a free place for a request.
func (e *engine) take() int32 {
	if e.free < 0 {
		e.requests = append(e.requests, request{next: -1})
		return int32(len(e.requests) - 1)
	}
	i := e.free
	e.free = e.requests[i].next
	return i
}

// finish gives a request's place back.
func (e *engine) finish(i int32) {
	r := &e.requests[i]
	r.open = false
	r.gen++
	r.next = e.free
	e.free = i
	e.open--
}

// drain goes on until nothing is open.
func (e *engine) drain() {
	for e.open > 0 && e.ctx.Err() == nil {
		at := min(e.heap.At(), e.connect.at())
		if at == tick.Never {
			break
		}
		e.until(at)
	}
	e.res.Unfinished = e.open
	e.res.Partial = e.ctx.Err() != nil
}

// handle does what an event says.
func (e *engine) handle(ev event) {
	switch ev.kind {
	case reach:
		if r := &e.requests[ev.req]; r.gen == ev.gen && r.open {
			e.reached(ev.req)
		}
	case done:
		e.workerDone(ev)
	case failAfter:
		if r := &e.requests[ev.req]; r.gen == ev.gen && r.open {
			e.settle(ev.req, upstream.Outcome{Kind: upstream.ConnectTimeout})
		}
	case answerLate:
		if r := &e.requests[ev.req]; r.gen == ev.gen && r.open {
			e.settle(ev.req, upstream.Outcome{Kind: upstream.AnswerTimeout})
		}
	case streamEnd, streamCut:
		if r := &e.requests[ev.req]; r.gen == ev.gen && r.open {
			o := upstream.Outcome{Kind: upstream.Answered, Status: 200, FirstByte: max(e.servers[r.server].connect, 1)}
			if ev.kind == streamCut {
				o = upstream.Outcome{Kind: upstream.CutOff, Passed: true}
			}
			e.settle(ev.req, o)
		}
	case coreDue:
		u := e.ups[ev.server]
		u.scheduled = tick.Never
		e.actions = u.core.Advance(e.now, e.actions[:0])
		for k := range e.actions {
			if a := &e.actions[k]; a.Kind == upstream.SendProbe {
				e.probe(u.servers[a.Probe])
			} else {
				e.granted(u, &a.Grant)
			}
		}
		e.note(u)
		e.schedule(u)
	case probeReach:
		e.probeReached(e.servers[ev.server], ev.gen)
	case probeLate:
		e.probeTooLate(e.servers[ev.server], ev.gen)
	case faultBegins:
		e.faultBegins(e.faults[ev.server])
	case faultEnds:
		e.faultEnds(e.faults[ev.server])
	}
}

// serviceDraw is how long a worker takes for a request.
func (e *engine) serviceDraw(s *server, r *request) tick.Time {
	switch s.service.Kind {
	case "", "from_trace":
		if r.duration >= 0 {
			return tick.Time(r.duration)
		}
	case "fixed":
		return tick.Time(s.service.Mean)
	}
	bits := draw.Bits(e.o.Seed, r.q.ID, uint64(r.a.Number), draw.Service)
	if s.service.Kind == "exponential" {
		return tick.Time(float64(s.service.Mean) * draw.Exponential(bits))
	}
	return tick.Time(s.log.Draw(e.shaper, bits))
}

// attach prepares for the routes that a feed knows.
func (e *engine) attach(f *feed) { e.routes, e.refs = make([]int64, len(f.routes)), f.routes }
