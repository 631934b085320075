package replay

import (
	"time"

	"kestrix/internal/core/config"
	"kestrix/internal/core/draw"
	"kestrix/internal/core/scenario"
	"kestrix/internal/core/tick"
	"kestrix/internal/core/upstream"
)

// server is the model of a backend: workers that each serve one request at a
// time, and a backlog in front of them that is served in order.
type server struct {
	// What every request looks at stands together, in one line of a cache.
	busy    int32 // workers, those included that a request on its way is sure of
	coming  int32 // what is on its way and not sure of a worker
	workers int32
	queued  int32 // of waiting
	open    int32 // attempts, of all proxies
	peak    int32 // the most of it
	came    int32 // attempts in the row of the timeline that is under way
	index   int32
	epoch   uint16 // goes up when the process dies; at most 64 faults end one
	draws   drawKind
	calm    bool      // no fault changes how it answers
	usual   bool      // its service times are drawn ahead
	plain   bool      // no fault strikes it, and connecting takes as long as with most
	worked  tick.Time // by all workers together
	_       [16]byte  // to a whole line

	latency gathered // of what it answered
	condition
	under    uint64 // faults that strike it now, as bits
	slow     float64
	connect  time.Duration
	up       *up
	id       upstream.BackendID
	waiting  []waiting
	head     int
	backlog  int32
	stuck    int32 // of busy: workers that hang
	service  config.Distribution
	fallback config.Distribution // where the trace names no duration
	log      draw.LogNormal      // of service, or of fallback
	name     string              // UPSTREAM.BACKEND
	failed   int64
	outs     int       // how many proxies have it out of rotation
	outTime  tick.Time // of all proxies together
	_        [40]byte  // to whole lines
}

// drawKind is where service times come from.
type drawKind uint8

const (
	fromTrace drawKind = iota // else lognormal
	fixed
	exponential
	lognormal
)

// condition is what faults do to a backend; several may overlap.
type condition struct {
	refuse, blackhole, hang, reset, probeFails, probeLies int // how many faults of the kind are on
	errors                                                []*scenario.Fault
}

// waiting is a place in the backlog. The service time is drawn on entering, so
// that a request that the proxy gave up can still keep a worker busy: a real
// backend does not notice that its client left.
type waiting struct {
	req   int32 // of a probe: -1 less the number of the view that sent it
	gen   uint32
	takes tick.Time
}

// unknownService is drawn from where neither scenario nor trace say how long a
// backend takes.
var unknownService = config.Distribution{Kind: "lognormal", Mean: 40 * time.Millisecond, CV: 0.6}

// probeWork is how long a worker takes for an http probe.
const probeWork = tick.Time(time.Millisecond)

// init makes a server of a behaviour.
func (s *server) init(index int32, u *up, id upstream.BackendID, b scenario.Behaviour) {
	*s = server{
		index: index, up: u, id: id, name: u.cfg.Name + "." + u.views[0].core.Backend(id).Name,
		service: b.Service, fallback: unknownService, workers: int32(b.Workers), backlog: int32(b.Backlog), connect: b.Connect,
	}
	s.slow, s.calm = 1, true
	s.draws = map[string]drawKind{"fixed": fixed, "exponential": exponential, "lognormal": lognormal}[b.Service.Kind]
	s.log = draw.NewLogNormal(float64(b.Service.Mean), b.Service.CV)
	if b.Service.Kind == "" || b.Service.Kind == "from_trace" {
		s.log = draw.NewLogNormal(float64(s.fallback.Mean), s.fallback.CV)
	}
}

// send has the core choose a backend and sends the attempt there, over again
// while it fails at once.
func (e *engine) send(i int32) {
	for {
		r := &e.requests[i]
		w := e.viewOf(r)
		v := w.core.Choose(e.now+w.ahead, &r.q, &r.a)
		if w.up.cfg.Queue != nil {
			e.schedule(w) // others may have been granted what they wait for
		}
		if !e.place(i, v) {
			return
		}
	}
}

