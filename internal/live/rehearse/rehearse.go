// Package rehearse has a configuration serve a trace over the network, with stand-ins
// that behave and fail as a scenario says, all of it on loopback, and compares the
// outcome with the replay's prediction.
//
// The command rehearse calls it. It must never listen on or connect to anything but
// loopback.
package rehearse

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/netip"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"kestrix/internal/core/config"
	"kestrix/internal/core/request"
	"kestrix/internal/core/result"
	"kestrix/internal/core/scenario"
	"kestrix/internal/core/status"
	"kestrix/internal/core/trace"
	"kestrix/internal/live/accesslog"
	"kestrix/internal/live/drive"
	"kestrix/internal/live/proxy"
	"kestrix/internal/live/standin"
)

// Options say what is rehearsed.
type Options struct {
	Config   *config.Config // as the scenario expands it
	Scenario *scenario.Scenario
	Records  []*trace.Record // in order; nil for a closed load of the scenario
	Seed     uint64
	Bucket   float64 // seconds of a row of the timeline, as in the prediction
	Frontend string  // of records that name none; empty if there is only one
	Host     string  // likewise
	Version  string
	// Event takes what happens to the proxy and the stand-ins once requests are sent; nil
	// discards it. It is called from several goroutines.
	Event func(status.Event)
	// Progress is told now and then how far the drive has come; nil for nobody.
	Progress func(drive.Progress)
}

// Mapped is an address of the configuration, and where it was rehearsed.
type Mapped struct {
	What string // UPSTREAM.BACKEND, or a frontend
	From string
	To   string
}

// Outcome is what came of it.
type Outcome struct {
	Result  *result.Replay
	Mapping []Mapped
	Left    []string // what of the configuration was left out, and why
	Late    drive.Lateness
	KeptUp  bool
}

// stage is a rehearsal as it runs.
type stage struct {
	o         *Options
	config    *config.Config
	out       *Outcome
	standIn   []*standin.StandIn
	depend    []*standin.Dependency // that they share
	targets   map[string]drive.Target
	listeners map[string]net.Listener // of frontends, by address
	named     map[string]bool         // tcp frontends whose routes go by the name in a handshake
	only      string                  // the frontend of records that name none; empty if there is none
	proxy     *proxy.Proxy
	began     time.Time

	pages  []drive.PageSample // once the drive is over
	mu     sync.Mutex
	access []accesslog.Line
	events []status.Event
}

// Run rehearses. It ends early with ctx; what is open then is cut and the result
// partial. The error says what cannot be had on this machine.
func Run(ctx context.Context, o Options) (*Outcome, error) {
	s := &stage{o: &o, out: &Outcome{}, targets: map[string]drive.Target{}, named: map[string]bool{}, listeners: map[string]net.Listener{}}
	if err := s.mapAddresses(); err != nil {
		return nil, err
	}
	for _, x := range s.standIn {
		if err := x.Start(); err != nil {
			return nil, err
		}
		defer x.Stop()
	}
	s.proxy = proxy.New(proxy.Options{
		Version: o.Version, Seed: o.Seed, Grace: time.Second, Event: s.event, Access: s.served,
		Given: func(_, address string) net.Listener { return s.listeners[address] },
	})
	s.began = time.Now()
	if err := s.proxy.Apply(s.config); err != nil {
		return nil, fmt.Errorf("the proxy cannot be rehearsed: %w", err)
	}
	defer func() { _ = s.proxy.Stop() }() // nothing waits for what is open
	select {
	case <-s.proxy.Ready():
	case <-ctx.Done():
	}
	faults, over := context.WithCancel(ctx)
	defer over()
	s.play(faults)
	samples := s.drive(ctx)
	over()
	partial := ctx.Err() != nil
	s.out.Late = drive.LatenessOf(samples)
	s.result(samples, partial)
	s.out.KeptUp = s.out.Late.KeptUp(&s.out.Result.Latency)
	return s.out, nil
}

// listen listens at an address of loopback of its own.
func listen() (config.Address, net.Listener, error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return config.Address{}, nil, fmt.Errorf("there is no port left on loopback: %w", err)
	}
	return config.Address{Host: "127.0.0.1", Port: l.Addr().(*net.TCPAddr).Port}, l, nil
}

