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
				total := 0
				for _, b := range u.Backends {
					total += b.Weight
				}
				if len(u.Backends) > 0 && total == 0 {
					p.Report(Finding{
						Range:   u.Backends[0].WeightAt,
						Message: fmt.Sprintf("every backend of %q has weight 0", u.Name),
						Witness: "the first request finds no backend and is answered with 503",
					})
				}
			}
		},
	},
}
