// Package upstream is the decision core: it puts balancing, stickiness, health
// and retries together. The replay drives it with virtual time and the live
// proxy with real time, so that what the one predicts is what the other does.
//
// It is pure and not safe for concurrent use: drivers lock per upstream and
// hand in a time that never goes back. It must never ask for the time, touch the
// world or keep what drivers hand in.
package upstream

import (
	"kestrix/internal/core/balance"
	"kestrix/internal/core/cause"
	"kestrix/internal/core/config"
	"kestrix/internal/core/health"
	"kestrix/internal/core/queue"
	"kestrix/internal/core/rng"
	"kestrix/internal/core/sticky"
	"kestrix/internal/core/tick"
)

// Upstream decides for one upstream.
type Upstream struct {
	cfg            *config.Upstream
	byLoad         bool // requests spill by what is in flight, see spill.go
	algorithm      *balance.Algorithm
	seed           uint64
	running        bool // backends are up from the beginning, see New
	place          stage
	members        []member
	byName         map[string]BackendID
	byHash         map[uint64]BackendID // by sticky.BackendHash
	groups         []group
	stale          bool           // the shares of groups are out of date
	ignoringHealth balance.Picker // knows nothing of health; nil unless when_all_down = "try-anyway"
	seats          *sticky.Table  // of clients to whom the proxy gives no cookie; nil otherwise
	eligible       int            // members that may be given requests, full ones included
	onTrial        int            // members that wait for a request on trial
	leaving        int            // members that are no longer configured and serve on
	query          balance.Query
	tokens         float64 // retries that the budget allows now

	due     queue.Heap[event]
	gen     uint32 // of due events; a reload makes older ones void
	unsent  []BackendID
	sent    int // first probes under way
	changes []Change
	now     tick.Time // of the last change, for slow start

	line      []waiter // the queue, from lineHead on
	lineHead  int      // the first that waits
	lineFirst uint64   // number of the first place of line
	waiting   int      // how many of line wait
	lineDue   bool     // the end of a wait is due
	grants    []Grant  // not handed out yet
}

// spareRetries is how many retries a budget allows at once.
const spareRetries = 10

type member struct {
	gone     bool // no longer configured; waits for what is in flight to end
	leaving  bool // no longer configured; serves until those that follow have been probed
	in       bool // it may be given requests, full or not
	full     bool // max_in_flight is reached
	trying   bool // a request on trial is under way
	probing  bool // a probe is under way
	first    bool // and it is its first, of which so many at a time are sent
	ramping  bool // slow start is under way
	hasShare bool // it reports a share of its weight
	inFlight int32
	most     int32 // max_in_flight; the largest number for no limit
	near     bool  // by load: spill_at of its room is in flight
	group    int32 // position in Upstream.groups
	weight   int
	share    float64
	room     float64   // by load: how many may be in flight now
	growsAt  tick.Time // when a lowered room grows; an event for another moment is void
	lowered  float64   // likewise: at most, since it refused an attempt; infinite if it did not
	health   health.Backend
	cfg      config.Backend
	probes   uint64    // how many have been sent, keys the jitter
	probedAt tick.Time // place of the last one, without jitter
	next     tick.Time // and of the next; an event for another is void
	rampFrom tick.Time // since when

	silentSince tick.Time // the first attempt since the last first byte; tick.Never for none
	silentCount int       // attempts begun since
	silenceDue  bool      // the end of a silence is due
}

// New returns the core of an upstream that is in the middle of operation: every
// backend is up. seed keys its random numbers and orders.
func New(now tick.Time, cfg *config.Upstream, seed uint64) *Upstream {
	return create(now, cfg, seed, true)
}

// NewUnprobed returns the core of an upstream that is just starting: backends with a
// probe are unprobed, unless the configuration has requests tried anyway.
func NewUnprobed(now tick.Time, cfg *config.Upstream, seed uint64) *Upstream {
	return create(now, cfg, seed, false)
}

func create(now tick.Time, cfg *config.Upstream, seed uint64, running bool) *Upstream {
	u := &Upstream{
		seed: rng.Bits(seed, sticky.BackendHash(cfg.Name, ""), 0, rng.Ordering), running: running,
		byName: map[string]BackendID{}, byHash: map[uint64]BackendID{}, tokens: spareRetries,
	}
	u.Reload(now, cfg)
	return u
}

// Config returns the configuration in force.
func (u *Upstream) Config() *config.Upstream { return u.cfg }

// Choose decides where an attempt goes. It is called once for each attempt of
// a request, the first and every retry. A request that is told to wait is
// decided later: Advance then returns a Granted action.
func (u *Upstream) Choose(now tick.Time, q *Request, a *Attempt) Verdict {
	if u.waiting > 0 {
		u.serve(now)
	}
	if n := int(a.Number); n > 0 && n <= len(a.tried) {
		a.tried[n-1] = int32(a.Backend)
	}
	a.Number++
	a.Backend, a.trial = None, false
	if a.Number == 1 && u.cfg.Retry != nil {
		u.tokens = min(u.tokens+u.cfg.Retry.Budget, spareRetries)
	}
	v := u.place(u, now, q, a)
	switch {
	case v.Kind == Go:
		u.begin(now, a, v.Backend)
	case v.Reason == NoRoom && u.cfg.Queue != nil:
		return u.enqueue(now, q, a)
	}
	return v
}

