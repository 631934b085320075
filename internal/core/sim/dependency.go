package sim

import (
	"slices"
	"time"

	"kestrix/internal/core/result"
	"kestrix/internal/core/rng"
	"kestrix/internal/core/scenario"
	"kestrix/internal/core/tick"
)

// dependency is a service that backends share: workers, and calls that wait for them in order.
type dependency struct {
	condition
	cfg      *scenario.Dependency
	index    int32
	draws    serviceKind
	log      rng.LogNormal
	under    uint64 // faults that strike it now, as bits
	busy     int
	waiting  []int32 // calls, by number
	head     int
	hanging  []int32 // calls that are never answered
	came     int64
	failed   int64
	worked   tick.Time // by all workers together
	lined    int64     // calls that waited
	linedFor tick.Time
	peak     int // the most calls open at once
	open     int
}

// need is a dependency that a server calls for some requests.
type need struct {
	scenario.Needs
	*dependency
}

// callOf is for what a server calls a dependency: for a request or probe, which its proxy may
// have given up since.
type callOf struct {
	server int32
	req    int32
	gen    uint32
	epoch  uint16 // of the server: a process that has died waits for nothing
	paths  scenario.PathSet
}

// call is a call of a dependency.
type call struct {
	of        callOf
	need      int // position in server.needs
	gen       uint32
	began     tick.Time
	open      bool
	serving   bool
	fails     bool // it is answered with an error
	abandoned bool // its backend has given it up; the dependency works on all the same
}

// calls are the calls that are open; a place is used again when its call has ended.
type calls struct {
	all   []call
	spare []int32
	n     uint64 // calls so far
}

// addDependencies makes the dependencies of the scenario.
func (e *Engine) addDependencies() {
	for i := range e.scenario.Dependencies {
		cfg := &e.scenario.Dependencies[i]
		d := &dependency{cfg: cfg, index: int32(i), condition: condition{slow: 1}}
		d.draws, d.log = sourceOf(cfg.Service)
		e.deps = append(e.deps, d)
	}
}

// needsOf returns what a server calls.
func (e *Engine) needsOf(all []scenario.Needs) (out []need) {
	for _, n := range all {
		out = append(out, need{n, e.deps[n.Dependency]})
	}
	return out
}

// callNext has a server call the next dependency that it needs, from one of its list on. It reports
// whether it does; if not, its work is over.
func (e *Engine) callNext(s *server, from int, of callOf) bool {
	for k := from; k < len(s.needs); k++ {
		n := &s.needs[k]
		if of.req < 0 && !n.cfg.Probes || of.req >= 0 && !n.Holds(of.paths) {
			continue
		}
		e.call(n.dependency, k, of)
		return true
	}
	return false
}

// call begins a call.
func (e *Engine) call(d *dependency, k int, of callOf) {
	c := &e.called
	c.n++
	if len(c.spare) == 0 {
		c.all, c.spare = append(c.all, call{}), append(c.spare, int32(len(c.all)))
	}
	i := c.spare[len(c.spare)-1]
	c.spare = c.spare[:len(c.spare)-1]
	x := &c.all[i]
	*x = call{of: of, need: k, gen: x.gen + 1, began: e.now, open: true}
	d.came++
	d.open++
	d.peak = max(d.peak, d.open)
	if of.req >= 0 {
		if r := &e.requests[of.req]; r.gen == of.gen && r.open {
			r.under |= d.under
			e.late(of.req)
		}
	}
	if d.cfg.Timeout > 0 {
		e.queue.Push(e.now.Add(d.cfg.Timeout), event{kind: callLate, req: i, gen: x.gen, server: d.index})
	}
	switch {
	case d.refuse > 0, d.busy >= d.cfg.Workers && len(d.waiting)-d.head >= d.cfg.Backlog:
		e.endCall(d, i, true)
	case d.hang > 0 || d.blackhole > 0:
		d.hanging = append(d.hanging, i)
	case d.busy < d.cfg.Workers:
		e.serve(d, i)
	default:
		if d.head > 256 && d.head > len(d.waiting)/2 {
			d.waiting, d.head = d.waiting[:copy(d.waiting, d.waiting[d.head:])], 0
		}
		d.waiting = append(d.waiting, i)
	}
}

// serve has a worker of a dependency work on a call.
func (e *Engine) serve(d *dependency, i int32) {
	x := &e.called.all[i]
	x.serving = true
	d.busy++
	id, number := e.called.n, uint64(1)<<32 // of a request that was given up, or a probe
	if of := &x.of; of.req >= 0 {
		if r := &e.requests[of.req]; r.gen == of.gen {
			id, number = r.q.ID, uint64(r.a.Number)
		}
	}
	bits := func(what int) uint64 {
		return rng.Bits(e.o.Seed, id, number<<16|uint64(d.index)<<8|uint64(what), rng.Depends)
	}
	takes := d.cfg.Service.Mean
	if d.draws != fixed {
		takes = time.Duration(draw(d.draws, d.cfg.Service.Mean, &d.log, e.shaper, bits(0)))
	}
	for i, f := range d.errors {
		if !x.fails && rng.Unit(bits(i+1)) < f.Rate {
			x.fails, takes = true, f.Takes(takes)
		}
	}
	until := e.now.Add(time.Duration(float64(takes) * d.slow))
	d.worked += min(until, e.stop) - min(e.now, e.stop)
	e.queue.Push(until, event{kind: callDone, req: i, gen: x.gen, server: d.index})
}

