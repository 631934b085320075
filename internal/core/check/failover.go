package check

import (
	"fmt"
	"strings"

	"kestrix/internal/core/config"
)

// failoverRules are about what is left when something is gone.
var failoverRules = []*Rule{
	{
		ID: "KX209", Severity: config.Warning, Title: "tiers or zones that can never spill",
		Why: "only a probe or suspension takes a backend out of its tier or zone; without both, the others get no requests",
		Fix: "a probe block, or at least suspend",
		Run: func(p *Pass) {
			for _, u := range p.Config.Upstreams {
				if u.Failover == nil || u.Failover.SpillAt > 0 || u.Probe != nil || u.Suspend != nil || len(u.Backends) < 2 {
					continue
				}
				t := try(u)
				used := map[string]bool{}
				for i := range 1000 {
					used[t.ask(uint64(i))] = true
				}
				var idle []string
				for _, b := range u.Backends {
					if !used[b.Name] && b.Weight > 0 {
						idle = append(idle, fmt.Sprintf("%q", b.Name))
					}
				}
				if len(idle) == 0 {
					continue
				}
				p.Report(Finding{
					Range: u.Failover.Range, Message: fmt.Sprintf("the failover of %q never happens: no probe detects a failed backend", u.Name),
					Witness: fmt.Sprintf("of 1,000 requests none goes to %s, and every failure of the others reaches a client", strings.Join(idle, " or ")),
				})
			}
		},
	},
	{
		ID: "KX210", Severity: config.Advice, Title: "too little capacity without one backend",
		Why: "the requests in flight at the lost backend move to the others at once, at the busiest time",
		Fix: "more backends, or a larger max_in_flight if they can handle it; a queue bridges seconds, not minutes",
		Run: func(p *Pass) {
			shown := 0
			for _, u := range p.Config.Upstreams {
				load, known := goodDay(u)
				total, most, largest := 0, 0, ""
				for _, b := range u.Backends {
					if total += b.MaxInFlight; b.MaxInFlight > most {
						most, largest = b.MaxInFlight, b.Name
					}
				}
				in := total - most
				if !known || len(u.Backends) < 2 || u.Partial || in >= load {
					continue
				}
				if shown++; shown <= maxReplays && load <= 100_000 {
					t := try(u)
					t.out(largest)
					if in, _, _ = t.open(load); in == load {
						continue
					}
				}
				p.Report(Finding{
					Range: u.BackendsAt, Message: fmt.Sprintf("%q lacks capacity without %q", u.Name, largest),
					Witness: fmt.Sprintf("of %d requests in flight, six tenths of what %s may have, %d exceed the capacity without %q", load, whoseRoom(u), load-in, largest),
				})
			}
		},
	},
	{
		ID: "KX213", Severity: config.Advice, Title: "too little capacity without one zone",
		Why: "a zone shares power, switch and building; its requests in flight move to the others at once",
		Fix: "more capacity in the other zones; or document that this site does not survive the loss of a zone",
		Run: func(p *Pass) {
			shown := 0
			for _, u := range p.Config.Upstreams {
				rooms, total := map[string]int{}, 0
				for _, b := range u.Backends {
					if b.MaxInFlight == 0 || b.Weight == 0 || b.Zone == "" {
						rooms = nil
						break
					}
					rooms[b.Zone] += b.MaxInFlight
					total += b.MaxInFlight
				}
				load, known := goodDay(u)
				if len(rooms) < 2 || u.Partial || !known {
					continue
				}
				largest := ""
				for zone, room := range rooms {
					if largest == "" || room > rooms[largest] || room == rooms[largest] && zone < largest {
						largest = zone
					}
				}
				in := total - rooms[largest]
				if in >= load {
					continue
				}
				if shown++; shown <= maxReplays && load <= 100_000 {
					t := try(u)
					for _, b := range u.Backends {
						if b.Zone == largest {
							t.out(b.Name)
						}
					}
					in, _, _ = t.open(load)
				}
				p.Report(Finding{
					Range: u.BackendsAt, Message: fmt.Sprintf("%q lacks capacity without zone %q", u.Name, largest),
					Witness: fmt.Sprintf("of %d requests in flight, six tenths of what %s may have, %d exceed the capacity without it", load, whoseRoom(u), load-in),
				})
			}
		},
	},
	{
		ID: "KX211", Severity: config.Warning, Title: "a zone without backends",
		Why: "preferring it changes nothing; a zone is misspelt, or this is the configuration of another proxy",
		Fix: "the zone of this proxy, as its backends spell it",
		Run: func(p *Pass) {
			for _, u := range p.Config.Upstreams {
				if u.OwnZone == "" || u.Partial || len(u.Backends) == 0 {
					continue
				}
				var zones []string
				here := false
				for _, b := range u.Backends {
					here = here || b.Zone == u.OwnZone
					if b.Zone != "" {
						zones = append(zones, b.Zone)
					}
				}
				if here {
					continue
				}
				hint := ""
				if s := config.Suggest(u.OwnZone, zones); s != "" {
					hint = fmt.Sprintf("did you mean %q?", s)
				}
				p.Report(Finding{
					Range: u.Failover.Range, Message: fmt.Sprintf("no backend of %q is in the proxy's zone %q", u.Name, u.OwnZone), Hint: hint,
					Witness: fmt.Sprintf("the first request goes to %q, in %q", first(u), zoneOf(u, first(u))),
				})
			}
		},
	},
	{
		ID: "KX212", Severity: config.Warning, Title: "a failover without a target",
		Why: "all backends are in one tier and no zone is preferred",
		Fix: "tier = 2 for the reserve backends, or prefer = \"zone\"",
		Run: func(p *Pass) {
			for _, u := range p.Config.Upstreams {
				if u.Failover == nil || u.OwnZone != "" || u.Failover.PreferZone || u.Partial || len(u.Backends) == 0 {
					continue
				}
				one := true
				for _, b := range u.Backends {
					one = one && b.Tier == u.Backends[0].Tier && !b.Address.Service // which has tiers of its own
				}
				if one {
					p.Report(Finding{Range: u.Failover.Range, Message: fmt.Sprintf("all backends of %q are in tier %d", u.Name, u.Backends[0].Tier), Witness: "with one of them out, the others get its requests with this block as without it"})
				}
			}
		},
	},
}

// whoseRoom names those whose room goodDay goes by.
func whoseRoom(u *config.Upstream) string {
	if tiers := tiersOf(u); u.Failover != nil && len(tiers) > 1 {
		return fmt.Sprintf("tier %d", tiers[0])
	}
	return "all"
}

func first(u *config.Upstream) string { return try(u).ask(1) }

func zoneOf(u *config.Upstream, backend string) string {
	for _, b := range u.Backends {
		if b.Name == backend {
			return b.Zone
		}
	}
	return ""
}
