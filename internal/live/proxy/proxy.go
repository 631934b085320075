// Package proxy is the live proxy: HTTP and TCP in front and behind, with every
// decision left to the core, which it hands the real time.
//
// server.go accepts, handler.go and attempt.go carry a request, stream.go a connection;
// package pool keeps the core of an upstream and its connections, control answers
// operators, accesslog writes the lines of requests, journal records what the core was
// told. serve and rehearse run it. It must never import the replay or the checker, and
// never decide what the core can decide.
package proxy

import (
	"crypto/sha256"
	"crypto/tls"
	"fmt"
	"math/rand/v2"
	"net"
	"net/netip"
	"os"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"kestrix/internal/core/config"
	"kestrix/internal/core/limit"
	"kestrix/internal/core/route"
	"kestrix/internal/core/status"
	"kestrix/internal/core/tick"
	"kestrix/internal/core/units"
	"kestrix/internal/live/accesslog"
	"kestrix/internal/live/certificates"
	"kestrix/internal/live/control"
	"kestrix/internal/live/events"
	"kestrix/internal/live/names"
	"kestrix/internal/live/pool"
	"kestrix/internal/live/socket"
	"kestrix/internal/live/tracing"
	"kestrix/internal/live/wire"
)

// Proxy serves a configuration.
type Proxy struct {
	o       Options
	began   time.Time
	state   atomic.Pointer[state]
	mu      sync.Mutex // guards servers and pools: start, reload and stop
	servers map[config.Address]*server
	closing map[*server]struct{} // no longer in the configuration, and waiting for what is open
	retired sync.WaitGroup       // of those
	pools   *pool.Set
	request atomic.Uint64
	ids     *requestIDs
	leaving bool // it is about to stop
	stopped bool
	cutOff  bool // a listener that was being closed has cut something off
	applied bool // a configuration has been served
	failed  chan error
	ready   chan struct{} // closed when connections are accepted

	control *control.Server                   // nil: none
	backTLS map[[sha256.Size]byte]*tls.Config // towards backends, by what they are made of; guarded by tlsMu
	tlsMu   sync.Mutex
	counted time.Time      // since when requests are counted; guarded by mu
	reloads status.Reloads // guarded by mu

	certificates *certificates.Set // by ACME

	events   *events.Log
	requests requestCounts
	kept     keeper

	tracer    atomic.Pointer[tracing.Tracer] // nil: none
	lostSpans atomic.Uint64                  // of tracers that are closed
	conns     socket.Table                   // of clients
	pipes     *wire.Pipes
	limitsMu  sync.Mutex
	limits    limit.Set
}

// state is what requests see of a configuration; a reload puts another in its
// place.
type state struct {
	config       *config.Config
	byListen     map[config.Address]*entry
	certificates []status.Certificate
}

// entry is a frontend as its requests see it.
type entry struct {
	frontend *config.Frontend
	table    *route.Table
	pools    []*pool.Pool   // by position of the route; nil for one that answers by itself
	waits    []config.Waits // likewise
	trusted  []netip.Prefix
	forward  string // the field of trusted proxies that names the client
	identity *config.Identity
	proxy    string      // its name
	tls      *tls.Config // nil: none
	pages    []string    // by position in frontend.Errors.Pages
}

// has reports whether the configuration of a frontend has a listener by its own address.
func (e *entry) has(at config.Address) bool {
	return slices.ContainsFunc(e.frontend.Listen, func(l config.Placed[config.Address]) bool { return l.Value == at })
}

// New makes a proxy that serves nothing yet.
func New(o Options) *Proxy {
	if o.Seed == 0 {
		o.Seed = rand.Uint64()
	}
	if o.Began.IsZero() {
		o.Began = time.Now()
	}
	if o.Dial == nil {
		o.Dial = socket.Dial
	}
	if o.Listen == nil {
		o.Listen = net.Listen
	}
	if o.Names == nil {
		o.Names = names.System{}
	}
	if o.Path == nil {
		o.Path = func(name string) string { return name }
	}
	if o.ReadFile == nil {
		o.ReadFile = os.ReadFile
	}
	if o.Access == nil {
		o.Access = func(*accesslog.Line) {}
	}
	p := &Proxy{
		o: o, ids: newRequestIDs(), began: o.Began, counted: time.Now(), backTLS: map[[sha256.Size]byte]*tls.Config{}, servers: map[config.Address]*server{}, closing: map[*server]struct{}{}, failed: make(chan error, 1), ready: make(chan struct{}), events: events.New(o.Event),
	}
	p.pipes = wire.NewPipes(socket.Pipes(o.Files))
	p.events.Restore(o.Earlier)
	p.certificates = certificates.NewSet(certificates.Options{Tell: p.events.Addf, Path: o.Path, Authorities: p.authorities, Ready: p.ready})
	p.pools = pool.NewSet(pool.Options{Now: p.now, Seed: o.Seed, Dial: o.Dial, Names: o.Names, Event: p.events.Addf, Probe: o.Probe, Journal: o.Journal, Held: o.Held, Keep: o.Keep})
	return p
}