// granted is when a request has waited in the queue, and goes on or fails.
func (e *engine) granted(w *view, g *upstream.Grant) {
	i := g.Request.Tag
	e.requests[i].a = g.Attempt
	if e.place(i, g.Verdict) {
		e.send(i)
	}
}

// place does what a verdict says; true asks for another.
func (e *engine) place(i int32, v upstream.Verdict) bool {
	r := &e.requests[i]
	w := e.viewOf(r)
	u := w.up
	if e.o.Observe != nil {
		e.observe(w, r, v)
	}
	switch v.Kind {
	case upstream.Refused:
		e.refused(i, v.Reason)
		return false
	case upstream.Queued:
		r.server, r.sent = -1, false
		return false
	}
	s := &u.servers[v.Backend]
	index := u.first + int32(v.Backend)
	if v.Seat != upstream.None {
		e.seated(u, r.session, v)
	}
	r.server, r.sent, r.under = index, false, 0
	r.gen++
	e.came(s)
	delay := e.delay
	if !s.plain {
		r.under, delay = s.under, s.connect
	}
	wait := u.cfg.Timeouts.Connect
	from := e.now.Add(delay)
	if s.busy+s.coming < s.workers && s.calm && !r.stream && delay <= wait && from < e.calmTill {
		// Whatever happens on the way, a worker will be free: those that are on
		// their way already have theirs, and no fault comes in between.
		r.sent = true
		r.deadline = from.Add(e.refs[r.route].waits.Answer)
		e.work(s, index, waiting{i, r.gen, e.serviceDraw(s, r.q.ID, r.a.Number, r.duration)}, from)
		return false
	}
	switch {
	case s.refuse > 0:
		return e.settleOnly(i, upstream.Outcome{Kind: upstream.ConnectRefused}) == upstream.Again
	case s.blackhole > 0 || delay > wait:
		e.heap.Push(e.now.Add(wait), event{kind: failAfter, req: i, gen: r.gen})
	case delay == e.delay:
		s.coming++
		e.connect.push(from, event{kind: reach, req: i, gen: r.gen})
	default:
		s.coming++
		e.heap.Push(from, event{kind: reach, req: i, gen: r.gen})
	}
	return false
}

// seated gives a session the seat that a verdict says.
func (e *engine) seated(u *up, session uint32, v upstream.Verdict) {
	if v.Moved {
		u.sessions.Moved++
	}
	if u.cookie {
		u.seat[session] = int16(v.Seat) + 1
		u.issued[session] = uint32(e.now / 1e9)
	}
}

// came counts an attempt that comes to a server.
func (e *engine) came(s *server) {
	if e.now >= e.timeline.end {
		e.row()
	}
	s.open++
	s.peak = max(s.peak, s.open)
	s.came++
}

func (e *engine) observe(w *view, r *request, v upstream.Verdict) {
	d := Decision{At: e.now, Request: r.q.ID, Attempt: int(r.a.Number), Upstream: w.up.cfg.Name, Reason: w.core.ReasonWord(v.Reason), Instance: w.instance}
	if v.Backend != upstream.None {
		d.Backend = w.core.Backend(v.Backend).Name
	}
	e.o.Observe(d)
}

// reached is when a connection stands: the request is sent.
func (e *engine) reached(i int32) {
	r := &e.requests[i]
	s := &e.servers[r.server]
	s.coming--
	if s.refuse > 0 {
		e.settle(i, upstream.Outcome{Kind: upstream.ConnectRefused})
		return
	}
	r.sent = true
	waits := &e.refs[r.route].waits
	r.deadline = e.now.Add(waits.Answer)
	if s.hang > 0 || s.blackhole > 0 {
		e.late(i)
		return
	}
	if r.stream {
		e.streamBegins(i, waits)
		return
	}
	w := waiting{i, r.gen, e.serviceDraw(s, r.q.ID, r.a.Number, r.duration)}
	if s.busy < s.workers {
		e.work(s, s.index, w, e.now)
		return
	}
	if s.queued >= s.backlog {
		e.settle(i, upstream.Outcome{Kind: upstream.ConnectRefused})
		return
	}
	s.push(w)
	e.late(i)
}