// free returns an address of loopback at which nothing listens at this moment.
func free() (config.Address, error) {
	at, l, err := listen()
	if err == nil {
		l.Close()
	}
	return at, err
}

// mapAddresses makes the configuration that is rehearsed, and the stand-ins and
// targets at its addresses.
func (s *stage) mapAddresses() error {
	c := *s.o.Config
	c.Control, c.AccessLog, c.Record, c.Tracing = nil, config.AccessLog{}, config.Placed[string]{}, nil
	c.Trusted = append(slices.Clone(c.Trusted), netip.MustParsePrefix("127.0.0.0/8"))
	c.Frontends, c.Upstreams = nil, nil
	for _, f := range s.o.Config.Frontends {
		own := *f
		own.Timeouts.HalfClosed = 0 // the driver ends its direction only when it leaves
		at, listener, err := listen()
		if err != nil {
			return err
		}
		s.listeners[at.String()] = listener // the proxy takes it over
		for _, l := range f.Listen {
			s.out.Mapping = append(s.out.Mapping, Mapped{f.Name, l.Value.String(), at.String()})
		}
		own.Errors.Form, own.Errors.Pages = "problem", nil // so that each failure is told by its cause
		own.Listen = []config.Placed[config.Address]{{Value: at, Range: f.Range}}
		t := drive.Target{Scheme: "http", Address: at.String(), Host: s.o.Host, Header: f.ProxyProtocol}
		if t.Host == "" {
			t.Host = at.String()
		}
		if f.Protocol == "tcp" {
			t.Scheme, t.Header, own.ProxyProtocol = "tcp", true, true // it has no other way to name clients
			for _, r := range f.Routes {
				if r.When.AsksSNI() {
					s.named[f.Name] = true // by the name in a handshake, which is a record's host
				}
			}
		}
		if f.TLS != nil {
			own.TLS = nil
			s.leave("frontend %s is rehearsed in clear text", f.Name)
		}
		s.targets[f.Name] = t
		if len(s.o.Config.Frontends) == 1 || f.Name == s.o.Frontend {
			s.only, s.targets[""] = f.Name, t
		}
		if s.named[f.Name] {
			t.Scheme = "tls"
			s.targets[f.Name+overTLS] = t
		}
		c.Frontends = append(c.Frontends, &own)
	}
	for _, u := range s.o.Config.Upstreams {
		own := s.upstreamInClear(u)
		for i := range own.Backends {
			b := &own.Backends[i]
			at, err := free()
			if err != nil {
				return err
			}
			name := u.Name + "." + b.Name
			s.out.Mapping = append(s.out.Mapping, Mapped{name, b.Address.String(), at.String()})
			b.Address = at
			s.standIn = append(s.standIn, s.behaving(name, at, u))
		}
		c.Upstreams = append(c.Upstreams, own)
	}
	s.config = &c
	return nil
}

// upstreamInClear returns an upstream as stand-ins can serve it, and lists what is left
// out of it.
func (s *stage) upstreamInClear(u *config.Upstream) *config.Upstream {
	own := *u
	own.Backends = slices.Clone(u.Backends)
	own.ResolveEach = false
	if u.TLS != nil {
		own.TLS = nil
		s.leave("upstream %s is rehearsed in clear text", u.Name)
	}
	if u.Probe != nil && u.Probe.Port != 0 {
		p := *u.Probe
		p.Port = 0
		own.Probe = &p
		s.leave("the probes of %s come at the port that is served", u.Name)
	}
	if own.Probe != nil && own.Probe.Asks() && own.Probe.Kind != "http" {
		p := *own.Probe
		p.Kind, p.Body, p.Send = "tcp", "", ""
		own.Probe = &p
		s.leave("the %s probe of %s is rehearsed by opening the port: stand-ins speak http", u.Probe.Of().What(u.Probe), u.Name)
	}
	return &own
}

// overTLS stands behind the name of a frontend whose connections begin with a
// handshake.
const overTLS = " over TLS"

// leave notes what is not rehearsed as it is.
func (s *stage) leave(format string, args ...any) {
	s.out.Left = append(s.out.Left, fmt.Sprintf(format, args...))
}

