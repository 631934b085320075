package check

import (
	"fmt"
	"time"

	"kestrix/internal/core/config"
	"kestrix/internal/core/units"
)

var sessionRules = []*Rule{
	{
		ID: "KX401", Severity: config.Warning, Title: "stickiness that overrides a hash",
		Why: "the hash chooses the backend of the first request and the seat that of all others; after a failure they disagree permanently",
		Fix: "keep one: hash for caches, sticky for sessions",
		Run: func(p *Pass) {
			for _, u := range p.Config.Upstreams {
				if u.Sticky == nil || !u.Balance().Hash || len(u.Backends) < 2 {
					continue
				}
				p.Report(Finding{
					Range:   u.Sticky.Range,
					Message: fmt.Sprintf("%q is sticky by %s and hashes the client's address as well", u.Name, u.Sticky.By),
					Witness: overruled(u),
				})
			}
		},
	},
	{
		ID: "KX402", Severity: config.Advice, Title: "a seat cookie with a temporary secret",
		Why: "without a secret the proxy generates one at each start; a restart, or a second proxy, loses every seat",
		Fix: "secret = a text of your own, the same on every proxy",
		Run: func(p *Pass) {
			for _, u := range p.Config.Upstreams {
				s := u.Sticky
				if s == nil || s.By != "cookie" || s.Secret != "" || len(u.Backends) < 2 {
					continue
				}
				if moved := apartAnew(u); moved > 0 {
					p.Report(Finding{
						Range:   s.Range,
						Message: fmt.Sprintf("the seats of %q end with the process", u.Name),
						Witness: fmt.Sprintf("of 100 clients that return after a restart, %d are given another backend", moved),
					})
				}
			}
		},
	},
	{
		ID: "KX403", Severity: config.Warning, Title: "clients are refused while others could serve them",
		Why: "on_loss = \"refuse\" answers 503 to every client whose backend is out, until that backend recovers",
		Fix: "on_loss = \"move\", unless a session on another backend would do harm",
		Run: func(p *Pass) {
			for _, u := range p.Config.Upstreams {
				s := u.Sticky
				if s == nil || s.OnLoss != "refuse" || len(u.Backends) < 2 || u.Failover != nil { // KX406 says more then
					continue
				}
				p.Report(Finding{
					Range:   s.Range,
					Message: fmt.Sprintf("%q refuses clients whose backend is out", u.Name),
					Witness: fmt.Sprintf("with %q out, %d of 100 clients get 503 until it returns, while others are up", u.Backends[0].Name, refusedWithout(u, u.Backends[0].Name)),
					Edits:   p.set(s.Range, "on_loss", `"move"`),
				})
			}
		},
	},
	{
		ID: "KX404", Severity: config.Warning, Title: "a seat in clear text as well as over TLS",
		Why: "a seat from TLS is not sent in clear text (Secure), so clients that alternate change their backend. A seat in clear text can be read",
		Fix: "a redirect to https in the frontend without TLS",
		Run: func(p *Pass) {
			secure := map[string]string{}
			for _, f := range p.Config.Frontends {
				for _, r := range f.Routes {
					if f.TLS != nil {
						secure[r.SendTo.Value] = f.Name
					}
				}
			}
			for _, f := range p.Config.Frontends {
				if f.TLS != nil || f.Protocol != "http" || p.hidden(f) {
					continue
				}
				for _, r := range f.Routes {
					u := p.Config.Upstream(r.SendTo.Value)
					if u == nil || u.Sticky == nil || u.Sticky.By != "cookie" || secure[u.Name] == "" || len(u.Backends) < 2 {
						continue
					}
					p.Report(Finding{
						Range: r.Range, Message: fmt.Sprintf("%q gives seats of %q in clear text, and frontend %q gives them over TLS", r.Name, u.Name, secure[u.Name]),
						Witness: fmt.Sprintf("a client that changes from https to http sends no cookie; of 100 such clients %d are given another backend", apartAnew(u)),
					})
				}
			}
		},
	},
	{
		ID: "KX405", Severity: config.Advice, Title: "seats shorter than sessions",
		Why: "applications keep sessions for half an hour or longer; when the seat ends, the client reaches a backend without its session",
		Fix: "a ttl at least as long as the application's sessions",
		Run: func(p *Pass) {
			for _, u := range p.Config.Upstreams {
				s := u.Sticky
				if s == nil || s.TTL >= 15*time.Minute || len(u.Backends) < 2 {
					continue
				}
				if s.TTL < p.longestAnswer(u) {
					continue // which KX412 says
				}
				p.Report(Finding{Range: s.Range, Message: fmt.Sprintf("the seats of %q end after %s", u.Name, units.Duration(s.TTL)), Witness: apartAfter(u, s.TTL+time.Second), Edits: p.set(s.Range, "ttl", `"1h"`)})
			}
		},
	},
	{
		ID: "KX406", Severity: config.Warning, Title: "sessions that never fail over",
		Why: "on_loss = \"refuse\" answers 503 to every client whose backend is out, even with other tiers available",
		Fix: "on_loss = \"move\", unless a session on another backend would do harm",
		Run: func(p *Pass) {
			for _, u := range p.Config.Upstreams {
				s := u.Sticky
				if s == nil || s.OnLoss != "refuse" || u.Failover == nil || len(u.Backends) < 2 {
					continue
				}
				var out []string
				tier := u.Backends[0].Tier
				for _, b := range u.Backends {
					tier = min(tier, b.Tier)
				}
				for _, b := range u.Backends {
					if b.Tier == tier {
						out = append(out, b.Name)
					}
				}
				refused := refusedWithout(u, out...)
				p.Report(Finding{Range: s.Range, Message: fmt.Sprintf("the failover of %q excludes clients with a seat", u.Name), Witness: fmt.Sprintf("with tier %d out, %d of 100 clients are refused", tier, refused), Edits: p.set(s.Range, "on_loss", `"move"`)})
			}
		},
	},
	{
		ID: "KX407", Severity: config.Advice, Title: "streams whose handshake may take two requests",
		Why: "when one request prepares a stream and another opens it, the second may reach a backend that does not know the first",
		Fix: "sticky { ... } for the upstream; or method = \"GET\" in when, if a single request opens the stream",
		Run: func(p *Pass) {
			for _, f := range p.Config.Frontends {
				for _, r := range f.Routes {
					u := p.Config.Upstream(r.SendTo.Value)
					if f.Protocol != "http" || r.Timeouts.Stream == 0 || u == nil || u.Sticky != nil || u.Balance().Hash || len(u.Backends) < 2 || len(r.When.Method) > 0 {
						continue
					}
					t := try(u)
					apart := 0
					for i := range 100 {
						first := t.ask(uint64(i))
						if second := t.ask(uint64(i)); second != first {
							apart++
						}
					}
					p.Report(Finding{Range: r.StreamAt, Message: fmt.Sprintf("%q has streams, and %q is not sticky", r.Name, u.Name), Witness: fmt.Sprintf("of 100 clients that send two requests in a row, %d meet two backends", apart)})
				}
			}
		},
	},
	{
		ID: "KX408", Severity: config.Warning, Title: "a session setting that tcp does not have",
		Why: "a tcp frontend sees no cookies and header fields that identify a client",
		Fix: "by = \"address\", or a separate upstream for tcp",
		Run: func(p *Pass) {
			for _, f := range p.Config.Frontends {
				for _, r := range f.Routes {
					u := p.Config.Upstream(r.SendTo.Value)
					if f.Protocol == "tcp" && u != nil && u.Sticky != nil && u.Sticky.By != "address" {
						p.Report(Finding{Range: u.Sticky.Range, Message: fmt.Sprintf("%q is sticky by %s, and the tcp frontend %q sends to it", u.Name, u.Sticky.By, f.Name), Witness: "each connection is hashed by " + u.Algorithm + ", as if there were no seats"})
					}
				}
			}
		},
	},
}

