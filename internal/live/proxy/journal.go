package proxy

import (
	"fmt"
	"strings"
	"time"

	"kestrix/internal/core/config"
	"kestrix/internal/core/tick"
	"kestrix/internal/core/upstream"
)

// Entry is one thing that the core of an upstream was told, and what it said. In
// the order in which they were made entries can be told again, see Retell: that
// is how one sees that the proxy decides nothing by itself.
type Entry struct {
	Upstream  string
	At        tick.Time
	Call      string // new, reload, choose, begins, settle, repeats, cancel, probe, operate, advance or learn
	Said      string // the core's answer, in words that are compared
	Config    *config.Upstream
	Request   upstream.Request
	Outcome   upstream.Outcome
	Backend   upstream.BackendID
	Probe     upstream.Probe
	Operation upstream.Operation
	Weight    int
	SeatKey   uint64
}

// decider is the core of an upstream, with a journal of what it is told. It is
// guarded by its pool.
type decider struct {
	*upstream.Upstream
	name    string
	journal func(Entry) // nil: none
}

func newDecider(now tick.Time, cfg *config.Upstream, seed uint64, journal func(Entry)) *decider {
	d := &decider{upstream.NewUnprobed(now, cfg, seed), cfg.Name, journal}
	d.note(Entry{Call: "new", At: now, Config: cfg})
	return d
}

func (d *decider) note(e Entry) {
	if d.journal != nil {
		e.Upstream = d.name
		d.journal(e)
	}
}

func (d *decider) Reload(now tick.Time, cfg *config.Upstream) {
	d.Upstream.Reload(now, cfg)
	d.note(Entry{Call: "reload", At: now, Config: cfg})
}

func (d *decider) Choose(now tick.Time, q *upstream.Request, a *upstream.Attempt) upstream.Verdict {
	v := d.Upstream.Choose(now, q, a)
	if d.journal != nil {
		d.note(Entry{Call: "choose", At: now, Request: *q, Said: fmt.Sprint(v)})
	}
	return v
}

func (d *decider) Settle(now tick.Time, q *upstream.Request, a *upstream.Attempt, o upstream.Outcome) upstream.Step {
	s := d.Upstream.Settle(now, q, a, o)
	if d.journal != nil {
		d.note(Entry{Call: "settle", At: now, Request: *q, Outcome: o, Said: fmt.Sprint(s)})
	}
	return s
}

func (d *decider) Repeats(now tick.Time, q *upstream.Request, a *upstream.Attempt, o upstream.Outcome) bool {
	yes := d.Upstream.Repeats(q, a, o)
	if d.journal != nil {
		d.note(Entry{Call: "repeats", At: now, Request: *q, Outcome: o, Said: fmt.Sprint(yes)})
	}
	return yes
}

func (d *decider) FirstByte(now tick.Time, q *upstream.Request, a *upstream.Attempt) {
	d.Upstream.FirstByte(a)
	if d.journal != nil {
		d.note(Entry{Call: "begins", At: now, Request: *q})
	}
}

func (d *decider) Cancel(now tick.Time, q *upstream.Request, a *upstream.Attempt) {
	d.Upstream.Cancel(now, a)
	if d.journal != nil {
		d.note(Entry{Call: "cancel", At: now, Request: *q})
	}
}

func (d *decider) ProbeSeen(now tick.Time, id upstream.BackendID, p upstream.Probe) {
	d.Upstream.ProbeSeen(now, id, p)
	d.note(Entry{Call: "probe", At: now, Backend: id, Probe: p})
}

func (d *decider) Operate(now tick.Time, id upstream.BackendID, op upstream.Operation, weight int) {
	d.Upstream.Operate(now, id, op, weight)
	d.note(Entry{Call: "operate", At: now, Backend: id, Operation: op, Weight: weight})
}

func (d *decider) Learn(now tick.Time, seatKey uint64, id upstream.BackendID) {
	d.Upstream.Learn(now, seatKey, id)
	d.note(Entry{Call: "learn", At: now, SeatKey: seatKey, Backend: id})
}

func (d *decider) Advance(now tick.Time, actions []upstream.Action) []upstream.Action {
	before := len(actions)
	actions = d.Upstream.Advance(now, actions)
	if d.journal != nil {
		d.note(Entry{Call: "advance", At: now, Said: actionWords(actions[before:])})
	}
	return actions
}

