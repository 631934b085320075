package proxy

import (
	"time"

	"kestrix/internal/core/status"
	"kestrix/internal/core/tick"
	"kestrix/internal/core/upstream"
)

// What control tells of a running proxy.
type (
	Status         = status.Status
	UpstreamStatus = status.Upstream
	BackendStatus  = status.Backend
	ProbeSeen      = status.ProbeSeen
)

// Status returns how everything stands.
func (p *Proxy) Status() Status { return p.stands(false) }

// stands returns how everything stands, with what was asked lately if that is
// wanted.
func (p *Proxy) stands(recent bool) Status {
	s := Status{Version: p.o.Version, Began: p.began, At: time.Now(), Refused: p.refusals.all(), Upstreams: []UpstreamStatus{}}
	p.mu.Lock()
	defer p.mu.Unlock()
	s.Counted = p.counted
	st := p.state.Load()
	if st == nil {
		return s
	}
	for _, u := range st.config.Upstreams {
		if l := p.pools.get(u.Name); l != nil {
			s.Upstreams = append(s.Upstreams, l.status(s.At, recent))
		}
	}
	return s
}

func (l *pool) status(at time.Time, recent bool) UpstreamStatus {
	l.mu.Lock()
	defer l.mu.Unlock()
	now := l.set.o.Now()
	wall := func(t tick.Time) time.Time { return at.Add(-now.Sub(t)) }
	u := UpstreamStatus{Name: l.name, Algorithm: l.cfg.Algorithm, Waiting: l.core.Waiting(), Refused: l.refused, Backends: []BackendStatus{}}
	fair, total := upstream.FairShares(l.cfg), uint64(0)
	for _, m := range l.core.Members(now) {
		cfg := l.core.Backend(m.ID)
		c := l.backends[m.ID].counts
		b := BackendStatus{
			Name: m.Name, Address: cfg.Address.String(), State: m.State.String(), Why: c.why, Since: wall(m.Since), Rest: max(m.Rest, 0).Seconds(), ByHand: m.ByHand,
			Zone: cfg.Zone, Tier: cfg.Tier, Weight: m.Weight, FairShare: fair[m.Name], InFlight: m.InFlight, Rate: c.rate(now), Probe: c.probe,
		}
		if h := l.hands[m.Name]; h != nil {
			until := h.until
			b.Until = &until
		}
		if recent {
			b.Recent = c.lately(now)
		}
		c.tell(&b)
		total += b.Requests
		u.Backends = append(u.Backends, b)
	}
	for i := range u.Backends {
		if b := &u.Backends[i]; total > 0 {
			b.Share = float64(b.Requests) / float64(total)
		}
	}
	return u
}

// Zero begins all counts anew.
func (p *Proxy) Zero() {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.counted = time.Now()
	p.refusals.zero()
	p.pools.zero()
}

// zero begins the counts anew.
func (l *pool) zero() {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.refused = 0
	for _, b := range l.backends {
		if b != nil {
			b.counts.zero()
		}
	}
}
