package check

import (
	"fmt"
	"net/netip"
	"strings"

	"kestrix/internal/core/config"
	"kestrix/internal/core/peer"
	"kestrix/internal/core/request"
	"kestrix/internal/core/rewrite"
	"kestrix/internal/core/route"
)

var forwardRules = []*Rule{
	{
		ID: "KX601", Severity: config.Warning, Title: "forwarded headers from any client",
		Why: "a trusted client can claim any address, and so pass every condition on addresses",
		Fix: "list only the addresses of the proxies in front",
		Run: func(p *Pass) {
			from, claimed := netip.MustParseAddr("203.0.113.9"), netip.MustParseAddr("10.0.0.1")
			if peer.Client(from, p.Config.Trusted, []netip.Addr{claimed}) != claimed {
				return
			}
			p.Report(Finding{
				Range: p.Config.TrustedAt, Message: "trusted_proxies includes the whole internet",
				Witness: fmt.Sprintf("a request from %s that says it is for %s counts as one from %s", from, claimed, claimed),
			})
		},
	},
	{
		ID: "KX602", Severity: config.Warning, Title: "a path that matches with its last slash only",
		Why: "people and links omit the slash at the end",
		Fix: "** matches both: \"/live/**\" matches /live, /live/ and everything below",
		Run: func(p *Pass) {
			for _, f := range p.Config.Frontends {
				t := route.Compile(f)
				for i, r := range f.Routes {
					for _, m := range r.When.Path {
						if m.Not || m.Regexp != nil || len(m.Text) < 2 || !strings.HasSuffix(m.Text, "/") || strings.Contains(m.Text, "*") {
							continue
						}
						host := "tern.example"
						if len(r.When.Host) > 0 && !r.When.Host[0].Not && r.When.Host[0].Regexp == nil {
							host = strings.ReplaceAll(r.When.Host[0].Text, "*", "x")
						}
						without := strings.TrimSuffix(m.Text, "/")
						q, _ := request.Of("GET", host, without)
						q.Client = netip.MustParseAddr("203.0.113.9")
						to, _ := t.Match(&q)
						if to == i || to >= 0 && f.Routes[to].SendTo.Value == r.SendTo.Value && r.SendTo.Value != "" || to >= 0 && f.Routes[to].Redirect != nil {
							continue
						}
						goes := "matches no route and is answered with 404"
						if to >= 0 {
							goes = fmt.Sprintf("goes to %q", f.Routes[to].Name)
						}
						p.Report(Finding{Range: m.Range, Message: fmt.Sprintf("%q does not match %s", m.Text, without), Witness: fmt.Sprintf("GET %s %s", without, goes), Edits: p.replace(m.Range, fmt.Sprintf("%q", m.Text+"**"))})
					}
				}
			}
		},
	},
	{
		ID: "KX603", Severity: config.Advice, Title: "redirects that are not mapped back",
		Why: "an application that redirects within itself uses the rewritten path, which the client does not know",
		Fix: "drop_prefix and prepend, which are mapped back; or let the application write redirects for the outside",
		Run: func(p *Pass) {
			p.rewrites(func(f *config.Frontend, t *route.Table, i int, r *config.Route) {
				if len(r.Rewrite.Substitute) == 0 || !r.Rewrite.MapLocation {
					return
				}
				with := strings.NewReplacer("$1", "1", "$2", "2", "$3", "3").Replace(r.Rewrite.Substitute[0].With)
				inside := rewrite.Path(&config.Rewrite{Prepend: r.Rewrite.Prepend}, with)
				back := rewrite.Location(r.Rewrite, rewrite.Hosts{Client: "tern.example", Backend: "tern.example", Scheme: "http", Spoken: "http"}, inside)
				q, _ := request.Of("GET", "tern.example", back)
				q.Client = netip.MustParseAddr("203.0.113.9")
				if to, _ := t.Match(&q); to == i {
					return
				}
				p.Report(Finding{
					Range: r.Rewrite.Range, Message: fmt.Sprintf("redirects of the application under %q reach clients unchanged", r.Name),
					Witness: fmt.Sprintf("Location: %s reaches the client as %s, which this route does not match", inside, back),
				})
			})
		},
	},
	{
		ID: "KX605", Severity: config.Advice, Title: "different names in request and certificate",
		Why: "a TLS server with many names selects the site by the host of the request, and answers unknown hosts with its default site",
		Fix: "rewrite { host = the backend's name }, if it is such a server",
		Run: func(p *Pass) {
			for _, f := range p.Config.Frontends {
				for _, r := range f.Routes {
					u := p.Config.Upstream(r.SendTo.Value)
					if u == nil || u.TLS == nil || f.Protocol != "http" || len(u.Backends) == 0 || r.Rewrite != nil && r.Rewrite.Host != "" {
						continue
					}
					b := u.Backends[0]
					name := u.TLS.Name
					if _, isIP := b.Address.IP(); name == "" && !isIP && strings.Contains(b.Address.Host, ".") {
						name = b.Address.Host
					}
					if name == "" || hostFits(r, name) {
						continue
					}
					p.Report(Finding{
						Range: r.Range, Message: fmt.Sprintf("%q forwards the client's host, and the certificate of %q is for %s", r.Name, u.Name, name),
						Witness: fmt.Sprintf("the handshake names %s, the request names the host that the client asked for", name),
					})
				}
			}
		},
	},
	{
		ID: "KX606", Severity: config.Advice, Title: "backends that do not see their clients",
		Why: "a backend behind a tcp frontend sees only the address of the proxy: in logs, limits and blocks",
		Fix: "proxy_protocol = \"v2\", if the backends can read it",
		Run: func(p *Pass) {
			told := map[string]bool{}
			for _, f := range p.Config.Frontends {
				for _, r := range f.Routes {
					u := p.Config.Upstream(r.SendTo.Value)
					if f.Protocol != "tcp" || u == nil || u.ProxyProtocol != "" || told[u.Name] || !f.TLSOrSNI() {
						continue
					}
					told[u.Name] = true
					p.Report(Finding{Range: u.Range, Message: fmt.Sprintf("the backends of %q do not learn the address of clients", u.Name), Witness: "every connection has the address of this proxy; there is no header field that could name the client"})
				}
			}
		},
	},
	{
		ID: "KX607", Severity: config.Error, Title: "a PROXY protocol header without trusted_proxies",
		Why: "only trusted_proxies may name clients, and there are none, so every connection is refused",
		Fix: "trusted_proxies = the addresses of the proxies in front",
		Run: func(p *Pass) {
			for _, f := range p.Config.Frontends {
				if !f.ProxyProtocol || len(p.Config.Trusted) > 0 {
					continue
				}
				for _, l := range f.Listen {
					if l.Value.Unix == "" {
						p.Report(Finding{Range: l.Range, Message: fmt.Sprintf("frontend %q needs PROXY protocol headers, and trusted_proxies is empty", f.Name), Witness: "a connection from 192.0.2.1 is closed before its first byte is read"})
						break
					}
				}
			}
		},
	},
	{
		ID: "KX608", Severity: config.Warning, Title: "TLS within TLS",
		Why: "a tcp frontend without tls forwards the client's TLS; an upstream with tls wraps it again, and the backend cannot read it",
		Fix: "remove tls from the upstream, or terminate TLS in the frontend",
		Run: func(p *Pass) {
			for _, f := range p.Config.Frontends {
				for _, r := range f.Routes {
					u := p.Config.Upstream(r.SendTo.Value)
					if f.Protocol == "tcp" && f.TLS == nil && r.When.AsksSNI() && u != nil && u.TLS != nil {
						p.Report(Finding{Range: r.Range, Message: fmt.Sprintf("%q forwards TLS to %q, which encrypts it again", r.Name, u.Name), Witness: "the client's handshake is the first that the backend reads after its own"})
					}
				}
			}
		},
	},
}

// rewrites calls f for each route that changes paths.
func (p *Pass) rewrites(f func(*config.Frontend, *route.Table, int, *config.Route)) {
	for _, front := range p.Config.Frontends {
		var t *route.Table
		for i, r := range front.Routes {
			if r.Rewrite == nil {
				continue
			}
			if t == nil {
				t = route.Compile(front)
			}
			f(front, t, i, r)
		}
	}
}

// hostFits reports whether a route takes requests for a host only.
func hostFits(r *config.Route, name string) bool {
	for _, h := range r.When.Host {
		if h.Text == name {
			return true
		}
	}
	return false
}