func actionWords(actions []upstream.Action) string {
	var b strings.Builder
	for _, a := range actions {
		if a.Kind == upstream.Granted {
			fmt.Fprintf(&b, "granted %d %v ", a.Grant.Request.ID, a.Grant.Verdict)
		} else {
			fmt.Fprintf(&b, "probe %d ", a.Probe)
		}
	}
	return b.String()
}

// Retell tells a journal to fresh cores, made with the same seed. The error says
// where one says something else than it did.
func Retell(entries []Entry, seed uint64) error { return retell(entries, seed, nil) }

// retell is Retell, with somebody who is shown each core before it is told
// something, and what it then says; nil for nobody.
func retell(entries []Entry, seed uint64, watch func(e *Entry, core *upstream.Upstream) (then func(upstream.Verdict, upstream.Step, []upstream.Action))) (err error) {
	cores := map[string]*decider{}
	attempts := map[uint64]*upstream.Attempt{} // by request
	i := 0
	defer func() {
		// The core takes what the proxy tells it on trust; a journal that was
		// tampered with may tell it anything.
		if x := recover(); x != nil {
			err = fmt.Errorf("entry %d, %s: the core cannot have been told this", i+1, entries[i].Call)
		}
	}()
	for ; i < len(entries); i++ {
		e := &entries[i]
		d, a, said := cores[e.Upstream], attempts[e.Request.ID], ""
		if d == nil && e.Call != "new" {
			return fmt.Errorf("entry %d: %s of an upstream that was not made", i+1, e.Call)
		}
		if a == nil {
			a = &upstream.Attempt{}
			attempts[e.Request.ID] = a
		}
		if e.Call != "new" && (e.Backend < 0 || int(e.Backend) >= d.Slots()) || !e.Outcome.Kind.Known() {
			return fmt.Errorf("entry %d: %s of a backend or outcome that there is not", i+1, e.Call)
		}
		then := func(upstream.Verdict, upstream.Step, []upstream.Action) {}
		if watch != nil && d != nil {
			if f := watch(e, d.Upstream); f != nil {
				then = f
			}
		}
		if e.Call == "new" {
			cores[e.Upstream] = newDecider(e.At, e.Config, seed, nil)
		} else if said, err = d.told(e, a, attempts, then); err != nil {
			return fmt.Errorf("entry %d: %w", i+1, err)
		}
		if said != e.Said {
			return fmt.Errorf("entry %d, %s at %d: the core says %q where it said %q", i+1, e.Call, e.At, said, e.Said)
		}
	}
	return nil
}

// told tells a core what it was told in an entry, and returns in words what it says.
// then is shown what that was; attempts are those under way, by request.
func (d *decider) told(e *Entry, a *upstream.Attempt, attempts map[uint64]*upstream.Attempt, then func(upstream.Verdict, upstream.Step, []upstream.Action)) (said string, err error) {
	switch e.Call {
	case "reload":
		d.Reload(e.At, e.Config)
	case "choose":
		v := d.Choose(e.At, &e.Request, a)
		said = fmt.Sprint(v)
		then(v, 0, nil)
	case "settle":
		s := d.Settle(e.At, &e.Request, a, e.Outcome)
		said = fmt.Sprint(s)
		then(upstream.Verdict{}, s, nil)
	case "repeats":
		said = fmt.Sprint(d.Repeats(e.At, &e.Request, a, e.Outcome))
	case "begins":
		d.FirstByte(e.At, &e.Request, a)
	case "cancel":
		d.Cancel(e.At, &e.Request, a)
		then(upstream.Verdict{}, 0, nil)
	case "probe":
		d.ProbeSeen(e.At, e.Backend, e.Probe)
	case "operate":
		d.Operate(e.At, e.Backend, e.Operation, e.Weight)
	case "learn":
		d.Learn(e.At, e.SeatKey, e.Backend)
	case "advance":
		actions := d.Advance(e.At, nil)
		said = actionWords(actions)
		for _, x := range actions {
			if x.Kind == upstream.Granted {
				if waits := attempts[x.Grant.Request.ID]; waits != nil {
					*waits = x.Grant.Attempt
				}
			}
		}
		then(upstream.Verdict{}, 0, actions)
	default:
		return "", fmt.Errorf("there is no call %q", e.Call)
	}
	return said, nil
}