// callOver is when a dependency is done with a call, or a backend gives it up.
func (e *Engine) callOver(ev event) {
	d, x := e.deps[ev.server], &e.called.all[ev.req]
	if x.gen != ev.gen {
		return
	}
	if ev.kind == callLate {
		if !x.serving {
			d.forget(ev.req)
			e.endCall(d, ev.req, true)
		} else if !x.abandoned {
			x.abandoned = true // it is worked on to the end, for nothing
			e.returns(d, x, true)
		}
		return
	}
	if d.hang > 0 || d.blackhole > 0 {
		d.hanging = append(d.hanging, ev.req) // its worker is stuck
		return
	}
	e.endCall(d, ev.req, x.fails || d.reset > 0)
	e.nextCall(d)
}

// forget takes a call out of those that wait or hang.
func (d *dependency) forget(i int32) {
	if k := slices.Index(d.hanging, i); k >= 0 {
		d.hanging = slices.Delete(d.hanging, k, k+1)
		return
	}
	switch k := slices.Index(d.waiting[d.head:], i); {
	case k == 0: // all wait for as long, so that it is the first
		d.head++
	case k > 0:
		d.waiting = slices.Delete(d.waiting, d.head+k, d.head+k+1)
	}
}

// endCall ends a call, for the dependency and, unless it was given up before, for its backend.
func (e *Engine) endCall(d *dependency, i int32, failed bool) {
	x := &e.called.all[i]
	if x.serving {
		d.busy--
	}
	d.open--
	x.open = false
	x.gen++ // what was meant for it is void
	e.called.spare = append(e.called.spare, i)
	if !x.abandoned {
		y := *x // its place may be used again for the next call
		e.returns(d, &y, failed)
	}
}

// returns has a backend go on after a call.
func (e *Engine) returns(d *dependency, x *call, failed bool) {
	s := &e.servers[x.of.server]
	if failed {
		d.failed++
	}
	switch {
	case x.of.epoch != s.epoch: // the process has died since
	case failed:
		if x.of.req >= 0 {
			if r := &e.requests[x.of.req]; r.gen == x.of.gen && r.open {
				r.under |= d.under
			}
		}
		e.workOver(s, x.of.req, x.of.gen, d.cfg.Status)
	case !e.callNext(s, x.need+1, x.of):
		e.workOver(s, x.of.req, x.of.gen, 0)
	}
}

// nextCall takes the call that waits longest.
func (e *Engine) nextCall(d *dependency) {
	for d.busy < d.cfg.Workers && d.head < len(d.waiting) {
		i := d.waiting[d.head]
		if d.head++; d.head == len(d.waiting) {
			d.waiting, d.head = d.waiting[:0], 0
		}
		d.lined++
		d.linedFor += e.now - e.called.all[i].began
		e.serve(d, i)
	}
}

// breaks has all calls of a dependency fail at once: those that wait, hang or are worked on.
func (e *Engine) breaks(d *dependency) {
	var open []int32
	for i := range e.called.all {
		x := &e.called.all[i]
		if x.open && e.servers[x.of.server].needs[x.need].dependency == d {
			open = append(open, int32(i))
		}
	}
	d.waiting, d.head, d.hanging = d.waiting[:0], 0, d.hanging[:0]
	for _, i := range open {
		e.endCall(d, i, true)
	}
}

// strikeDependency has a fault begin on a dependency, or its effect come again.
func (e *Engine) strikeDependency(f *fault, d *dependency) {
	x := &f.cfg.Of().Effect
	d.under |= f.bit
	d.suffers(f.cfg, x)
	if x.Refuses {
		e.breaks(d)
	}
	for i := range e.requests { // what waits for it now is exposed as well
		if r := &e.requests[i]; r.open && r.server >= 0 && slices.ContainsFunc(e.servers[r.server].needs, func(n need) bool { return n.dependency == d && n.Holds(r.paths) }) {
			r.under |= f.bit
		}
	}
}

// healDependency has the effect of a fault on a dependency end.
func (e *Engine) healDependency(f *fault, d *dependency) {
	x := &f.cfg.Of().Effect
	d.recovers(f.cfg, x)
	if d.hang == 0 && d.blackhole == 0 && len(d.hanging) > 0 {
		hanging := slices.Clone(d.hanging) // their connections break
		d.hanging = d.hanging[:0]
		for _, i := range hanging {
			e.endCall(d, i, true)
		}
		e.nextCall(d)
	}
}

// dependencyResults returns what came of the dependencies.
func (e *Engine) dependencyResults() map[string]*result.Dependency {
	out := map[string]*result.Dependency{}
	for _, d := range e.deps {
		r := &result.Dependency{Calls: d.came, Failed: d.failed, PeakInFlight: d.peak, Queued: d.lined, QueuedSeconds: d.linedFor.Seconds()}
		if e.now > 0 {
			r.Busy = min(d.worked.Seconds()/float64(d.cfg.Workers)/e.now.Seconds(), 1)
		}
		out[d.cfg.Name] = r
	}
	return out
}

// assumedDependencies says that backends share nothing where several do work and no scenario has
// them share anything.
func (e *Engine) assumedDependencies() *result.Assumption {
	working := 0
	for k := range e.servers {
		working += one(e.servers[k].peak > 0)
	}
	if len(e.deps) > 0 || working < 2 {
		return nil
	}
	return &result.Assumption{What: result.Dependencies, Value: "no service is shared by backends", Because: "no scenario has a dependency", Instead: "dependency \"db\" { ... }"}
}
