package pool

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"kestrix/internal/core/config"
	"kestrix/internal/core/status"
	"kestrix/internal/core/upstream"
)

// OrderError is why an order was not carried out.
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
func (s *Set) Operate(o status.Order, who string) (status.Told, error) {
	op, weight, lasts, err := parseOrder(&o)
	if err != nil {
		return status.Told{}, err
	}
	name, backend, _ := strings.Cut(o.Backend, ".")
	l := s.Get(name)
	if l == nil {
		return status.Told{}, s.unknown("there is no upstream %q", name, o.Backend)
	}
	l.mu.Lock()
	id, ok := l.core.Lookup(backend)
	if !ok {
		l.mu.Unlock()
		return status.Told{}, s.unknown("the upstream \""+name+"\" has no backend %q", backend, o.Backend)
	}
	defer l.mu.Unlock()
	if err := l.mayLocked(id, &o, op, weight); err != nil {
		return status.Told{}, err
	}
	before := l.wordsLocked(id)
	l.core.Operate(s.o.Now(), id, op, weight)
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
	s.o.Event(name+"."+backend, "told", "%s, by %s: %s, was %s", text, who, after, before)
	return status.Told{Backend: name + "." + backend, Before: before, After: after}, nil
}

// parseOrder returns what an order says; the error is for whoever gave it.
func parseOrder(o *status.Order) (op upstream.Operation, weight int, lasts time.Duration, err error) {
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
func (l *Pool) mayLocked(id upstream.BackendID, o *status.Order, op upstream.Operation, weight int) error {
	if now := l.handLocked(id); o.Seen != nil && *o.Seen != now {
		if now == "" {
			now = "as the file says"
		}
		return &OrderError{Why: fmt.Sprintf("somebody has set %s otherwise meanwhile; it is %s. Nothing was done", o.Backend, now), Stale: true}
	}
	takesOut := op == upstream.Park || op == upstream.Drain || op == upstream.Weigh && weight == 0
	if takesOut && !o.Insist && l.lastLocked(id) {
		return &OrderError{Why: fmt.Sprintf("%s is the last of %q in rotation; without it nobody answers", o.Backend, l.Name), Conflict: true}
	}
	return nil
}

// unknown says that something is not there, and what may have been meant.
func (s *Set) unknown(format, what, whole string) error {
	hint := ""
	if m := config.Suggest(whole, s.names()); m != "" {
		hint = "; did you mean " + m + "?"
	} else if !strings.Contains(whole, ".") {
		hint = "; backends are named UPSTREAM.BACKEND"
	}
	return noOrder(format+"%s", what, hint)
}

// names returns the names of all backends, as UPSTREAM.BACKEND, sorted.
func (s *Set) names() []string {
	var names []string
	for _, l := range s.All() {
		l.mu.Lock()
		for _, b := range l.cfg.Backends {
			names = append(names, l.Name+"."+b.Name)
		}
		l.mu.Unlock()
	}
	slices.Sort(names)
	return names
}

// lastLocked reports whether a backend is the only one in rotation. l.mu is held.
func (l *Pool) lastLocked(id upstream.BackendID) bool {
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
func (l *Pool) handLocked(id upstream.BackendID) string {
	for _, m := range l.core.Members(l.set.o.Now()) {
		if m.ID == id {
			return m.ByHand
		}
	}
	return ""
}

// wordsLocked words how a backend stands. l.mu is held.
func (l *Pool) wordsLocked(id upstream.BackendID) string {
	for _, m := range l.core.Members(l.set.o.Now()) {
		if m.ID == id {
			return fmt.Sprintf("%s, weight %d", m.State, m.Weight)
		}
	}
	return "gone"
}

// setHandLocked has what was set end by itself after a time, in place of what
// was set before. l.mu is held.
func (l *Pool) setHandLocked(backend string, op upstream.Operation, lasts time.Duration) {
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
		l.set.o.Event(l.Name+"."+backend, "told", "what was set for %s is over: %s", lasts, l.wordsLocked(id))
		l.noteLocked()
	})
	if l.hands == nil {
		l.hands = map[string]*hand{}
	}
	l.hands[backend] = h
}
