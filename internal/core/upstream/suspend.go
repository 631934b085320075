package upstream

import (
	"fmt"
	"math"

	"kestrix/internal/core/health"
	"kestrix/internal/core/tick"
	"kestrix/internal/core/units"
)

// judge counts failures of real traffic and suspends. Attempts begun before
// the last change of state show nothing of the state now.
func (u *Upstream) judge(now tick.Time, a *Attempt, m *member, o Outcome) {
	if o.Kind == Answered || o.FirstByte > 0 {
		m.silentSince = tick.Never
	}
	neutral := o.Kind == ClientLeft || o.Kind == CutOff || o.Kind == IdleCut || o.Kind == TakenOut
	if neutral || a.Began < m.health.ChangedAt || m.health.Resting() {
		return
	}
	s := u.cfg.Suspend
	failed := counts(s.On, o)
	if a.trial {
		u.tried(now, a.Backend, m, failed, o)
		return
	}
	if m.health.Seen(failed, s.After) {
		u.suspend(now, a.Backend, fmt.Sprintf("%s failed in a row, the last: %s", plural(m.health.Failures(), "request"), describe(o)))
	}
}

// suspend begins the rest of a backend, unless too few would stay in rotation.
func (u *Upstream) suspend(now tick.Time, id BackendID, why string) {
	s, m := u.cfg.Suspend, &u.members[id]
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
	if m.health.Eligible() && in-1 >= least {
		u.rest(now, id, why)
	}
}

// rest begins a rest.
func (u *Upstream) rest(now tick.Time, id BackendID, why string) {
	s, m := u.cfg.Suspend, &u.members[id]
	from := m.health.State()
	lasts := m.health.Suspend(now, s.Rest, s.Growth, s.Longest)
	m.silentSince = tick.Never
	u.due.Push(m.health.RestsTill, event{slot: id, kind: restOver, gen: u.gen})
	why = fmt.Sprintf("%s; out for %s", why, units.Duration(lasts))
	u.changed(now, id, from, why)
	if from == health.Suspended && m.health.State() == from { // a trial failed, which is shown all the same
		m.health.ChangedAt = now
		u.changes = append(u.changes, Change{At: now, Backend: id, From: from, To: from, Why: why})
	}
	u.countTrials()
}

// rested puts a backend on trial whose rest is over.
func (u *Upstream) rested(now tick.Time, m *member) {
	if m.health.Resting() && m.health.RestsTill <= now {
		m.health.Rested()
		u.countTrials()
		if u.waiting > 0 {
			u.serve(now)
		}
	}
}

// tried takes the end of a request on trial: the first success ends the suspension,
// the first failure begins the next rest.
func (u *Upstream) tried(now tick.Time, id BackendID, m *member, failed bool, o Outcome) {
	if failed {
		u.rest(now, id, "the trial request failed: "+describe(o))
		return
	}
	from := m.health.State()
	m.health.Worked(now)
	u.changed(now, id, from, "a trial request succeeded")
	u.countTrials()
}

// countTrials counts the members that wait for a request on trial.
func (u *Upstream) countTrials() {
	u.onTrial = 0
	for i := range u.members {
		if u.members[i].waitsForTrial() {
			u.onTrial++
		}
	}
}

// waitsForTrial reports whether the next request should go to the member, to show
// whether it works again.
func (m *member) waitsForTrial() bool {
	return !m.gone && !m.trying && !m.full && m.weight > 0 && m.health.OnTrial()
}

// trial returns a member of a request's own group, or of one before it, that waits for
// a request on trial; None if there is none. Groups after it get no requests, and so
// none on trial, unless no backend at all is in rotation.
func (u *Upstream) trial(own int) BackendID {
	for i := range u.members {
		if m := &u.members[i]; (int(m.group) <= own || u.eligible == 0) && m.waitsForTrial() {
			return BackendID(i)
		}
	}
	return None
}

// listen notes an attempt that begins: the first since the last first byte begins a
// silence. One that has lasted for silent_after, with enough attempts begun in it,
// suspends the backend: they wait unanswered, or their clients have left.
func (u *Upstream) listen(now tick.Time, id BackendID, m *member) {
	s := u.cfg.Suspend
	if s.SilentAfter == 0 {
		return
	}
	if m.silentSince == tick.Never {
		m.silentSince, m.silentCount = now, 0
		if !m.silenceDue {
			m.silenceDue = true
			u.due.Push(now.Add(s.SilentAfter), event{slot: id, kind: silenceOver, gen: u.gen})
		}
	}
	if m.silentCount++; m.silentCount == s.After {
		u.silent(now, id)
	}
}

// silent suspends a backend that has been silent for too long.
func (u *Upstream) silent(now tick.Time, id BackendID) {
	s, m := u.cfg.Suspend, &u.members[id]
	if m.silentSince == tick.Never || m.silentCount < s.After || now.Sub(m.silentSince) < s.SilentAfter {
		return
	}
	u.suspend(now, id, fmt.Sprintf("unanswered: no first byte for %s, with %s begun", units.Duration(now.Sub(m.silentSince)), plural(m.silentCount, "request")))
}

// silenceEnds is when a silence that began some time ago may have lasted too long. The
// next one is looked at when it could have.
func (u *Upstream) silenceEnds(now tick.Time, id BackendID) {
	m := &u.members[id]
	m.silenceDue = false
	if u.cfg.Suspend == nil || m.silentSince == tick.Never {
		return
	}
	if over := m.silentSince.Add(u.cfg.Suspend.SilentAfter); over > now {
		m.silenceDue = true
		u.due.Push(over, event{slot: id, kind: silenceOver, gen: u.gen})
		return
	}
	u.silent(now, id)
}

// FirstByte notes that a backend has begun to answer an attempt that goes on, as a
// stream does: it is not silent.
func (u *Upstream) FirstByte(a *Attempt) { u.members[a.Backend].silentSince = tick.Never }

// describe returns an outcome in words.
func describe(o Outcome) string {
	if o.Kind != Answered {
		return o.Kind.String()
	}
	if word := o.RPCWord(); word != "" {
		return word
	}
	return fmt.Sprintf("status %d", o.Status)
}

func plural(n int, what string) string {
	if n == 1 {
		return "1 " + what
	}
	return fmt.Sprintf("%d %ss", n, what)
}
