// Package journal records what the core of each upstream was told, and what it said, so
// that a fresh core can be told the same again: to verify that the proxy decides nothing
// by itself, and to explain a request of the day before.
//
// The proxy decides by its Core, serve writes the journal, and why reads it. It must never
// change what the core is told, and never write a secret.
package journal

import (
	"fmt"
	"strings"

	"kestrix/internal/core/config"
	"kestrix/internal/core/tick"
	"kestrix/internal/core/upstream"
)

// Entry is one thing that the core of an upstream was told, and what it said. In
// the order in which they were made entries can be told again, see Verify: that
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
	Chosen    []Choice // of a choose and an advance: which backend a request was given
}

// Choice is the answer to a request in words, for journals whose beginning is gone: without
// it no core can be told what it was told.
type Choice struct {
	Request uint64 `json:"request"`
	Backend string `json:"backend,omitempty"` // empty for none
	Reason  string `json:"reason"`
}

// Core is the core of an upstream, with a journal of what it is told. It is not safe for
// concurrent use: its pool locks. Its methods are those of upstream.Upstream.
type Core struct {
	*upstream.Upstream
	name    string
	journal func(Entry) // nil: none
}

// New returns the core of an upstream of a proxy that is starting, and notes its
// configuration. journal is called with each entry; nil: there is no journal.
func New(now tick.Time, cfg *config.Upstream, seed uint64, journal func(Entry)) *Core {
	d := &Core{upstream.NewUnprobed(now, cfg, seed), cfg.Name, journal}
	d.note(Entry{Call: "new", At: now, Config: cfg})
	return d
}

func (d *Core) note(e Entry) {
	if d.journal != nil {
		e.Upstream = d.name
		d.journal(e)
	}
}

// Reload takes another configuration. See upstream.Upstream.
func (d *Core) Reload(now tick.Time, cfg *config.Upstream) {
	d.Upstream.Reload(now, cfg)
	d.note(Entry{Call: "reload", At: now, Config: cfg})
}

// Choose decides where an attempt goes. See upstream.Upstream.
func (d *Core) Choose(now tick.Time, q *upstream.Request, a *upstream.Attempt) upstream.Verdict {
	v := d.Upstream.Choose(now, q, a)
	if d.journal != nil {
		d.note(Entry{Call: "choose", At: now, Request: *q, Said: fmt.Sprint(v), Chosen: []Choice{d.choice(q.ID, v)}})
	}
	return v
}

// Settle takes the end of an attempt. See upstream.Upstream.
func (d *Core) Settle(now tick.Time, q *upstream.Request, a *upstream.Attempt, o upstream.Outcome) upstream.Step {
	s := d.Upstream.Settle(now, q, a, o)
	if d.journal != nil {
		d.note(Entry{Call: "settle", At: now, Request: *q, Outcome: o, Said: fmt.Sprint(s)})
	}
	return s
}

// Repeats reports whether an attempt that ends like this would be repeated. See upstream.Upstream.
func (d *Core) Repeats(now tick.Time, q *upstream.Request, a *upstream.Attempt, o upstream.Outcome) bool {
	yes := d.Upstream.Repeats(q, a, o)
	if d.journal != nil {
		d.note(Entry{Call: "repeats", At: now, Request: *q, Outcome: o, Said: fmt.Sprint(yes)})
	}
	return yes
}

// FirstByte notes that the answer to an attempt has begun. See upstream.Upstream.
func (d *Core) FirstByte(now tick.Time, q *upstream.Request, a *upstream.Attempt) {
	d.Upstream.FirstByte(a)
	if d.journal != nil {
		d.note(Entry{Call: "begins", At: now, Request: *q})
	}
}

// Cancel ends an attempt that shows nothing of the backend. See upstream.Upstream.
func (d *Core) Cancel(now tick.Time, q *upstream.Request, a *upstream.Attempt) {
	d.Upstream.Cancel(now, a)
	if d.journal != nil {
		d.note(Entry{Call: "cancel", At: now, Request: *q})
	}
}

// ProbeSeen takes the result of a probe. See upstream.Upstream.
func (d *Core) ProbeSeen(now tick.Time, id upstream.BackendID, p upstream.Probe) {
	d.Upstream.ProbeSeen(now, id, p)
	d.note(Entry{Call: "probe", At: now, Backend: id, Probe: p})
}

// Operate takes an order of an operator. See upstream.Upstream.
func (d *Core) Operate(now tick.Time, id upstream.BackendID, op upstream.Operation, weight int) {
	d.Upstream.Operate(now, id, op, weight)
	d.note(Entry{Call: "operate", At: now, Backend: id, Operation: op, Weight: weight})
}

// Learn notes the seat that an application has given a client. See upstream.Upstream.
func (d *Core) Learn(now tick.Time, seatKey uint64, id upstream.BackendID) {
	d.Upstream.Learn(now, seatKey, id)
	d.note(Entry{Call: "learn", At: now, SeatKey: seatKey, Backend: id})
}

// Advance has the core do what is due, and returns what its driver has to do. See upstream.Upstream.
func (d *Core) Advance(now tick.Time, actions []upstream.Action) []upstream.Action {
	before := len(actions)
	actions = d.Upstream.Advance(now, actions)
	if d.journal != nil {
		e := Entry{Call: "advance", At: now, Said: actionWords(actions[before:])}
		for _, a := range actions[before:] {
			if a.Kind == upstream.Granted {
				e.Chosen = append(e.Chosen, d.choice(a.Grant.Request.ID, a.Grant.Verdict))
			}
		}
		d.note(e)
	}
	return actions
}

// choice words a verdict.
func (d *Core) choice(request uint64, v upstream.Verdict) Choice {
	c := Choice{Request: request, Reason: d.ReasonWord(v.Reason)}
	if v.Kind == upstream.Go {
		c.Backend = d.Backend(v.Backend).Name
	}
	return c
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