// now is the core's time: since the proxy was made, by the monotonic clock.
func (p *Proxy) now() tick.Time { return tick.Time(time.Since(p.began)) }

// Tell tells of something that happened besides requests: to who follows, and to
// operators who ask later.
func (p *Proxy) Tell(e status.Event) { p.events.Add(e) }

// Apply begins to serve a configuration, or goes over to another one. Listeners
// that are in both stay open and no request is lost. If a new listener cannot
// be opened the error says which, and everything stays as it was.
func (p *Proxy) Apply(c *config.Config) error {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.stopped {
		return fmt.Errorf("the proxy is stopping")
	}
	opened, err := p.listenNew(c)
	if err != nil {
		return err
	}
	undo := func() {
		for _, o := range opened {
			o.listener.Close()
		}
	}
	ctl := p.control
	if x := c.Control; x == nil {
		ctl = nil
	} else if ctl == nil || ctl.Address() != x.Listen.Value {
		if ctl, err = control.Open(controlled{p}, x.Listen.Value, p.bind, control.Options{Events: p.events, Reload: p.o.Reload, Pages: p.o.Pages}); err != nil {
			undo()
			return placed(x.Listen.Range, err)
		}
	}
	plan, err := p.certificates.Plan(c)
	var next *state
	var secure *tls.Config
	if err == nil {
		next, secure, err = p.prepare(c, plan)
	}
	var tracer *tracing.Tracer
	if err == nil {
		tracer, err = p.newTracer(c)
	}
	if err != nil {
		if ctl != p.control {
			ctl.Close()
		}
		undo()
		return err
	}
	p.takeControl(ctl, c.Control, secure)
	p.contained(next)
	p.state.Store(next)
	p.certificates.Use(plan)
	p.useTracer(tracer)
	slow := time.Duration(0) // nobody can ask
	if c.Control != nil {
		slow = c.Control.SlowRequests
	}
	p.kept.slowFrom.Store(int64(slow))
	p.setConnLimits(c)
	p.takeServers(next, opened)
	p.keepPools(c)
	p.pools.Review()
	if !p.applied {
		p.applied = true
		go p.awaitProbes(p.pools.All())
	}
	return nil
}

// listenNew opens the listeners that a configuration has anew: all of them, or none.
// p.mu must be held.
func (p *Proxy) listenNew(c *config.Config) (opened []*server, err error) {
	for _, f := range c.Frontends {
		for _, l := range f.Listen {
			if p.servers[l.Value] != nil {
				continue
			}
			for s := range p.closing { // a reload before may have left the address just now
				if s.address == l.Value {
					<-s.unbound
				}
			}
			s, err := p.listen(l.Value)
			if err != nil {
				for _, o := range opened {
					o.listener.Close()
				}
				return nil, fmt.Errorf("%s:%d:%d: %w", l.Range.Filename, l.Range.Start.Line, l.Range.Start.Column, err)
			}
			opened = append(opened, s)
		}
	}
	return opened, nil
}

// takeControl goes over to another control listener, or to others who may ask it. p.mu
// must be held.
func (p *Proxy) takeControl(ctl *control.Server, cfg *config.Control, secure *tls.Config) {
	if before := p.control; before != ctl {
		before.Unlisten()
		p.retired.Go(before.Close) // its operator may be the one who waits for this reload
		p.control = ctl
		if ctl != nil {
			p.events.Addf(ctl.Address().String(), status.EventListening, "control")
		}
	}
	if ctl != nil {
		ctl.Use(cfg, secure)
	}
}