func (s *server) push(w waiting) {
	if s.head > 256 && s.head > len(s.waiting)/2 {
		n := copy(s.waiting, s.waiting[s.head:])
		s.waiting, s.head = s.waiting[:n], 0
	}
	s.waiting = append(s.waiting, w)
	s.queued++
}

// late has a request time out if it is not answered before.
func (e *engine) late(i int32) {
	r := &e.requests[i]
	e.heap.Push(max(r.deadline, e.now), event{kind: answerLate, req: i, gen: r.gen})
}

// work gives a worker something to do from a moment on, now or soon.
func (e *engine) work(s *server, index int32, w waiting, from tick.Time) {
	s.busy++
	takes := w.takes
	if !s.plain && s.slow != 1 {
		takes = tick.Time(float64(takes) * s.slow)
	}
	until := from.Add(time.Duration(takes))
	s.worked += min(until, e.stop) - min(from, e.stop)
	if w.req >= 0 {
		if r := &e.requests[w.req]; r.gen == w.gen && until > r.deadline {
			e.late(w.req)
		}
	}
	e.heap.Push(until, event{kind: done, server: index, req: w.req, gen: w.gen, epoch: s.epoch})
}

// workerDone is when a worker has done its work.
func (e *engine) workerDone(ev event) {
	s := &e.servers[ev.server]
	if ev.epoch != s.epoch {
		return
	}
	if !s.calm && s.hang > 0 {
		// It is stuck, and so is its worker. The proxy gives up at its
		// deadline.
		s.stuck++
		if ev.req >= 0 {
			if r := &e.requests[ev.req]; r.gen == ev.gen && r.open {
				e.late(ev.req)
			}
		}
		return
	}
	s.busy--
	e.next(s)
	if ev.req < 0 {
		e.probeAnswered(e.views[-1-ev.req], s, ev.gen)
		return
	}
	r := &e.requests[ev.req]
	if r.gen != ev.gen || !r.open {
		return // the proxy gave up; the work was for nothing
	}
	if !s.calm && s.blackhole > 0 {
		e.late(ev.req)
		return
	}
	if s.calm && r.recorded == 0 && r.a.Number == 1 {
		w := e.viewOf(r)
		if w.core.Done(e.now+w.ahead, r.a.Backend, r.a.Began) {
			e.answered(ev.req, r, ev.server, w.up)
			return
		}
	}
	e.settle(ev.req, s.answer(e, r))
}

// next takes what waits longest.
func (e *engine) next(s *server) {
	for s.busy < s.workers && s.queued > 0 {
		w := s.waiting[s.head]
		s.head++
		s.queued--
		if s.head == len(s.waiting) {
			s.waiting, s.head = s.waiting[:0], 0
		}
		e.work(s, s.index, w, e.now)
	}
}

// answer is how a backend answers what it has worked on.
func (s *server) answer(e *engine, r *request) upstream.Outcome {
	if s.reset > 0 {
		return upstream.Outcome{Kind: upstream.Reset, Passed: true}
	}
	status := 200
	if len(s.errors) > 0 {
		status = s.status(e.o.Seed, r.q.ID, int(r.a.Number), false)
	}
	if r.recorded > 0 {
		status = int(r.recorded)
	}
	return upstream.Outcome{Kind: upstream.Answered, Status: status}
}

// status is 200, unless a fault has it answer with errors.
func (s *server) status(seed, id uint64, attempt int, probe bool) int {
	for i, f := range s.errors {
		if probe && f.Kind == "probe-lies" {
			continue
		}
		if draw.Unit(draw.Bits(seed, id, uint64(attempt)<<8|uint64(i), draw.Fault)) < f.Rate {
			return f.Status
		}
	}
	return 200
}
