package pool

import (
	"context"
	"crypto/tls"
	"maps"
	"net"
	"slices"
	"sync"
	"time"

	"kestrix/internal/core/config"
	"kestrix/internal/core/status"
	"kestrix/internal/core/tick"
	"kestrix/internal/core/upstream"
	"kestrix/internal/live/journal"
	"kestrix/internal/live/names"
	"kestrix/internal/live/socket"
)

// Options say how pools reach their backends and what they report to.
type Options struct {
	Now     func() tick.Time // the time of the core
	Seed    uint64           // keys the random numbers of the core
	Dial    func(ctx context.Context, network, address string) (net.Conn, error)
	Names   names.Resolver
	Event   func(object string, kind status.EventKind, format string, args ...any) // must be safe for concurrent use, like those below
	Probe   func(who string, took time.Duration, what string)                      // after each probe; nil for nobody
	Journal func(journal.Entry)                                                    // nil for nobody
	Held    []status.Held                                                          // orders of a proxy before
	Keep    func([]status.Held) error                                              // keeps the orders in force for a proxy after this one; nil for nobody
}

// Set is the pools of a proxy, which share the connections that the process may have.
type Set struct {
	o     Options
	conns socket.Count // to backends
	held  held

	mu    sync.Mutex // guards pools; held before that of a pool
	pools map[string]*Pool
}

// NewSet returns a set without pools.
func NewSet(o Options) *Set {
	s := &Set{o: o, pools: map[string]*Pool{}}
	s.adopt(o.Held)
	return s
}

// SetLimit sets how many connections backends may have together, 0 for no limit.
func (s *Set) SetLimit(conns int) { s.conns.SetLimit(conns) }

// Put has the pool of an upstream follow its configuration, or makes one. secure is nil
// where backends are reached in clear text.
func (s *Set) Put(cfg *config.Upstream, secure *tls.Config) {
	if l := s.Get(cfg.Name); l != nil {
		l.reload(cfg, secure)
		return
	}
	l := newPool(s, cfg, secure)
	s.mu.Lock()
	defer s.mu.Unlock()
	s.pools[cfg.Name] = l
}

// Get returns the pool of an upstream, nil if there is none.
func (s *Set) Get(name string) *Pool {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.pools[name]
}

// All returns the pools, in no order.
func (s *Set) All() []*Pool {
	s.mu.Lock()
	defer s.mu.Unlock()
	return slices.Collect(maps.Values(s.pools))
}

// Keep stops the pools whose upstream is not wanted.
func (s *Set) Keep(wanted func(name string) bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for name, l := range s.pools {
		if !wanted(name) {
			delete(s.pools, name)
			l.stop()
		}
	}
}

// Stop stops all pools.
func (s *Set) Stop() {
	for _, l := range s.All() {
		l.stop()
	}
	s.held.mu.Lock()
	defer s.held.mu.Unlock()
	for _, x := range s.held.all {
		if x.timer != nil {
			x.timer.Stop()
		}
	}
}

// Reach returns when the lock of every pool could be taken: a pool that is stuck never
// lets it return.
func (s *Set) Reach() {
	for _, l := range s.All() {
		l.mu.Lock()
		_ = l.stopped // the lock is what was wanted
		l.mu.Unlock()
	}
}

// Zero begins all counts anew.
func (s *Set) Zero() {
	for _, l := range s.All() {
		l.zero()
	}
}

// CloseUnused closes the connections to backends that wait for a request, and
// reports whether there was one.
func (s *Set) CloseUnused() bool {
	closed := 0
	for _, l := range s.All() {
		l.mu.Lock()
		backends := slices.DeleteFunc(slices.Clone(l.backends), func(b *Backend) bool { return b == nil })
		l.mu.Unlock()
		for _, b := range backends {
			closed += b.idle.drop()
			b.mu.Lock()
			for _, t := range b.transports {
				t.CloseIdleConnections()
			}
			b.mu.Unlock()
		}
	}
	return closed > 0
}

// TryBackend connects to one backend of an upstream and sends its probe, once, outside any
// pool. The error is that of connecting; r is nil where there is no probe.
func (s *Set) TryBackend(u *config.Upstream, b config.Backend, secure *tls.Config) (connected time.Duration, r *upstream.Probe, probed time.Duration, err error) {
	x := newBackend(s, b, u, secure)
	began := time.Now()
	c, err := x.Connect(context.Background())
	connected = time.Since(began)
	if err != nil || u.Probe == nil {
		if err == nil {
			c.Close()
		}
		return connected, nil, 0, err
	}
	c.Close()
	began = time.Now()
	p, _ := probeNow(x, u.Probe)
	return connected, &p, time.Since(began), nil
}
