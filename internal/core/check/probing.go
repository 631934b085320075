package check

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/hashicorp/hcl/v2"
	"github.com/hashicorp/hcl/v2/hclsyntax"

	"kestrix/internal/core/cause"
	"kestrix/internal/core/config"
	"kestrix/internal/core/health"
	"kestrix/internal/core/route"
	"kestrix/internal/core/units"
	"kestrix/internal/core/upstream"
)

// probingRules are about probes that pass or fail for another reason than the state of what they ask.
var probingRules = []*Rule{
	{
		ID: "KX214", Severity: config.Warning, Title: "a probe in clear text to TLS backends",
		Why: "the backends of a route by sni speak TLS themselves and refuse clear text, so no backend is ever up",
		Fix: "probe \"tls\"; or tls { ... } in the upstream, if the proxy speaks TLS to them",
		Run: func(p *Pass) {
			passed := map[string]string{}
			for _, f := range p.Config.Frontends {
				for _, r := range f.Routes {
					if f.Protocol == "tcp" && f.TLS == nil && r.When.AsksSNI() {
						passed[r.SendTo.Value] = r.Name
					}
				}
			}
			for _, u := range p.Config.Upstreams {
				if b := u.Probe; b != nil && passed[u.Name] != "" && u.TLS == nil && b.Port == 0 && (b.Kind == "http" || b.Kind == "grpc" || b.Kind == "self-report" || b.Asks() && b.Kind == "tcp") {
					p.Report(Finding{
						Range: b.Range, Message: fmt.Sprintf("%q forwards TLS to %q, whose probe is in clear text", passed[u.Name], u.Name),
						Witness: fmt.Sprintf("a server that needs a handshake does not answer the probe as it should: after %s it is down", units.Duration(b.Every*time.Duration(b.DownAfter-1)+b.Timeout)),
					})
				}
			}
		},
	},
	{
		ID: "KX215", Severity: config.Warning, Title: "an expected body without room for a line end",
		Why: "the pattern must match all of the first 4 KiB, and most applications end their output with a line feed",
		Fix: "a * at the end",
		Run: func(p *Pass) {
			for _, u := range p.Config.Upstreams {
				b := u.Probe
				if b == nil || b.Body == "" || b.Kind != "http" || strings.HasSuffix(b.Body, "*") || strings.HasSuffix(b.Body, "\n") {
					continue
				}
				pattern, like := route.Plain(b.Body), strings.ReplaceAll(b.Body, "*", "x")
				if !pattern.Match(like + "\n") {
					p.Report(Finding{Range: b.Range, Message: fmt.Sprintf("%q does not match an answer that ends with a line feed", b.Body), Witness: fmt.Sprintf("the answer %q fails the probe", like+"\n"), Fix: fmt.Sprintf("body = %q", b.Body+"*"), Edits: p.body(b)})
				}
			}
		},
	},
	{
		ID: "KX216", Severity: config.Warning, Title: "a probe that passes errors",
		Why: "a broken application answers 5xx, which passes here",
		Fix: "expect = { status = [\"200-299\"] }",
		Run: func(p *Pass) {
			p.expecting(func(u *config.Upstream, b *config.Probe) {
				var all []string
				for _, s := range []int{500, 502, 503} {
					if b.Passes(s) {
						all = append(all, fmt.Sprint(s))
					}
				}
				if len(all) > 0 {
					p.Report(Finding{Range: b.Range, Message: fmt.Sprintf("the probe of %q passes with %s", u.Name, strings.Join(all, ", ")), Witness: stays(u, b, b.Passes(503)), Edits: p.statuses(b)})
				}
			})
		},
	},
	{
		ID: "KX218", Severity: config.Advice, Title: "a redirect passes a probe",
		Why: "a broken application often redirects to its log-in or error page",
		Fix: "expect = { status = [\"200-299\"] }, and the path of a page without redirect",
		Run: func(p *Pass) {
			p.expecting(func(u *config.Upstream, b *config.Probe) {
				if b.Passes(302) && !b.Passes(503) {
					p.Report(Finding{Range: b.Range, Message: fmt.Sprintf("the probe of %q passes with 302", u.Name), Witness: "an answer 302 to /login passes, whatever its target is", Edits: p.statuses(b)})
				}
			})
		},
	},
	{
		ID: "KX217", Severity: config.Warning, Title: "a self-report on the port of requests",
		Why: "a self-report is one line without HTTP; the application would have to distinguish probes from requests on one port",
		Fix: "port = the port of the self-report",
		Run: func(p *Pass) {
			for _, u := range p.Config.Upstreams {
				b := u.Probe
				if b == nil || b.Kind != "self-report" || len(u.Backends) == 0 {
					continue
				}
				for _, x := range u.Backends {
					if x.Address.Unix == "" && (b.Port == 0 || b.Port == x.Address.Port) {
						p.Report(Finding{Range: b.Range, Message: fmt.Sprintf("the self-report of %q is read from the port of its requests", u.Name), Witness: fmt.Sprintf("the probe connects to %s, as requests do, and sends nothing", x.Address)})
						break
					}
				}
			}
		},
	},
	{
		ID: "KX219", Severity: config.Advice, Title: "a healthy backend waits for minutes",
		Why: "meanwhile the others carry its share; a rolling restart takes as long for each backend",
		Fix: "up_after of two or three, and a slow_start of under a minute",
		Run: func(p *Pass) {
			for _, u := range p.Config.Upstreams {
				if len(u.Backends) < 2 {
					continue
				}
				if b := u.Probe; b != nil {
					if wait := b.EveryDown * time.Duration(b.UpAfter-1); wait >= 5*time.Minute {
						p.Report(Finding{Range: b.Range, Message: fmt.Sprintf("a backend of %q returns only after %s", u.Name, passes(b.UpAfter)), Witness: fmt.Sprintf("%s after its first passed probe it is recovering, without requests", units.Duration(wait))})
					}
				}
				if u.Ramp >= 10*time.Minute && u.Balance().Ramps() {
					p.Report(Finding{Range: u.RampAt, Message: fmt.Sprintf("a backend of %q reaches its full share only after %s", u.Name, units.Duration(u.Ramp)), Witness: fmt.Sprintf("%s after its return it has 55 %% of its weight", units.Duration(u.Ramp/2))})
				}
			}
		},
	},
	{
		ID: "KX220", Severity: config.Warning, Title: "a suspension that any client can cause",
		Why: "a 4xx reports a wrong request, not a failed backend; a client that sends enough of them removes all backends",
		Fix: "on = [\"connect\", \"timeout\", \"reset\", \"502\", \"503\", \"504\"]",
		Run: func(p *Pass) {
			for _, u := range p.Config.Upstreams {
				s := u.Suspend
				if s == nil || len(u.Backends) == 0 || u.Partial || p.broken(s.On.Range) {
					continue
				}
				byClients := func(word string) bool {
					name, rpc := strings.CutPrefix(word, cause.RPCPrefix)
					return rpc && slices.Contains(ofClients, name) || slices.Contains([]string{"400", "401", "403", "404", "405", "413", "422"}, word)
				}
				if i := slices.IndexFunc(s.On.Words(), byClients); i >= 0 {
					word := s.On.Words()[i]
					p.Report(Finding{Range: at(s.On.Range, s.Range), Message: fmt.Sprintf("%q suspends backends that answer %s", u.Name, word), Witness: suspendedBy(u, word), Edits: p.without(s.On, func(word string) bool { return byClients(word) || regular(word) })})
				}
			}
		},
	},
}

