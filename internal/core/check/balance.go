package check

import (
	"fmt"

	"kestrix/internal/core/config"
)

var balanceRules = []*Rule{
	{
		ID: "KX301", Severity: config.Error, Title: "weights that are all zero",
		Why:  "a backend of weight 0 gets no new requests, so nothing would serve",
		Mend: "give at least one backend a weight of 1 or more",
		Run: func(p *Pass) {
			for _, u := range p.Config.Upstreams {
				total := u.TotalWeight()
				if len(u.Backends) > 0 && total == 0 && !u.Partial {
					p.Report(Finding{
						Range:   u.Backends[0].WeightAt,
						Message: fmt.Sprintf("every backend of %q has weight 0", u.Name),
						Witness: "the first request finds no backend and is answered with 503",
					})
				}
			}
		},
	},
	{
		ID: "KX302", Severity: config.Advice, Title: "a backend of weight 0",
		Why:  "it is probed, and gets no new requests",
		Mend: "give it a weight, or remove it",
		Run: func(p *Pass) {
			for _, u := range p.Config.Upstreams {
				total := u.TotalWeight()
				for _, b := range u.Backends {
					if b.Weight == 0 && total > 0 {
						p.Report(Finding{Range: b.WeightAt, Message: fmt.Sprintf("%q has weight 0", b.Name), Witness: fmt.Sprintf("of 1,000 new requests to %q it gets none", u.Name)})
					}
				}
			}
		},
	},
	{
		ID: "KX303", Severity: config.Advice, Title: "a choice among one",
		Why:  "with one backend there is nothing to choose, to keep or to repeat elsewhere",
		Mend: "a second backend; until then these settings only look as if they helped",
		Run: func(p *Pass) {
			for _, u := range p.Config.Upstreams {
				if len(u.Backends) != 1 || u.Partial {
					continue
				}
				only := u.Backends[0].Name
				witness := fmt.Sprintf("with %q gone every request to %q fails, whatever is set here", only, u.Name)
				switch {
				case u.Sticky != nil:
					p.Report(Finding{Range: u.Sticky.Range, Message: fmt.Sprintf("%q is sticky and has one backend", u.Name), Witness: witness})
				case u.Algorithm == "hash":
					p.Report(Finding{Range: u.AlgorithmAt, Message: fmt.Sprintf("%q hashes clients over one backend", u.Name), Witness: witness})
				case u.Suspend != nil:
					p.Report(Finding{Range: u.Suspend.Range, Message: fmt.Sprintf("%q suspends and has one backend", u.Name), Witness: witness})
				}
			}
		},
	},
	{
		ID: "KX304", Severity: config.Advice, Title: "a weight too small to see",
		Why:  "a backend that gets next to nothing is not tested by traffic, and when it must carry its part nobody knows whether it can",
		Mend: "a larger weight, or none of the server at all",
		Run: func(p *Pass) {
			for _, u := range p.Config.Upstreams {
				total := u.TotalWeight()
				for _, b := range u.Backends {
					if b.Weight > 0 && b.Weight*200 < total && !u.Partial {
						p.Report(Finding{
							Range: b.WeightAt, Message: fmt.Sprintf("%q gets less than one request in 200", b.Name),
							Witness: fmt.Sprintf("weight %d of %d: %.2f of 1,000 requests", b.Weight, total, 1000*float64(b.Weight)/float64(total)),
						})
					}
				}
			}
		},
	},
	{
		ID: "KX305", Severity: config.Warning, Title: "a slow start that hash does not make",
		Why:  "scaling a weight on the ring would move keys to and fro, so hash gives a backend that comes back all of its keys at once",
		Mend: "remove slow_start, or choose an algorithm that scales",
		Run: func(p *Pass) {
			for _, u := range p.Config.Upstreams {
				if u.Ramp > 0 && u.Algorithm == "hash" {
					p.Report(Finding{
						Range: u.RampAt, Message: fmt.Sprintf("%q hashes, so slow_start does nothing", u.Name),
						Witness: fmt.Sprintf("a backend that comes back has 1 key in %d from the first moment", max(len(u.Backends), 1)),
					})
				}
			}
		},
	},
}
