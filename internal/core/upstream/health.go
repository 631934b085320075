package upstream

import (
	"fmt"
	"math"
	"time"

	"kestrix/internal/core/draw"
	"kestrix/internal/core/health"
	"kestrix/internal/core/sticky"
	"kestrix/internal/core/tick"
)

// judge counts failures of real traffic and suspends. Attempts begun before
// the last change of state say nothing of the state now.
func (u *Upstream) judge(now tick.Time, a *Attempt, m *member, o Outcome) {
	if o.Kind == ClientLeft || o.Kind == CutOff || a.Began < m.health.ChangedAt || m.health.Resting() {
		return
	}
	s := u.cfg.Suspend
	if !m.health.Seen(counts(s.On, o), s.After) {
		return
	}
	configured, in := 0, 0
	for i := range u.members {
		if o := &u.members[i]; !o.gone {
			configured++
			if o.health.Eligible() {
				in++
			}
		}
	}
	least := max(1, int(math.Ceil(s.Keep*float64(configured)-1e-9)))
	if !m.health.Eligible() || in-1 < least {
		return
	}
	failures := m.health.Failures()
	from := m.health.State()
	rest := m.health.Suspend(now, s.Rest, s.Growth, s.Longest)
	u.due.Push(m.health.RestsTill, event{slot: a.Backend, kind: restOver, gen: u.gen})
	u.changed(now, a.Backend, from, fmt.Sprintf("%s failed in a row, the last: %s; it rests for %s", plural(failures, "request"), say(o), rest))
}

func say(o Outcome) string {
	if o.Kind == Answered {
		return fmt.Sprintf("status %d", o.Status)
	}
	return o.Kind.String()
}

func plural(n int, what string) string {
	if n == 1 {
		return "1 " + what
	}
	return fmt.Sprintf("%d %ss", n, what)
}

// changed notes a change of the shown state, if there is one, and tells the
// picker.
func (u *Upstream) changed(now tick.Time, id BackendID, from health.State, why string) {
	m := &u.members[id]
	to := m.health.State()
	u.now = now
	if back := from == health.Down || from == health.Recovering || from == health.Suspended || from == health.Parked; back && m.health.Eligible() && u.scales() {
		m.ramping, m.rampFrom = true, now
		why = fmt.Sprintf("%s; slow start for %s", why, u.cfg.Ramp)
		u.due.Push(now.Add(u.cfg.Ramp/rampSteps), event{slot: id, kind: rampStep, gen: u.gen})
	}
	u.enter(id)
	if u.waiting > 0 && m.health.Eligible() {
		u.serve(now)
	}
	if from == to {
		return
	}
	m.health.ChangedAt = now
	u.changes = append(u.changes, Change{now, id, from, to, why})
}

// ProbeSeen takes the end of a probe.
func (u *Upstream) ProbeSeen(now tick.Time, id BackendID, p Probe) {
	m := &u.members[id]
	cfg := u.cfg.Probe
	if m.gone || cfg == nil || !m.probing {
		return // sent before a reload
	}
	m.probing = false
	from, before := m.health.State(), u.interval(m)
	said := ""
	if r := p.Report; r != nil {
		said = m.says(r)
	}
	m.health.ProbeSeen(p.Passed, cfg.DownAfter, cfg.UpAfter)
	if u.interval(m) != before {
		u.schedule(id, max(m.probedAt.Add(u.interval(m)), now))
	}
	to := m.health.State()
	if from == to && said == "" {
		return
	}
	why := said
	switch to {
	case from:
	case health.Failing, health.Down:
		why = "a probe failed: " + p.Why
		if m.health.InRow() > 1 {
			why = fmt.Sprintf("%s failed: %s", plural(m.health.InRow(), "probe"), p.Why)
		}
	case health.Recovering, health.Up:
		if said != "" {
			break
		}
		why = fmt.Sprintf("%s passed", plural(m.health.InRow(), "probe"))
		if m.health.InRow() == 1 {
			why = "a probe passed"
		}
	}
	u.changed(now, id, from, why)
}

// says takes what a backend says of itself, and words it if it is news.
func (m *member) says(r *health.Report) string {
	was, share := m.health.Reported, m.reported()
	m.health.Reported, m.hasShare, m.share = r.Wishes, true, r.Share
	switch {
	case was != r.Wishes:
		return "it says so itself: " + [...]string{"up", "draining", "parked"}[r.Wishes]
	case share != r.Share:
		return fmt.Sprintf("it asks for %.0f%% of its weight", 100*r.Share)
	}
	return ""
}

