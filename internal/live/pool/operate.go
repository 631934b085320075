package pool

import (
	"fmt"
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	"kestrix/internal/core/config"
	"kestrix/internal/core/route"
	"kestrix/internal/core/status"
	"kestrix/internal/core/units"
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

// closing is the order that has what is open with a backend end. It is none of the core's.
const closing upstream.Operation = 255

var orders = map[string]upstream.Operation{"park": upstream.Park, "drain": upstream.Drain, "return": upstream.Return, "weight": upstream.Weigh, "forget": upstream.Forget, "close": closing}

// lasting reports whether an order is in force until it ends.
func lasting(op upstream.Operation) bool {
	return op == upstream.Park || op == upstream.Drain || op == upstream.Weigh
}

// What is set for a time is set for so long at least, and at most.
const (
	shortestFor = time.Second
	longestFor  = 30 * 24 * time.Hour
)

// mostBecause bounds why an order is given, in bytes.
const mostBecause = 200

// target is a backend that an order is for, or a name whose addresses are backends each.
type target struct {
	pool *Pool
	name string
	base *config.Backend // the name; nil for a backend
}

func (t *target) String() string { return t.pool.Name + "." + t.name }

// Operate does what an operator wants; who is told in an event. The error is an
// *OrderError, and nothing was done.
func (s *Set) Operate(o status.Order, who string) (status.Told, error) {
	op, weight, lasts, err := parseOrder(&o)
	if err != nil {
		return status.Told{}, err
	}
	targets, err := s.targets(o.Backend)
	if err != nil {
		return status.Told{}, err
	}
	var locked []*Pool // in the order of their names, as everybody who locks several does
	for i := range targets {
		if l := targets[i].pool; !slices.Contains(locked, l) {
			l.mu.Lock()
			locked = append(locked, l)
		}
	}
	told, err := s.operateLocked(targets, &o, op, status.Held{Do: o.Do, Weight: weight, By: who, Because: o.Because}, lasts)
	for _, l := range locked {
		l.mu.Unlock()
	}
	if err == nil && (lasting(op) || op == upstream.Return) {
		told.Kept = s.keep()
	}
	return told, err
}

// operateLocked is Operate, for targets whose pools are locked.
func (s *Set) operateLocked(targets []target, o *status.Order, op upstream.Operation, h status.Held, lasts time.Duration) (told status.Told, err error) {
	if err := mayLocked(targets, o, op, h.Weight); err != nil {
		return told, err
	}
	text := o.Do
	if op == upstream.Weigh {
		text = fmt.Sprintf("weight %d", h.Weight)
	}
	if lasts > 0 {
		text += " for " + units.Duration(lasts)
	}
	text += ", by " + h.By
	if o.Because != "" {
		text += ", because " + o.Because
	}
	h.At = time.Now()
	if lasts > 0 {
		until := h.At.Add(lasts)
		h.Until = &until
	}
	for i := range targets {
		t := &targets[i]
		var before []string
		members := t.membersLocked()
		for _, id := range members {
			before = append(before, t.pool.wordsLocked(id))
		}
		t.orderLocked(op, h)
		for _, id := range members {
			if op == upstream.Forget || op == upstream.Return {
				t.pool.core.Operate(s.o.Now(), id, op, 0)
			}
		}
		t.pool.followOrdersLocked(nil)
		for n, id := range members {
			x := status.ToldBackend{Backend: t.pool.Name + "." + t.pool.core.Backend(id).Name, Before: before[n], After: t.pool.wordsLocked(id)}
			if b := t.pool.backends[id]; op == closing && b != nil {
				x.Ended = b.end(nil)
				s.o.Event(x.Backend, status.EventOrder, "%s; closed %d in flight", text, x.Ended)
			} else {
				s.o.Event(x.Backend, status.EventOrder, "%s; now %s; before: %s", text, x.After, x.Before)
			}
			told.Orders = append(told.Orders, x)
		}
		if len(members) == 0 {
			s.o.Event(t.String(), status.EventOrder, "%s: no address of it is known", text)
		}
	}
	return told, nil
}

// targets returns whom an order is for, in the order of their names.
func (s *Set) targets(whom string) (all []target, err error) {
	names := s.names()
	known := make([]string, len(names))
	for i := range names {
		known[i] = names[i].String()
	}
	for _, one := range strings.Split(whom, ",") {
		one = strings.TrimSpace(one)
		if full, several := config.FullName(one, known); full != "" {
			one = full
		} else if len(several) > 1 {
			return nil, noOrder("several backends are called %q; name one of %s", one, strings.Join(several, ", "))
		}
		fits := func(t *target) bool { return t.String() == one }
		if strings.Contains(one, "*") {
			pattern := route.Plain(one)
			fits = func(t *target) bool { return t.base == nil && pattern.Match(t.String()) }
		}
		found := false
		for _, t := range names {
			if fits(&t) {
				found = true
				if !slices.ContainsFunc(all, func(o target) bool { return o.String() == t.String() }) {
					all = append(all, t)
				}
			}
		}
		if !found {
			return nil, s.unknown(names, one)
		}
	}
	slices.SortFunc(all, func(a, b target) int { return strings.Compare(a.String(), b.String()) })
	return all, nil
}

// membersLocked returns the backends that a target is. Its pool's mu is held.
func (t *target) membersLocked() (all []upstream.BackendID) {
	l := t.pool
	for i := range l.cfg.Backends {
		b := &l.cfg.Backends[i]
		if x := l.nameOfLocked(b); t.base == nil && b.Name != t.name || t.base != nil && (x == nil || x.Name != t.name) {
			continue
		}
		if id, ok := l.core.Lookup(b.Name); ok {
			all = append(all, id)
		}
	}
	return all
}

// orderLocked puts an order in force, and ends what it stands in place of. An order of a
// kind keeps that of the other kind, and its end. The pool's mu is held.
func (t *target) orderLocked(op upstream.Operation, h status.Held) {
	l := t.pool
	if !lasting(op) && op != upstream.Return {
		return
	}
	kinds := []bool{op == upstream.Weigh}
	if op == upstream.Return {
		kinds = []bool{false, true}
	}
	for _, weight := range kinds {
		for _, id := range t.membersLocked() {
			b := l.core.Backend(id)
			if x := l.nameOfLocked(b); x != nil && t.base == nil {
				l.splitLocked(x, weight)
			}
			l.set.held.drop(heldKey{l.Name, b.Name, weight})
		}
		l.set.held.drop(heldKey{l.Name, t.name, weight})
	}
	if op == upstream.Return {
		return
	}
	h.Upstream, h.Backend = l.Name, t.name
	if t.base != nil {
		h.Address, h.Configured = t.base.Address.String(), t.base.Weight
	} else if id, ok := l.core.Lookup(t.name); ok {
		b := l.core.Backend(id)
		h.Address, h.Configured = b.Address.String(), b.Weight
	}
	l.set.held.mu.Lock()
	l.set.holdLocked(h)
	l.set.held.mu.Unlock()
}

// splitLocked makes of an order for a name orders for its backends each, so that one of
// them can be told something else. l.mu is held.
func (l *Pool) splitLocked(name *config.Backend, weight bool) {
	l.set.held.mu.Lock()
	defer l.set.held.mu.Unlock()
	key := heldKey{l.Name, name.Name, weight}
	x := l.set.held.all[key]
	if x == nil {
		return
	}
	l.set.held.dropLocked(key)
	for i := range l.cfg.Backends {
		b := &l.cfg.Backends[i]
		if of := l.nameOfLocked(b); of == nil || of.Name != name.Name || l.set.held.all[heldKey{l.Name, b.Name, weight}] != nil {
			continue
		}
		h := x.Held
		h.Backend, h.Address = b.Name, b.Address.String()
		l.set.holdLocked(h)
	}
}

// parseOrder returns what an order says; the error is for whoever gave it.
func parseOrder(o *status.Order) (op upstream.Operation, weight int, lasts time.Duration, err error) {
	fail := func(format string, args ...any) (upstream.Operation, int, time.Duration, error) {
		return 0, 0, 0, noOrder(format, args...)
	}
	op, ok := orders[o.Do]
	if !ok {
		words := []string{"park", "drain", "return", "weight", "forget", "close"}
		hint := "it is park, drain, return, weight, forget or close"
		if s := config.Suggest(o.Do, words); s != "" {
			hint = "did you mean " + s + "?"
		}
		return fail("%q cannot be done; %s", o.Do, hint)
	}
	if op == upstream.Weigh {
		if o.Weight == nil || *o.Weight < 0 || *o.Weight > 10000 {
			return fail("a weight from 0 to 10000 is missing")
		}
		weight = *o.Weight
	}
	switch {
	case o.For == 0:
	case !lasting(op):
		return fail("only park, drain and weight last for a time")
	case !(o.For >= shortestFor.Seconds() && o.For <= longestFor.Seconds()): // no number is neither
		return fail("a time of %g s cannot be set; it is from 1 s to 30 days, and without one an order lasts", o.For)
	}
	if len(o.Because) > mostBecause || strings.ContainsFunc(o.Because, func(r rune) bool { return r < ' ' || r == 0x7f }) || !utf8.ValidString(o.Because) {
		return fail("why it is done is a text of at most %d bytes, on one line", mostBecause)
	}
	return op, weight, time.Duration(o.For * float64(time.Second)), nil
}

// mayLocked checks an order against how its backends stand. The pools' mu are held.
func mayLocked(targets []target, o *status.Order, op upstream.Operation, weight int) error {
	takesOut := op == upstream.Park || op == upstream.Drain || op == upstream.Weigh && weight == 0
	goes := map[*Pool][]upstream.BackendID{}
	for i := range targets {
		t := &targets[i]
		for _, id := range t.membersLocked() {
			goes[t.pool] = append(goes[t.pool], id)
			if now := t.pool.handLocked(id); o.Seen != nil && *o.Seen != now {
				if now == "" {
					now = "as the file says"
				}
				return &OrderError{Why: fmt.Sprintf("%s was changed in the meantime; it is %s. Nothing was done", t, now), Stale: true}
			}
		}
	}
	for i := range targets {
		t := &targets[i]
		if takesOut && !o.Insist && t.pool.lastLocked(goes[t.pool]) {
			what := t.String() + " is"
			if len(goes[t.pool]) > 1 {
				what = "these are"
			}
			return &OrderError{Why: fmt.Sprintf("%s the last of %q in rotation; without it no backend answers", what, t.pool.Name), Conflict: true}
		}
	}
	return nil
}

// unknown says that something is not there, and what may have been meant.
func (s *Set) unknown(names []target, what string) error {
	name, backend, dotted := strings.Cut(what, ".")
	hint := ""
	var words []string
	for i := range names {
		words = append(words, names[i].String())
	}
	if m := config.Suggest(what, words); m != "" {
		hint = "; did you mean " + m + "?"
	} else if !dotted {
		hint = "; status lists the backends"
	}
	switch {
	case strings.Contains(what, "*"):
		return noOrder("no backend matches %q%s", what, hint)
	case s.Get(name) == nil:
		return noOrder("there is no upstream %q%s", name, hint)
	}
	return noOrder("the upstream %q has no backend %q%s", name, backend, hint)
}

// names returns all that orders may be for, sorted.
func (s *Set) names() (all []target) {
	for _, l := range s.All() {
		l.mu.Lock()
		for _, b := range l.cfg.Backends {
			all = append(all, target{l, b.Name, nil})
		}
		for i := range l.base.Backends {
			b := &l.base.Backends[i]
			if _, isIP := b.Address.IP(); l.base.ResolveEach && !isIP && b.Address.Unix == "" {
				all = append(all, target{l, b.Name, b})
			}
		}
		l.mu.Unlock()
	}
	slices.SortFunc(all, func(a, b target) int { return strings.Compare(a.String(), b.String()) })
	return all
}

// lastLocked reports whether no other backends than these are in rotation, and one of them
// is. l.mu is held.
func (l *Pool) lastLocked(these []upstream.BackendID) bool {
	last := false
	for _, m := range l.core.Members(l.set.o.Now()) {
		in := m.State.InRotation() && m.Weight > 0
		if slices.Contains(these, m.ID) {
			last = last || in
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
