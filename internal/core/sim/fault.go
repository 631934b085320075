package sim

import (
	"cmp"
	"slices"
	"time"

	"kestrix/internal/core/result"
	"kestrix/internal/core/scenario"
	"kestrix/internal/core/tick"
	"kestrix/internal/core/upstream"
)

// fault is a scripted failure and what came of it.
type fault struct {
	cfg             *scenario.Fault
	bit             uint64
	targets         []target
	deps            []*dependency // that it strikes, in place of the targets, which call them
	began           bool
	backAt          tick.Time // of a proxy: when it accepted connections again
	ended           bool
	at, until       tick.Time
	met, lost, left int64
	from, to        int       // phases in which it lasted: [from, to)
	acting          bool      // of one that flaps: its effect is there now
	turns           tick.Time // likewise: when that changes
}

// target is a backend that a fault strikes.
type target struct {
	server *server
	weight int       // before the fault
	leftAt tick.Time // tick.Never while it has not left rotation
	backAt tick.Time // likewise, after the fault's end
}

func (e *Engine) prepareFaults() {
	for i := range e.scenario.Faults {
		cfg := &e.scenario.Faults[i]
		f := &fault{cfg: cfg, bit: 1 << i, turns: tick.Never, backAt: tick.Never}
		for k := range e.servers {
			s := &e.servers[k]
			for _, p := range cfg.Backends {
				if scenario.Fits(p.Value, s.name) {
					f.targets = append(f.targets, target{server: s, leftAt: tick.Never, backAt: tick.Never})
					break
				}
			}
			if slices.ContainsFunc(s.needs, func(n need) bool { return slices.Contains(cfg.Dependencies, n.cfg.Name) }) {
				f.targets = append(f.targets, target{server: s, leftAt: tick.Never, backAt: tick.Never})
			}
		}
		for _, x := range e.deps {
			if slices.Contains(cfg.Dependencies, x.cfg.Name) {
				f.deps = append(f.deps, x)
			}
		}
		e.faults = append(e.faults, f)
	}
}

func (e *Engine) faultBegins(f *fault) {
	f.began, f.at = true, e.now
	f.from = e.newPhase()
	if f.cfg.Until >= 0 {
		for i, x := range e.faults {
			if x == f {
				e.queue.Push(tick.Time(f.cfg.Until), event{kind: faultEnds, server: int32(i)})
			}
		}
	}
	if k := f.cfg.Of(); k.Flaps {
		f.acting = true
		e.switchLater(f, f.cfg.FailsFor)
	}
	if f.cfg.Proxy > 0 {
		e.proxyEnds(f)
	}
	for i := range f.targets {
		t := &f.targets[i]
		s := t.server
		if s.outs == s.up.living {
			t.leftAt = e.now // it was out already
		}
		if f.deps == nil {
			s.under |= f.bit
			e.strike(f, t, s)
		}
	}
	for _, x := range f.deps {
		e.strikeDependency(f, x)
	}
}

// strike puts a fault on one backend.
func (e *Engine) strike(f *fault, t *target, s *server) {
	k := f.cfg.Of()
	e.suffer(f, s, &k.Effect)
	switch k.Order {
	case "park":
		e.operate(s, upstream.Park, 0)
	case "drain":
		e.operate(s, upstream.Drain, 0)
	case "weight":
		for _, m := range s.up.views[0].core.Members(e.now) {
			if m.ID == s.id {
				t.weight = m.Weight
			}
		}
		e.operate(s, upstream.Weigh, f.cfg.Weight)
	}
	e.noteAll(s.up)
}

// operate gives an operator's order to every proxy.
func (e *Engine) operate(s *server, o upstream.Operation, weight int) {
	for _, v := range s.up.views {
		if v.gone {
			continue // it is given the order when it starts
		}
		v.core.Operate(e.now+v.ahead, s.id, o, weight)
	}
}

// suffer has an effect begin on a backend.
func (e *Engine) suffer(f *fault, s *server, x *scenario.Effect) {
	s.suffers(f.cfg, x)
	if x.Refuses {
		e.die(s)
	}
	if x.Swallows || x.Hangs || x.Resets || x.Errors {
		e.markOpen(f, s)
	}
}

