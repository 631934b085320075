package check

import (
	"fmt"

	"kestrix/internal/core/config"
)

var sessionRules = []*Rule{
	{
		ID: "KX401", Severity: config.Warning, Title: "stickiness that overrules a hash",
		Why:  "the first request is placed by the hash and all others by the seat; after a failure the two disagree for good, and the hash no longer tells where a client is",
		Mend: "keep one of the two: hash for caches that may miss, sticky for sessions that must not",
		Run: func(p *Pass) {
			for _, u := range p.Config.Upstreams {
				if u.Sticky == nil || u.Algorithm != "hash" || len(u.Backends) < 2 {
					continue
				}
				p.Report(Finding{
					Range:   u.Sticky.Range,
					Message: fmt.Sprintf("%q is sticky by %s and hashes the client's address as well", u.Name, u.Sticky.By),
					Witness: fmt.Sprintf("when %q fails its clients move for good; when it is back the hash still points to it, and they stay away", u.Backends[0].Name),
				})
			}
		},
	},
	{
		ID: "KX402", Severity: config.Advice, Title: "a seat cookie sealed with a secret of the moment",
		Why:  "without a secret one is made at each start, so that a restart, or a second proxy beside this one, takes every client for a new one",
		Mend: "secret = a line of your own, the same on every proxy",
		Run: func(p *Pass) {
			for _, u := range p.Config.Upstreams {
				if s := u.Sticky; s != nil && s.By == "cookie" && s.Secret == "" && len(u.Backends) > 1 {
					n := len(u.Backends)
					p.Report(Finding{
						Range:   s.Range,
						Message: fmt.Sprintf("the seats of %q end with the process", u.Name),
						Witness: fmt.Sprintf("after a restart %d of %d clients, on average, are given another backend than they had", n-1, n),
					})
				}
			}
		},
	},
	{
		ID: "KX403", Severity: config.Warning, Title: "clients are refused while others could serve them",
		Why:  "on_loss = \"refuse\" answers 503 to every client whose backend is out, and nothing takes a silent backend back in but its own recovery",
		Mend: "on_loss = \"move\", unless a session on another backend would do harm",
		Run: func(p *Pass) {
			for _, u := range p.Config.Upstreams {
				s := u.Sticky
				if s == nil || s.OnLoss != "refuse" || len(u.Backends) < 2 {
					continue
				}
				p.Report(Finding{
					Range:   s.Range,
					Message: fmt.Sprintf("%q refuses clients whose backend is out", u.Name),
					Witness: fmt.Sprintf("with %q out, 1 client in %d gets 503 until it is back, while %d backends are up", u.Backends[0].Name, len(u.Backends), len(u.Backends)-1),
				})
			}
		},
	},
}
