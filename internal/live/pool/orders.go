package pool

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"kestrix/internal/core/config"
	"kestrix/internal/core/health"
	"kestrix/internal/core/status"
	"kestrix/internal/core/upstream"
)

// heldFor is how long an order is kept for a backend that there is not.
const heldFor = 30 * 24 * time.Hour

// held are the orders in force of all pools. An order is of a backend, or of a name whose
// addresses are backends each, and of one of two kinds: whether it is in rotation, and its
// weight. Its mutex is held after that of a pool.
type held struct {
	mu    sync.Mutex
	all   map[heldKey]*heldOrder
	saves sync.Mutex // what is handed on comes in order
}

// heldKey is what there is one order of.
type heldKey struct {
	upstream, backend string
	weight            bool
}

type heldOrder struct {
	status.Held
	timer *time.Timer // nil: it has no end
}

// keyOf returns the key of an order.
func keyOf(h *status.Held) heldKey { return heldKey{h.Upstream, h.Backend, h.Do == "weight"} }

// adopt takes the orders of a proxy before, without those that are over.
func (s *Set) adopt(all []status.Held) {
	s.held.all = map[heldKey]*heldOrder{}
	for _, h := range all {
		if h.Until != nil && !h.Until.After(time.Now()) {
			s.o.Event(h.Upstream+"."+h.Backend, status.EventOrder, "%s is over: it was until %s", orderWords(&h), h.Until.UTC().Format(time.DateTime+" UTC"))
			continue
		}
		s.holdLocked(h)
	}
}

// holdLocked puts an order in force, in place of one of its kind. s.held.mu is held, or s
// is not yet shared.
func (s *Set) holdLocked(h status.Held) {
	key := keyOf(&h)
	s.held.dropLocked(key)
	x := &heldOrder{Held: h}
	if h.Until != nil {
		x.timer = time.AfterFunc(time.Until(*h.Until), func() { s.over(key, x) })
	}
	s.held.all[key] = x
}

// drop ends an order, if there is one.
func (h *held) drop(key heldKey) {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.dropLocked(key)
}

// dropLocked is drop, where h.mu is held, or h is not yet shared.
func (h *held) dropLocked(key heldKey) {
	if x := h.all[key]; x != nil {
		if x.timer != nil {
			x.timer.Stop()
		}
		delete(h.all, key)
	}
}

// over ends an order whose time has come.
func (s *Set) over(key heldKey, x *heldOrder) {
	l := s.Get(key.upstream)
	if l != nil {
		l.mu.Lock()
		defer l.mu.Unlock()
	}
	s.held.mu.Lock()
	current := s.held.all[key] == x
	if current {
		delete(s.held.all, key)
	}
	s.held.mu.Unlock()
	if !current || l != nil && l.stopped {
		return
	}
	if l == nil {
		s.o.Event(key.upstream+"."+key.backend, status.EventOrder, "%s is over", orderWords(&x.Held))
	} else {
		l.followOrdersLocked(func(b string) string {
			return fmt.Sprintf("%s is over: %s", orderWords(&x.Held), b)
		})
	}
	go s.keep() // which may take its time, and no lock of a pool
}

// keep hands the orders in force on to whoever keeps them, and reports whether they are.
func (s *Set) keep() bool {
	if s.o.Keep == nil {
		return false
	}
	s.held.saves.Lock()
	defer s.held.saves.Unlock()
	return s.o.Keep(s.Held()) == nil
}

// Held returns the orders in force, sorted.
func (s *Set) Held() []status.Held {
	s.held.mu.Lock()
	defer s.held.mu.Unlock()
	out := []status.Held{}
	for _, x := range s.held.all {
		out = append(out, x.Held)
	}
	slices.SortFunc(out, func(a, b status.Held) int {
		return strings.Compare(a.Upstream+"."+a.Backend+" "+a.Do, b.Upstream+"."+b.Backend+" "+b.Do)
	})
	return out
}

// Review notes which orders have no backend any more, or have one again, and ends those
// that have had none for too long. It is called when all pools follow a configuration.
func (s *Set) Review() {
	now := time.Now()
	changed := false
	for _, h := range s.Held() {
		there := false
		if l := s.Get(h.Upstream); l != nil {
			l.mu.Lock()
			there = l.hasLocked(&h)
			l.mu.Unlock()
		}
		if !there && h.Without != nil && now.Sub(*h.Without) > heldFor {
			s.o.Event(h.Upstream+"."+h.Backend, status.EventOrder, "%s is given up: there has been no such backend at %s for 30 days", orderWords(&h), h.Address)
			s.held.mu.Lock()
			s.held.dropLocked(keyOf(&h))
			s.held.mu.Unlock()
			changed = true
			continue
		}
		if there == (h.Without == nil) {
			continue
		}
		if !there {
			s.o.Event(h.Upstream+"."+h.Backend, status.EventOrder, "%s is kept: no backend at %s now; it may return", orderWords(&h), h.Address)
		}
		s.held.mu.Lock()
		if x := s.held.all[keyOf(&h)]; x != nil {
			if x.Without = nil; !there {
				x.Without = &now
			}
		}
		s.held.mu.Unlock()
		changed = true
	}
	if changed {
		s.keep()
	}
}