// recover has an effect end.
func (e *Engine) recover(f *fault, s *server, x *scenario.Effect) {
	s.recovers(f.cfg, x)
	if x.Hangs && s.hang == 0 {
		// What was stuck is given up, and its workers are free again.
		s.busy -= s.stuck
		s.stuck = 0
		e.next(s)
	}
	if x.Refuses && s.refuse == 0 {
		e.restarts(s)
	}
	if x.Silent() && s.hang == 0 && s.blackhole == 0 {
		e.speaksAgain(s)
	}
}

// suffers has an effect of a fault begin.
func (c *condition) suffers(f *scenario.Fault, x *scenario.Effect) {
	c.change(x, 1)
	if x.Slows {
		c.slow *= f.Factor
	}
	if x.Errors {
		c.errors = append(c.errors, f)
	}
}

// recovers has an effect of a fault end.
func (c *condition) recovers(f *scenario.Fault, x *scenario.Effect) {
	c.change(x, -1)
	if x.Errors {
		c.errors = slices.DeleteFunc(c.errors, func(other *scenario.Fault) bool { return other == f })
	}
	if x.Slows {
		c.slow /= f.Factor
		if c.slow > 0.999999 && c.slow < 1.000001 {
			c.slow = 1
		}
	}
}

// change counts the faults that are on: by is 1 for one that begins, -1 for one that ends.
func (c *condition) change(x *scenario.Effect, by int) {
	c.refuse += by * one(x.Refuses)
	c.blackhole += by * one(x.Swallows)
	c.hang += by * one(x.Hangs)
	c.reset += by * one(x.Resets)
	c.probeFails += by * one(x.FailProbe)
	c.probeLies += by * one(x.LieProbe)
}

// one returns 1 for yes and 0 for no.
func one(yes bool) int {
	if yes {
		return 1
	}
	return 0
}

// faultsChanged notes when a fault begins, ends or turns next, and which backends
// answer as they should.
func (e *Engine) faultsChanged() {
	next := tick.Never
	for _, f := range e.faults {
		switch {
		case f.ended:
		case !f.began:
			next = min(next, tick.Time(f.cfg.At))
		default:
			next = min(next, f.turns)
			if f.cfg.Until >= 0 {
				next = min(next, tick.Time(f.cfg.Until))
			}
		}
	}
	e.faultNext = next
	for k := range e.servers {
		s := &e.servers[k]
		s.steady = s.shared == nil && s.coldUntil <= e.now && s.slow == 1 && s.refuse == 0 && s.blackhole == 0 && s.hang == 0 && s.reset == 0 && len(s.errors) == 0
	}
}

// noteAll takes what all proxies have seen into the story.
func (e *Engine) noteAll(u *up) {
	for _, v := range u.views {
		e.note(v)
		e.schedule(v)
	}
}

// switchLater has a flapping fault turn after a time.
func (e *Engine) switchLater(f *fault, after time.Duration) {
	for i, x := range e.faults {
		if x == f {
			f.turns = e.now.Add(after)
			e.queue.Push(f.turns, event{kind: faultTurns, server: int32(i)})
		}
	}
}

// faultTurns has the backends of a flapping fault fail, or work again.
func (e *Engine) faultTurns(f *fault) {
	if f.ended {
		return
	}
	f.acting = !f.acting
	x := &f.cfg.Of().Effect
	for _, d := range f.deps {
		if f.acting {
			e.strikeDependency(f, d)
		} else {
			e.healDependency(f, d)
		}
	}
	for _, t := range f.targets {
		if f.deps != nil {
			break
		}
		if f.acting {
			e.suffer(f, t.server, x)
		} else {
			e.recover(f, t.server, x)
		}
	}
	if f.acting {
		e.switchLater(f, f.cfg.FailsFor)
	} else {
		e.switchLater(f, f.cfg.WorksFor)
	}
}

