package check

import (
	"fmt"
	"slices"
	"strings"

	"kestrix/internal/core/cause"
	"kestrix/internal/core/config"
)

// protocolRules are about what is spoken where something else is expected.
var protocolRules = []*Rule{
	{
		ID: "KX617", Severity: config.Warning, Title: "WebSockets over HTTP/2 to a backend",
		Why: "Upgrade belongs to HTTP/1.1 (RFC 9113 section 8.6); over HTTP/2 the backend gets a plain request",
		Fix: "a separate upstream for them, with http_version = \"1.1\"",
		Run: func(p *Pass) {
			for _, f := range p.Config.Frontends {
				for _, r := range f.Routes {
					u := p.Config.Upstream(r.SendTo.Value)
					if f.Protocol == "http" && u != nil && u.HTTP2() && upgrades(r) && !p.broken(u.HTTPVersionAt) {
						p.Report(Finding{Range: u.HTTPVersionAt, Message: fmt.Sprintf("%q sends upgrades to %q, which uses HTTP/2", r.Name, u.Name), Witness: "GET with Upgrade: websocket reaches the backend without it"})
					}
				}
			}
		},
	},
	{
		ID: "KX618", Severity: config.Warning, Title: "WebSockets where only HTTP/2 is offered",
		Why: "browsers open a WebSocket in HTTP/1.1, which alpn = [\"h2\"] excludes: they cannot connect",
		Fix: "alpn = [\"h2\", \"http/1.1\"]",
		Run: func(p *Pass) {
			for _, f := range p.Config.Frontends {
				if f.TLS == nil || len(f.TLS.ALPN) == 0 || slices.Contains(f.TLS.ALPN, "http/1.1") || f.Protocol != "http" {
					continue
				}
				for _, r := range f.Routes {
					if upgrades(r) {
						p.Report(Finding{Range: f.TLS.Range, Message: fmt.Sprintf("%q offers %s only, and %q is for upgrades", f.Name, strings.Join(f.TLS.ALPN, ", "), r.Name), Witness: "a browser offers http/1.1 for a WebSocket, and its handshake fails", Edits: p.set(f.TLS.Range, "alpn", `["h2", "http/1.1"]`)})
						break
					}
				}
			}
		},
	},
	{
		ID: "KX621", Severity: config.Warning, Title: "statuses of gRPC over HTTP/1.1",
		Why: "gRPC needs HTTP/2 up to the backend; over HTTP/1.1 no call succeeds, and none ends with such a status",
		Fix: "http_version = \"2\"",
		Run: func(p *Pass) {
			for _, u := range p.Config.Upstreams {
				for _, on := range []*config.FailureSet{retryOn(u), suspendOn(u)} {
					i := slices.Index(on.RPC[:], true)
					if i < 0 || u.HTTP2() || p.broken(on.Range) || p.broken(u.HTTPVersionAt) {
						continue
					}
					p.Report(Finding{Range: at(on.Range, u.Range), Message: fmt.Sprintf("%q waits for %s%s, and uses HTTP/1.1", u.Name, cause.RPCPrefix, cause.RPCStatuses[i]), Witness: "a call reaches its backends as POST in HTTP/1.1, which servers of gRPC do not take", Edits: p.set(u.Range, "http_version", `"2"`)})
					break
				}
			}
		},
	},
	{
		ID: "KX619", Severity: config.Warning, Title: "TLS does not agree with the port",
		Why: "443 is the port of https and 80 that of http; servers on them expect the protocol of the port",
		Fix: "tls { ... }, or the other port",
		Run: func(p *Pass) {
			for _, f := range p.Config.Frontends {
				for _, l := range f.Listen {
					switch {
					case f.Protocol != "http" || f.ProxyProtocol:
					case l.Value.Port == 443 && f.TLS == nil:
						p.Report(Finding{Range: l.Range, Message: fmt.Sprintf("%q listens on %s without tls", f.Name, l.Value), Witness: "a browser that asks for https:// begins with a handshake, which is answered with 400"})
					case l.Value.Port == 80 && f.TLS != nil:
						p.Report(Finding{Range: l.Range, Message: fmt.Sprintf("%q speaks TLS on %s", f.Name, l.Value), Witness: "a browser that asks for http:// begins without a handshake, and the connection is closed"})
					}
				}
			}
			http := map[string]bool{}
			for _, f := range p.Config.Frontends {
				for _, r := range f.Routes {
					http[r.SendTo.Value] = http[r.SendTo.Value] || f.Protocol == "http"
				}
			}
			for _, u := range p.Config.Upstreams {
				for _, b := range u.Backends {
					switch {
					case p.broken(b.AddressAt) || !http[u.Name]:
					case b.Address.Port == 443 && u.TLS == nil:
						p.Report(Finding{Range: b.AddressAt, Message: fmt.Sprintf("connections to %q are in clear text on port 443", b.Name), Witness: "a server that needs a handshake answers a request with 400, or closes"})
					case b.Address.Port == 80 && u.TLS != nil:
						p.Report(Finding{Range: b.AddressAt, Message: fmt.Sprintf("connections to %q use TLS on port 80", b.Name), Witness: "a server that needs a request answers a handshake with 400, or closes"})
					default:
						continue
					}
					break // the others are alike
				}
			}
		},
	},
}

// retryOn returns what an upstream repeats.
func retryOn(u *config.Upstream) *config.FailureSet {
	if u.Retry == nil {
		return &config.FailureSet{}
	}
	return u.Retry.On
}

// suspendOn returns what has an upstream suspend backends.
func suspendOn(u *config.Upstream) *config.FailureSet {
	if u.Suspend == nil {
		return &config.FailureSet{}
	}
	return u.Suspend.On
}
