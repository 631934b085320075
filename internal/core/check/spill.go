package check

import (
	"fmt"
	"math"

	"kestrix/internal/core/config"
)

const (
	leastSpill    = 0.6  // spill_at below which much of each backend stays unused before others help
	leastBeforeIt = 2    // requests in flight before a backend spills
	sameRoom      = 1.25 // by how much max_in_flight per weight may differ between backends
)

// spillRules are about failover { spill_at }.
var spillRules = []*Rule{
	{
		ID: "KX227", Severity: config.Warning, Title: "spill_at with room that does not follow the weights",
		Why: "the algorithm spreads requests by weight, so that the backend with the least room per weight is full while others have room",
		Fix: "max_in_flight in proportion to weight, each near what the backend works on at once",
		Run: func(p *Pass) {
			for _, u := range spilling(p) {
				var least, most *config.Backend
				per := func(b *config.Backend) float64 { return float64(b.MaxInFlight) / float64(b.Weight) }
				for i := range u.Backends {
					b := &u.Backends[i]
					if b.Weight == 0 || b.MaxInFlight == 0 {
						continue
					}
					if least == nil || per(b) < per(least) {
						least = b
					}
					if most == nil || per(b) > per(most) {
						most = b
					}
				}
				if a := u.Balance(); a == nil || a.Unweighted || least == nil || per(most) <= sameRoom*per(least) {
					continue
				}
				p.Report(Finding{
					Range: least.AddressAt, Message: fmt.Sprintf("%q has less room for its weight than %q", least.Name, most.Name),
					Witness: fmt.Sprintf("max_in_flight per weight is %.3g and %.3g: %q has no room left when %q has used %.0f %% of its own", per(least), per(most), least.Name, most.Name, 100*per(least)/per(most)),
				})
			}
		},
	},
	{
		ID: "KX228", Severity: config.Warning, Title: "spill_at that one or two requests reach",
		Why: "two requests at the same moment are no sign of load, and with them in flight the next one leaves its tier and zone",
		Fix: "a max_in_flight that is what the backend works on at once; or fewer proxies, or spill_below",
		Run: func(p *Pass) {
			for _, u := range spilling(p) {
				for i := range u.Backends {
					b := &u.Backends[i]
					if at := u.Failover.SpillAt * float64(b.MaxInFlight); b.MaxInFlight > 0 && at < leastBeforeIt {
						p.Report(Finding{Range: b.AddressAt, Message: fmt.Sprintf("%q spills with %d in flight", b.Name, int(math.Ceil(at))), Witness: fmt.Sprintf("%g%% of max_in_flight = %d is %.2g", 100*u.Failover.SpillAt, b.MaxInFlight, at)})
						break
					}
				}
			}
		},
	},
	{
		ID: "KX229", Severity: config.Advice, Title: "spilling by load without a queue",
		Why: "a short peak finds all backends full, and requests fail that a moment later would have a place",
		Fix: "queue { } in the upstream",
		Run: func(p *Pass) {
			for _, u := range spilling(p) {
				room := 0
				for _, b := range u.Backends {
					room += b.MaxInFlight
				}
				if u.Queue == nil && !u.Partial {
					p.Report(Finding{Range: u.Failover.Range, Message: fmt.Sprintf("%q spills by load, and has no queue", u.Name), Witness: fmt.Sprintf("with %d requests in flight the next one is refused", room)})
				}
			}
		},
	},
	{
		ID: "KX230", Severity: config.Advice, Title: "spilling by load without suspension",
		Why: "a backend that fails fast has little in flight. It appears to have room, and gets more requests than the others until a probe detects it",
		Fix: "suspend { } in the upstream",
		Run: func(p *Pass) {
			for _, u := range spilling(p) {
				if u.Suspend == nil {
					p.Report(Finding{Range: u.Failover.Range, Message: fmt.Sprintf("%q spills by load, and suspends no backend", u.Name), Witness: "a backend that answers each request with 500 at once never has spill_at in flight"})
				}
			}
		},
	},
	{
		ID: "KX231", Severity: config.Advice, Title: "spill_at below 60%",
		Why: "requests leave their tier and zone while its backends still have much room",
		Fix: "spill_at = \"80%\"; with a max_in_flight far above what backends work on, lower that instead",
		Run: func(p *Pass) {
			for _, u := range spilling(p) {
				if at := u.Failover.SpillAt; at < leastSpill {
					p.Report(Finding{Range: u.Failover.Range, Message: fmt.Sprintf("%q spills when %g%% of the room is used", u.Name, 100*at), Witness: fmt.Sprintf("%g%% of each backend stays unused before other tiers or zones help", 100*(1-at))})
				}
			}
		},
	},
}

// spilling returns the upstreams whose requests spill by load.
func spilling(p *Pass) (out []*config.Upstream) {
	for _, u := range p.Config.Upstreams {
		if u.Failover != nil && u.Failover.SpillAt > 0 {
			out = append(out, u)
		}
	}
	return out
}
