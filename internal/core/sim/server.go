package sim

import (
	"time"

	"kestrix/internal/core/config"
	"kestrix/internal/core/histogram"
	"kestrix/internal/core/queue"
	"kestrix/internal/core/rng"
	"kestrix/internal/core/scenario"
	"kestrix/internal/core/tick"
	"kestrix/internal/core/upstream"
)

// server is the model of a backend: workers that each serve one request at a
// time, and a backlog in front of them that is served in order.
type server struct {
	// What every request looks at stands together, in one cache line.
	busy    int32 // workers, those included that a request on its way is sure of
	coming  int32 // requests on their way that are not sure of a worker
	workers int32
	queued  int32 // of waiting
	open    int32 // attempts, of all proxies
	peak    int32 // the most of it
	came    int32 // attempts in the row of the timeline that is under way
	index   int32
	epoch   uint16 // goes up when the process dies; at most 64 faults end one
	draws   serviceKind
	steady  bool          // nothing changes how it answers, or how fast: no fault, cold start or sharing
	usual   bool          // its service times are drawn ahead
	connect time.Duration // until a new connection stands, a handshake included
	worked  tick.Time     // by all workers together
	under   uint64        // faults that strike it now, as bits

	latency histogram.Histogram // of attempts that it answered
	condition
	shared    *sharing  // nil: work takes as long however much of it is in progress
	coldUntil tick.Time // when it is as fast as before its process restarted
	restarted bool
	needs     []need // what it calls when it has done its own work
	up        *up
	id        upstream.BackendID
	waiting   []waiting
	head      int
	backlog   int32
	stuck     int32 // of busy: workers that hang
	behaves   scenario.Behaviour
	service   config.Distribution
	log       rng.LogNormal // of service, or of what stands in for the trace
	ofPaths   []pathService // the first of a request's set holds
	name      string        // UPSTREAM.BACKEND
	dials     int64         // new connections
	failed    int64
	lost      histogram.Histogram // of attempts that it did not answer, until they failed or their clients left
	left      int64               // attempts whose clients left
	outs      int                 // how many proxies have it out of rotation
	outTime   tick.Time           // of all proxies together
	lined     int64               // attempts that waited in the backlog
	linedFor  tick.Time           // how long, together
}

// condition is what faults do to a backend; several may overlap.
type condition struct {
	refuse, blackhole, hang, reset, probeFails, probeLies int // how many faults of the kind are on
	errors                                                []*scenario.Fault
	slow                                                  float64 // how many times as long work takes
}

// waiting is a place in the backlog. The service time is drawn on entering, so
// that a request that the proxy gave up can still keep a worker busy: a real
// backend does not notice that its client left.
type waiting struct {
	req   int32 // of a probe: -1 less the number of the view that sent it
	gen   uint32
	takes tick.Time
	paths scenario.PathSet // of the request
}

// probeWork is how long a worker takes for an http probe.
const probeWork = tick.Time(time.Millisecond)

// init makes a server of a behaviour, with what it says of some paths.
func (s *server) init(index int32, u *up, id upstream.BackendID, b scenario.Behaviour, ofPaths []scenario.PathService) {
	*s = server{
		index: index, up: u, id: id, name: u.cfg.Name + "." + u.views[0].core.Backend(id).Name,
		behaves: b, service: b.Service, workers: int32(b.Workers), backlog: int32(b.Backlog), connect: b.Connect,
	}
	s.slow, s.steady = 1, b.Cores == 0
	if u.cfg.TLS != nil {
		s.connect += b.Handshake
	}
	if b.Cores > 0 {
		s.shared = &sharing{Shared: queue.NewShared[waiting](b.Cores)}
	}
	s.draws, s.log = sourceOf(b.Service)
	for _, p := range ofPaths {
		x := pathService{set: p.Set, list: p.List, service: p.Service}
		x.draws, x.log = sourceOf(p.Service)
		s.ofPaths = append(s.ofPaths, x)
	}
}

// send has the core choose a backend and sends the attempt there, over again
// while it fails at once.
func (e *Engine) send(i int32) {
	for {
		r := &e.requests[i]
		w := e.viewOf(r)
		v := w.core.Choose(e.now+w.ahead, &r.q, &r.a)
		e.schedule(w) // a silence may have begun, or others been granted what they waited for
		if !e.place(i, v) {
			return
		}
	}
}

