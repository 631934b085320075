package upstream

import (
	"slices"

	"kestrix/internal/core/balance"
	"kestrix/internal/core/config"
	"kestrix/internal/core/health"
	"kestrix/internal/core/rng"
)

// group is backends among which the algorithm chooses: all of an upstream, or,
// with failover, those of one tier that stand in the proxy's own zone, or the
// others of that tier.
type group struct {
	tier       int
	own        bool
	picker     balance.Picker // by load: it takes backends that are near their room for full
	roomy      balance.Picker // by load: it does not; else nil
	configured float64        // weight
	eligible   float64        // weight that may be given requests now
	until      float64        // the sum of the shares of this group and those before it
}

// placeOf returns the tier and zone that decide a backend's group.
func placeOf(cfg *config.Upstream, b *config.Backend) (tier int, own bool) {
	if cfg.Failover == nil {
		return 1, false
	}
	return b.Tier, cfg.OwnZone != "" && b.Zone == cfg.OwnZone
}

// arrange puts the members in groups. It reports whether anything about that has
// changed, so that the pickers must be made anew.
func (u *Upstream) arrange() bool {
	var wanted []group
	for i := range u.members {
		tier, own := placeOf(u.cfg, &u.members[i].cfg)
		if !u.members[i].gone && !slices.ContainsFunc(wanted, func(g group) bool { return g.tier == tier && g.own == own }) {
			wanted = append(wanted, group{tier: tier, own: own})
		}
	}
	if len(wanted) == 0 {
		wanted = []group{{tier: 1}} // empty, as when no name resolves
	}
	slices.SortFunc(wanted, func(a, b group) int {
		switch {
		case a.tier != b.tier:
			return a.tier - b.tier
		case a.own == b.own:
			return 0
		case a.own:
			return -1
		}
		return 1
	})
	changed := !slices.EqualFunc(wanted, u.groups, func(a, b group) bool { return a.tier == b.tier && a.own == b.own })
	if changed {
		u.groups = wanted
	}
	for i := range u.members {
		m := &u.members[i]
		tier, own := placeOf(u.cfg, &m.cfg)
		// One that is gone may have had a group of its own: what it still has
		// open is then counted in the first.
		g := max(0, int32(slices.IndexFunc(u.groups, func(g group) bool { return g.tier == tier && g.own == own })))
		changed = changed || m.group != g
		m.group = g
	}
	return changed
}

// weigh computes the shares of the groups. Of the requests that are left,
// each tier takes the part that its healthy share of capacity, divided by
// spill_below, allows; if all of them cannot take everything, they are scaled
// up. Within a tier the own zone takes its part by the same rule, and the others
// the rest.
func (u *Upstream) weigh() {
	u.stale = false
	for i := range u.groups {
		u.groups[i].configured, u.groups[i].eligible, u.groups[i].until = 0, 0, 0
	}
	for i := range u.members {
		m := &u.members[i]
		if m.gone {
			continue
		}
		g := &u.groups[m.group]
		g.configured += float64(m.cfg.Weight)
		if m.health.Eligible() {
			g.eligible += u.weight(m)
		}
	}
	left, sum := 1.0, 0.0
	below := u.cfg.Failover.SpillBelow
	for i := 0; i < len(u.groups); {
		end := i + 1
		for end < len(u.groups) && u.groups[end].tier == u.groups[i].tier {
			end++
		}
		tier := u.groups[i:end]
		var all group
		for k := range tier {
			all.configured += tier[k].configured
			all.eligible += tier[k].eligible
		}
		takes := min(left, all.health()/below)
		left -= takes
		sum += takes
		first := 1.0 // of takes, for the first of two groups, which is the own zone
		if len(tier) == 2 {
			first = min(1, tier[0].health()/below)
			if tier[1].eligible == 0 && tier[0].eligible > 0 {
				first = 1
			}
			tier[1].until = takes * (1 - first)
		}
		tier[0].until = takes * first
		i = end
	}
	at := 0.0
	for i := range u.groups {
		if sum > 0 {
			at += u.groups[i].until / sum
		}
		u.groups[i].until = at
	}
}

// health is the share of the weight that may be given requests.
func (g *group) health() float64 {
	if g.configured == 0 {
		return 0
	}
	return min(1, g.eligible/g.configured)
}

