// Package standin is the small simulated backend that is part of Kestrix: it responds
// with its name and what it received, and fails on demand.
//
// The commands standin, demo and rehearse start it. It must never be mistaken for a
// server to put on the open network: it answers everybody and has no limits.
package standin

import (
	"context"
	"fmt"
	"io"
	"math"
	"math/rand/v2"
	"net"
	"net/http"
	"os"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"kestrix/internal/core/config"
	"kestrix/internal/core/request"
	"kestrix/internal/core/scenario"
)

// StandIn is one simulated backend.
type StandIn struct {
	Name    string   // UPSTREAM.BACKEND
	Also    []string // other names of the same address, of other upstreams
	Address config.Address
	Delay   time.Duration // before an answer; not of /ready

	// How it behaves otherwise; the zero value answers at once, whatever comes.
	Service config.Distribution    // how long a worker takes, in place of Delay
	OfPaths []scenario.PathService // how long for requests of some paths: the first that holds, before Service
	Workers int                    // requests it works on at once; 0 is no limit
	Backlog int                    // requests that wait for a worker; a full one breaks the connection
	Cold    scenario.Cold          // how it begins after a fault has kept it from listening
	Needs   []Need                 // what it calls when a worker has done its own work
	Draws   bool                   // Service is drawn even if an obeyed request says how long it takes
	Obeys   bool                   // a request may say how long it takes, and that it is a stream: see AskTakes
	Reports bool                   // who says nothing is told how it is, as a self-report probe needs

	mu        sync.Mutex
	http      *http.Server
	slots     chan struct{} // workers that are free
	waiting   int
	faults    []fault
	changed   chan struct{} // closed at each change of the faults
	stopped   bool          // by Stop, and not by a fault
	listened  bool
	refused   bool      // by a fault
	restarted time.Time // when that ended last
	cores     *cores    // nil: work takes as long however much of it is in progress
	front     *front
	hole      *hole // nil: connecting does not meet silence
}

// Called reports whether a pattern of UPSTREAM.BACKEND fits one of its names.
func (s *StandIn) Called(pattern string) bool {
	return scenario.Fits(pattern, s.Name) || slices.ContainsFunc(s.Also, func(name string) bool { return scenario.Fits(pattern, name) })
}

// Start listens and answers until Stop.
func (s *StandIn) Start() error {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.stopped = false
	if s.changed == nil {
		s.changed = make(chan struct{})
	}
	if s.Workers > 0 && s.slots == nil {
		s.slots = make(chan struct{}, s.Workers)
	}
	s.restarts(s.refuses())
	if s.refused {
		return nil
	}
	return s.listen()
}

// listen opens the listener, unless it is open. s.mu is held.
func (s *StandIn) listen() error {
	if s.listened || s.stopped {
		return nil
	}
	s.shut() // of a blackhole, what fell silent ends now
	network, addr := "tcp", net.JoinHostPort(s.Address.Host, strconv.Itoa(s.Address.Port))
	if s.Address.Unix != "" {
		network, addr = "unix", s.Address.Unix
		_ = os.Remove(addr) // of an earlier run; listening says if it is in use
	}
	l, err := net.Listen(network, addr)
	if err != nil {
		return fmt.Errorf("the stand-in %s cannot listen on %s: %w", s.Name, s.Address, err)
	}
	s.listened, s.front = true, newFront(s, l)
	clear := new(http.Protocols)
	clear.SetHTTP1(true)
	clear.SetUnencryptedHTTP2(true)
	s.http = &http.Server{Handler: http.HandlerFunc(s.serve), ReadHeaderTimeout: 10 * time.Second, ConnContext: welcome, Protocols: clear}
	server, front := s.http, s.front
	go func() { _ = server.Serve(front) }() // ends with Stop
	return nil
}

// Stop ends it like a process that is killed: open connections break.
func (s *StandIn) Stop() {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.stopped = true
	s.shut()
}

// shut closes listener and connections. s.mu is held.
func (s *StandIn) shut() {
	s.hole.close()
	s.hole = nil
	s.listened = false
	if s.http != nil {
		_ = s.front.Close() // the server may not have got as far as to know it
		_ = s.http.Close()
		s.front.cut()
	}
}

// serve answers as far as the faults let it.
func (s *StandIn) serve(w http.ResponseWriter, r *http.Request) {
	probe := r.URL.Path == "/ready"
	c := s.now()
	for c.hang {
		select {
		case <-c.changed:
		case <-r.Context().Done():
			return
		}
		if c = s.now(); !c.hang {
			panic(http.ErrAbortHandler) // what came while it hung is never answered
		}
	}
	if probe && c.probeFails {
		http.Error(w, "not ready", http.StatusServiceUnavailable)
		return
	}
	stream := s.Obeys && r.Header.Get(AskStream) != ""
	failed := 0
	if !stream {
		var ok bool
		if ok, failed = s.work(r, c, probe); !ok {
			return
		}
	}
	switch {
	case c.reset:
		s.breakOff(w, r)
		return
	case failed > 0:
		http.Error(w, fmt.Sprintf("%s answers %d: a service that it depends on failed", s.Name, failed), failed)
		return
	case c.status > 0 && !(probe && c.lies):
		http.Error(w, fmt.Sprintf("%s answers %d, as it was told to", s.Name, c.status), c.status)
		return
	}
	if stream {
		s.events(w, r)
		return
	}
	s.answer(w, r)
}