// Operate does what an operator wants. weight is read for Weigh only.
func (u *Upstream) Operate(now tick.Time, id BackendID, op Operation, weight int) {
	m := &u.members[id]
	from := m.health.State()
	why := ""
	switch op {
	case Park:
		m.health.Operator, why = health.ParkedOut, "parked by hand"
	case Drain:
		m.health.Operator, why = health.Drained, "drained by hand"
	case Return:
		m.health.Operator, why = health.In, "returned by hand"
	case Weigh:
		m.weight = max(0, weight)
	case Forget:
		m.health.Forget()
		m.hasShare = false
		why = "health forgotten by hand"
	}
	u.changed(now, id, from, why)
}

// Next gives when something is due: Advance is then to be called.
func (u *Upstream) Next() tick.Time {
	if len(u.grants) > 0 {
		return min(u.grantedAt, u.due.At())
	}
	return u.due.At()
}

// Advance does what is due and adds what the driver is to do to actions.
func (u *Upstream) Advance(now tick.Time, actions []Action) []Action {
	for u.due.At() <= now {
		_, e := u.due.Pop()
		if e.kind == waitOver {
			u.late(now, uint64(e.at))
			continue
		}
		m := &u.members[e.slot]
		if e.gen != u.gen || m.gone {
			continue
		}
		switch e.kind {
		case probeDue:
			if e.at != m.next {
				continue // put down anew since
			}
			m.probedAt = e.at
			if !m.probing {
				m.probing = true
				m.probes++
				actions = append(actions, Action{Kind: SendProbe, Probe: e.slot})
			}
			every := u.interval(m)
			// A driver that comes late does not send what it missed.
			next := e.at.Add(every)
			if next <= now {
				next = e.at.Add((now.Sub(e.at)/every + 1) * every)
			}
			u.schedule(e.slot, next)
		case rampStep:
			u.now = now
			if m.ramping && now.Sub(m.rampFrom) >= u.cfg.Ramp {
				m.ramping = false
			} else if m.ramping {
				u.due.Push(now.Add(u.cfg.Ramp/rampSteps), event{slot: e.slot, kind: rampStep, gen: u.gen})
			}
			u.enter(e.slot)
			if u.waiting > 0 {
				u.serve(now)
			}
		case restOver:
			if m.health.Resting() && m.health.RestsTill <= now {
				from := m.health.State()
				m.health.Rested(now)
				u.changed(now, e.slot, from, "its rest is over")
			}
		}
	}
	return u.handOut(actions)
}

// rampSteps is in how many steps a slow start goes.
const rampSteps = 20

// scales says whether backends that come back start slowly.
func (u *Upstream) scales() bool {
	return u.cfg.Ramp > 0 && u.cfg.Algorithm != "hash" && u.cfg.Algorithm != "first-fit"
}

// ramped gives the share of its weight that a backend has in its slow start:
// from a tenth to all of it.
func (u *Upstream) ramped(m *member) float64 {
	share := float64(u.now.Sub(m.rampFrom)) / float64(u.cfg.Ramp)
	return min(0.1+0.9*max(share, 0), 1)
}

// schedule puts a backend's next probe down; jitter moves it, not its place in
// the interval.
func (u *Upstream) schedule(id BackendID, at tick.Time) {
	late := tick.Time(0)
	if p := u.cfg.Probe; p.Jitter > 0 {
		m := &u.members[id]
		bits := draw.Bits(sticky.BackendHash(u.cfg.Name, m.cfg.Name), u.seed, m.probes+1, draw.Phase)
		late = tick.Time(draw.Unit(bits) * p.Jitter * float64(p.Every))
	}
	u.members[id].next = at
	u.due.Push(at+late, event{id, probeDue, u.gen, at})
}

// interval gives how long after one probe the next is sent.
func (u *Upstream) interval(m *member) time.Duration {
	if s := m.health.Probed(); s == health.Down || s == health.Recovering {
		return u.cfg.Probe.EveryDown
	}
	return u.cfg.Probe.Every
}

// Changes adds the changes of state since the last call to out.
func (u *Upstream) Changes(out []Change) []Change {
	out = append(out, u.changes...)
	u.changes = u.changes[:0]
	return out
}

// Quiet says that Changes has nothing to give.
func (u *Upstream) Quiet() bool { return len(u.changes) == 0 }
