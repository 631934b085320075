package upstream

import (
	"math"

	"kestrix/internal/core/config"
	"kestrix/internal/core/health"
	"kestrix/internal/core/queue"
	"kestrix/internal/core/sticky"
	"kestrix/internal/core/tick"
)

// Reload takes a new configuration. Backends are known again by name and address:
// health, orders of operators, counts and seats stay with those that stay. One that is
// replaced serves on until its upstream has another in rotation, or the first probes
// of those that follow have ended.
func (u *Upstream) Reload(now tick.Time, cfg *config.Upstream) {
	old := u.cfg
	u.cfg, u.now = cfg, now
	u.gen++
	u.due, u.unsent, u.sent, u.lineDue = queue.Heap[event]{}, nil, 0, false
	u.remove(cfg)
	for _, b := range cfg.Backends {
		u.add(now, b, old != nil)
	}
	u.keepSeats(old)
	u.release()
	u.rebuild(old)
	for i := range u.members {
		if !u.members[i].gone {
			u.resume(now, BackendID(i))
		}
	}
	for _, left := range u.release() { // what was awaited may be up without a probe now
		u.enter(left)
	}
	u.sendFirst(now)
	u.countTrials()
	u.expectLate()
	if len(u.grants) > 0 {
		u.due.Push(now, event{kind: grantsDue, gen: u.gen})
	}
	u.compose()
	if u.waiting > 0 {
		u.serve(now)
	}
}

// remove has backends leave that are no longer configured.
func (u *Upstream) remove(cfg *config.Upstream) {
	wanted := map[string]config.Address{}
	for _, b := range cfg.Backends {
		wanted[b.Name] = b.Address
	}
	for i := range u.members {
		m := &u.members[i]
		if address, ok := wanted[m.cfg.Name]; m.gone || m.leaving || ok && address == m.cfg.Address {
			continue
		}
		m.leaving, m.probing, m.first = true, false, false
		u.leaving++
		delete(u.byName, m.cfg.Name)
	}
}

// add takes a backend in, or what is new of one that stays. later says that the proxy
// is at work already.
func (u *Upstream) add(now tick.Time, b config.Backend, later bool) {
	id, known := u.byName[b.Name]
	if !known {
		id, known = u.returning(b)
	}
	if !known {
		id = u.freeSlot()
		if u.members[id].in {
			u.eligible--
		}
		probed := u.cfg.Probe != nil && !u.cfg.TryAnyway && !u.running
		m := member{weight: b.Weight, health: health.Start(now, probed, later), silentSince: tick.Never, lowered: math.Inf(1)}
		if u.running {
			m.health = health.Backend{ChangedAt: now}
		}
		for i := range u.members {
			if o := &u.members[i]; o.leaving && o.cfg.Name == b.Name {
				m.health.Operator = o.health.Operator // an operator's order is for the name
				if o.weight != o.cfg.Weight && o.cfg.Weight == b.Weight {
					m.weight = o.weight
				}
			}
		}
		u.members[id] = m
		u.byName[b.Name] = id
		if hash := sticky.BackendHash(u.cfg.Name, b.Name); !u.heldBySeat(hash) {
			u.byHash[hash] = id
		}
	}
	m := &u.members[id]
	if known && (m.weight == m.cfg.Weight || m.cfg.Weight != b.Weight) {
		m.weight = b.Weight // one set by hand stays until the configuration has another
	}
	m.cfg, m.probing, m.first = b, false, false
	if u.cfg.Probe == nil || !u.cfg.Probe.Of().Reports {
		m.health.Reported, m.hasShare = health.In, false
	}
	if m.most = math.MaxInt32; b.MaxInFlight > 0 {
		m.most = int32(min(b.MaxInFlight, math.MaxInt32))
	}
}

// returning returns a backend that was to leave and is configured again.
func (u *Upstream) returning(b config.Backend) (BackendID, bool) {
	for i := range u.members {
		if m := &u.members[i]; m.leaving && m.cfg.Name == b.Name && m.cfg.Address == b.Address {
			m.leaving = false
			u.leaving--
			u.byName[b.Name] = BackendID(i)
			return BackendID(i), true
		}
	}
	return None, false
}

// heldBySeat reports whether a leaving backend still keeps the seats of its name.
func (u *Upstream) heldBySeat(hash uint64) bool {
	id, ok := u.byHash[hash]
	return ok && u.members[id].leaving
}

// release lets backends go that are no longer configured, once others serve, and
// returns them.
func (u *Upstream) release() (gone []BackendID) {
	if u.leaving == 0 || u.awaited() {
		return nil
	}
	for i := range u.members {
		m := &u.members[i]
		if !m.leaving {
			continue
		}
		m.leaving, m.gone = false, true
		u.leaving--
		gone = append(gone, BackendID(i))
		next, ok := u.byName[m.cfg.Name]
		hash := sticky.BackendHash(u.cfg.Name, m.cfg.Name)
		if u.byHash[hash] = next; !ok {
			next = None
			delete(u.byHash, hash)
		}
		if u.seats != nil {
			u.seats.Replace(int32(i), int32(next))
		}
	}
	return gone
}