// Moment is one thing that the core decided of a request, with how the backends
// stood when it did.
type Moment struct {
	At       time.Time `json:"at"`
	Upstream string    `json:"upstream"`
	Call     string    `json:"call"` // choose, settle, repeats, cancel or granted
	Attempt  int       `json:"attempt"`
	Backend  string    `json:"backend"`            // of a choose: who was given it, empty for nobody
	Reason   string    `json:"reason"`             // of a choose: why
	Outcome  string    `json:"outcome,omitempty"`  // of a settle: how the attempt ended
	Again    bool      `json:"again,omitempty"`    // of a settle: it is tried once more
	Backends []Stood   `json:"backends,omitempty"` // of a choose: how each stood
}

// Stood is how a backend stood when a request was given to one.
type Stood struct {
	Name     string `json:"name"`
	State    string `json:"state"`
	Why      string `json:"why"` // it could not be chosen; empty if it could
	Weight   int    `json:"weight"`
	InFlight int    `json:"in_flight"`
}

// Story tells a journal again and gives what was decided of a request, and why. The
// error says that the journal has no such request, or that a core says something
// else than it did.
func (j *Journal) Story(request uint64) ([]Moment, error) {
	t := storyteller{request: request, began: j.Began}
	err := retell(j.Entries, j.Seed, t.watch)
	if err != nil {
		return nil, err
	}
	if len(t.out) == 0 {
		return nil, fmt.Errorf("the journal has no request %d", request)
	}
	n := 0
	for i := range t.out {
		if t.out[i].Call == "choose" && t.out[i].Reason != upstream.InQueue.String() || t.out[i].Call == "granted" {
			n++
		}
		t.out[i].Attempt = n
	}
	return t.out, nil
}

// storyteller gathers what was decided of a request.
type storyteller struct {
	request uint64
	began   time.Time
	waits   string // the upstream in whose queue it waits
	out     []Moment
}

// watch returns what is to be noted of what a core says to an entry, nil for nothing.
func (t *storyteller) watch(e *Entry, core *upstream.Upstream) func(upstream.Verdict, upstream.Step, []upstream.Action) {
	m := Moment{At: t.began.Add(time.Duration(e.At)), Upstream: e.Upstream, Call: e.Call}
	ends := e.Call == "settle" || e.Call == "cancel"
	if granted := e.Call == "advance" && t.waits == e.Upstream; !granted && (e.Request.ID != t.request || e.Call != "choose" && !ends) {
		return nil
	}
	if !ends {
		for _, x := range core.Members(e.At) {
			m.Backends = append(m.Backends, Stood{x.Name, x.State.String(), whyNot(&x), x.Weight, x.InFlight})
		}
	}
	return func(v upstream.Verdict, s upstream.Step, actions []upstream.Action) {
		switch e.Call {
		case "choose":
			if v.Kind == upstream.Queued {
				t.waits = e.Upstream
			}
			t.chosen(m, core, v)
		case "advance":
			for _, x := range actions {
				if x.Kind == upstream.Granted && x.Grant.Request.ID == t.request {
					m.Call, t.waits = "granted", ""
					t.chosen(m, core, x.Grant.Verdict)
				}
			}
		case "cancel":
			m.Outcome = "the client left"
			t.out = append(t.out, m)
		case "settle":
			m.Outcome, m.Again = e.Outcome.Kind.String(), s == upstream.Again
			if e.Outcome.Kind == upstream.Answered {
				m.Outcome = fmt.Sprintf("answered %d", e.Outcome.Status)
			}
			t.out = append(t.out, m)
		}
	}
}

// chosen notes a verdict.
func (t *storyteller) chosen(m Moment, core *upstream.Upstream, v upstream.Verdict) {
	m.Reason = core.ReasonWord(v.Reason)
	if v.Kind == upstream.Go {
		m.Backend = core.Backend(v.Backend).Name
	}
	t.out = append(t.out, m)
}

// whyNot says why a backend could not be chosen; empty if it could.
func whyNot(m *upstream.Member) string {
	switch {
	case !m.State.InRotation():
		return "it is " + m.State.String()
	case m.Weight == 0:
		return "its weight is 0"
	case m.Full:
		return "it has max_in_flight open"
	}
	return ""
}