// hasLocked reports whether the backend of an order is there. l.mu is held.
func (l *Pool) hasLocked(h *status.Held) bool {
	for _, all := range [][]config.Backend{l.cfg.Backends, l.base.Backends} {
		for _, b := range all {
			if b.Name == h.Backend && b.Address.String() == h.Address {
				return true
			}
		}
	}
	return false
}

// nameOfLocked returns the name whose address a backend is; empty for one that stands for itself.
// l.mu is held.
func (l *Pool) nameOfLocked(b *config.Backend) *config.Backend {
	if !l.cfg.ResolveEach {
		return nil
	}
	for i := range l.base.Backends {
		if x := &l.base.Backends[i]; b.Name == x.Name+"-"+b.Address.Host || x.Address.Service && b.Name == x.Name+"-"+b.Address.Host+"-"+strconv.Itoa(b.Address.Port) {
			return x
		}
	}
	return nil
}

// heldLocked returns the order of a kind that is in force for a backend: its own, or that
// of its name; nil for none. l.mu is held.
func (l *Pool) heldLocked(b *config.Backend, weight bool) *status.Held {
	l.set.held.mu.Lock()
	defer l.set.held.mu.Unlock()
	for _, x := range []*config.Backend{b, l.nameOfLocked(b)} {
		if x == nil {
			continue
		}
		if o := l.set.held.all[heldKey{l.Name, x.Name, weight}]; o != nil && o.Address == x.Address.String() {
			h := o.Held
			return &h
		}
	}
	return nil
}

// followOrdersLocked has the core do what the orders in force say of each backend, and
// tells of changes of state. say words a change, given how the backend stands then; nil says nothing. l.mu is held.
func (l *Pool) followOrdersLocked(say func(stands string) string) {
	now := l.set.o.Now()
	var changed []upstream.Member
	for _, m := range l.core.Members(now) {
		b := l.core.Backend(m.ID)
		before, wanted, op := m.ByHand, health.In, upstream.Admit
		if o := l.heldLocked(b, false); o != nil && o.Do == "park" {
			wanted, op = health.ParkedOut, upstream.Park
		} else if o != nil {
			wanted, op = health.Drained, upstream.Drain
		}
		if m.Operator != wanted {
			l.core.Operate(now, m.ID, op, 0)
		}
		weight := b.Weight
		if o := l.heldLocked(b, true); o != nil {
			weight = o.Weight
		}
		if m.Weight != weight {
			l.core.Operate(now, m.ID, upstream.Weigh, weight)
		}
		if l.handLocked(m.ID) != before {
			changed = append(changed, m)
		}
	}
	l.noteLocked()
	for _, m := range changed {
		if say != nil {
			l.set.o.Event(l.Name+"."+m.Name, status.EventOrder, "%s", say(l.wordsLocked(m.ID)))
		}
	}
}

// orderWords words an order, with who gave it, and why.
func orderWords(h *status.Held) string {
	text := h.Do
	if h.Do == "weight" {
		text = fmt.Sprintf("weight %d", h.Weight)
	}
	text += ", by " + h.By
	if h.Because != "" {
		text += ", because " + h.Because
	}
	return text
}

// ordersOf returns the orders in force for a backend, in status. l.mu is held.
func (l *Pool) ordersOfLocked(b *config.Backend) (all []status.Held) {
	for _, weight := range []bool{false, true} {
		if o := l.heldLocked(b, weight); o != nil {
			all = append(all, *o)
		}
	}
	return all
}

// renamedLocked has orders follow a reload: that of a backend that gets another address is
// for the new one. l.mu is held.
func (l *Pool) renamedLocked(before, after *config.Upstream) {
	l.set.held.mu.Lock()
	defer l.set.held.mu.Unlock()
	for _, o := range before.Backends {
		for _, n := range after.Backends {
			if o.Name != n.Name {
				continue
			}
			for _, weight := range []bool{false, true} {
				key := heldKey{l.Name, o.Name, weight}
				if x := l.set.held.all[key]; x != nil && x.Address == o.Address.String() {
					x.Address = n.Address.String()
				}
			}
		}
	}
}

// reweighedLocked ends weights set by hand where the configuration has another weight now
// than it had then. l.mu is held, or l is not yet shared.
func (l *Pool) reweighedLocked() {
	l.set.held.mu.Lock()
	defer l.set.held.mu.Unlock()
	for _, n := range slices.Concat(l.cfg.Backends, l.base.Backends) {
		key := heldKey{l.Name, n.Name, true}
		if x := l.set.held.all[key]; x != nil && x.Address == n.Address.String() && x.Configured != n.Weight {
			l.set.held.dropLocked(key)
			l.set.o.Event(l.Name+"."+n.Name, status.EventOrder, "%s is over: the configuration has weight %d, and had %d", orderWords(&x.Held), n.Weight, x.Configured)
		}
	}
}