// awaited reports whether no configured backend is in rotation, and the first probe of
// one has not ended.
func (u *Upstream) awaited() bool {
	unprobed := false
	for i := range u.members {
		m := &u.members[i]
		if m.gone || m.leaving {
			continue
		}
		if m.health.Eligible() && m.weight > 0 {
			return false
		}
		unprobed = unprobed || m.health.Probed() == health.Unprobed
	}
	return unprobed
}

// freeSlot returns the slot of a backend that is gone and has nothing in flight, or a
// new one.
func (u *Upstream) freeSlot() BackendID {
	for i := range u.members {
		if u.members[i].gone && u.members[i].inFlight == 0 {
			return BackendID(i)
		}
	}
	u.members = append(u.members, member{most: math.MaxInt32})
	return BackendID(len(u.members) - 1)
}

// keepSeats keeps the table of seats, if clients are still known by the same.
func (u *Upstream) keepSeats(old *config.Upstream) {
	s := u.cfg.Sticky
	switch {
	case s == nil || s.By == "cookie":
		u.seats = nil
	case u.seats == nil || old.Sticky == nil || old.Sticky.By != s.By || old.Sticky.Name != s.Name:
		u.seats = sticky.NewTable(sticky.TableSize)
	}
}

// resume has what a member waits for become due again.
func (u *Upstream) resume(now tick.Time, id BackendID) {
	m := &u.members[id]
	from, why := m.health.State(), ""
	switch {
	case m.leaving: // no longer probed
	case u.cfg.Probe == nil:
		m.health.Unprobe() // nothing could ever bring it back
		why = "no probe is configured any more"
	case m.health.First() && !u.running:
		u.unsent = append(u.unsent, id)
	default:
		u.schedule(id, u.firstPhase(now, m.cfg.Name))
	}
	if m.health.Suspended() && u.cfg.Suspend == nil {
		m.health.Worked(now) // nothing judges it any more
		why = "no suspend block is configured any more"
	}
	if to := m.health.State(); to != from {
		m.health.ChangedAt = now
		u.changes = append(u.changes, Change{At: now, Backend: id, From: from, To: to, Why: why})
	}
	if m.health.Resting() {
		u.due.Push(m.health.RestsTill, event{slot: id, kind: restOver, gen: u.gen})
	}
	m.silenceDue = m.silentSince != tick.Never && u.cfg.Suspend != nil && u.cfg.Suspend.SilentAfter > 0
	if m.silenceDue {
		u.due.Push(m.silentSince.Add(u.cfg.Suspend.SilentAfter), event{slot: id, kind: silenceOver, gen: u.gen})
	}
	if !math.IsInf(m.lowered, 1) {
		u.growLater(now, id, m)
	}
	if m.ramping = m.ramping && u.scales(); m.ramping {
		u.due.Push(now, event{slot: id, kind: rampStep, gen: u.gen})
	}
	u.enter(id)
}

// rebuild makes groups and pickers, new ones where how to choose has changed, and
// hands them what is in flight.
func (u *Upstream) rebuild(old *config.Upstream) {
	u.algorithm = u.cfg.Balance()
	was := u.byLoad
	u.byLoad = u.cfg.Failover != nil && u.cfg.Failover.SpillAt > 0
	fresh := u.arrange() || !sameAlgorithm(old, u.cfg) || was != u.byLoad
	if fresh {
		for i := range u.groups {
			u.groups[i].picker, u.groups[i].roomy = u.newPicker(), nil
			if u.byLoad {
				u.groups[i].roomy = u.newPicker()
			}
		}
	}
	freshAnyway := u.cfg.TryAnyway && (fresh || u.ignoringHealth == nil)
	if !u.cfg.TryAnyway {
		u.ignoringHealth = nil
	} else if freshAnyway {
		u.ignoringHealth = u.newPicker()
	}
	for i := range u.members {
		m, id := &u.members[i], BackendID(i)
		u.enter(id)
		if !u.byLoad {
			u.setFull(id, m, m.inFlight >= m.most)
		} else if fresh {
			u.picker(m).SetFull(i, m.near)
			u.setFull(id, m, m.full)
		}
		for range m.inFlight {
			if !u.algorithm.Counts {
				break
			}
			if fresh {
				u.picker(m).Begun(i)
				if u.byLoad {
					u.groups[m.group].roomy.Begun(i)
				}
			}
			if freshAnyway {
				u.ignoringHealth.Begun(i)
			}
		}
	}
	u.order()
}