// behaving makes a stand-in that does as the scenario says.
func (s *stage) behaving(name string, at config.Address, u *config.Upstream) *standin.StandIn {
	b := s.o.Scenario.Behaviour(name)
	x := &standin.StandIn{Name: name, Address: at, Obeys: true, Reports: u.Probe != nil && u.Probe.Of().Reports}
	if s.depend == nil {
		s.depend = standin.DependenciesOf(s.o.Scenario)
	}
	x.Needs = standin.NeedsOf(s.o.Scenario.Needs(u, strings.TrimPrefix(name, u.Name+".")), s.depend)
	x.Behave(b, s.o.Scenario.PathServices(u, strings.TrimPrefix(name, u.Name+".")))
	if b.Service.Kind == "" || b.Service.Kind == "from_trace" {
		x.Service = scenario.UnknownService // for what the trace does not say
	} else {
		x.Draws = true
	}
	return x
}

// play has faults begin and end: stand-ins play most, the others are the hand of
// an operator.
func (s *stage) play(ctx context.Context) {
	played := slices.DeleteFunc(slices.Clone(s.o.Scenario.Faults), func(f scenario.Fault) bool { return f.Of().Order != "" })
	standin.Play(ctx, s.standIn, played, s.happened)
	for _, f := range s.o.Scenario.Faults {
		if f.Of().Order != "" {
			go s.byHand(ctx, f)
		}
	}
}

// byHand does what an operator does in a fault of that kind.
func (s *stage) byHand(ctx context.Context, f scenario.Fault) {
	wait := func(until time.Duration) bool {
		select {
		case <-time.After(until - time.Since(s.began)):
			return true
		case <-ctx.Done():
			return false
		}
	}
	operate := func(backend, do string, weight int) {
		o := status.Order{Backend: backend, Do: do, Insist: true}
		if do == "weight" {
			o.Weight = &weight
		}
		if _, err := s.proxy.Operate(o, "the scenario"); err != nil {
			s.happened(backend, status.EventRefused, err.Error())
		}
	}
	struckNow := func(do func(name string, b *status.Backend)) {
		for _, u := range s.proxy.Status().Upstreams {
			for i := range u.Backends {
				if name := u.Name + "." + u.Backends[i].Name; struck(f, name) {
					do(name, &u.Backends[i])
				}
			}
		}
	}
	if !wait(f.At) {
		return
	}
	before := map[string]int{} // the weights in force, by backend
	struckNow(func(name string, b *status.Backend) {
		before[name] = b.Weight
		operate(name, f.Of().Order, f.Weight)
	})
	if f.Until < 0 || !wait(f.Until) {
		return
	}
	struckNow(func(name string, b *status.Backend) {
		if f.Of().Order == "weight" {
			operate(name, "weight", before[name])
			return
		}
		operate(name, "return", 0) // which takes a weight back too: one that another fault has set is set again
		for _, o := range b.Orders {
			if o.Do == "weight" {
				operate(name, "weight", o.Weight)
			}
		}
	})
}

// struck reports whether a fault strikes a backend.
func struck(f scenario.Fault, name string) bool {
	return slices.ContainsFunc(f.Backends, func(p config.Placed[string]) bool { return scenario.Fits(p.Value, name) })
}

// event keeps what the proxy tells.
func (s *stage) event(e status.Event) {
	s.mu.Lock()
	s.events = append(s.events, e)
	s.mu.Unlock()
	s.tell(e)
}

// happened reports an event of this moment.
func (s *stage) happened(object string, kind status.EventKind, text string) {
	s.tell(status.Event{At: time.Now(), Object: object, Kind: kind, Text: text})
}

func (s *stage) tell(e status.Event) {
	if s.o.Event != nil && !s.began.IsZero() {
		s.o.Event(e)
	}
}

// served keeps what the proxy did with a request.
func (s *stage) served(a *accesslog.Line) {
	s.mu.Lock()
	s.access = append(s.access, a.Detached())
	s.mu.Unlock()
}

