package proxy

import (
	"slices"
	"strings"
	"time"

	"kestrix/internal/core/config"
	"kestrix/internal/core/status"
	"kestrix/internal/live/measure"
)

// Status returns how everything stands.
func (p *Proxy) Status() status.Status { return p.stands(false) }

// stands returns how everything stands, with what was asked lately if that is
// wanted.
func (p *Proxy) stands(recent bool) status.Status {
	s := status.Status{Proxy: p.o.Name, Version: p.o.Version, Commit: p.o.Commit, Began: p.began, At: time.Now(), Frontends: []status.Frontend{}, Listeners: []status.Listener{}, Refused: p.requests.refused(), Connections: p.requests.refusedConnections(), Certificates: []status.Certificate{}, Orders: []status.Held{}, Upstreams: []status.Upstream{}}
	p.mu.Lock()
	defer p.mu.Unlock()
	s.Counted, s.Reloads = p.counted, p.reloads
	if p.o.LostLines != nil {
		s.LostLines = p.o.LostLines()
	}
	s.LostSpans = p.lostSpans.Load() + p.tracer.Load().Lost()
	st := p.state.Load()
	if st == nil {
		return s
	}
	s.Proxy = p.name(st.config)
	s.Frontends = p.requests.frontends(st.config.Frontends)
	for _, u := range st.config.Upstreams {
		if l := p.pools.Get(u.Name); l != nil {
			s.Upstreams = append(s.Upstreams, l.Status(s.At, recent))
		}
	}
	for _, x := range p.servers {
		s.Listeners = append(s.Listeners, x.status())
	}
	slices.SortFunc(s.Listeners, func(a, b status.Listener) int { return strings.Compare(a.Address, b.Address) })
	s.Certificates = append(append(s.Certificates, st.certificates...), p.certificates.Status()...)
	for _, h := range p.pools.Held() {
		if h.Without != nil {
			s.Orders = append(s.Orders, h)
		}
	}
	return s
}

// Reloaded notes that the configuration was read again, what is in force then, by its hash,
// or that it was refused.
func (p *Proxy) Reloaded(hash string, taken bool) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if !taken {
		p.reloads.Refused++
		p.reloads.RefusedAt = time.Now()
		return
	}
	if p.reloads.Hash != "" { // else it is the start
		p.reloads.Taken++
	}
	p.reloads.Hash, p.reloads.At = hash, time.Now()
}

// Zero begins all counts anew.
func (p *Proxy) Zero() {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.counted = time.Now()
	p.requests.zero()
	for _, x := range p.servers {
		x.total.Store(0)
	}
	p.pools.Zero()
}

// Operate does what an operator wants; who is told in the news. The error is a
// *pool.OrderError, and nothing was done.
func (p *Proxy) Operate(o status.Order, who string) (status.Told, error) {
	return p.pools.Operate(o, who)
}

// Held returns the orders of operators that are in force.
func (p *Proxy) Held() []status.Held { return p.pools.Held() }

// controlled is a proxy as control sees it.
type controlled struct{ *Proxy }

// StatusWithRecent returns how everything stands, with what was asked lately.
func (p controlled) StatusWithRecent() status.Status { return p.stands(true) }

// Configuration returns the sources of the configuration in force, without secrets.
func (p controlled) Configuration() []config.File { return p.state.Load().config.Resolved() }

// TakesConnections reports whether clients are served, and are to be.
func (p controlled) TakesConnections() bool {
	p.mu.Lock()
	defer p.mu.Unlock()
	select {
	case <-p.ready:
		return !p.leaving && !p.stopped && len(p.servers) > 0
	default:
		return false // first probes are awaited
	}
}

// RouteTimes returns the times of each route that had requests, by frontend and name.
func (p controlled) RouteTimes() []measure.RouteTimes { return p.requests.times() }

// BackendHistograms reports whether metrics have a histogram for each backend.
func (p controlled) BackendHistograms() bool {
	c := p.state.Load().config.Control
	return c == nil || c.BackendHistograms
}

// FirstBytes returns the times to the header of a response of an upstream's backends.
func (p controlled) FirstBytes(upstream string) map[string]measure.Buckets {
	if l := p.pools.Get(upstream); l != nil {
		return l.FirstBytes()
	}
	return nil
}
