package upstream

import (
	"math"
	"slices"

	"kestrix/internal/core/balance"
	"kestrix/internal/core/config"
	"kestrix/internal/core/draw"
	"kestrix/internal/core/health"
	"kestrix/internal/core/queue"
	"kestrix/internal/core/sticky"
	"kestrix/internal/core/tick"
)

// Reload takes a new configuration. Backends are known again by name: health,
// what operators set, counts and seats stay with those that stay.
func (u *Upstream) Reload(now tick.Time, cfg *config.Upstream) {
	old := u.cfg
	u.cfg = cfg
	u.gen++
	u.draws = cfg.Algorithm == "random" || cfg.Algorithm == "two-choices" || cfg.Algorithm == "least-latency" && len(cfg.Backends) > balance.FewSlots
	u.times = cfg.Algorithm == "least-latency"
	u.due = queue.Heap[event]{}
	wanted := map[string]bool{}
	for _, b := range cfg.Backends {
		wanted[b.Name] = true
	}
	for i := range u.members {
		m := &u.members[i]
		if !m.gone && !wanted[m.cfg.Name] {
			m.gone = true
			delete(u.byName, m.cfg.Name)
			delete(u.byHash, sticky.BackendHash(cfg.Name, m.cfg.Name))
			if u.seats != nil {
				u.seats.Replace(int32(i), int32(None))
			}
		}
	}
	for _, b := range cfg.Backends {
		id, known := u.byName[b.Name]
		if !known {
			id = u.freeSlot()
			if u.members[id].in {
				u.ins--
			}
			u.members[id] = member{weight: b.Weight, health: health.Backend{ChangedAt: now}}
			u.byName[b.Name] = id
			u.byHash[sticky.BackendHash(cfg.Name, b.Name)] = id
		}
		m := &u.members[id]
		if known && m.weight == m.cfg.Weight {
			m.weight = b.Weight // a weight set by hand stays
		}
		if known && m.cfg.Address != b.Address {
			m.health.Forget() // another server under the same name
		}
		m.cfg = b
		m.probing = false
		if cfg.Probe == nil || cfg.Probe.Kind != "self-report" {
			m.health.Reported, m.hasShare = health.In, false
		}
	}
	for i := range u.members {
		m := &u.members[i]
		if m.gone {
			continue
		}
		if cfg.Probe != nil {
			u.schedule(BackendID(i), firstProbe(now, cfg, m.cfg.Name))
		} else if old != nil && old.Probe != nil {
			rests := m.health.RestsTill
			m.health.Forget() // nothing could ever bring it back
			m.health.RestsTill = rests
		}
		if m.health.Resting() {
			u.due.Push(m.health.RestsTill, event{slot: BackendID(i), kind: restOver, gen: u.gen})
		}
		if m.ramping = m.ramping && u.scales(); m.ramping {
			u.due.Push(now, event{slot: BackendID(i), kind: rampStep, gen: u.gen})
		}
	}
	for i := range u.line {
		u.due.Push(now.Add(waitsStill(cfg)), event{kind: waitOver, gen: u.gen, at: tick.Time(u.lineFirst + uint64(i) + 1)})
	}
	if s := cfg.Sticky; s != nil && s.By != "cookie" {
		if u.seats == nil || old.Sticky == nil || old.Sticky.By != s.By || old.Sticky.Name != s.Name {
			u.seats = sticky.NewTable(sticky.TableSize)
		}
	} else {
		u.seats = nil
	}
	u.now = now
	for i, full := range u.full {
		if full {
			u.picksFrom(BackendID(i)).Room(i, true) // told anew below
			if u.anyway != nil {
				u.anyway.Room(i, true)
			}
		}
	}
	u.full = append(u.full[:0], make([]bool, len(u.members))...)
	fresh := u.arrange() || !sameAlgorithm(old, cfg)
	if fresh {
		for i := range u.groups {
			u.groups[i].picker = u.newPicker()
		}
	}
	freshAnyway := cfg.TryAnyway && (fresh || u.anyway == nil)
	if !cfg.TryAnyway {
		u.anyway = nil
	} else if freshAnyway {
		u.anyway = u.newPicker()
	}
	if u.single = nil; len(u.groups) == 1 {
		u.single = u.groups[0].picker
	}
	u.plain = u.single != nil && cfg.Sticky == nil && cfg.Queue == nil && !cfg.TryAnyway
	u.counts = u.groups[0].picker.Counts()
	u.timer, _ = u.single.(balance.Timer)
	u.judges = cfg.Suspend != nil
	u.quick = u.single != nil && cfg.Queue == nil && !cfg.TryAnyway &&
		!(u.judges && slices.Contains(cfg.Suspend.On.Status[:400], true))
	if u.budget = 0; cfg.Retry != nil {
		u.budget = cfg.Retry.Budget
	}
	u.limited = false
	for i := range u.members {
		if u.most[i] = math.MaxInt32; u.members[i].cfg.MaxInFlight > 0 {
			u.most[i] = int32(min(u.members[i].cfg.MaxInFlight, math.MaxInt32))
			u.limited = true
		}
	}
	u.enterAll()
	u.inOrder()
	for i := range u.members {
		for range u.open[i] {
			if fresh {
				u.picksFrom(BackendID(i)).Begun(i)
			}
			if freshAnyway {
				u.anyway.Begun(i)
			}
		}
	}
}

// firstProbe gives the first moment from now on that belongs to a backend's
// place in the interval. The place is fixed, so that backends are not probed
// together, and reloads in quick succession put no probe off.
func firstProbe(now tick.Time, cfg *config.Upstream, name string) tick.Time {
	every := cfg.Probe.Every
	share := draw.Unit(draw.Bits(sticky.BackendHash(cfg.Name, name), 0, 0, draw.Phase))
	first := tick.Time(share * float64(every))
	if first < now {
		first = first.Add((now.Sub(first) + every - 1) / every * every)
	}
	return first
}