// begin counts an attempt that goes to a backend.
func (u *Upstream) begin(now tick.Time, a *Attempt, id BackendID) {
	m := &u.members[id]
	a.Backend, a.Began, a.ticket = id, now, 0
	if m.inFlight++; u.algorithm.Counts {
		u.picker(m).Begun(int(id))
		if u.byLoad {
			u.groups[m.group].roomy.Begun(int(id))
		}
		if u.ignoringHealth != nil {
			u.ignoringHealth.Begun(int(id))
		}
	}
	if u.byLoad {
		u.fill(id, m)
	} else if m.inFlight >= m.most {
		u.setFull(id, m, true)
	}
	switch {
	case a.trial:
		m.trying = true
		u.countTrials()
	case u.cfg.Suspend != nil:
		u.listen(now, id, m)
	}
}

// end counts its end.
func (u *Upstream) end(a *Attempt, e balance.End) *member {
	m := &u.members[a.Backend]
	if m.inFlight--; u.algorithm.Counts {
		u.picker(m).Ended(int(a.Backend), e)
		if u.byLoad {
			u.groups[m.group].roomy.Ended(int(a.Backend), e)
		}
		if u.ignoringHealth != nil {
			u.ignoringHealth.Ended(int(a.Backend), e)
		}
	}
	if u.byLoad {
		u.fill(a.Backend, m)
	} else if m.full && m.inFlight < m.most {
		u.setFull(a.Backend, m, false)
	}
	if a.trial {
		m.trying = false
		u.countTrials()
	}
	return m
}

// setFull notes that a backend has reached its max_in_flight, or has left it.
func (u *Upstream) setFull(id BackendID, m *member, full bool) {
	m.full = full
	if m.health.OnTrial() {
		u.countTrials() // a full one waits for no trial
	}
	if u.byLoad {
		u.groups[m.group].roomy.SetFull(int(id), full)
	} else {
		u.picker(m).SetFull(int(id), full)
	}
	if u.ignoringHealth != nil {
		u.ignoringHealth.SetFull(int(id), full)
	}
}

// Settle takes the end of an attempt, judges the backend by it, and returns
// whether the request is tried again.
func (u *Upstream) Settle(now tick.Time, q *Request, a *Attempt, o Outcome) Step {
	if u.byLoad && refusal(o) {
		u.refused(now, a.Backend, &u.members[a.Backend])
	}
	m := u.end(a, ending(now, a, o))
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

// ending is what an outcome shows of how long a backend takes.
func ending(now tick.Time, a *Attempt, o Outcome) balance.End {
	e := balance.End{At: now, Took: now.Sub(a.Began), How: balance.Failed}
	if o.FirstByte > 0 {
		e.Took = o.FirstByte
	}
	switch o.Kind {
	case Answered:
		if o.Cause() == cause.None {
			e.How = balance.Answered
		}
	case CutOff, IdleCut, TakenOut:
		e.How = balance.Untimed
	case ClientLeft:
		e.How = balance.Abandoned
	}
	return e
}

// Repeats reports whether Settle would have an attempt that ends like this tried
// again. A driver asks when it has the head of an answer and must know whether
// to pass it on.
func (u *Upstream) Repeats(q *Request, a *Attempt, o Outcome) bool {
	r := u.cfg.Retry
	if r == nil || !counts(r.On, o) || int(a.Number) >= r.Attempts || a.Number >= maxAttempts || o.Final {
		return false
	}
	if r.Budget > 0 && u.tokens < 1-1e-9 { // ten tenths may sum to a little less than 1
		return false
	}
	connecting := o.Kind == ConnectRefused || o.Kind == ConnectTimeout
	return connecting || q.Repeatable || rpcIn(r.On, o) // which says what no method does: every call is POST
}

// RetryBudget returns how many retries the budget allows now; ok is false without a budget.
func (u *Upstream) RetryBudget() (retries float64, ok bool) {
	if u.cfg.Retry == nil || u.cfg.Retry.Budget == 0 {
		return 0, false
	}
	return u.tokens, true
}

// Cancel ends an attempt that shows nothing of the backend, be it under way or in the
// queue: the client's own request was at fault, or it left the queue.
func (u *Upstream) Cancel(now tick.Time, a *Attempt) {
	if w := u.waiterOf(a.ticket); w != nil {
		u.leave(w)
	} else if a.Backend != None {
		u.end(a, balance.End{At: now, How: balance.Untimed})
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

// counts reports whether an outcome is in a set of failures.
func counts(set *config.FailureSet, o Outcome) bool {
	switch o.Kind {
	case Answered:
		return o.Status >= 0 && o.Status < len(set.Status) && set.Status[o.Status] || rpcIn(set, o)
	case ConnectRefused, ConnectTimeout:
		return set.Connect
	case AnswerTimeout:
		return set.Timeout
	case Reset:
		return set.Reset
	}
	return false
}

// rpcIn reports whether a call of gRPC ended with a status that is in a set of failures.
func rpcIn(set *config.FailureSet, o Outcome) bool {
	return o.Kind == Answered && o.RPC > 0 && o.RPC < len(set.RPC) && set.RPC[o.RPC]
}