// granted is when a request has waited in the queue, and goes on or fails.
func (e *Engine) granted(w *view, g *upstream.Grant) {
	i := g.Request.Tag
	e.requests[i].a = g.Attempt
	if e.place(i, g.Verdict) {
		e.send(i)
	}
}

// place does what a verdict says; true asks for another.
func (e *Engine) place(i int32, v upstream.Verdict) bool {
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
	if v.Reason == upstream.Spilled {
		u.spilled++
	}
	if v.Seat != upstream.None {
		e.seated(u, r.session, v)
	}
	r.server, r.sent = index, false
	r.gen++
	e.came(s)
	if e.byPath != nil {
		e.byPath.came(r.q.ID, index)
	}
	r.under = s.under
	wait := u.connect
	dial := e.connect(w, s, r)
	from := e.now.Add(dial)
	switch {
	case s.busy+s.coming < s.workers && s.steady && !r.stream && dial <= wait && from < e.faultNext:
		// Whatever happens on the way, a worker will be free: those that are on
		// their way already have theirs, and no fault comes in between. So the
		// connection needs no event of its own.
		r.sent = true
		r.deadline = from.Add(e.refs[r.route].Waits.Answer)
		e.work(s, waiting{i, r.gen, e.takes(s, r), r.paths}, from)
	case s.refuse > 0:
		return e.ends(i, upstream.Outcome{Kind: upstream.ConnectRefused})
	case r.kept:
		e.sends(i, s)
	case s.blackhole > 0 || dial > wait:
		e.queue.Push(e.now.Add(wait), event{kind: failAfter, req: i, gen: r.gen})
	default:
		s.coming++
		e.queue.Push(from, event{kind: reach, server: s.index, req: i, gen: r.gen})
	}
	return false
}

// seated gives a session the seat that a verdict says.
func (e *Engine) seated(u *up, session uint32, v upstream.Verdict) {
	if v.Moved() {
		u.sessions.Moved += u.moved.add(session)
		e.res.Sessions.Moved += e.moved.add(session)
	}
	if u.cookie {
		u.seat[session] = int16(v.Seat) + 1
		u.issued[session] = uint32(e.now / 1e9)
	}
}

// came counts an attempt that comes to a server.
func (e *Engine) came(s *server) {
	if e.now >= e.timeline.end {
		e.row()
	}
	s.open++
	s.peak = max(s.peak, s.open)
	s.came++
}

func (e *Engine) observe(w *view, r *inFlight, v upstream.Verdict) {
	d := Decision{At: e.now, Request: r.q.ID, Attempt: int(r.a.Number), Upstream: w.up.cfg.Name, Reason: w.core.ReasonWord(v.Reason), Instance: w.instance}
	if v.Backend != upstream.None {
		d.Backend = w.core.Backend(v.Backend).Name
	}
	e.o.Observe(d)
}

// reached is when a connection stands: the request is sent.
func (e *Engine) reached(ev event) {
	i, s := ev.req, &e.servers[ev.server]
	s.coming--
	r := &e.requests[i]
	if r.gen != ev.gen || !r.open {
		return // its client has left
	}
	if s.refuse > 0 {
		e.settle(i, upstream.Outcome{Kind: upstream.ConnectRefused})
		return
	}
	e.sends(i, s)
}

