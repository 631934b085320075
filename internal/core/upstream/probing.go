package upstream

import (
	"fmt"
	"time"

	"kestrix/internal/core/health"
	"kestrix/internal/core/rng"
	"kestrix/internal/core/sticky"
	"kestrix/internal/core/tick"
)

// firstProbes is how many first probes are under way at most: a proxy that starts with
// thousands of backends does not ask all of them at once.
const firstProbes = 256

// ProbeSeen takes the end of a probe.
func (u *Upstream) ProbeSeen(now tick.Time, id BackendID, p Probe) {
	m := &u.members[id]
	cfg := u.cfg.Probe
	if m.gone || cfg == nil || !m.probing {
		return // sent before a reload
	}
	m.probing = false
	if m.first {
		m.first = false
		u.sent--
		u.sendFirst(now)
	}
	from, before := m.health.State(), u.interval(m)
	reported := ""
	if r := p.Report; r != nil {
		reported = m.reports(r)
	}
	m.health.ProbeSeen(p.Passed, cfg.DownAfter, cfg.UpAfter)
	if u.interval(m) != before {
		u.schedule(id, max(m.probedAt.Add(u.interval(m)), now))
	}
	to := m.health.State()
	if from == to && reported == "" {
		return
	}
	why := reported
	switch to {
	case from:
	case health.Failing, health.Down:
		why = "a probe failed: " + p.Why
		if m.health.InRow() > 1 {
			why = fmt.Sprintf("%s failed: %s", plural(m.health.InRow(), "probe"), p.Why)
		}
	case health.Recovering, health.Up, health.Suspended:
		if reported != "" {
			break
		}
		why = fmt.Sprintf("%s passed", plural(m.health.InRow(), "probe"))
		if m.health.InRow() == 1 {
			why = "a probe passed"
		}
		if to == health.Suspended {
			why += "; real requests had failed"
		}
	}
	u.changed(now, id, from, why)
	u.countTrials()
}

// sendFirst has the next first probes become due, as many as may be under way.
func (u *Upstream) sendFirst(now tick.Time) {
	for ; u.sent < firstProbes && len(u.unsent) > 0; u.unsent = u.unsent[1:] {
		if id := u.unsent[0]; !u.members[id].gone {
			u.sent++
			u.members[id].next, u.members[id].first = now, true
			u.due.Push(now, event{slot: id, kind: probeDue, gen: u.gen, at: now})
		}
	}
}

// Unprobed returns how many backends wait for their first probe to end.
func (u *Upstream) Unprobed() int {
	n := 0
	for i := range u.members {
		if m := &u.members[i]; !m.gone && m.health.Probed() == health.Unprobed {
			n++
		}
	}
	return n
}

// probe sends the probe of a backend that is due, and schedules the next.
func (u *Upstream) probe(now tick.Time, e event, actions []Action) []Action {
	m := &u.members[e.slot]
	if e.at != m.next {
		return actions // scheduled anew since
	}
	m.probedAt = e.at
	if !m.probing {
		m.probing = true
		m.probes++
		actions = append(actions, Action{Kind: SendProbe, Probe: e.slot})
	}
	every := u.interval(m)
	next := e.at.Add(every)
	if m.probes == 1 && m.health.First() && !u.running {
		next = u.firstPhase(e.at+1, m.cfg.Name)
	}
	if next <= now { // a driver that comes late does not send what it missed
		next = e.at.Add((now.Sub(e.at)/every + 1) * every)
	}
	u.schedule(e.slot, next)
	return actions
}

// schedule schedules a backend's next probe; jitter moves it, not its place in
// the interval.
func (u *Upstream) schedule(id BackendID, at tick.Time) {
	late := tick.Time(0)
	if p := u.cfg.Probe; p.Jitter > 0 {
		m := &u.members[id]
		bits := rng.Bits(sticky.BackendHash(u.cfg.Name, m.cfg.Name), u.seed, m.probes+1, rng.Phase)
		late = tick.Time(rng.Unit(bits) * p.Jitter * float64(p.Every))
	}
	u.members[id].next = at
	u.due.Push(at+late, event{id, probeDue, u.gen, at})
}

// firstPhase returns the first moment from now on that belongs to a backend's
// place in the interval. The place is fixed by the seed, so that backends are not probed
// together, and reloads in quick succession put no probe off.
func (u *Upstream) firstPhase(now tick.Time, name string) tick.Time {
	every := u.cfg.Probe.Every
	share := rng.Unit(rng.Bits(sticky.BackendHash(u.cfg.Name, name), u.seed, 0, rng.Phase))
	first := tick.Time(share * float64(every))
	if first < now {
		first = first.Add((now.Sub(first) + every - 1) / every * every)
	}
	return first
}

// interval returns how long after one probe the next is sent.
func (u *Upstream) interval(m *member) time.Duration {
	if s := m.health.Probed(); s == health.Down || s == health.Recovering {
		return u.cfg.Probe.EveryDown
	}
	return u.cfg.Probe.Every
}

// reports takes what a backend reports of itself. It returns a change in words.
func (m *member) reports(r *health.Report) string {
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
