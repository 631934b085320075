package standin

import (
	"context"
	"net/http"
	"slices"
	"sync"
	"time"

	"kestrix/internal/core/scenario"
	"kestrix/internal/core/status"
)

// Dependency is a service that stand-ins share, within this process.
type Dependency struct {
	cfg     *scenario.Dependency
	slots   chan struct{} // calls that are worked on
	mu      sync.Mutex
	waiting int
	faults  []fault
	changed chan struct{} // closed at each change of the faults
}

// Need is a dependency that a stand-in calls, for requests of some paths.
type Need struct {
	scenario.Needs
	*Dependency
}

// DependenciesOf makes the dependencies of a scenario.
func DependenciesOf(s *scenario.Scenario) (out []*Dependency) {
	for i := range s.Dependencies {
		x := &s.Dependencies[i]
		out = append(out, &Dependency{cfg: x, slots: make(chan struct{}, x.Workers), changed: make(chan struct{})})
	}
	return out
}

// NeedsOf puts together what a stand-in calls.
func NeedsOf(needs []scenario.Needs, all []*Dependency) (out []Need) {
	for _, n := range needs {
		out = append(out, Need{n, all[n.Dependency]})
	}
	return out
}

// call calls what a request needs, and returns the status of the answer if that failed, else 0.
func (s *StandIn) call(r *http.Request, probe bool) int {
	for i := range s.Needs {
		n := &s.Needs[i]
		if probe && !n.cfg.Probes || !probe && n.Set != 0 && !n.List.Hold(s.path(r)) {
			continue
		}
		ctx, stop := r.Context(), func() {}
		if n.cfg.Timeout > 0 {
			ctx, stop = context.WithTimeout(ctx, n.cfg.Timeout)
		}
		failed := !n.answers(ctx)
		stop()
		if failed {
			return n.cfg.Status
		}
	}
	return 0
}

// now returns what the faults that are on come to, for one call.
func (d *Dependency) now() condition {
	d.mu.Lock()
	defer d.mu.Unlock()
	return conditionOf(d.faults, d.changed)
}

// answers does a call, and reports whether it was answered well within ctx.
func (d *Dependency) answers(ctx context.Context) bool {
	c := d.now()
	if c.refuses || c.hang {
		return c.hang && d.hangs(ctx, c)
	}
	if !d.enter(ctx) {
		return false
	}
	takes := Draw(d.cfg.Service)
	if c.fails != nil {
		takes = c.fails.Takes(takes)
	}
	takes = time.Duration(float64(takes) * c.slow)
	time.AfterFunc(takes, func() { <-d.slots }) // whether or not somebody waits for it by then
	if !sleep(ctx, takes) {
		return false
	}
	now := d.now()
	if now.hang {
		return d.hangs(ctx, now)
	}
	return !now.refuses && !now.reset && c.fails == nil
}

// hangs waits until a call fails that is never answered: when its caller gives it up, or when its
// connection breaks with the end of the fault.
func (d *Dependency) hangs(ctx context.Context, c condition) bool {
	for ; c.hang; c = d.now() {
		select {
		case <-c.changed:
		case <-ctx.Done():
			return false
		}
	}
	return false
}

// enter waits for one that works on a call; false if there is no room to wait, or ctx has ended.
func (d *Dependency) enter(ctx context.Context) bool {
	d.mu.Lock()
	if len(d.slots) == cap(d.slots) && d.waiting >= d.cfg.Backlog {
		d.mu.Unlock()
		return false
	}
	d.waiting++
	d.mu.Unlock()
	defer d.leave()
	select {
	case d.slots <- struct{}{}:
		return true
	case <-ctx.Done():
		return false
	}
}

// leave counts a call that no longer waits.
func (d *Dependency) leave() {
	d.mu.Lock()
	d.waiting--
	d.mu.Unlock()
}

// turn puts a fault on, or takes it off.
func (d *Dependency) turn(f scenario.Fault, on bool) {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.faults = slices.DeleteFunc(d.faults, func(x fault) bool { return x.title == f.Name })
	if on {
		d.faults = append(d.faults, fault{title: f.Name, Fault: f, acting: true})
	}
	close(d.changed)
	d.changed = make(chan struct{})
}

// fails has a dependency fail as a fault of a scenario says, in real time from now on, until ctx
// ends.
func (d *Dependency) fails(ctx context.Context, f scenario.Fault, tell func(object string, kind status.EventKind, text string)) {
	if !sleep(ctx, f.At) {
		return
	}
	if f.Until >= 0 {
		until, stop := context.WithTimeout(ctx, f.Until-f.At)
		defer stop()
		ctx = until
	}
	tell(d.cfg.Name, status.EventFault, f.Name+": "+scenario.DependencyFaultDoc(f.Kind))
	for d.turn(f, true); f.Of().Flaps && sleep(ctx, f.FailsFor); d.turn(f, true) {
		if d.turn(f, false); !sleep(ctx, f.WorksFor) {
			break
		}
	}
	<-ctx.Done()
	d.turn(f, false)
	tell(d.cfg.Name, status.EventFault, f.Name+": over")
}

// dependencies returns what stand-ins call, each once.
func dependencies(all []*StandIn) (out []*Dependency) {
	for _, s := range all {
		for _, n := range s.Needs {
			if !slices.Contains(out, n.Dependency) {
				out = append(out, n.Dependency)
			}
		}
	}
	return out
}
