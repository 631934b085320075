package standin

import (
	"context"
	"fmt"
	"math/rand/v2"
	"net"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"time"

	"kestrix/internal/core/config"
	"kestrix/internal/core/scenario"
	"kestrix/internal/core/status"
)

type placed = config.Placed[string]

// fault is one that is on.
type fault struct {
	title string
	scenario.Fault
	end    context.CancelFunc // of what makes it flap; nil otherwise
	acting bool               // its effect is there now: always, but for one that flaps
}

// condition is what the faults that are on come to.
type condition struct {
	refuses, hang, reset, probeFails, lies bool
	status                                 int             // 0 for none
	fails                                  *scenario.Fault // whose status that is
	slow                                   float64         // how many times as long work takes
	changed                                chan struct{}
}

// Faults are the kinds that a stand-in can play: those in which the backend itself
// fails, not an operator's hand on the proxy.
var Faults = scenario.FaultNames(scenario.ByBackend)

// Fail puts a fault on under a title, in place of one that has it. The error says
// which kinds there are.
func (s *StandIn) Fail(title string, f scenario.Fault) error {
	if !slices.Contains(Faults, f.Kind) {
		return fmt.Errorf("a stand-in cannot simulate %q", f.Kind)
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	s.take(title)
	x := fault{title: title, Fault: f, acting: true}
	if f.Of().Flaps {
		ctx, stop := context.WithCancel(context.Background())
		x.end = stop
		go s.flap(ctx, title, f)
	}
	s.faults = append(s.faults, x)
	return s.change()
}

// Fix takes the fault of a title off. The error is that of listening again.
func (s *StandIn) Fix(title string) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.take(title)
	return s.change()
}

// take removes a fault. s.mu is held.
func (s *StandIn) take(title string) {
	s.faults = slices.DeleteFunc(s.faults, func(f fault) bool {
		if f.title == title && f.end != nil {
			f.end()
		}
		return f.title == title
	})
}

// change has the listener and those who wait follow the faults. s.mu is held.
func (s *StandIn) change() error {
	if s.changed != nil {
		close(s.changed)
	}
	s.changed = make(chan struct{})
	if s.restarts(s.refuses()); s.refused {
		s.shut()
		return nil
	}
	if s.http == nil || s.stopped {
		return nil // it has never been started
	}
	if s.swallows() {
		if s.hole != nil {
			return nil
		}
		s.listened = false
		_ = s.front.Listener.Close() // open connections fall silent, see now
		var err error
		if s.hole, err = dig(s.Address); err != nil {
			return fmt.Errorf("%s cannot fall silent: %w", s.Name, err)
		}
		return nil
	}
	return s.listen()
}

// suffers reports whether a fault has an effect now. s.mu is held.
func (s *StandIn) suffers(has func(*scenario.Effect) bool) bool {
	return slices.ContainsFunc(s.faults, func(f fault) bool { return f.acting && has(&f.Of().Effect) })
}

// swallows reports whether a fault has connecting meet silence. s.mu is held.
func (s *StandIn) swallows() bool {
	return s.suffers(func(x *scenario.Effect) bool { return x.Swallows })
}

// refuses reports whether a fault keeps it from listening. s.mu is held.
func (s *StandIn) refuses() bool {
	return s.suffers(func(x *scenario.Effect) bool { return x.Refuses })
}

// flap has the effect of a fault come and go.
func (s *StandIn) flap(ctx context.Context, title string, f scenario.Fault) {
	for wait := f.FailsFor; sleep(ctx, wait); {
		s.mu.Lock()
		for i := range s.faults {
			if x := &s.faults[i]; x.title == title && ctx.Err() == nil {
				x.acting = !x.acting
				if wait = f.WorksFor; x.acting {
					wait = f.FailsFor
				}
			}
		}
		_ = s.change() // an address that is taken meanwhile is tried again at the next turn
		s.mu.Unlock()
	}
}

// now returns what the faults come to for one request.
func (s *StandIn) now() condition {
	s.mu.Lock()
	defer s.mu.Unlock()
	return conditionOf(s.faults, s.changed)
}

// conditionOf returns what some faults come to, for one request.
func conditionOf(faults []fault, changed chan struct{}) condition {
	c := condition{slow: 1, changed: changed}
	for _, f := range faults {
		x := &f.Of().Effect
		if !f.acting {
			continue
		}
		c.refuses, c.hang, c.reset = c.refuses || x.Refuses, c.hang || x.Silent(), c.reset || x.Resets
		c.probeFails, c.lies = c.probeFails || x.FailProbe, c.lies || x.LieProbe
		if x.Slows {
			c.slow *= f.Factor
		}
		if x.Errors && c.status == 0 && rand.Float64() < f.Rate {
			c.status, c.fails = f.Status, &f.Fault
		}
	}
	return c
}

// breakOff begins an answer of a size, if a request may say so, and breaks the connection half-way.
func (s *StandIn) breakOff(w http.ResponseWriter, r *http.Request) {
	size := 1000
	if n, err := strconv.Atoi(r.Header.Get(AskBytes)); err == nil && s.Obeys && n > 0 && n < 100<<20 {
		size = n
	}
	conn, out, err := http.NewResponseController(w).Hijack()
	if err != nil {
		panic(http.ErrAbortHandler)
	}
	defer conn.Close()
	fmt.Fprintf(out, "HTTP/1.1 200 OK\r\nContent-Type: text/plain\r\nContent-Length: %d\r\n\r\n%s", size, strings.Repeat("~", (size+1)/2))
	_ = out.Flush()
	time.Sleep(halfRead) // a reset that comes with it would take the half away again, unread
	resets(conn)
}

// halfRead is how long the first half of an answer has to be read and passed on
// before the rest breaks off.
const halfRead = 10 * time.Millisecond

// resets has a connection end in a reset instead of orderly.
func resets(c net.Conn) {
	if g, ok := c.(*guest); ok {
		c = g.Conn
	}
	if tcp, ok := c.(*net.TCPConn); ok {
		_ = tcp.SetLinger(0) // where it fails it ends all the same
	}
}

// Play has stand-ins fail as a scenario says, in real time from now on, until ctx
// ends. tell takes the event of each beginning and end; nil discards them.
func Play(ctx context.Context, all []*StandIn, faults []scenario.Fault, tell func(object string, kind status.EventKind, text string)) {
	if tell == nil {
		tell = func(string, status.EventKind, string) {}
	}
	for _, f := range faults {
		for _, d := range dependencies(all) {
			if slices.Contains(f.Dependencies, d.cfg.Name) {
				go d.fails(ctx, f, tell)
			}
		}
		for _, s := range all {
			if !slices.ContainsFunc(f.Backends, func(p placed) bool { return s.Called(p.Value) }) {
				continue
			}
			go func() {
				if !sleep(ctx, f.At) {
					return
				}
				text := f.Name + ": " + f.Of().Doc
				if err := s.Fail(f.Name, f); err != nil {
					text += "; " + err.Error()
				}
				tell(s.Name, status.EventFault, text)
				if f.Until < 0 || !sleep(ctx, f.Until-f.At) {
					return
				}
				text = f.Name + ": over"
				if err := s.Fix(f.Name); err != nil {
					text += "; " + err.Error()
				}
				tell(s.Name, status.EventFault, text)
			}()
		}
	}
}

// Once makes a fault of a kind as the scenario language would, with its defaults.
func Once(kind string) scenario.Fault {
	return scenario.Fault{Name: kind, Kind: kind, Until: -1, Status: 503, Rate: 1, After: -1, Factor: 10, FailsFor: 5 * time.Second, WorksFor: 15 * time.Second}
}
