package proxy

import (
	"fmt"
	"strings"
	"time"

	"kestrix/internal/core/config"
	"kestrix/internal/core/upstream"
)

// Order is what an operator wants of a backend.
type Order struct {
	Backend string  `json:"backend"`          // UPSTREAM.BACKEND
	Do      string  `json:"do"`               // park, drain, return, weight or forget
	Weight  *int    `json:"weight,omitempty"` // for weight
	For     float64 `json:"for,omitempty"`    // seconds after which it ends by itself; 0: never. For park, drain and weight
	Insist  bool    `json:"insist,omitempty"` // also if nobody is left to answer then
	Seen    *string `json:"seen,omitempty"`   // by_hand as it was seen; if somebody has set it otherwise meanwhile, nothing is done
}

// Told is what came of an order.
type Told struct {
	Backend string `json:"backend"`
	Before  string `json:"before"` // state and weight
	After   string `json:"after"`
}

// OrderError is an order that is not carried out.
type OrderError struct {
	Why      string
	Conflict bool // it would be with insist
	Stale    bool // somebody has set it otherwise meanwhile
}

func (e *OrderError) Error() string { return e.Why }

func noOrder(format string, args ...any) error { return &OrderError{Why: fmt.Sprintf(format, args...)} }

var orders = map[string]upstream.Operation{"park": upstream.Park, "drain": upstream.Drain, "return": upstream.Return, "weight": upstream.Weigh, "forget": upstream.Forget}

// hand is what an operator set of a backend, that ends by itself.
type hand struct {
	until time.Time
	timer *time.Timer
}

// What is set for a time is set for so long at least, and at most.
const (
	shortestFor = time.Second
	longestFor  = 30 * 24 * time.Hour
)

