// Package upstream is the decision core: it puts balancing, stickiness, health
// and retries together. The replay drives it with virtual time and the live
// proxy with real time, so that what the one foretells is what the other does.
//
// It is pure and not safe for concurrent use: drivers lock per upstream and
// hand in a time that never goes back.
package upstream

import (
	"math"
	"time"

	"kestrix/internal/core/balance"
	"kestrix/internal/core/config"
	"kestrix/internal/core/draw"
	"kestrix/internal/core/health"
	"kestrix/internal/core/queue"
	"kestrix/internal/core/sticky"
	"kestrix/internal/core/tick"
)

// Upstream decides for one upstream.
type Upstream struct {
	cfg     *config.Upstream
	seed    uint64
	members []member
	open    []int32 // requests in flight, by member
	most    []int32 // max_in_flight, by member; the largest number for no limit
	byName  map[string]BackendID
	byHash  map[uint64]BackendID // by sticky.BackendHash
	groups  []group
	stale   bool           // the shares of groups are to be worked out anew
	single  balance.Picker // that of the only group; nil if there are several
	anyway  balance.Picker // knows nothing of health; nil unless when_all_down = "try-anyway"
	seats   *sticky.Table  // of clients whom the proxy gives no cookie; nil otherwise
	full    []bool
	ins     int // how many may be given requests, be they full or not
	due     queue.Heap[event]
	changes []Change
	gen     uint32 // of due events; a reload makes older ones void
	query   balance.Query
	now     tick.Time     // of the last call that changed something, for slow start
	quick   bool          // nothing follows from a good answer
	plain   bool          // neither sticky nor several groups: the algorithm decides alone
	limited bool          // some backend has max_in_flight
	draws   bool          // the algorithm makes use of random draws
	counts  bool          // it goes by what is open
	times   bool          // it goes by how long requests take
	timer   balance.Timer // the algorithm, if it does and decides alone
	judges  bool          // failures of real traffic are counted
	budget  float64       // of retries, for each request; 0 for no limit
	tokens  float64       // retries that it allows now

	line      []waiter // the queue; its first waits
	lineFirst uint64   // number of the first place of line
	waiting   int      // how many of line wait
	grants    []Grant  // not handed out yet
	grantedAt tick.Time
}

// spareRetries is how many retries a budget allows at once.
const spareRetries = 10

type member struct {
	gone     bool // no longer configured; waits for what is open to end
	weight   int
	health   health.Backend
	cfg      config.Backend
	in       bool // it may be given requests, be it full or not
	probing  bool
	probes   uint64    // how many have been sent, keys the jitter
	probedAt tick.Time // place of the last one, without jitter
	next     tick.Time // and of the next; an event for another is void
	ramping  bool      // slow start is under way
	rampFrom tick.Time // since when
	group    int32     // position in Upstream.groups
	hasShare bool      // it reports a share of its weight
	share    float64
}

type event struct {
	slot BackendID
	kind eventKind
	gen  uint32
	at   tick.Time // of a probe: its place without jitter; of a waiter: its ticket
}

type eventKind uint8

const (
	probeDue eventKind = iota
	restOver
	rampStep
	waitOver
)

// New makes the core of an upstream. seed keys its draws and orders.
func New(now tick.Time, cfg *config.Upstream, seed uint64) *Upstream {
	u := &Upstream{seed: draw.Bits(seed, hashName(cfg.Name), 0, draw.Ordering), byName: map[string]BackendID{}, byHash: map[uint64]BackendID{}, tokens: spareRetries}
	u.Reload(now, cfg)
	return u
}

func hashName(s string) uint64 { return sticky.BackendHash(s, "") }

// Config gives the configuration in force.
func (u *Upstream) Config() *config.Upstream { return u.cfg }

func (u *Upstream) enterAll() {
	for i := range u.members {
		u.enter(BackendID(i))
		u.room(BackendID(i))
	}
}

