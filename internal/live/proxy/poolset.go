package proxy

import (
	"context"
	"crypto/tls"
	"maps"
	"net"
	"net/netip"
	"slices"
	"sync"
	"time"

	"kestrix/internal/core/config"
	"kestrix/internal/core/tick"
	"kestrix/internal/core/upstream"
	"kestrix/internal/live/journal"
	"kestrix/internal/live/socket"
)

// poolOptions say how pools reach their backends and what they report to.
type poolOptions struct {
	Now     func() tick.Time // the time of the core
	Seed    uint64           // keys the random numbers of the core
	Dial    func(ctx context.Context, network, address string) (net.Conn, error)
	Lookup  func(ctx context.Context, host string) ([]netip.Addr, error)
	Event   func(who, what, format string, args ...any)       // must be safe for concurrent use, like those below
	Probe   func(who string, took time.Duration, what string) // after each probe; nil for nobody
	Journal func(journal.Entry)                               // nil for nobody
}

// poolSet is the pools of a proxy, which share the connections that the process may have.
type poolSet struct {
	o     poolOptions
	conns socket.Count // to backends

	mu    sync.Mutex // guards pools; held before that of a pool
	pools map[string]*pool
}

// newPoolSet returns a set without pools.
func newPoolSet(o poolOptions) *poolSet { return &poolSet{o: o, pools: map[string]*pool{}} }

// setLimit sets how many connections backends may have together, 0 for no limit.
func (s *poolSet) setLimit(conns int) { s.conns.SetLimit(conns) }

// put has the pool of an upstream follow its configuration, or makes one. secure is nil
// where backends are reached in clear text.
func (s *poolSet) put(cfg *config.Upstream, secure *tls.Config) {
	if l := s.get(cfg.Name); l != nil {
		l.reload(cfg, secure)
		return
	}
	l := newPool(s, cfg, secure)
	s.mu.Lock()
	defer s.mu.Unlock()
	s.pools[cfg.Name] = l
}

// get returns the pool of an upstream, nil if there is none.
func (s *poolSet) get(name string) *pool {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.pools[name]
}

// all returns the pools, in no order.
func (s *poolSet) all() []*pool {
	s.mu.Lock()
	defer s.mu.Unlock()
	return slices.Collect(maps.Values(s.pools))
}

// keep stops the pools whose upstream is not wanted.
func (s *poolSet) keep(wanted func(name string) bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for name, l := range s.pools {
		if !wanted(name) {
			delete(s.pools, name)
			l.stop()
		}
	}
}

// stop stops all pools.
func (s *poolSet) stop() {
	for _, l := range s.all() {
		l.stop()
	}
}

// reach returns when the lock of every pool could be taken: a pool that is stuck never
// lets it return.
func (s *poolSet) reach() {
	for _, l := range s.all() {
		l.mu.Lock()
		_ = l.stopped // the lock is what was wanted
		l.mu.Unlock()
	}
}

// zero begins all counts anew.
func (s *poolSet) zero() {
	for _, l := range s.all() {
		l.zero()
	}
}

// closeUnused closes the connections to backends that wait for a request, and
// reports whether there was one.
func (s *poolSet) closeUnused() bool {
	closed := 0
	for _, l := range s.all() {
		l.mu.Lock()
		backends := slices.DeleteFunc(slices.Clone(l.backends), func(b *backend) bool { return b == nil })
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

// tryBackend connects to one backend of an upstream and sends its probe, once, outside any
// pool. The error is that of connecting; r is nil where there is no probe.
func (s *poolSet) tryBackend(u *config.Upstream, b config.Backend, secure *tls.Config) (connected time.Duration, r *upstream.Probe, probed time.Duration, err error) {
	x := newBackend(s, b, u, secure)
	began := time.Now()
	c, err := x.connect(context.Background())
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
