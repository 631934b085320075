package pool

import (
	"crypto/rand"
	"crypto/tls"
	"sync"
	"time"

	"kestrix/internal/core/config"
	"kestrix/internal/core/status"
	"kestrix/internal/core/sticky"
	"kestrix/internal/core/tick"
	"kestrix/internal/core/upstream"
	"kestrix/internal/live/journal"
)

// Pool is an upstream in use: its core and the connections to its backends.
type Pool struct {
	set  *Set
	Name string

	namesMu sync.Mutex
	names   lookups
	rebased chan struct{} // base has become another
	moved   chan struct{} // a backend could not be connected to

	mu         sync.Mutex       // guards all below, the core included
	base       *config.Upstream // as configured
	cfg        *config.Upstream // with a backend for each address, where that is missing
	tls        *tls.Config      // nil: backends are spoken to in clear text
	core       *journal.Core
	backends   []*Backend // by upstream.BackendID
	sealer     *sticky.Sealer
	secret     string // that the sealer was made from
	actions    []upstream.Action
	changes    []upstream.Change
	waiters    map[uint64]chan upstream.Grant // by request
	planned    tick.Time                      // when run will look again
	stopped    bool
	reloads    int
	probedOnce bool   // first is closed
	empty      bool   // nobody is in rotation, as was told
	refused    uint64 // requests that no backend was given
	queued     uint64 // requests that came into the queue
	retries    uint64

	wake  chan struct{} // something may be due earlier than was thought
	first chan struct{} // closed when no backend waits for its first probe any more
	ended chan struct{}
	once  sync.Once
}

func newPool(set *Set, cfg *config.Upstream, tls *tls.Config) *Pool {
	l := &Pool{set: set, Name: cfg.Name, wake: make(chan struct{}, 1), first: make(chan struct{}), ended: make(chan struct{}), waiters: map[uint64]chan upstream.Grant{}}
	l.names = lookups{known: map[config.Address][]config.Member{}, bad: map[config.Address]bool{}}
	l.rebased, l.moved = make(chan struct{}, 1), make(chan struct{}, 1)
	l.base, l.tls = cfg, tls
	l.cfg = l.expand(cfg)
	l.core = journal.New(set.o.Now(), l.cfg, set.o.Seed, set.o.Journal)
	l.connect()
	l.reweighedLocked()
	l.followOrdersLocked(func(stands string) string { return "as before this start: " + stands })
	go l.run()
	go l.follow()
	return l
}

// reload goes over to another configuration of the same upstream.
func (l *Pool) reload(cfg *config.Upstream, tls *tls.Config) {
	now := l.expand(cfg)
	l.mu.Lock()
	defer l.mu.Unlock()
	l.renamedLocked(l.base, cfg)
	l.base = cfg
	l.applyLocked(now, tls)
	select {
	case l.rebased <- struct{}{}:
	default:
	}
}

// applyLocked has core and connections follow a configuration. l.mu is held.
func (l *Pool) applyLocked(cfg *config.Upstream, tls *tls.Config) {
	l.cfg, l.tls = cfg, tls
	l.reloads++
	l.core.Reload(l.set.o.Now(), cfg)
	for _, m := range l.core.Members(l.set.o.Now()) {
		if m.ByHand != "" {
			l.set.o.Event(l.Name+"."+m.Name, status.EventKept, "%s", m.ByHand)
		}
	}
	l.connect()
	l.reweighedLocked()
	l.followOrdersLocked(func(stands string) string { return "as ordered before: " + stands })
}

// connect makes the ways to backends that are new or have changed, and the
// sealer. l.mu is held, or l is not yet shared.
func (l *Pool) connect() {
	old := l.backends
	l.backends = make([]*Backend, l.core.Slots())
	kept := map[*Backend]bool{}
	for _, b := range l.cfg.Backends {
		id, _ := l.core.Lookup(b.Name)
		if int(id) < len(old) && old[id] != nil && old[id].serves(b, l.cfg, l.tls) {
			l.backends[id] = old[id]
			kept[old[id]] = true
			continue
		}
		l.backends[id] = newBackend(l.set, b, l.cfg, l.tls)
		for _, o := range old {
			if o != nil && o.Name == b.Name {
				l.backends[id].counts = o.counts // what was counted stays
			}
		}
	}
	for id, o := range old {
		if o != nil && l.backends[id] == nil && l.core.Serves(upstream.BackendID(id)) {
			l.backends[id], kept[o] = o, true // it is replaced, and serves until the others have been probed
		}
	}
	for _, o := range old {
		if o != nil && !kept[o] {
			o.closeIdle() // those in use end with their requests
		}
	}
	l.makeSealer()
}

