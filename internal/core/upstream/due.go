package upstream

import (
	"fmt"

	"kestrix/internal/core/health"
	"kestrix/internal/core/tick"
	"kestrix/internal/core/units"
)

// event is something that becomes due.
type event struct {
	slot BackendID
	kind eventKind
	gen  uint32
	at   tick.Time // of a probe: its place without jitter; of a room that grows: see member.growsAt
}

type eventKind uint8

const (
	probeDue eventKind = iota
	restOver
	silenceOver
	rampStep
	roomGrows
	waitOver
	grantsDue
)

// Next returns when something is due: Advance is then to be called.
func (u *Upstream) Next() tick.Time { return u.due.At() }

// Advance does what is due and adds what the driver is to do to actions.
func (u *Upstream) Advance(now tick.Time, actions []Action) []Action {
	for u.due.At() <= now {
		_, e := u.due.Pop()
		if e.gen != u.gen {
			continue
		}
		switch e.kind {
		case waitOver:
			u.late(now)
			continue
		case grantsDue:
			continue // they are handed out below
		}
		m := &u.members[e.slot]
		if m.gone {
			continue
		}
		switch e.kind {
		case probeDue:
			actions = u.probe(now, e, actions)
		case rampStep:
			u.ramp(now, e.slot)
		case roomGrows:
			u.roomGrows(now, e.slot, e.at)
		case restOver:
			u.rested(now, m)
		case silenceOver:
			u.silenceEnds(now, e.slot)
		}
	}
	return u.handOut(actions)
}

// rampSteps is in how many steps a slow start goes.
const rampSteps = 20

// ramp takes the next step of a backend's slow start.
func (u *Upstream) ramp(now tick.Time, id BackendID) {
	m := &u.members[id]
	u.now = now
	if m.ramping && now.Sub(m.rampFrom) >= u.cfg.Ramp {
		m.ramping = false
	} else if m.ramping {
		u.due.Push(now.Add(u.cfg.Ramp/rampSteps), event{slot: id, kind: rampStep, gen: u.gen})
	}
	u.enter(id)
	if u.waiting > 0 {
		u.serve(now)
	}
}

// scales reports whether backends that come back start slowly.
func (u *Upstream) scales() bool { return u.cfg.Ramp > 0 && u.algorithm.Ramps() }

// ramped returns the share of its weight that a backend has in its slow start:
// from a tenth to all of it.
func (u *Upstream) ramped(m *member) float64 {
	share := float64(u.now.Sub(m.rampFrom)) / float64(u.cfg.Ramp)
	return min(0.1+0.9*max(share, 0), 1)
}

// changed notes a change of the shown state, if there is one, and hands the pickers
// the member's weight.
func (u *Upstream) changed(now tick.Time, id BackendID, from health.State, why string) {
	m := &u.members[id]
	to := m.health.State()
	u.now = now
	if back := from == health.Down || from == health.Recovering || from == health.Suspended || from == health.Parked; back && m.health.Eligible() && u.scales() {
		m.ramping, m.rampFrom = true, now
		why = fmt.Sprintf("%s; slow start for %s", why, units.Duration(u.cfg.Ramp))
		u.due.Push(now.Add(u.cfg.Ramp/rampSteps), event{slot: id, kind: rampStep, gen: u.gen})
	}
	u.enter(id)
	for _, left := range u.release() {
		u.enter(left)
	}
	if u.waiting > 0 && m.health.Eligible() {
		u.serve(now)
	}
	if from == to {
		return
	}
	m.health.ChangedAt = now
	u.changes = append(u.changes, Change{At: now, Backend: id, From: from, To: to, Why: why})
}

// Changes adds the changes of state since the last call to out.
func (u *Upstream) Changes(out []Change) []Change {
	out = append(out, u.changes...)
	u.changes = u.changes[:0]
	return out
}

// Quiet reports whether Changes has nothing to add.
func (u *Upstream) Quiet() bool { return len(u.changes) == 0 }

// Operate does what an operator orders. weight is read for Weigh only.
func (u *Upstream) Operate(now tick.Time, id BackendID, op Operation, weight int) {
	m := &u.members[id]
	from, in := m.health.State(), u.Eligible(id)
	why := ""
	switch op {
	case Park:
		m.health.Operator, why = health.ParkedOut, "parked by hand"
	case Drain:
		m.health.Operator, why = health.Drained, "drained by hand"
	case Return:
		m.health.Operator, m.weight, why = health.In, m.cfg.Weight, "returned by hand"
	case Admit:
		m.health.Operator, why = health.In, "what was ordered is over"
	case Weigh:
		m.weight, why = max(0, weight), fmt.Sprintf("weight %d by hand", weight)
	case Forget:
		m.health.Forget()
		m.hasShare = false
		why = "health forgotten by hand"
	}
	u.changed(now, id, from, why)
	if m.health.State() == from && u.Eligible(id) != in { // by its weight
		u.changes = append(u.changes, Change{At: now, Backend: id, From: from, To: from, Why: why, ByWeight: true})
	}
	u.countTrials()
}