// takeServers has the listeners follow a configuration. p.mu must be held.
func (p *Proxy) takeServers(next *state, opened []*server) {
	for addr, s := range p.servers {
		if e := next.byListen[addr]; e != nil {
			if was := s.last.Load(); e.has(addr) != was.has(addr) {
				p.events.Addf(addr.String(), status.EventListening, "frontend %s%s", e.frontend.Name, map[bool]string{false: ", as a part of another listener that contains it"}[e.has(addr)])
			}
			s.last.Store(e)
			s.configure(e.frontend)
		}
	}
	for _, s := range opened {
		p.servers[s.address] = s
		s.last.Store(next.byListen[s.address])
		s.configure(next.byListen[s.address].frontend)
		s.serve()
		p.events.Addf(s.address.String(), status.EventListening, "frontend %s", next.byListen[s.address].frontend.Name)
	}
	for addr, s := range p.servers {
		if next.byListen[addr] == nil {
			delete(p.servers, addr)
			p.closing[s] = struct{}{}
			accept := acceptFor
			for at := range p.servers {
				if addr.Contains(at) { // what came before that one was open waits in the queue of this
					accept = acceptWiderFor
				}
			}
			p.events.Addf(addr.String(), status.EventClosing, "no longer in the configuration; its connections end with their next response")
			p.retired.Go(func() { p.retire(s, accept) })
		}
	}
}

// retire closes a listener that has gone from the configuration, and lets go of what only
// its connections needed. It goes on accepting for a while.
func (p *Proxy) retire(s *server, accept time.Duration) {
	err := s.shutdown(p.o.Grace, accept)
	p.mu.Lock()
	defer p.mu.Unlock()
	delete(p.closing, s)
	if err != nil {
		p.events.Addf(s.address.String(), status.EventClosed, "after %s, %v", units.Duration(p.o.Grace), err)
		p.cutOff = true
	} else {
		p.events.Addf(s.address.String(), status.EventClosed, "every received request was answered")
	}
	if !p.stopped {
		p.keepPools(p.state.Load().config)
	}
}

// keepPools stops the pools that neither a configuration has nor a listener that is being
// closed. p.mu must be held.
func (p *Proxy) keepPools(c *config.Config) {
	p.pools.Keep(func(name string) bool {
		for s := range p.closing {
			if slices.ContainsFunc(s.last.Load().frontend.Routes, func(r *config.Route) bool { return r.SendTo.Value == name }) {
				return true
			}
		}
		return c.Upstream(name) != nil
	})
}

// probesWithin is how long a starting proxy waits for first probes to end.
const probesWithin = 5 * time.Second

// awaitProbes has connections accepted when no backend waits for its first probe any
// more, or after probesWithin: until then nothing is known of them.
func (p *Proxy) awaitProbes(pools []*pool.Pool) {
	late := time.NewTimer(probesWithin)
	defer late.Stop()
	defer close(p.ready)
	for _, l := range pools {
		select {
		case <-l.ProbedFirst():
		case <-l.Stopping():
		case <-late.C:
			p.events.Addf("kestrix", status.EventProbe, "first probes have not ended within %s; connections are accepted anyway", units.Duration(probesWithin))
			return
		}
	}
}

// Ready returns a channel that is closed when connections are accepted: listeners are
// bound by Apply, and the first probes of all backends have ended, or taken too long.
func (p *Proxy) Ready() <-chan struct{} { return p.ready }

// setConnLimits bounds the connections of clients and backends, so that a
// configuration has the files that it needs.
func (p *Proxy) setConnLimits(c *config.Config) {
	probed := 0
	for _, u := range c.Upstreams {
		if u.Probe != nil {
			probed += len(u.Backends)
		}
	}
	s := socket.ShareFiles(p.o.Files, probed, c.ConnectionsTotal)
	if c.ConnectionsTotal > s.Clients {
		p.events.Addf("kestrix", status.EventLimits, "connections_total is %s, and the %s files that the process may have open (RLIMIT_NOFILE) allow %s", units.Count(int64(c.ConnectionsTotal)), units.Count(int64(p.o.Files)), units.Count(int64(s.Clients)))
	}
	p.conns.SetLimit(s.Clients)
	p.pools.SetLimit(s.Backends)
}