// probeWork is how long a worker takes for a probe, as in a replay.
const probeWork = time.Millisecond

// work takes the time that a worker does, and says whether to go on, and with which status if a
// dependency failed, else 0. Where nothing limits the work, a probe takes none.
func (s *StandIn) work(r *http.Request, c condition, probe bool) (ok bool, failed int) {
	if probe && s.slots == nil {
		return true, 0
	}
	if s.slots != nil {
		s.mu.Lock()
		full := len(s.slots) == cap(s.slots) && s.waiting >= s.Backlog
		if !full {
			s.waiting++
		}
		s.mu.Unlock()
		if full {
			panic(http.ErrAbortHandler)
		}
		select {
		case s.slots <- struct{}{}:
			defer func() { <-s.slots }()
		case <-r.Context().Done():
		}
		s.mu.Lock()
		s.waiting--
		s.mu.Unlock()
	}
	takes := probeWork
	if !probe {
		takes = s.takes(r)
		if c.fails != nil {
			takes = c.fails.Takes(takes)
		}
	}
	takes = s.slowed(time.Duration(float64(takes) * c.slow))
	if s.cores == nil {
		ok = sleep(r.Context(), takes)
	} else {
		<-s.cores.do(takes)
		ok = r.Context().Err() == nil
	}
	if ok {
		failed = s.call(r, probe)
	}
	return ok, failed
}

// The fields with which a request tells a stand-in that obeys how many seconds a
// worker takes over it, that it is a stream, which holds none, the size of its response, and its path. A rehearsal
// has what a trace recorded happen again so.
const (
	AskTakes  = "Stand-In-Takes"
	AskStream = "Stand-In-Stream"
	AskBytes  = "Stand-In-Bytes" // of the response, if it is to break off half-way
	AskPath   = "Stand-In-Path"  // in normal form, before a route rewrites it
)

// takes returns how long the work takes: as the request says, or by a draw.
func (s *StandIn) takes(r *http.Request) time.Duration {
	service, draws := s.Service, s.Draws
	if i := slices.IndexFunc(s.OfPaths, func(p scenario.PathService) bool { return p.List.Hold(s.path(r)) }); i >= 0 {
		service = s.OfPaths[i].Service
		draws = service.Kind != "from_trace"
	}
	if s.Obeys && !draws {
		if sec, err := strconv.ParseFloat(r.Header.Get(AskTakes), 64); err == nil && sec >= 0 && sec < 3600 {
			return time.Duration(sec * 1e9)
		}
	}
	if service.Kind == "from_trace" {
		service = scenario.UnknownService // for what the trace does not say
	}
	if service.Kind == "" {
		return s.Delay
	}
	return Draw(service)
}

// Draw returns a time of a distribution; that of a trace has none, and 0 is returned.
func Draw(d config.Distribution) time.Duration {
	mean := float64(d.Mean)
	switch d.Kind {
	case "exponential":
		return time.Duration(rand.ExpFloat64() * mean)
	case "lognormal":
		v := math.Log(1 + d.CV*d.CV)
		return time.Duration(mean * math.Exp(math.Sqrt(v)*rand.NormFloat64()-v/2))
	}
	return d.Mean
}

// path is the path of a request in normal form.
func (s *StandIn) path(r *http.Request) string {
	if asked := r.Header.Get(AskPath); s.Obeys && asked != "" {
		return asked
	}
	return request.Path(r.URL.EscapedPath())
}

// answer says who it is and what it received.
func (s *StandIn) answer(w http.ResponseWriter, r *http.Request) {
	if special := s.special(r.URL.Path); special != nil {
		special(w, r)
		return
	}
	n, _ := io.Copy(io.Discard, r.Body) // a body cut short is told by its size
	w.Header().Set("Content-Type", "text/plain; charset=utf-8")
	w.Header().Set("Stand-In", s.Name)
	var b strings.Builder
	_, short, _ := strings.Cut(s.Name, ".")
	fmt.Fprintf(&b, "%s answers, as %s at %s\n", short, strings.Join(append([]string{s.Name}, s.Also...), " and "), s.Address)
	fmt.Fprintf(&b, "reached %s\n\n%s %s %s\nHost: %s\n", reached(r), r.Method, r.URL.RequestURI(), r.Proto, r.Host)
	names := make([]string, 0, len(r.Header))
	for name := range r.Header {
		names = append(names, name)
	}
	slices.Sort(names)
	for _, name := range names {
		for _, v := range r.Header[name] {
			fmt.Fprintf(&b, "%s: %s\n", name, v)
		}
	}
	if n > 0 {
		fmt.Fprintf(&b, "\na body of %d bytes\n", n)
	}
	_, _ = io.WriteString(w, b.String()) // a client that left is no concern of ours
}

// reached returns how a request came here.
func reached(r *http.Request) string {
	from := "from " + r.RemoteAddr
	if r.RemoteAddr == "" || r.RemoteAddr == "@" {
		from = "over a unix socket"
	}
	if g, ok := r.Context().Value(guestKey{}).(*guest); ok {
		for _, h := range g.how {
			from += ", with " + h
		}
		if g.names != nil {
			from += " that names " + g.names.String()
		}
	}
	return from
}

// sleep waits, and says whether the client is still there.
func sleep(ctx context.Context, d time.Duration) bool {
	if d <= 0 {
		return true
	}
	t := time.NewTimer(d)
	defer t.Stop()
	select {
	case <-t.C:
		return true
	case <-ctx.Done():
		return false
	}
}