// freeSlot gives the slot of a backend that is gone and has nothing open, or a
// new one.
func (u *Upstream) freeSlot() BackendID {
	for i := range u.members {
		if u.members[i].gone && u.open[i] == 0 {
			return BackendID(i)
		}
	}
	u.members, u.open, u.most = append(u.members, member{}), append(u.open, 0), append(u.most, math.MaxInt32)
	return BackendID(len(u.members) - 1)
}

// enter tells the picker what a backend's weight is now.
func (u *Upstream) enter(id BackendID) {
	m := &u.members[id]
	weight := 0.0
	if !m.gone && m.health.Eligible() {
		weight = u.weight(m)
	}
	u.stale = true
	if in := weight > 0; in != m.in {
		if m.in = in; in {
			u.ins++
		} else {
			u.ins--
		}
	}
	u.picksFrom(id).Set(int(id), m.cfg.Name, weight)
	if u.anyway != nil {
		weight = 0
		if m.operatorIn() {
			weight = float64(m.weight)
		}
		u.anyway.Set(int(id), m.cfg.Name, weight)
	}
}

// room notes whether a backend may take one more.
func (u *Upstream) room(id BackendID) {
	full := u.open[id] >= u.most[id]
	if full != u.full[id] {
		u.full[id] = full
		u.picksFrom(id).Room(int(id), !full)
		if u.anyway != nil {
			u.anyway.Room(int(id), !full)
		}
	}
}

// First is Choose for the first attempt of a request, by its ID and Key, where the
// algorithm decides alone and finds a backend, as nearly always. None, with nothing
// done, says that it is Choose's.
func (u *Upstream) First(now tick.Time, id, key uint64) BackendID {
	if !u.plain || u.waiting > 0 {
		return None
	}
	u.query.Key, u.query.Now, u.query.Tried = key, now, nil
	if u.draws {
		u.query.Draw = draw.Bits(u.seed, id, 1, draw.Pick)
	}
	slot := u.single.Pick(&u.query)
	if slot < 0 {
		return None
	}
	if u.budget > 0 {
		u.tokens = min(u.tokens+u.budget, spareRetries)
	}
	u.open[slot]++
	if u.counts {
		u.single.Begun(slot)
	}
	if u.limited && u.open[slot] == u.most[slot] {
		u.full[slot] = true // as room does
		u.single.Room(slot, false)
	}
	return BackendID(slot)
}

// Fetcher gives the algorithm if what its choices look at should be fetched ahead, nil
// if not.
func (u *Upstream) Fetcher() balance.Fetcher {
	if f, ok := u.single.(balance.Fetcher); ok && f.Far() {
		return f
	}
	return nil
}

// Choose decides where an attempt goes. It is called once for each attempt of
// a request, the first and every retry. A request that is told to wait is
// decided later: Advance then gives a Granted action.
func (u *Upstream) Choose(now tick.Time, q *Request, a *Attempt) Verdict {
	if a.Number == 0 {
		if id := u.First(now, q.ID, q.Key); id != None {
			a.Number, a.Backend, a.Began, a.ticket = 1, id, now, 0
			return Verdict{Kind: Go, Backend: id, Reason: ByAlgorithm, Seat: None}
		}
	}
	if u.waiting > 0 {
		u.serve(now)
	}
	if n := a.Number; n > 0 && int(n) <= len(a.tried) {
		a.tried[n-1] = int32(a.Backend)
	}
	a.Number++
	a.Backend = None
	if u.budget > 0 && a.Number == 1 {
		u.tokens = min(u.tokens+u.budget, spareRetries)
	}
	v := u.decide(now, q, a)
	if v.Kind == Refused && v.Reason == NoRoom && u.cfg.Queue != nil {
		return u.enqueue(now, q, a)
	}
	return v
}