// expected returns where the key of a probe's expect stands, and its value.
func (p *Pass) expected(b *config.Probe, key string) (hcl.Range, bool) {
	if p.trees == nil {
		return hcl.Range{}, false
	}
	x := p.trees.block(b.Range)
	if x == nil || x.Body.Attributes["expect"] == nil {
		return hcl.Range{}, false
	}
	object, ok := x.Body.Attributes["expect"].Expr.(*hclsyntax.ObjectConsExpr)
	if !ok {
		return hcl.Range{}, false
	}
	for _, item := range object.Items {
		if hcl.ExprAsKeyword(item.KeyExpr) == key {
			return item.ValueExpr.Range(), true
		}
	}
	return hcl.Range{}, false
}

// body has a probe take an answer with anything behind what is expected.
func (p *Pass) body(b *config.Probe) []config.Edit {
	at, ok := p.expected(b, "body")
	if !ok {
		return nil
	}
	return p.replace(at, fmt.Sprintf("%q", b.Body+"*"))
}

// statuses has a probe pass with 200 to 299 only.
func (p *Pass) statuses(b *config.Probe) []config.Edit {
	at, ok := p.expected(b, "status")
	if !ok {
		return nil
	}
	return p.replace(at, `["200-299"]`)
}

// without takes words out of a list of failures; nil where the list is not given, or nothing would be left.
func (p *Pass) without(on *config.FailureSet, gone func(word string) bool) []config.Edit {
	var keep []string
	for _, word := range on.Words() {
		if !gone(word) {
			keep = append(keep, strconv.Quote(word))
		}
	}
	if !on.Given() || len(keep) == 0 {
		return nil
	}
	return p.replace(on.Range, "["+strings.Join(keep, ", ")+"]")
}

// expecting calls f for each http probe that can be failed by a status.
func (p *Pass) expecting(f func(*config.Upstream, *config.Probe)) {
	for _, u := range p.Config.Upstreams {
		if b := u.Probe; b != nil && b.Kind == "http" && !p.broken(b.Range) && (b.Body == "" || strings.Trim(b.Body, "*") == "") {
			f(u, b)
		}
	}
}

// stays words what becomes of a backend that answers each probe with 503.
func stays(u *config.Upstream, b *config.Probe, passes bool) string {
	if !passes {
		return "an answer 500 counts as a pass"
	}
	return fmt.Sprintf("a backend of %q that answers each probe with 503 stays in rotation", u.Name)
}

// suspendedBy asks the core how many answers of a status it takes to have backends suspended.
func suspendedBy(u *config.Upstream, status string) string {
	t := try(u)
	out := func() (n int) {
		for _, m := range t.core.Members(t.at) {
			if m.State == health.Suspended {
				n++
			}
		}
		return n
	}
	asked := 0
	for ; asked < 10_000 && out() == 0; asked++ {
		q, a := t.request(7), &upstream.Attempt{}
		q.Repeatable = false
		if t.core.Choose(t.at, q, a).Kind != upstream.Go {
			break
		}
		t.core.Settle(t.at, q, a, endingIn(status))
	}
	if out() == 0 {
		return fmt.Sprintf("answers of %s count as failures", status)
	}
	return fmt.Sprintf("one client that asks %d times for what is answered with %s has a backend suspended", asked, status)
}

// reached returns the names of upstreams that routes of a protocol send to, and no others.
func (p *Pass) reached(protocol string) []string {
	var out, others []string
	for _, f := range p.Config.Frontends {
		for _, r := range f.Routes {
			if f.Protocol == protocol {
				out = append(out, r.SendTo.Value)
			} else {
				others = append(others, r.SendTo.Value)
			}
		}
	}
	return slices.DeleteFunc(out, func(name string) bool { return slices.Contains(others, name) })
}