// openOn returns the requests that are open on a backend, in the order in which they
// came.
func (e *Engine) openOn(s *server) []int32 {
	var out []int32
	for i := range e.requests {
		if r := &e.requests[i]; r.open && r.server == s.index {
			out = append(out, int32(i))
		}
	}
	slices.SortFunc(out, func(a, b int32) int { return cmp.Compare(e.requests[a].q.ID, e.requests[b].q.ID) })
	return out
}

// markOpen notes that what is open on a backend is struck as well.
func (e *Engine) markOpen(f *fault, s *server) {
	for _, i := range e.openOn(s) {
		r := &e.requests[i]
		if !r.open || r.server != s.index {
			continue
		}
		r.under |= f.bit
		if !r.stream || !r.sent {
			continue
		}
		switch {
		case s.reset > 0:
			e.settle(i, upstream.Outcome{Kind: upstream.Reset, Final: true})
		case r.flows && (s.hang > 0 || s.blackhole > 0):
			e.fallsSilent(i)
		}
	}
}

func (e *Engine) faultEnds(f *fault) {
	f.ended, f.until = true, e.now
	f.to = e.newPhase()
	k := f.cfg.Of()
	if f.cfg.Proxy > 0 {
		e.proxyStarts(f)
	}
	for _, d := range f.deps {
		d.under &^= f.bit
		if !k.Flaps || f.acting {
			e.healDependency(f, d)
		}
	}
	for i := range f.targets {
		t := &f.targets[i]
		s := t.server
		s.under &^= f.bit
		if f.deps == nil && (!k.Flaps || f.acting) {
			e.recover(f, s, &k.Effect)
		}
		switch k.Order {
		case "park", "drain":
			e.operate(s, upstream.Admit, 0)
		case "weight":
			e.operate(s, upstream.Weigh, t.weight)
		}
		if s.outs == 0 && t.leftAt != tick.Never && t.backAt == tick.Never {
			t.backAt = e.now
		}
		e.noteAll(s.up)
	}
}

// faultsSee notes for every fault on a backend when it had left rotation, with
// every proxy, and when it was back with all.
func (e *Engine) faultsSee(s *server) {
	out, in := s.outs == s.up.living, s.outs == 0
	for _, f := range e.faults {
		if !f.began {
			continue
		}
		for i := range f.targets {
			t := &f.targets[i]
			if t.server != s {
				continue
			}
			if out && t.leftAt == tick.Never && !f.ended {
				t.leftAt = e.now
			}
			if in && f.ended && t.leftAt != tick.Never && t.backAt == tick.Never {
				t.backAt = e.now
			}
		}
	}
}

// result returns what came of a fault.
func (e *Engine) faultResult(f *fault) result.Fault {
	r := result.Fault{
		Name: f.cfg.Name, Kind: f.cfg.Kind, At: f.cfg.At.Seconds(), Began: f.began,
		Proxy: f.cfg.Proxy, Exposed: f.met, ExposedFailed: f.lost, ExposedLeft: f.left, Backends: []string{}, Dependencies: append([]string{}, f.cfg.Dependencies...),
	}
	if f.cfg.Until >= 0 {
		until := f.cfg.Until.Seconds()
		r.Until = &until
	}
	end, last := f.to, len(e.phases)
	if !f.ended {
		end = last
	}
	if !f.began {
		f.from, end = last, last
	}
	r.Before, r.During, r.After = e.phase(0, f.from), e.phase(f.from, end), e.phase(end, last)
	r.Aftermath = e.aftermath(f)
	left, back := tick.Time(-1), tick.Time(-1)
	for _, t := range f.targets {
		r.Backends = append(r.Backends, t.server.name)
		left, back = max(left, t.leftAt), max(back, t.backAt)
	}
	if f.backAt != tick.Never {
		r.RecoveredAfter = moment(f.backAt - f.until)
	}
	if f.began && left >= 0 && left != tick.Never {
		r.DetectedAfter = moment(left - f.at)
	}
	if f.ended && left != tick.Never && back >= 0 && back != tick.Never {
		r.RecoveredAfter = moment(back - f.until)
	}
	return r
}