// decide is Choose without the queue.
func (u *Upstream) decide(now tick.Time, q *Request, a *Attempt) Verdict {
	s := u.cfg.Sticky
	if s == nil || u.seats != nil && q.SeatKey == 0 {
		id, why := u.pick(now, q, a)
		if id == None {
			return Verdict{Kind: Refused, Backend: None, Reason: why, Seat: None}
		}
		reason := why
		if a.Number > 1 && (why == ByAlgorithm || why == Spilled) {
			reason = AfterFailure
		}
		return u.begin(now, a, Verdict{Kind: Go, Backend: id, Reason: reason, Seat: None})
	}
	return u.chooseSticky(now, q, a, s)
}

func (u *Upstream) chooseSticky(now tick.Time, q *Request, a *Attempt, s *config.Sticky) Verdict {
	seat := q.Seat
	if u.seats != nil {
		seat = BackendID(u.seats.Get(now, q.SeatKey, s.TTL))
	}
	if seat < 0 || int(seat) >= len(u.members) || u.members[seat].gone || u.seats == nil && q.SeatAge > s.TTL {
		seat = None
	}
	reason := ByAlgorithm
	first := a.Number == 1
	switch {
	case !first:
		reason = AfterFailure
	case seat == None:
		a.open = true
	case u.members[seat].health.Holds() && !u.full[seat]:
		v := Verdict{Kind: Go, Backend: seat, Reason: KeptSeat, Seat: None}
		if u.seats == nil && q.SeatAge > s.TTL/4 {
			v.Seat = seat // the cookie is renewed while its client keeps coming
		}
		return u.begin(now, a, v)
	case s.OnLoss == "refuse":
		return Verdict{Kind: Refused, Backend: None, Reason: RefusedByLoss, Seat: None}
	case u.members[seat].health.Holds():
		reason = SeatFull
	default:
		reason, a.open = LostSeat, true
	}
	id, why := u.pick(now, q, a)
	if id == None {
		return Verdict{Kind: Refused, Backend: None, Reason: why, Seat: None}
	}
	if why == Spilled && reason == ByAlgorithm {
		reason = Spilled
	}
	if why == TriedAnyway {
		reason, a.open = why, false // an emergency settles nobody's seat
	}
	v := Verdict{Kind: Go, Backend: id, Reason: reason, Seat: None}
	if a.open {
		v.Seat, v.Moved = id, seat != None && first
		if u.seats != nil {
			u.seats.Put(now, q.SeatKey, int32(id))
		}
	}
	return u.begin(now, a, v)
}

// pick asks the algorithm, leaving out what was tried unless nothing else is
// there.
func (u *Upstream) pick(now tick.Time, q *Request, a *Attempt) (BackendID, Reason) {
	u.query.Key, u.query.Now, u.query.Tried = q.Key, now, nil
	if u.draws {
		u.query.Draw = draw.Bits(u.seed, q.ID, uint64(a.Number), draw.Pick)
	}
	tried := a.tried[:a.Tried()]
	u.query.Tried = tried
	first := 0
	if u.single == nil {
		first = u.first(q, int(a.Number))
	} else if len(tried) == 0 {
		if slot := u.single.Pick(&u.query); slot >= 0 {
			return BackendID(slot), ByAlgorithm
		}
	}
	id, from := u.among(first)
	if id == None && len(tried) > 0 {
		u.query.Tried = nil
		id, from = u.among(first)
	}
	if id != None {
		if from > 0 {
			return id, Spilled
		}
		return id, ByAlgorithm
	}
	if u.anyway != nil && u.ins == 0 {
		u.query.Tried = tried
		slot := u.anyway.Pick(&u.query)
		if slot < 0 && len(tried) > 0 {
			u.query.Tried = nil
			slot = u.anyway.Pick(&u.query)
		}
		if slot >= 0 {
			return BackendID(slot), TriedAnyway
		}
	}
	if u.ins > 0 {
		return None, NoRoom
	}
	return None, NoBackend
}

func (u *Upstream) begin(now tick.Time, a *Attempt, v Verdict) Verdict {
	a.Backend, a.Began, a.ticket = v.Backend, now, 0
	u.open[v.Backend]++
	u.picksFrom(v.Backend).Begun(int(v.Backend))
	if u.anyway != nil {
		u.anyway.Begun(int(v.Backend))
	}
	if u.members[v.Backend].cfg.MaxInFlight > 0 {
		u.room(v.Backend)
	}
	return v
}

