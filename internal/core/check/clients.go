package check

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"time"

	"kestrix/internal/core/config"
	"kestrix/internal/core/limit"
	"kestrix/internal/core/tick"
)

// clientRules are about who a client is taken for.
var clientRules = []*Rule{
	{
		ID: "KX612", Severity: config.Warning, Title: "clients are distinguished where all may be one",
		Why: "only this machine reaches the listeners, so another proxy is in front; without trusted_proxies its address counts as every client's",
		Fix: "trusted_proxies = the address of the proxy in front, such as \"127.0.0.1\"",
		Run: func(p *Pass) {
			if len(p.Config.Trusted) > 0 || len(p.reading) > 0 {
				return
			}
			for _, f := range p.Config.Frontends {
				if !p.hidden(f) {
					continue
				}
				for _, r := range f.Routes {
					if !asksClients(&r.When) || asksLoopback(&r.When) {
						continue
					}
					like := fmt.Sprintf("a request of the client 203.0.113.9 arrives from 127.0.0.1, and that address is compared with %s", clientsOf(&r.When))
					p.Report(Finding{Range: clientsAt(r), Message: fmt.Sprintf("%q uses the client's address, and only this machine reaches it", r.Name), Witness: like})
				}
				p.limited(f, func(what string, l *config.Limits, _ *config.Route) {
					if l.Rate > 0 {
						p.Report(Finding{Range: l.Range, Message: fmt.Sprintf("the rate of %s applies per client, and only this machine reaches it", what), Witness: fmt.Sprintf("all clients together may send %g req/s", l.Rate)})
					}
				})
				if f.Limits.Connections > 0 {
					p.Report(Finding{Range: f.Limits.Range, Message: fmt.Sprintf("the connections of %q are counted by client, and only this machine reaches it", f.Name), Witness: fmt.Sprintf("all clients together may have %d connections", f.Limits.Connections)})
				}
			}
		},
	},
	{
		ID: "KX613", Severity: config.Advice, Title: "trusted proxies without effect in a tcp frontend",
		Why: "tcp has no header fields; a proxy in front can name the client in a PROXY protocol header only",
		Fix: "proxy_protocol = true, if the proxy in front sends it",
		Run: func(p *Pass) {
			if len(p.Config.Trusted) == 0 {
				return
			}
			http := slices.ContainsFunc(p.Config.Frontends, func(f *config.Frontend) bool { return f.Protocol != "tcp" })
			for _, f := range p.Config.Frontends {
				if f.Protocol != "tcp" || f.ProxyProtocol || http && !p.byClient(f) {
					continue
				}
				from := p.Config.Trusted[0].Addr()
				p.Report(Finding{Range: f.Range, Message: fmt.Sprintf("%q accepts connections without a PROXY protocol header", f.Name), Witness: fmt.Sprintf("a connection that %s passes on for 203.0.113.9 counts as one of %s", from, from)})
			}
		},
	},
	{
		ID: "KX614", Severity: config.Advice, Title: "a rate that one page exceeds",
		Why: "a browser fetches a page with its pictures, styles and scripts at once, and several people may share one address",
		Fix: "a burst of a hundred or more; or the limit in the route that needs it, such as a log-in",
		Run: func(p *Pass) {
			for _, f := range p.Config.Frontends {
				if f.Protocol != "http" {
					continue
				}
				p.limited(f, func(what string, l *config.Limits, r *config.Route) {
					if l.Rate == 0 || r != nil && (len(r.When.Path) > 0 || len(r.When.Method) > 0 || len(r.When.Any) > 0) || p.broken(l.Range) {
						return
					}
					if refused := pageRefused(l); refused > 0 {
						p.Report(Finding{Range: l.Range, Message: fmt.Sprintf("the rate of %s is %g req/s with a burst of %d", what, l.Rate, l.Burst), Witness: fmt.Sprintf("of a page and the %d things in it, fetched within a second, %d are answered with 429", inPage, refused)})
					}
				})
			}
		},
	},
	{
		ID: "KX615", Severity: config.Warning, Title: "error pages that are never shown",
		Why: "with form = \"problem\" every client gets problem details (RFC 9457) instead of a page",
		Fix: "form = \"by-accept\", or no pages",
		Run: func(p *Pass) {
			for _, f := range p.Config.Frontends {
				if e := f.Errors; e.Form == "problem" && len(e.Pages) > 0 {
					p.Report(Finding{Range: e.Pages[0].File.Range, Message: fmt.Sprintf("no client of %q ever gets %s", f.Name, e.Pages[0].File.Value), Witness: "a browser that asks for text/html gets application/problem+json"})
				}
			}
		},
	},
	{
		ID: "KX616", Severity: config.Warning, Title: "client_from without trusted_proxies",
		Why: "only trusted_proxies may name a client, and there are none",
		Fix: "trusted_proxies = the addresses of the proxies in front; or no client_from",
		Run: func(p *Pass) {
			if at := p.Config.ClientFromAt; at.Filename != "" && len(p.Config.Trusted) == 0 && !p.broken(at) {
				p.Report(Finding{Range: at, Message: "client_from has no effect without trusted_proxies", Witness: "a client that sends the field itself is known by its address all the same", Edits: p.drop(at)})
			}
		},
	},
}

// inPage is how many things a page has beside itself.
const inPage = 20

// pageRefused asks the limiter how many requests of one page it refuses: the page, and what is in it a quarter
// of a second later.
func pageRefused(l *config.Limits) int {
	rate := limit.NewRate(l.Rate, l.Burst)
	refused := 0
	for i := range inPage + 1 {
		now := tick.Time(0)
		if i > 0 {
			now = now.Add(250 * time.Millisecond)
		}
		if ok, _ := rate.Take(now, 1); !ok {
			refused++
		}
	}
	return refused
}

// limited calls f for the limits of a frontend and of its routes; r is nil for the frontend's.
func (p *Pass) limited(front *config.Frontend, f func(what string, l *config.Limits, r *config.Route)) {
	f(fmt.Sprintf("%q", front.Name), &front.Limits, nil)
	for _, r := range front.Routes {
		f(fmt.Sprintf("%q", r.Name), &r.Limits, r)
	}
}

// byClient reports whether anything of a frontend goes by who the client is.
func (p *Pass) byClient(f *config.Frontend) bool {
	return f.Limits.Rate > 0 || f.Limits.Connections > 0 || slices.ContainsFunc(f.Routes, func(r *config.Route) bool {
		u := p.Config.Upstream(r.SendTo.Value)
		return asksClients(&r.When) || r.Limits.Rate > 0 || u != nil && len(u.Backends) > 1 && (u.Sticky != nil && u.Sticky.By == "address" || u.Hash != nil && strings.HasPrefix(u.Hash.Key, "client"))
	})
}

// asksLoopback reports whether a condition names this machine's own addresses, so that it means them.
func asksLoopback(w *config.When) bool {
	return slices.ContainsFunc(w.Parts(), func(x *config.When) bool {
		return slices.ContainsFunc(x.Client, func(c config.ClientMatch) bool {
			return c.Prefix.Contains(netip.MustParseAddr("127.0.0.1")) || c.Prefix.Contains(netip.IPv6Loopback())
		})
	})
}

// clientsOf words the clients that a condition names first.
func clientsOf(w *config.When) string {
	for _, x := range w.Parts() {
		for _, c := range x.Client {
			return c.Prefix.String()
		}
	}
	return ""
}