// groupOf returns the group that a request belongs to. hash goes by key, so that the
// place of a key is stable.
func (u *Upstream) groupOf(q *Request, attempt int) int {
	if u.stale {
		u.weigh()
	}
	bits := rng.Bits(u.seed, q.ID, uint64(attempt), rng.Spill)
	if u.algorithm.Hash {
		bits = rng.Bits(u.seed, q.Key, 0, rng.Spill)
	}
	x := rng.Unit(bits)
	for i := range u.groups {
		if x < u.groups[i].until {
			return i
		}
	}
	return 0
}

// Shares returns the part of the requests that each tier, and the own zone in it, gets
// now; one entry without failover.
func (u *Upstream) Shares() []GroupShare {
	if len(u.groups) < 2 {
		return nil
	}
	if u.stale {
		u.weigh()
	}
	var out []GroupShare
	before := 0.0
	for _, g := range u.groups {
		out = append(out, GroupShare{Tier: g.tier, OwnZone: g.own, Share: g.until - before, Healthy: g.health()})
		before = g.until
	}
	if u.byLoad {
		inFlight, room, next := u.loads()
		for i := range out {
			out[i].InFlight, out[i].Room, out[i].Share = inFlight[i], room[i], 0
			if i == next {
				out[i].Share = 1
			}
		}
	}
	return out
}

// GroupShare is the part of the requests that a tier, or the proxy's own zone in
// it, is given.
type GroupShare struct {
	Tier    int
	OwnZone bool
	Share   float64 // of the requests, 0 to 1; by load 1 for the group that the next request goes to
	Healthy float64 // share of its weight that may be given requests
	// By load, what it has in flight, and may have.
	InFlight int
	Room     float64
}

// weight returns what a backend weighs now: as set, by its own report, and by a slow
// start that is under way.
func (u *Upstream) weight(m *member) float64 {
	w := float64(m.weight) * m.reported()
	if m.ramping {
		w *= u.ramped(m)
	}
	return w
}

// reported is the share of its weight that a backend asks for itself.
func (m *member) reported() float64 {
	if !m.hasShare {
		return 1
	}
	return m.share
}

// newPicker returns the algorithm that is configured, without backends.
func (u *Upstream) newPicker() balance.Picker {
	o := balance.Options{Seed: u.seed}
	if h := u.cfg.Hash; h != nil {
		o.Bound = h.Bound
	}
	return u.algorithm.New(o)
}

// sameAlgorithm reports whether two configurations choose alike, so that what the
// algorithm knows can stay.
func sameAlgorithm(a, b *config.Upstream) bool {
	if a == nil || a.Balance() != b.Balance() {
		return false
	}
	return a.Hash == nil || b.Hash == nil || a.Hash.Bound == b.Hash.Bound
}

// order hands the order of the configuration to an algorithm for which it counts.
func (u *Upstream) order() {
	if !u.algorithm.Ordered {
		return
	}
	var order []int32
	for _, b := range u.cfg.Backends {
		order = append(order, int32(u.byName[b.Name]))
	}
	u.eachPicker(func(p balance.Picker) { p.(balance.Orderer).Order(order) })
}

// eachPicker calls a function for the picker of each group, and for that which knows
// nothing of health.
func (u *Upstream) eachPicker(do func(balance.Picker)) {
	for i := range u.groups {
		do(u.groups[i].picker)
		if u.groups[i].roomy != nil {
			do(u.groups[i].roomy)
		}
	}
	if u.ignoringHealth != nil {
		do(u.ignoringHealth)
	}
}

// picker returns the picker of a member's group.
func (u *Upstream) picker(m *member) balance.Picker { return u.groups[m.group].picker }

// enter hands the pickers a member's weight as it is now.
func (u *Upstream) enter(id BackendID) {
	m := &u.members[id]
	weight := 0.0
	if !m.gone && m.health.Eligible() {
		weight = u.weight(m)
	}
	u.stale = true
	if in := weight > 0; in != m.in {
		if m.in = in; in {
			u.eligible++
		} else {
			u.eligible--
		}
	}
	u.picker(m).Set(int(id), m.cfg.Name, weight)
	if u.byLoad {
		u.groups[m.group].roomy.Set(int(id), m.cfg.Name, weight)
		u.measure(id, m)
	}
	if u.ignoringHealth != nil {
		weight = 0
		if m.operatorIn() {
			weight = float64(m.weight)
		}
		u.ignoringHealth.Set(int(id), m.cfg.Name, weight)
	}
}

// operatorIn reports whether neither an operator nor the backend itself took it out.
func (m *member) operatorIn() bool {
	return !m.gone && m.health.Operator == health.In && m.health.Reported == health.In
}