// overruled words what becomes of clients whose backend was out, by seats and by the hash.
func overruled(u *config.Upstream) string {
	name := u.Backends[0].Name
	if u.Sticky.OnLoss == "refuse" {
		return fmt.Sprintf("with %q out its clients are refused, though the hash has other backends for them", name)
	}
	t, hashed := try(keyed(u)), *u
	hashed.Sticky = nil
	h := try(&hashed)
	t.out(name)
	for i := range 100 {
		t.ask(uint64(i))
	}
	t.back(name)
	stay := 0
	for i := range 100 {
		if h.ask(uint64(i)) == name && t.ask(uint64(i)) != name {
			stay++
		}
	}
	return fmt.Sprintf("of 100 clients that came while %q was out, the hash has %d for it when it is back, and they stay away", name, stay)
}

// refusedWithout counts the clients, of 100 with a seat, that are refused while backends are out.
func refusedWithout(u *config.Upstream, out ...string) int {
	t := try(keyed(u))
	for i := range 100 {
		t.ask(uint64(i))
	}
	t.out(out...)
	refused := 0
	for i := range 100 {
		if t.ask(uint64(i)) == "" {
			refused++
		}
	}
	return refused
}

// apartAnew counts the clients, of 100, that are given another backend when nobody knows their seats.
func apartAnew(u *config.Upstream) int {
	bare := *u
	bare.Sticky = nil
	before, after := try(&bare), try(&bare)
	var had [100]string
	for i := range had {
		had[i] = before.ask(uint64(i))
	}
	moved := 0
	for _, k := range shuffled(len(had)) {
		if after.ask(uint64(k)) != had[k] {
			moved++
		}
	}
	return moved
}

// keyed returns the upstream with seats that are known by a key, so that the core
// alone can tell what becomes of them.
func keyed(u *config.Upstream) *config.Upstream {
	x := *u
	s := *u.Sticky
	s.By = "address"
	x.Sticky = &s
	return &x
}
