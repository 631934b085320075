package check

import (
	"fmt"
	"time"

	"kestrix/internal/core/config"
)

// patience is how long a customer looks at nothing before leaving.
const patience = 10 * time.Second

var timeoutRules = []*Rule{
	{
		ID: "KX501", Severity: config.Warning, Title: "connecting may take longer than customers wait",
		Why:  "a server in reach takes a connection within milliseconds; waiting longer only delays the retry that would have been answered",
		Mend: "timeouts { connect = \"1s\" }",
		Run: func(p *Pass) {
			for _, u := range p.Config.Upstreams {
				attempts := 1
				if u.Retry != nil && u.Retry.On.Connect {
					attempts = u.Retry.Attempts
				}
				if all := u.Timeouts.Connect * time.Duration(attempts); u.Timeouts.Connect >= patience/2 || all > patience {
					p.Report(Finding{
						Range:   u.Timeouts.Range,
						Message: fmt.Sprintf("%q waits %s for a connection", u.Name, u.Timeouts.Connect),
						Witness: fmt.Sprintf("behind a packet filter that drops, %s pass in %s before a customer hears of it", all, tries(attempts)),
					})
				}
			}
		},
	},
	{
		ID: "KX502", Severity: config.Advice, Title: "retries that multiply a long wait",
		Why:  "each attempt waits the whole answer timeout again, and keeps a backend busy with work that nobody will see",
		Mend: "take \"timeout\" out of retry's `on`, or make timeouts { answer } shorter",
		Run: func(p *Pass) {
			for _, u := range p.Config.Upstreams {
				r := u.Retry
				if r == nil || !r.On.Timeout || r.Attempts < 2 {
					continue
				}
				if all := u.Timeouts.Answer * time.Duration(r.Attempts); all > 4*patience {
					p.Report(Finding{
						Range:   r.Range,
						Message: fmt.Sprintf("%q may make a client wait %s", u.Name, all),
						Witness: fmt.Sprintf("%s, each up to %s", tries(r.Attempts), u.Timeouts.Answer),
					})
				}
			}
		},
	},
	{
		ID: "KX503", Severity: config.Warning, Title: "found later than a customer's request times out",
		Why:  "while a backend hangs, each client that is sent there waits in vain; they meet it from the failure until the probe has taken it out",
		Mend: "a shorter every, timeout or down_after",
		Run: func(p *Pass) {
			for _, u := range p.Config.Upstreams {
				b := u.Probe
				if b == nil || len(u.Backends) < 2 {
					continue
				}
				worst := b.Every*time.Duration(b.DownAfter) + b.Timeout
				if worst < time.Minute {
					continue
				}
				p.Report(Finding{
					Range:   b.Range,
					Message: fmt.Sprintf("a silent backend of %q stays in rotation for up to %s", u.Name, worst),
					Witness: fmt.Sprintf("at 10 requests a second, %.0f of them meet it", 10*worst.Seconds()/float64(len(u.Backends))),
				})
			}
		},
	},
}

func tries(n int) string {
	if n == 1 {
		return "one attempt"
	}
	return fmt.Sprintf("%d attempts", n)
}
