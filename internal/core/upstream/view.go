package upstream

import (
	"fmt"
	"strings"

	"kestrix/internal/core/config"
	"kestrix/internal/core/health"
	"kestrix/internal/core/tick"
)

// Lookup returns the backend of a name.
func (u *Upstream) Lookup(name string) (BackendID, bool) {
	id, ok := u.byName[name]
	return id, ok
}

// Seat returns the backend that a ticket names by its hash, None if it is no
// longer configured.
func (u *Upstream) Seat(hash uint64) BackendID {
	if id, ok := u.byHash[hash]; ok {
		return id
	}
	return None
}

// Backend returns the configuration of a backend.
func (u *Upstream) Backend(id BackendID) *config.Backend { return &u.members[id].cfg }

// Slots returns one more than the highest number of a backend.
func (u *Upstream) Slots() int { return len(u.members) }

// InFlight returns the requests a backend has open.
func (u *Upstream) InFlight(id BackendID) int { return int(u.members[id].inFlight) }

// Serves reports whether a backend is configured, or is no longer and serves until those
// that follow have been probed: requests may be sent to it.
func (u *Upstream) Serves(id BackendID) bool {
	return int(id) < len(u.members) && !u.members[id].gone
}

// Eligible reports whether new requests may go to a backend.
func (u *Upstream) Eligible(id BackendID) bool {
	m := &u.members[id]
	return !m.gone && m.health.Eligible() && m.weight > 0
}

// Members returns how every configured backend stands, in the order of the
// configuration.
func (u *Upstream) Members(now tick.Time) []Member {
	var out []Member
	for _, b := range u.cfg.Backends {
		id := u.byName[b.Name]
		m := &u.members[id]
		v := Member{
			ID: id, Name: b.Name, State: m.health.State(), Weight: m.weight, InFlight: int(u.members[id].inFlight),
			Full: m.full, Since: m.health.ChangedAt, ByHand: m.byHand(), Operator: m.health.Operator, Beneath: m.health.Beneath(), SilentSince: m.silentSince,
		}
		if v.Share = 1; m.hasShare {
			v.Share = m.share
		}
		if m.health.Resting() {
			v.Rest = m.health.RestsTill.Sub(now)
		}
		out = append(out, v)
	}
	return out
}

// byHand words what an operator set that differs from the file.
func (m *member) byHand() string {
	var words []string
	switch m.health.Operator {
	case health.ParkedOut:
		words = append(words, "parked")
	case health.Drained:
		words = append(words, "draining")
	}
	if m.weight != m.cfg.Weight {
		words = append(words, fmt.Sprintf("weight %d where the file says %d", m.weight, m.cfg.Weight))
	}
	return strings.Join(words, "; ")
}

// ReasonWord returns the short form of a verdict's reason with the algorithm's
// own name in it.
func (u *Upstream) ReasonWord(r Reason) string {
	if r == ByAlgorithm {
		return u.cfg.Algorithm
	}
	return r.String()
}

// FairShares returns the part of the requests that each backend would be given
// with all of them up, by its weight and, with failover, its tier and zone.
func FairShares(cfg *config.Upstream) map[string]float64 {
	u := New(0, cfg, 0)
	out := map[string]float64{}
	groups, total := u.Shares(), float64(max(cfg.TotalWeight(), 1))
	for i := range u.members {
		m := &u.members[i]
		g := &u.groups[m.group]
		whole, of := total, 1.0
		if groups != nil {
			whole, of = max(g.configured, 1), groups[m.group].Share
		}
		out[m.cfg.Name] = of * float64(m.cfg.Weight) / whole
	}
	return out
}
