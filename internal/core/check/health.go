package check

import (
	"fmt"
	"math"
	"slices"
	"time"

	"kestrix/internal/core/config"
	"kestrix/internal/core/units"
)

var healthRules = []*Rule{
	{
		ID: "KX201", Severity: config.Warning, Title: "an upstream without a probe",
		Why: "without a probe only failed requests detect a failed backend, and a backend that hangs keeps its share",
		Fix: "probe \"http\" { ... } with a path that checks the application",
		Run: func(p *Pass) {
			shown, tcp := 0, p.reached("tcp")
			for _, u := range p.Config.Upstreams {
				if u.Probe != nil || len(u.Backends) == 0 {
					continue
				}
				witness := ""
				if shown++; shown <= maxReplays {
					witness = hangWitness(u, slices.Contains(tcp, u.Name))
				}
				p.Report(Finding{Range: u.Range, Message: fmt.Sprintf("the upstream %q has no probe", u.Name), Witness: witness})
			}
		},
	},
	{
		ID: "KX202", Severity: config.Warning, Title: "a probe that may take longer than its interval",
		Why: "a probe still running when the next is due delays it, so detection takes longer than every and down_after suggest",
		Fix: "make timeout at most as long as every",
		Run: func(p *Pass) {
			for _, u := range p.Config.Upstreams {
				b := u.Probe
				if b == nil || b.Timeout <= b.Every || p.broken(b.EveryAt) || p.broken(b.TimeoutAt) {
					continue
				}
				skipped := (b.Timeout + b.Every - 1) / b.Every * b.Every
				p.Report(Finding{
					Range:   b.TimeoutAt,
					Message: fmt.Sprintf("the probe's timeout %s is longer than its interval %s", units.Duration(b.Timeout), units.Duration(b.Every)),
					Witness: fmt.Sprintf("a silent backend is probed every %s instead of every %s", units.Duration(skipped), units.Duration(b.Every)),
					Edits:   p.replace(b.TimeoutAt, fmt.Sprintf("%q", config.FormatDuration(b.Every))),
				})
			}
		},
	},
	{
		ID: "KX204", Severity: config.Warning, Title: "a maximum suspension shorter than the first",
		Why: "no suspension is longer than longest, so the first is shortened too",
		Fix: "make longest at least as long as rest",
		Run: func(p *Pass) {
			for _, u := range p.Config.Upstreams {
				if s := u.Suspend; s != nil && s.Longest < s.Rest {
					p.Report(Finding{
						Range:   s.LongestAt,
						Message: fmt.Sprintf("the maximum suspension %s is shorter than the first, %s", units.Duration(s.Longest), units.Duration(s.Rest)),
						Witness: fmt.Sprintf("every suspension of %q lasts %s", u.Name, units.Duration(s.Longest)),
						Edits:   p.replace(s.LongestAt, fmt.Sprintf("%q", config.FormatDuration(s.Rest))),
					})
				}
			}
		},
	},
	{
		ID: "KX203", Severity: config.Warning, Title: "an open port is not a working application",
		Why: "a tcp probe passes as soon as the kernel accepts the connection, even while the application answers nothing",
		Fix: "probe \"http\" with a path that checks the application, such as \"/ready\"",
		Run: func(p *Pass) {
			http := map[string]bool{}
			for _, f := range p.Config.Frontends {
				for _, r := range f.Routes {
					http[r.SendTo.Value] = http[r.SendTo.Value] || f.Protocol == "http"
				}
			}
			shown := 0
			for _, u := range p.Config.Upstreams {
				if u.Probe == nil || u.Probe.Kind != "tcp" || u.Probe.Asks() || !http[u.Name] || len(u.Backends) == 0 {
					continue
				}
				witness := ""
				if shown++; shown <= maxReplays {
					witness = hangWitness(u, false)
				}
				p.Report(Finding{
					Range:   u.Probe.Range,
					Message: fmt.Sprintf("the backends of %q speak http, and are probed by opening their port only", u.Name),
					Witness: witness,
				})
			}
		},
	},
	{
		ID: "KX205", Severity: config.Advice, Title: "a probe of the start page",
		Why: "it costs as much as a visit, counts as one, and passes from a cache while the application is broken",
		Fix: "a separate page, such as \"/ready\", that checks what requests need",
		Run: func(p *Pass) {
			for _, u := range p.Config.Upstreams {
				b := u.Probe
				if b == nil || b.Kind != "http" || b.Path != "/" || p.broken(b.PathAt) {
					continue
				}
				perHour := int(float64(time.Hour) / float64(b.Every))
				p.Report(Finding{
					Range: b.Range, Message: fmt.Sprintf("the probe of %q requests /, as visitors do", u.Name),
					Witness: fmt.Sprintf("each backend is asked %d times an hour for its start page", perHour),
				})
			}
		},
	},
	{
		ID: "KX206", Severity: config.Advice, Title: "one failed probe takes a backend out",
		Why: "a lost packet or a pause of the garbage collector is not a failure; a backend that comes and goes moves sessions each time",
		Fix: "down_after = 2, with a shorter every if detection must be as fast",
		Run: func(p *Pass) {
			for _, u := range p.Config.Upstreams {
				if b := u.Probe; b != nil && b.DownAfter == 1 && len(u.Backends) > 0 {
					which := "a backend"
					if len(u.Backends) == 1 {
						which = "the only backend"
					}
					p.Report(Finding{
						Range: b.Range, Message: fmt.Sprintf("one probe of %q that fails takes %s out", u.Name, which),
						Witness: fmt.Sprintf("an answer to a probe that takes longer than %s once is enough", units.Duration(b.Timeout)),
						Edits:   p.set(b.Range, "down_after", "2"),
					})
				}
			}
		},
	},
	{
		ID: "KX207", Severity: config.Advice, Title: "a backend returns faster than it leaves",
		Why: "an unstable backend passes some probes, and returns after fewer probes than removed it",
		Fix: "make up_after at least as large as down_after",
		Run: func(p *Pass) {
			for _, u := range p.Config.Upstreams {
				if b := u.Probe; b != nil && b.UpAfter < b.DownAfter {
					p.Report(Finding{
						Range: b.Range, Message: fmt.Sprintf("%q returns a backend after %s, and removes it after %d", u.Name, passes(b.UpAfter), b.DownAfter),
						Witness: fmt.Sprintf("it returns %s after its first passed probe, and leaves %s after its first failed one", units.Duration(b.EveryDown*time.Duration(b.UpAfter-1)), units.Duration(b.Every*time.Duration(b.DownAfter-1))),
						Edits:   p.set(b.Range, "up_after", fmt.Sprint(b.DownAfter)),
					})
				}
			}
		},
	},
	{
		ID: "KX208", Severity: config.Warning, Title: "a suspension that can never happen",
		Why: "keep leaves so many backends in rotation that none can be suspended",
		Fix: "a smaller keep, or another backend",
		Run: func(p *Pass) {
			for _, u := range p.Config.Upstreams {
				s := u.Suspend
				if s == nil || len(u.Backends) == 0 || u.Partial {
					continue
				}
				n := len(u.Backends)
				least := max(1, int(math.Ceil(s.Keep*float64(n)-1e-9)))
				if n-1 < least {
					p.Report(Finding{
						Range: s.Range, Message: fmt.Sprintf("no backend of %q can ever be suspended", u.Name),
						Witness: fmt.Sprintf("%d of %d must stay in rotation, so none can be suspended", least, n),
					})
				}
			}
		},
	},
}

func passes(n int) string {
	if n == 1 {
		return "1 pass"
	}
	return fmt.Sprintf("%d passes", n)
}