// makeSealer makes what seals the seats of cookies, anew where its secret has changed.
// l.mu is held, or l is not yet shared.
func (l *Pool) makeSealer() {
	s := l.cfg.Sticky
	if s == nil || s.By != "cookie" || l.sealer != nil && s.Secret == l.secret {
		return
	}
	secret := []byte(s.Secret)
	if s.Secret == "" {
		secret = []byte(rand.Text())
	}
	l.sealer, l.secret = sticky.NewSealer(secret), s.Secret
}

// run has the core do what is due, at its time.
func (l *Pool) run() {
	timer := time.NewTimer(time.Hour)
	defer timer.Stop()
	for {
		l.mu.Lock()
		now := l.set.o.Now()
		l.actions = l.core.Advance(now, l.actions[:0])
		for i := range l.actions {
			a := &l.actions[i]
			if a.Kind == upstream.Granted {
				l.grantLocked(&a.Grant)
				continue
			}
			b := l.backends[a.Probe]
			probe, id, reloads := l.cfg.Probe, a.Probe, l.reloads
			go func() {
				began := time.Now()
				r := probeOnce(b, probe, l.ended)
				seen := &status.ProbeSeen{At: time.Now(), Took: time.Since(began).Seconds(), Passed: r.Passed, Why: r.Why}
				if tell := l.set.o.Probe; tell != nil {
					what := "passed"
					if !r.Passed {
						what = "failed: " + r.Why
					}
					tell(l.Name+"."+b.Name, time.Since(began), what)
				}
				l.probed(id, reloads, r, seen)
			}()
		}
		next := l.core.Next()
		l.planned = next
		l.noteLocked()
		l.mu.Unlock()
		wait := time.Hour
		if next != tick.Never {
			wait = min(wait, next.Sub(l.set.o.Now()))
		}
		if wait <= 0 {
			select {
			case <-l.ended:
				return
			default:
				continue // it is due by now
			}
		}
		timer.Reset(wait)
		select {
		case <-timer.C:
		case <-l.wake:
		case <-l.ended:
			return
		}
	}
}

// probed hands the core a probe's result. One that was sent before a reload is dropped:
// it may have asked another backend, or for something else. The core sends its own.
func (l *Pool) probed(id upstream.BackendID, reloads int, r upstream.Probe, seen *status.ProbeSeen) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.stopped || l.reloads != reloads {
		return
	}
	c := l.backends[id].counts
	if c.probe == nil && !seen.Passed {
		l.set.o.Event(l.Name+"."+l.backends[id].Name, status.EventProbe, "%s", firstFailure(l.backends[id], l.cfg.Probe, seen.Why))
	}
	if c.probe = seen; seen.Passed {
		c.probes.Passed++
	} else {
		c.probes.Failed++
		l.unreachable()
	}
	l.core.ProbeSeen(l.set.o.Now(), id, r)
	l.noteLocked()
}

// noteLocked tells of changes of state and sees to it that run wakes in time.
// l.mu is held.
func (l *Pool) noteLocked() {
	l.changes = l.core.Changes(l.changes[:0])
	for _, c := range l.changes {
		b := l.core.Backend(c.Backend)
		if int(c.Backend) < len(l.backends) && l.backends[c.Backend] != nil {
			l.backends[c.Backend].counts.why = c.Why
		}
		if c.ByWeight {
			continue // what the operator was told says so
		}
		l.set.o.Event(l.Name+"."+b.Name, status.StateEvent(c.To), "%s", c.Why)
		l.closeLocked(&c)
	}
	if len(l.changes) > 0 {
		up := 0
		for _, m := range l.core.Members(l.set.o.Now()) {
			if m.State.InRotation() && m.Weight > 0 {
				up++
			}
		}
		// One whose first probe is awaited may be in rotation in a moment.
		if empty := up == 0 && l.core.Unprobed() == 0; empty != l.empty {
			switch l.empty = empty; {
			case l.empty && l.cfg.TryAnyway:
				l.set.o.Event(l.Name, status.EventUnavailable, "no backend is in rotation; requests try an unavailable one")
			case l.empty:
				l.set.o.Event(l.Name, status.EventUnavailable, "no backend is in rotation; requests are answered with 503")
			default:
				l.set.o.Event(l.Name, status.EventAvailable, "a backend is in rotation again")
			}
		}
	}
	if !l.probedOnce && l.core.Unprobed() == 0 {
		l.probedOnce = true
		close(l.first)
	}
	if l.core.Next() < l.planned {
		select {
		case l.wake <- struct{}{}:
		default:
		}
	}
}

func (l *Pool) stop() {
	l.once.Do(func() {
		close(l.ended)
		l.mu.Lock()
		defer l.mu.Unlock()
		l.stopped = true
		for _, b := range l.backends {
			if b != nil {
				b.closeIdle()
			}
		}
	})
}

// ProbedFirst returns a channel that is closed when no backend waits for its first probe.
func (l *Pool) ProbedFirst() <-chan struct{} { return l.first }

// Stopping returns a channel that is closed when the pool is stopped.
func (l *Pool) Stopping() <-chan struct{} { return l.ended }