// sends is when a request is sent on a connection that stands.
func (e *Engine) sends(i int32, s *server) {
	r := &e.requests[i]
	r.sent = true
	waits := &e.refs[r.route].Waits
	r.deadline = e.now.Add(waits.Answer)
	if s.hang > 0 || s.blackhole > 0 {
		e.late(i)
		return
	}
	if r.stream {
		e.streamBegins(i, waits)
		return
	}
	w := waiting{i, r.gen, e.takes(s, r), r.paths}
	if s.busy < s.workers {
		e.work(s, w, e.now)
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
func (e *Engine) late(i int32) {
	r := &e.requests[i]
	e.queue.Push(max(r.deadline, e.now), event{kind: answerLate, req: i, gen: r.gen})
}

// work gives a worker something to do from a moment on, now or soon.
func (e *Engine) work(s *server, w waiting, from tick.Time) {
	s.busy++
	takes := w.takes
	if !s.steady {
		takes = tick.Time(float64(takes) * s.slow * s.coldSlows(from))
		if s.shared != nil {
			e.share(s, waiting{w.req, w.gen, takes, w.paths})
			return
		}
	}
	until := from.Add(time.Duration(takes))
	s.worked += min(until, e.stop) - min(from, e.stop)
	if w.req >= 0 {
		if r := &e.requests[w.req]; r.gen == w.gen && until > r.deadline {
			e.late(w.req)
		}
	}
	e.queue.Push(until, event{kind: done | eventKind(s.epoch)<<kindBits | eventKind(w.paths)<<(kindBits+epochBits), server: s.index, req: w.req, gen: w.gen})
}

// workerDone is when a worker has done its work.
func (e *Engine) workerDone(ev event) {
	s := &e.servers[ev.server]
	if uint16(ev.kind>>kindBits) == s.epoch {
		e.workDone(s, ev.req, ev.gen, scenario.PathSet(ev.kind>>(kindBits+epochBits)))
	}
}

// workDone is when a worker has done its own work, for a request or a probe: it ends there unless
// it needs a dependency.
func (e *Engine) workDone(s *server, req int32, gen uint32, paths scenario.PathSet) {
	if s.needs != nil && e.callNext(s, 0, callOf{s.index, req, gen, s.epoch, paths}) {
		return
	}
	e.workOver(s, req, gen, 0)
}

// workOver ends the work of a worker. status is that of the answer where a dependency failed, 0
// where none did.
func (e *Engine) workOver(s *server, req int32, gen uint32, status int) {
	if !s.steady && s.hang > 0 {
		// It is stuck, and so is its worker. The proxy gives up at its
		// deadline.
		s.stuck++
		if req >= 0 {
			if r := &e.requests[req]; r.gen == gen && r.open {
				e.late(req)
			}
		}
		return
	}
	s.busy--
	e.next(s)
	if req < 0 {
		e.probeAnswered(e.views[-1-req], s, gen, status)
		return
	}
	r := &e.requests[req]
	if r.gen != gen || !r.open {
		return // the proxy gave up; the work was for nothing
	}
	if !s.steady && s.blackhole > 0 {
		e.late(req)
		return
	}
	o := s.answer(e, r)
	if status > 0 && o.Kind == upstream.Answered {
		o.Status = status
	}
	e.settle(req, o)
}

// next takes what waits longest.
func (e *Engine) next(s *server) {
	for s.busy < s.workers && s.queued > 0 {
		w := s.waiting[s.head]
		s.head++
		s.queued--
		if s.head == len(s.waiting) {
			s.waiting, s.head = s.waiting[:0], 0
		}
		if w.req >= 0 {
			if r := &e.requests[w.req]; r.gen == w.gen {
				s.lined++
				s.linedFor += e.now - r.deadline.Add(-e.refs[r.route].Waits.Answer)
			}
		}
		e.work(s, w, e.now)
	}
}

// answer is how a backend answers what it has worked on.
func (s *server) answer(e *Engine, r *inFlight) upstream.Outcome {
	status := 200
	if !s.steady {
		if s.reset > 0 {
			return upstream.Outcome{Kind: upstream.Reset, Final: !r.held}
		}
		if f := s.error(e.o.Seed, r.q.ID, int(r.a.Number), false); f != nil {
			status = f.Status
		}
	}
	if r.recorded > 0 {
		status = int(r.recorded)
	}
	return upstream.Outcome{Kind: upstream.Answered, Status: status}
}

// takes is how long a worker takes for an attempt: an error is answered sooner.
func (e *Engine) takes(s *server, r *inFlight) tick.Time {
	t := e.serviceTime(s, r)
	if !s.steady && s.reset == 0 {
		if f := s.error(e.o.Seed, r.q.ID, int(r.a.Number), false); f != nil {
			return tick.Time(f.Takes(time.Duration(t)))
		}
	}
	return t
}

// error returns the fault that has an attempt answered with its status, nil for none.
func (s *server) error(seed, id uint64, attempt int, probe bool) *scenario.Fault {
	for i, f := range s.errors {
		if probe && f.Of().Effect.LieProbe {
			continue
		}
		if rng.Unit(rng.Bits(seed, id, uint64(attempt)<<8|uint64(i), rng.Fault)) < f.Rate {
			return f
		}
	}
	return nil
}