func (u *Upstream) end(a *Attempt) *member {
	m := &u.members[a.Backend]
	u.open[a.Backend]--
	u.picksFrom(a.Backend).Ended(int(a.Backend))
	if u.anyway != nil {
		u.anyway.Ended(int(a.Backend))
	}
	if m.cfg.MaxInFlight > 0 || u.full[a.Backend] {
		u.room(a.Backend)
	}
	return m
}

// Settle takes the end of an attempt, judges the backend by it, and says
// whether the request is tried again.
func (u *Upstream) Settle(now tick.Time, q *Request, a *Attempt, o Outcome) Step {
	if o.Kind == Answered && o.Status < 400 && o.FirstByte == 0 && u.Done(now, a.Backend, a.Began) {
		return Finished
	}
	m := u.end(a)
	if u.times {
		u.took(now, a, o)
	}
	if u.cfg.Suspend != nil && !m.gone {
		u.judge(now, a, m, o)
	}
	step := Finished
	if u.Repeats(q, a, o) {
		step = Again
		if u.cfg.Retry.Budget > 0 {
			u.tokens--
		}
	}
	if u.waiting > 0 {
		u.serve(now)
	}
	return step
}

// Done is Settle for an attempt that was answered with a status below 400, as
// nearly all are, all at once, where nothing follows from that; false, with nothing
// done, if it is Settle's.
func (u *Upstream) Done(now tick.Time, id BackendID, began tick.Time) bool {
	if !u.quick || u.judges && u.members[id].health.Failures() > 0 {
		return false
	}
	u.open[id]--
	if u.timer != nil {
		u.timer.Answered(int(id), now, now.Sub(began))
	} else if u.counts {
		u.single.Ended(int(id))
	}
	if u.limited && u.full[id] && u.open[id] < u.most[id] {
		u.full[id] = false // as room does
		u.single.Room(int(id), true)
	}
	return true
}

// Repeats says whether Settle would have an attempt that ends like this tried
// again. A driver asks when it has the head of an answer and must know whether
// to pass it on.
func (u *Upstream) Repeats(q *Request, a *Attempt, o Outcome) bool {
	if o.Kind == Answered && o.Status < 400 {
		return false
	}
	r := u.cfg.Retry
	if r == nil || int(a.Number) >= r.Attempts || a.Number >= maxAttempts || o.NoRetry || o.Passed || !counts(r.On, o) {
		return false
	}
	if r.Budget > 0 && u.tokens < 1 {
		return false
	}
	connecting := o.Kind == ConnectRefused || o.Kind == ConnectTimeout
	return connecting || q.Repeatable
}

// Cancel takes an attempt whose client left, be it under way or in the queue.
func (u *Upstream) Cancel(now tick.Time, a *Attempt) {
	if w := u.waiterOf(a.ticket); w != nil {
		u.leave(w)
	} else if a.Backend != None {
		u.end(a)
	}
	if u.waiting > 0 {
		u.serve(now)
	}
}

// Learn notes that a client, known by a cookie that its application has just
// set, has its seat on a backend.
func (u *Upstream) Learn(now tick.Time, seatKey uint64, id BackendID) {
	if u.seats != nil && seatKey != 0 {
		u.seats.Put(now, seatKey, int32(id))
	}
}

func waitsStill(cfg *config.Upstream) time.Duration {
	if cfg.Queue == nil {
		return 0 // nobody is to wait any more
	}
	return cfg.Queue.Timeout
}

// counts says whether an outcome is in a set of failures.
func counts(set *config.FailureSet, o Outcome) bool {
	switch o.Kind {
	case Answered:
		return o.Status >= 0 && o.Status < len(set.Status) && set.Status[o.Status]
	case ConnectRefused, ConnectTimeout:
		return set.Connect
	case AnswerTimeout:
		return set.Timeout
	case Reset:
		return set.Reset
	}
	return false
}