// drive sends the requests.
func (s *stage) drive(ctx context.Context) []drive.Sample {
	forward := http.CanonicalHeaderKey(s.config.ClientFrom)
	if forward == "" {
		forward = "X-Forwarded-For"
	}
	o := drive.Options{Targets: s.targets, Insecure: true, Cookies: true, Reuse: true, Forward: forward, Names: "Stand-In", Timeout: 10 * time.Minute}
	if p := s.o.Scenario.Patience; p != nil {
		o.Patience = func() time.Duration { return standin.Draw(*p) }
	}
	o.Again, o.After = s.o.Scenario.Again, func() time.Duration { return standin.Draw(s.o.Scenario.After) }
	st := s.o.Scenario.Streams
	if st != nil && st.Lasts.Mean > 0 {
		o.Lasts = st.Lasts.Mean
	}
	d := drive.New(o)
	defer func() { s.pages = d.Pages() }()
	if s.o.Progress != nil {
		done := make(chan struct{})
		defer close(done)
		go func() {
			tick := time.NewTicker(500 * time.Millisecond)
			defer tick.Stop()
			for {
				select {
				case <-tick.C:
					s.o.Progress(d.Progress())
				case <-done:
					return
				}
			}
		}()
	}
	if l := s.o.Scenario.Load; l != nil && l.Closed {
		spec := l.Spec
		spec.Seed = s.o.Seed
		g := trace.NewGenerator(spec)
		return d.Closed(ctx, l.Requests, l.Concurrency, func() time.Duration { return standin.Draw(l.Think) }, func(who int) (out []*trace.Record) {
			var r trace.Record
			made := func() {
				r.Duration, r.Frontend = -1, []byte(l.Frontend)
				if l.Frontend == "" {
					r.Frontend = nil
				}
				out = append(out, s.asked(&r))
			}
			g.Ask(&r, who)
			page := r.Page
			for made(); page != nil && len(out) <= len(page.Fetches); made() {
				g.Fetch(&r, len(out)-1)
			}
			return out
		})
	}
	n := 0
	samples, err := d.Trace(ctx, func() (*trace.Record, error) {
		if n == len(s.o.Records) {
			return nil, io.EOF
		}
		n++
		return s.asked(s.o.Records[n-1]), nil
	})
	if err != nil && !errors.Is(err, context.Canceled) {
		return samples // nothing else is given
	}
	return samples
}

// asked has a record tell the stand-in how long it takes, where a trace says, whether it is a
// stream, and what its path is before a route rewrites it, where the scenario goes by that.
func (s *stage) asked(r *trace.Record) *trace.Record {
	c := r.Clone()
	path, _, _ := bytes.Cut(c.Path, []byte{'?'})
	if st := s.o.Scenario.Streams; st != nil && c.Protocol == trace.HTTP && c.Path != nil && st.Hold(string(path)) || c.Status == http.StatusSwitchingProtocols {
		c.Protocol = trace.Stream
		if c.Duration == 0 {
			c.Duration = -1
		}
	}
	front := string(c.Frontend)
	if front == "" {
		front = s.only
	}
	if s.named[front] && c.Host != nil {
		c.Frontend = []byte(front + overTLS)
	}
	sc := s.o.Scenario
	if c.Path != nil && (len(sc.Dependencies) > 0 || slices.ContainsFunc(sc.Behaviours, func(b scenario.Behaviour) bool { return len(b.Paths) > 0 })) {
		c.Headers = append(c.Headers, trace.KV{Name: []byte(standin.AskPath), Value: []byte(request.Path(string(path)))})
	}
	if c.Bytes >= 0 && slices.ContainsFunc(sc.Faults, func(f scenario.Fault) bool { return f.Of().Effect.Resets }) {
		c.Headers = append(c.Headers, trace.KV{Name: []byte(standin.AskBytes), Value: strconv.AppendInt(nil, c.Bytes, 10)})
	}
	switch {
	case c.Protocol == trace.Stream:
		c.Headers = append(c.Headers, trace.KV{Name: []byte(standin.AskStream), Value: []byte("1")})
	case c.Protocol == trace.HTTP && c.Duration >= 0:
		c.Headers = append(c.Headers, trace.KV{Name: []byte(standin.AskTakes), Value: strconv.AppendFloat(nil, time.Duration(c.Duration).Seconds(), 'f', 9, 64)})
	}
	return c
}
