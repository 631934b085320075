package check

import (
	"fmt"
	"slices"
	"time"

	"github.com/hashicorp/hcl/v2"

	"kestrix/internal/core/config"
	"kestrix/internal/core/units"
	"kestrix/internal/core/upstream"
)

// patience is how long a customer looks at nothing before leaving.
const patience = 10 * time.Second

var timeoutRules = []*Rule{
	{
		ID: "KX501", Severity: config.Warning, Title: "a connect timeout longer than clients wait",
		Why: "a reachable server accepts a connection within milliseconds; a longer wait only delays the retry",
		Fix: "timeouts { connect = \"1s\" }",
		Run: func(p *Pass) {
			for _, u := range p.Config.Upstreams {
				if most := u.Timeouts.Connect * time.Duration(attemptsAtMost(u)); most < patience/2 {
					continue
				}
				n := max(attempts(u, 1, upstream.Outcome{Kind: upstream.ConnectTimeout}), 1)
				if all := u.Timeouts.Connect * time.Duration(n); u.Timeouts.Connect >= patience/2 || all > patience {
					p.Report(Finding{
						Range:   u.Timeouts.Range,
						Message: fmt.Sprintf("%q waits %s for a connection", u.Name, units.Duration(u.Timeouts.Connect)),
						Witness: fmt.Sprintf("behind a packet filter that drops, %s pass in %s before the client receives an error", units.Duration(all), tries(n)),
						Edits:   p.setIn(u.Timeouts.Range, "timeouts", "connect", `"1s"`),
					})
				}
			}
		},
	},
	{
		ID: "KX502", Severity: config.Advice, Title: "retries that multiply a long wait",
		Why: "each attempt waits the whole answer timeout again, and occupies a backend with a discarded response",
		Fix: "remove \"timeout\" from on in retry, or shorten timeouts { answer }",
		Run: func(p *Pass) {
			for _, u := range p.Config.Upstreams {
				r := u.Retry
				if r == nil || !r.On.Timeout || r.Attempts < 2 || !r.On.Given() && r.Attempts == 2 { // its own defaults are no mistake
					continue
				}
				n := attempts(u, 1, upstream.Outcome{Kind: upstream.AnswerTimeout})
				if all := u.Timeouts.Answer * time.Duration(n); n > 1 && all > 4*patience {
					p.Report(Finding{
						Range:   r.Range,
						Message: fmt.Sprintf("%q may make a client wait %s", u.Name, units.Duration(all)),
						Witness: fmt.Sprintf("a GET request makes %s, each up to %s", tries(n), units.Duration(u.Timeouts.Answer)),
					})
				}
			}
		},
	},
	{
		ID: "KX503", Severity: config.Warning, Title: "a silent backend is detected late",
		Why: "while a backend hangs, its clients wait in vain until the probe removes it",
		Fix: "a shorter every, timeout or down_after",
		Run: func(p *Pass) {
			shown, tcp := 0, p.reached("tcp")
			for _, u := range p.Config.Upstreams {
				b := u.Probe
				if b == nil || len(u.Backends) < 2 {
					continue
				}
				worst := b.Every*time.Duration(b.DownAfter) + b.Timeout
				if worst < time.Minute {
					continue
				}
				f := Finding{Range: b.Range, Message: fmt.Sprintf("the probe of %q detects a silent backend after up to %s", u.Name, units.Duration(worst))}
				if shown++; shown <= maxReplays {
					h, ok := hang(u, slices.Contains(tcp, u.Name), min(int(worst.Seconds())+10, 600))
					if ok && h.noticed != nil && *h.noticed < 30 {
						continue // something else is faster
					}
					f.Witness = fmt.Sprintf("of ten requests a second with %q hung, %d of %d fail in %s", u.Backends[0].Name, h.failed, h.requests, units.Duration(time.Duration(h.requests/10)*time.Second))
				}
				p.Report(f)
			}
		},
	},
	{
		ID: "KX504", Severity: config.Advice, Title: "retries without a budget",
		Why: "when everything fails, retries multiply the requests while the backends can handle the fewest",
		Fix: "budget = \"20%\" in retry",
		Run: func(p *Pass) {
			for _, u := range p.Config.Upstreams {
				r := u.Retry
				if r == nil || r.Attempts < 3 || r.Budget > 0 || len(u.Backends) < 2 {
					continue
				}
				all := attempts(u, 100, upstream.Outcome{Kind: upstream.ConnectRefused})
				if all <= 100 {
					continue // what fails is not repeated after all
				}
				p.Report(Finding{Range: r.Range, Message: fmt.Sprintf("%q retries without a budget", u.Name), Witness: fmt.Sprintf("100 requests become %d while all of them fail to connect", all), Edits: p.set(r.Range, "budget", `"20%"`)})
			}
		},
	},
	{
		ID: "KX505", Severity: config.Advice, Title: "an idle timeout shorter than a heartbeat",
		Why: "an idle stream sends a heartbeat every 15 to 30 seconds; the timeout closes it in between",
		Fix: "idle = \"90s\", three heartbeats long",
		Run: func(p *Pass) {
			short := func(who string, idle time.Duration, at hcl.Range) {
				if idle > 0 && idle < 35*time.Second {
					p.Report(Finding{Range: at, Message: fmt.Sprintf("%s closes streams that are silent for %s", who, units.Duration(idle)), Witness: fmt.Sprintf("a stream with a heartbeat every 30 s is cut off %s after the first", units.Duration(idle)), Edits: p.setIn(at, "timeouts", "idle", `"90s"`)})
				}
			}
			for _, u := range p.Config.Upstreams {
				short(fmt.Sprintf("the upstream %q", u.Name), u.Timeouts.Idle, u.Timeouts.Range)
			}
			for _, f := range p.Config.Frontends {
				for _, r := range f.Routes {
					short(fmt.Sprintf("the route %q", r.Name), r.Timeouts.Idle, r.StreamAt)
				}
			}
		},
	},
	{
		ID: "KX506", Severity: config.Advice, Title: "streams that are closed too early",
		Why: "every client whose stream is closed reconnects, all of them within the same minutes",
		Fix: "stream = \"1h\" or more, or \"0s\" for no limit",
		Run: func(p *Pass) {
			short := func(who string, stream time.Duration, at hcl.Range) {
				if stream > 0 && stream < 5*time.Minute {
					p.Report(Finding{Range: at, Message: fmt.Sprintf("%s ends streams after %s", who, units.Duration(stream)), Witness: fmt.Sprintf("1,000 clients with a stream open reconnect %.0f times a second", 1000/stream.Seconds()), Edits: p.setIn(at, "timeouts", "stream", `"1h"`)})
				}
			}
			for _, u := range p.Config.Upstreams {
				short(fmt.Sprintf("the upstream %q", u.Name), u.Timeouts.Stream, u.Timeouts.Range)
			}
			for _, f := range p.Config.Frontends {
				for _, r := range f.Routes {
					short(fmt.Sprintf("the route %q", r.Name), r.Timeouts.Stream, r.StreamAt)
				}
			}
		},
	},
	{
		ID: "KX507", Severity: config.Warning, Title: "a queue timeout longer than clients wait",
		Why: "clients that waited that long have left; their requests still occupy a backend and delay others",
		Fix: "a timeout of one to five seconds",
		Run: func(p *Pass) {
			for _, u := range p.Config.Upstreams {
				if q := u.Queue; q != nil && q.Timeout > patience {
					p.Report(Finding{Range: q.Range, Message: fmt.Sprintf("requests to %q wait up to %s in the queue", u.Name, units.Duration(q.Timeout)), Witness: fmt.Sprintf("if clients leave after %s, up to %d places are occupied by requests of clients that have left", units.Duration(patience), q.Limit), Edits: p.set(q.Range, "timeout", `"5s"`)})
				}
			}
		},
	},
	{
		ID: "KX508", Severity: config.Warning, Title: "an answer timeout without an end",
		Why: "while a backend hangs, requests accumulate in proxy and backend; no client waits that long for a page",
		Fix: "answer = the time of the slowest page, and a separate route for slower ones",
		Run: func(p *Pass) {
			long := func(who string, answer time.Duration, at hcl.Range) {
				if answer >= 5*time.Minute {
					p.Report(Finding{
						Range: at, Message: fmt.Sprintf("%s waits %s for an answer", who, units.Duration(answer)),
						Witness: fmt.Sprintf("a request that a backend never answers holds its connection, and its client, for %s", units.Duration(answer)),
					})
				}
			}
			for _, u := range p.Config.Upstreams {
				long(fmt.Sprintf("%q", u.Name), u.Timeouts.Answer, u.Timeouts.Range)
			}
			for _, f := range p.Config.Frontends {
				for _, r := range f.Routes {
					long(fmt.Sprintf("the route %q", r.Name), r.Timeouts.Answer, r.Range)
				}
			}
		},
	},
}

// attemptsAtMost returns how many attempts a request of an upstream may make.
func attemptsAtMost(u *config.Upstream) int {
	if u.Retry == nil {
		return 1
	}
	return u.Retry.Attempts
}

func tries(n int) string {
	if n == 1 {
		return "one attempt"
	}
	return fmt.Sprintf("%d attempts", n)
}