// prepare makes what requests see of a configuration, the pools behind it, and how control
// speaks TLS.
// Nothing is changed if there is an error.
func (p *Proxy) prepare(c *config.Config, plan *certificates.Plan) (next *state, control *tls.Config, err error) {
	fronts := make([]*tls.Config, len(c.Frontends))
	pages := make([][]string, len(c.Frontends))
	backs := make([]*tls.Config, len(c.Upstreams))
	for i, f := range c.Frontends {
		if fronts[i], err = p.frontTLS(f.TLS, plan); err != nil {
			return nil, nil, err
		}
		if pages[i], err = p.errorPages(&f.Errors); err != nil {
			return nil, nil, err
		}
	}
	for i, u := range c.Upstreams {
		if backs[i], err = p.upstreamTLS(u.TLS); err != nil {
			return nil, nil, err
		}
		if u.ConnectFrom.IsValid() {
			if err := socket.CanBeLocal(u.ConnectFrom); err != nil {
				return nil, nil, placed(u.Range, fmt.Errorf("%s cannot be connected from, as connect_from of %q has it: %w", u.ConnectFrom, u.Name, err))
			}
		}
	}
	if c.Control != nil {
		if control, err = p.frontTLS(c.Control.TLS, plan); err != nil {
			return nil, nil, err
		}
	}
	next = &state{config: c, byListen: map[config.Address]*entry{}}
	for i, f := range c.Frontends {
		next.shows(f.TLS, fronts[i])
	}
	if c.Control != nil {
		next.shows(c.Control.TLS, control)
	}
	for i, u := range c.Upstreams {
		p.pools.Put(u, backs[i])
	}
	for i, f := range c.Frontends {
		e := &entry{frontend: f, table: route.Compile(f), trusted: c.Trusted, forward: c.ClientFrom, identity: &c.Identity, proxy: p.name(c), tls: fronts[i], pages: pages[i]}
		for _, r := range f.Routes {
			var waits config.Waits
			if u := c.Upstream(r.SendTo.Value); u != nil {
				waits = r.Waits(u)
			}
			e.pools, e.waits = append(e.pools, p.pools.Get(r.SendTo.Value)), append(e.waits, waits)
		}
		for _, l := range f.Listen {
			next.byListen[l.Value] = e
		}
	}
	return next, control, nil
}

// limited returns how long a client has to wait until it is within the rate of a
// frontend, or of one of its routes; 0 if it is.
func (p *Proxy) limited(f *config.Frontend, r *config.Route, client uint64) time.Duration {
	p.limitsMu.Lock()
	defer p.limitsMu.Unlock()
	if r != nil {
		return p.limits.Route(p.now(), f, r, client)
	}
	return p.limits.Front(p.now(), f, client)
}

// Failed returns the error of a listener that broke while serving.
func (p *Proxy) Failed() <-chan error { return p.failed }

// Leave has the proxy not be ready any more (TakesConnections of control), as it is
// about to stop; it serves on until Stop.
func (p *Proxy) Leave() {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.leaving = true
}

// Stop takes no new connections and waits for open requests, up to the grace
// time. The error says that some were cut off.
func (p *Proxy) Stop() error {
	p.mu.Lock()
	p.stopped, p.cutOff = true, false // what was cut off before has been told
	servers := make([]*server, 0, len(p.servers))
	for _, s := range p.servers {
		servers = append(servers, s)
	}
	p.mu.Unlock()
	var wg sync.WaitGroup
	var cut atomic.Bool
	for _, s := range servers {
		wg.Go(func() {
			if s.shutdown(p.o.Grace, acceptFor) != nil {
				cut.Store(true)
			}
		})
	}
	wg.Wait()
	p.certificates.Close()
	p.tracer.Load().Close(flushSpans)
	p.retired.Wait()
	p.events.Flush()
	p.mu.Lock()
	defer p.mu.Unlock()
	p.control.Close()
	p.pools.Stop()
	if cut.Load() || p.cutOff {
		return fmt.Errorf("some requests were still in flight after %s and were closed", units.Duration(p.o.Grace))
	}
	return nil
}

// Refresh reads certificates, keys and pages anew that the configuration in
// force names. With an error everything stays as it was.
func (p *Proxy) Refresh() error {
	s := p.state.Load()
	if s == nil {
		return nil
	}
	return p.Apply(s.config)
}

// Files lists what the configuration in force names besides itself: files of
// certificates, keys, authorities and pages, as they are written there.
func (p *Proxy) Files() []string {
	s := p.state.Load()
	if s == nil {
		return nil
	}
	var out []string
	for _, x := range s.config.Pairs() {
		out = append(out, x.Certificate.Value, x.Key.Value)
	}
	for _, x := range append(s.config.Authorities(), s.config.ErrorPages()...) {
		out = append(out, x.Value)
	}
	slices.Sort(out)
	return slices.Compact(out)
}

// Alive returns when everything that decides has been reached: a proxy that is
// stuck never does.
func (p *Proxy) Alive() {
	p.mu.Lock()
	_ = p.stopped // the lock is what was wanted
	p.mu.Unlock()
	p.pools.Reach()
	p.limitsMu.Lock()
	defer p.limitsMu.Unlock()
}
