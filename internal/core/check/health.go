package check

import (
	"fmt"

	"kestrix/internal/core/config"
)

var healthRules = []*Rule{
	{
		ID: "KX201", Severity: config.Warning, Title: "an upstream without a probe",
		Why:  "a backend that fails is not noticed before customers meet it, and one that hangs is given its share for ever",
		Mend: "probe \"http\" { ... } with a path that asks the application itself",
		Run: func(p *Pass) {
			for _, u := range p.Config.Upstreams {
				if u.Probe != nil || len(u.Backends) == 0 {
					continue
				}
				n := len(u.Backends)
				who := fmt.Sprintf("1 request in %d", n)
				if n == 1 {
					who = "every request"
				}
				witness := fmt.Sprintf("with %q hung, %s waits %s for nothing, until somebody looks", u.Backends[0].Name, who, u.Timeouts.Answer)
				if u.Suspend != nil {
					witness = fmt.Sprintf("with %q hung, %d requests wait %s each before it is suspended, and again after every rest", u.Backends[0].Name, u.Suspend.After, u.Timeouts.Answer)
				}
				p.Report(Finding{Range: u.Range, Message: fmt.Sprintf("the upstream %q has no probe", u.Name), Witness: witness})
			}
		},
	},
	{
		ID: "KX202", Severity: config.Warning, Title: "a probe that may take longer than the time between two",
		Why:  "a probe still under way when the next is due makes that one fall out, so a silent backend is found later than `every` and `down_after` promise",
		Mend: "make timeout at most as long as every",
		Run: func(p *Pass) {
			for _, u := range p.Config.Upstreams {
				b := u.Probe
				if b == nil || b.Timeout <= b.Every || p.broken(b.EveryAt) || p.broken(b.TimeoutAt) {
					continue
				}
				skipped := (b.Timeout + b.Every - 1) / b.Every * b.Every
				p.Report(Finding{
					Range:   b.TimeoutAt,
					Message: fmt.Sprintf("the probe's timeout %s is longer than the %s between two probes", b.Timeout, b.Every),
					Witness: fmt.Sprintf("a silent backend is probed every %s instead of every %s", skipped, b.Every),
				})
			}
		},
	},
	{
		ID: "KX204", Severity: config.Warning, Title: "a longest rest that is shorter than the first",
		Why:  "no rest is longer than `longest`, so the first is cut short as well",
		Mend: "make longest at least as long as rest",
		Run: func(p *Pass) {
			for _, u := range p.Config.Upstreams {
				if s := u.Suspend; s != nil && s.Longest < s.Rest {
					p.Report(Finding{
						Range:   s.LongestAt,
						Message: fmt.Sprintf("the longest rest %s is shorter than the first, %s", s.Longest, s.Rest),
						Witness: fmt.Sprintf("every rest of %q lasts %s", u.Name, s.Longest),
					})
				}
			}
		},
	},
}
