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
		Why: "a backend leaves its tier or zone when a probe or real traffic says so; with neither, the others are never given anything",
		Fix: "a probe block, or at least suspend",
		Run: func(p *Pass) {
			for _, u := range p.Config.Upstreams {
				if u.Failover == nil || u.Probe != nil || u.Suspend != nil || len(u.Backends) < 2 {
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
					Range: u.Failover.Range, Message: fmt.Sprintf("the failover of %q never happens: nothing notices that a backend fails", u.Name),
					Witness: fmt.Sprintf("of 1,000 requests none goes to %s, and every failure of the others reaches a client", strings.Join(idle, " or ")),
				})
			}
		},
	},
	{
		ID: "KX210", Severity: config.Advice, Title: "no room left when one is gone",
		Why: "what the lost backend had open comes to the others at once, on the busiest day of all",
		Fix: "more backends, or a larger max_in_flight where the backends can take it; a queue bridges seconds, not minutes",
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
					Range: u.BackendsAt, Message: fmt.Sprintf("%q has no room for the loss of %q", u.Name, largest),
					Witness: fmt.Sprintf("of %d requests open at once, six tenths of what %s may have, %d find no room without %q", load, whoseRoom(u), load-in, largest),
				})
			}
		},
	},
	{
		ID: "KX213", Severity: config.Advice, Title: "no room left when a zone is gone",
		Why: "a zone shares its power, its switch and its roof; what it had open comes to the others at once",
		Fix: "more room in the other zones; or know, and say, that losing a zone is more than this site stands",
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
					Range: u.BackendsAt, Message: fmt.Sprintf("%q has no room for the loss of zone %q", u.Name, largest),
					Witness: fmt.Sprintf("of %d requests open at once, six tenths of what %s may have, %d find no room without it", load, whoseRoom(u), load-in),
				})
			}
		},
	},
	{
		ID: "KX211", Severity: config.Warning, Title: "a zone where no backend stands",
		Why: "preferring it changes nothing; a zone is misspelt, or this is the configuration of another proxy",
		Fix: "the zone of this proxy as its backends spell it",
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
					Range: u.Failover.Range, Message: fmt.Sprintf("no backend of %q stands in the proxy's zone %q", u.Name, u.OwnZone), Hint: hint,
					Witness: fmt.Sprintf("the first request goes to %q, in %q", first(u), zoneOf(u, first(u))),
				})
			}
		},
	},
	{
		ID: "KX212", Severity: config.Warning, Title: "a failover with nowhere to go",
		Why: "all backends stand in one tier, and no zone is preferred, so there is nothing to fail over to",
		Fix: "tier = 2 for the backends that are held ready, or prefer = \"zone\"",
		Run: func(p *Pass) {
			for _, u := range p.Config.Upstreams {
				if u.Failover == nil || u.OwnZone != "" || u.Failover.PreferZone || u.Partial || len(u.Backends) == 0 {
					continue
				}
				one := true
				for _, b := range u.Backends {
					one = one && b.Tier == u.Backends[0].Tier
				}
				if one {
					p.Report(Finding{Range: u.Failover.Range, Message: fmt.Sprintf("all backends of %q stand in tier %d", u.Name, u.Backends[0].Tier), Witness: "with one of them out, the others get its requests with this block as without it"})
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