// Operate does what an operator wants; who is told in the news. The error is an
// *OrderError, and nothing was done.
func (p *Proxy) Operate(o Order, who string) (Told, error) {
	op, weight, lasts, err := o.parse()
	if err != nil {
		return Told{}, err
	}
	name, backend, _ := strings.Cut(o.Backend, ".")
	l := p.pools.get(name)
	if l == nil {
		return Told{}, p.unknown("there is no upstream %q", name, o.Backend)
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	id, ok := l.core.Lookup(backend)
	if !ok {
		return Told{}, p.unknown("the upstream \""+name+"\" has no backend %q", backend, o.Backend)
	}
	if err := l.mayLocked(id, &o, op, weight); err != nil {
		return Told{}, err
	}
	before := l.wordsLocked(id)
	l.core.Operate(p.now(), id, op, weight)
	l.setHandLocked(backend, op, lasts)
	l.noteLocked()
	after := l.wordsLocked(id)
	text := o.Do
	if op == upstream.Weigh {
		text = fmt.Sprintf("weight %d", weight)
	}
	if lasts > 0 {
		text += " for " + lasts.String()
	}
	p.event(name+"."+backend, "told", "%s, by %s: %s, was %s", text, who, after, before)
	return Told{name + "." + backend, before, after}, nil
}

// parse returns what an order says; the error is for whoever gave it.
func (o *Order) parse() (op upstream.Operation, weight int, lasts time.Duration, err error) {
	fail := func(format string, args ...any) (upstream.Operation, int, time.Duration, error) {
		return 0, 0, 0, noOrder(format, args...)
	}
	op, ok := orders[o.Do]
	if !ok {
		words := []string{"park", "drain", "return", "weight", "forget"}
		hint := "it is park, drain, return, weight or forget"
		if s := config.Suggest(o.Do, words); s != "" {
			hint = "did you mean " + s + "?"
		}
		return fail("%q cannot be done; %s", o.Do, hint)
	}
	if op == upstream.Weigh {
		if o.Weight == nil || *o.Weight < 0 || *o.Weight > 10000 {
			return fail("a weight from 0 to 10000 is wanted")
		}
		weight = *o.Weight
	}
	switch {
	case o.For == 0:
	case op == upstream.Return || op == upstream.Forget:
		return fail("only park, drain and weight last for a time")
	case !(o.For >= shortestFor.Seconds() && o.For <= longestFor.Seconds()): // no number is neither
		return fail("a time of %g s cannot be set; it is from 1 s to 30 days, and without one an order lasts", o.For)
	}
	return op, weight, time.Duration(o.For * float64(time.Second)), nil
}

// mayLocked checks an order against how its backend stands. l.mu is held.
func (l *pool) mayLocked(id upstream.BackendID, o *Order, op upstream.Operation, weight int) error {
	if now := l.handLocked(id); o.Seen != nil && *o.Seen != now {
		if now == "" {
			now = "as the file says"
		}
		return &OrderError{Why: fmt.Sprintf("somebody has set %s otherwise meanwhile; it is %s. Nothing was done", o.Backend, now), Stale: true}
	}
	takesOut := op == upstream.Park || op == upstream.Drain || op == upstream.Weigh && weight == 0
	if takesOut && !o.Insist && l.lastLocked(id) {
		return &OrderError{Why: fmt.Sprintf("%s is the last of %q in rotation; without it nobody answers", o.Backend, l.name), Conflict: true}
	}
	return nil
}

// unknown says that something is not there, and what may have been meant.
func (p *Proxy) unknown(format, what, whole string) error {
	hint := ""
	if st := p.state.Load(); st != nil {
		var names []string
		for _, u := range st.config.Upstreams {
			for _, b := range u.Backends {
				names = append(names, u.Name+"."+b.Name)
			}
		}
		if s := config.Suggest(whole, names); s != "" {
			hint = "; did you mean " + s + "?"
		} else if !strings.Contains(whole, ".") {
			hint = "; backends are named UPSTREAM.BACKEND"
		}
	}
	return noOrder(format+"%s", what, hint)
}

// lastLocked reports whether a backend is the only one in rotation. l.mu is held.
func (l *pool) lastLocked(id upstream.BackendID) bool {
	last := false
	for _, m := range l.core.Members(l.set.o.Now()) {
		in := m.State.InRotation() && m.Weight > 0
		if m.ID == id {
			last = in
		} else if in {
			return false
		}
	}
	return last
}

// handLocked words what an operator set of a backend. l.mu is held.
func (l *pool) handLocked(id upstream.BackendID) string {
	for _, m := range l.core.Members(l.set.o.Now()) {
		if m.ID == id {
			return m.ByHand
		}
	}
	return ""
}

// wordsLocked words how a backend stands. l.mu is held.
func (l *pool) wordsLocked(id upstream.BackendID) string {
	for _, m := range l.core.Members(l.set.o.Now()) {
		if m.ID == id {
			return fmt.Sprintf("%s, weight %d", m.State, m.Weight)
		}
	}
	return "gone"
}

// setHandLocked has what was set end by itself after a time, in place of what
// was set before. l.mu is held.
func (l *pool) setHandLocked(backend string, op upstream.Operation, lasts time.Duration) {
	if op == upstream.Forget {
		return
	}
	if h := l.hands[backend]; h != nil {
		h.timer.Stop()
		delete(l.hands, backend)
	}
	if lasts == 0 {
		return
	}
	h := &hand{until: time.Now().Add(lasts)}
	h.timer = time.AfterFunc(lasts, func() {
		l.mu.Lock()
		defer l.mu.Unlock()
		id, ok := l.core.Lookup(backend)
		if l.hands[backend] != h || l.stopped {
			return
		}
		delete(l.hands, backend)
		if !ok {
			return
		}
		if op == upstream.Weigh {
			l.core.Operate(l.set.o.Now(), id, op, l.core.Backend(id).Weight)
		} else {
			l.core.Operate(l.set.o.Now(), id, upstream.Return, 0)
		}
		l.set.o.Event(l.name+"."+backend, "told", "what was set for %s is over: %s", lasts, l.wordsLocked(id))
		l.noteLocked()
	})
	if l.hands == nil {
		l.hands = map[string]*hand{}
	}
	l.hands[backend] = h
}
