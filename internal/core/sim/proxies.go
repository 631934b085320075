package sim

import (
	"cmp"
	"fmt"
	"slices"
	"time"

	"kestrix/internal/core/cause"
	"kestrix/internal/core/ingest"
	"kestrix/internal/core/result"
	"kestrix/internal/core/rng"
	"kestrix/internal/core/tick"
	"kestrix/internal/core/upstream"
)

// startLimit is after how long a proxy accepts connections that still waits for first probes.
const startLimit = 5 * time.Second

// proxies is which of the proxies have ended. It is empty unless a fault ends one.
type proxies struct {
	all    []proxy // by instance
	lost   int     // how many do not accept connections
	moved  ingest.Arrival
	starts uint32 // so far
}

// proxy is one of them.
type proxy struct {
	gone     bool // its process has ended
	refuses  bool // it accepts no connection: it is gone, or is starting
	fault    *fault
	moves    tick.Time // when its clients reach another one
	starting uint32    // the number of its start
}

// addProxies checks the faults of proxies, and makes room for them.
func (e *Engine) addProxies() error {
	for i := range e.scenario.Faults {
		f := &e.scenario.Faults[i]
		n := max(e.o.Instances, 1)
		if f.Proxy > n {
			return fmt.Errorf("the fault %q is of proxy %d, and there are %d; -instances or the scenario's instances makes more", f.Name, f.Proxy, n)
		}
		if f.Proxy > 0 {
			e.proxies.all = make([]proxy, n)
		}
	}
	return nil
}

// proxyEnds has the process of a proxy end: what is open through it breaks, and what it knew is
// lost.
func (e *Engine) proxyEnds(f *fault) {
	p := &e.proxies.all[f.cfg.Proxy-1]
	if !p.refuses {
		e.proxies.lost++
	}
	if p.gone {
		p.fault = f
		return
	}
	*p = proxy{gone: true, refuses: true, fault: f, moves: e.now.Add(f.cfg.MovesAfter), starting: p.starting}
	var open []int32
	for i := range e.requests {
		if r := &e.requests[i]; r.open && e.views[r.view].instance == f.cfg.Proxy-1 {
			open = append(open, int32(i))
		}
	}
	for _, v := range e.views {
		if v.instance != f.cfg.Proxy-1 {
			continue
		}
		v.gone, v.scheduled = true, tick.Never
		v.up.living--
		for id := range v.probes {
			x := &v.probes[id]
			x.open = false
			x.gen++
			v.conns[id].close()
			if x.out {
				x.out = false
				v.up.servers[id].outs--
				v.up.servers[id].outTime += e.now - x.outSince
			}
		}
	}
	slices.SortFunc(open, func(a, b int32) int { return cmp.Compare(e.requests[a].q.ID, e.requests[b].q.ID) })
	for _, i := range open {
		if e.requests[i].open {
			e.cutOff(f, i)
		}
	}
}

// cutOff ends a request whose proxy has ended. Its backend goes on working.
func (e *Engine) cutOff(f *fault, i int32) {
	r := &e.requests[i]
	v := e.views[r.view]
	r.gen++
	if e.now >= e.timeline.end {
		e.row()
	}
	if r.server >= 0 {
		s := &e.servers[r.server]
		s.open--
		s.left++
		e.latencies.Add(&s.lost, int64(e.now-r.a.Began+v.ahead))
		if r.sent {
			e.hold(v.up, s.id, r.session)
		}
	}
	r.met |= f.bit
	e.res.Errors[cause.Closing]++
	v.up.failed++
	e.fail(r)
	if r.stream {
		e.reconnect(r)
	}
	e.finish(i)
}

// proxyStarts has the process of a proxy begin anew, with nothing but its configuration and the
// orders of operators.
func (e *Engine) proxyStarts(f *fault) {
	p := &e.proxies.all[f.cfg.Proxy-1]
	if p.fault != f {
		return // another fault has ended it meanwhile
	}
	e.proxies.starts++
	p.gone, p.starting = false, e.proxies.starts
	for _, v := range e.views {
		if v.instance == f.cfg.Proxy-1 {
			e.beginView(v)
		}
	}
	e.queue.Push(e.now.Add(startLimit), event{kind: proxyWaits, server: int32(f.cfg.Proxy - 1), gen: p.starting})
	e.proxyReady(f.cfg.Proxy-1, false)
}

// beginView has a proxy see an upstream for the first time.
func (e *Engine) beginView(v *view) {
	first := v.core == v.up.core
	v.core = upstream.NewUnprobed(e.now+v.ahead, v.up.cfg, e.o.Seed+uint64(v.instance)<<32+uint64(e.proxies.starts)<<48)
	if first {
		v.up.core = v.core
	}
	v.gone = false
	v.up.living++
	for _, f := range e.faults {
		for _, t := range f.targets {
			if f.began && !f.ended && t.server.up == v.up {
				e.ordered(v, f, t.server)
			}
		}
	}
	for id := range v.probes {
		if x := &v.probes[id]; !v.core.Eligible(upstream.BackendID(id)) {
			x.out, x.outSince = true, e.now
			v.up.servers[id].outs++
		}
	}
	e.note(v)
	e.schedule(v)
}

// ordered gives the order of a fault to a proxy that has just begun: operators' orders are kept.
func (e *Engine) ordered(v *view, f *fault, s *server) {
	switch f.cfg.Of().Order {
	case "park":
		v.core.Operate(e.now+v.ahead, s.id, upstream.Park, 0)
	case "drain":
		v.core.Operate(e.now+v.ahead, s.id, upstream.Drain, 0)
	case "weight":
		v.core.Operate(e.now+v.ahead, s.id, upstream.Weigh, f.cfg.Weight)
	}
}

// proxyReady has a starting proxy accept connections once all first probes have ended, or it has
// waited for long enough.
func (e *Engine) proxyReady(instance int, anyway bool) {
	p := &e.proxies.all[instance]
	if p.gone || !p.refuses {
		return
	}
	for _, v := range e.views {
		if v.instance == instance && v.core.Unprobed() > 0 && !anyway {
			return
		}
	}
	p.refuses = false
	e.proxies.lost--
	if p.fault.backAt == tick.Never {
		p.fault.backAt = e.now
	}
}

// reach returns the arrival at the proxy that it reaches, which is another one some time after its
// own has ended; nil if it reaches none.
func (e *Engine) reach(a *ingest.Arrival) *ingest.Arrival {
	p := &e.proxies.all[a.Instance]
	if !p.refuses {
		return a
	}
	left := len(e.proxies.all) - e.proxies.lost
	if left == 0 || p.gone && e.now < p.moves {
		p.fault.met++
		p.fault.lost++
		return nil
	}
	e.proxies.moved = *a
	n := rng.Below(rng.Bits(e.o.Seed, uint64(a.Session), 1, rng.Who), left)
	for i := range e.proxies.all {
		if e.proxies.all[i].refuses {
			continue
		}
		if n == 0 {
			e.proxies.moved.Instance = uint8(i)
		}
		n--
	}
	return &e.proxies.moved
}

// assumedProxies says that clients of a proxy that has ended reach another one at once, where no
// scenario says how long that takes.
func (e *Engine) assumedProxies() *result.Assumption {
	for _, f := range e.faults {
		if f.began && f.cfg.Proxy > 0 && !f.cfg.GivenMoves && len(e.proxies.all) > 1 {
			return &result.Assumption{What: result.Proxies, Value: "clients of a proxy that is gone reach another one at once", Because: "no scenario says how long it takes", Instead: "moves_after = ... of the fault"}
		}
	}
	return nil
}
