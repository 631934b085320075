package check

import (
	"fmt"
	"slices"
	"time"

	"kestrix/internal/core/config"
)

// acmeRules are about certificates that the proxy obtains by itself.
var acmeRules = []*Rule{
	{
		ID: "KX714", Severity: config.Warning, Title: "a certificate by ACME that is not renewed",
		Why: "a third of its life before the end, 30 days at most, the proxy renews it; this one is later than that",
		Fix: "kestrix events -kind certificate-failed names the reason; a proxy that does not run renews nothing",
		Run: func(p *Pass) {
			if p.Facts == nil {
				return
			}
			for _, a := range p.Config.ACMEs() {
				for _, n := range a.Names {
					f, ok := p.Facts.Pairs[PairName{a.File(n.Value), a.File(n.Value)}]
					if !ok || f.Unreadable != "" || p.Facts.Now.Before(renewedBy(f)) {
						continue
					}
					message, witness := "is not renewed", fmt.Sprintf("it expires on %s, in %s", day(f.Until), days(f.Until.Sub(p.Facts.Now)))
					if now := p.Facts.Now; now.After(f.Until) {
						message, witness = "has expired", fmt.Sprintf("it expired on %s, %s ago", day(f.Until), days(now.Sub(f.Until)))
					}
					p.Report(Finding{Range: n.Range, Message: fmt.Sprintf("the certificate for %s in %s %s", n.Value, a.Storage.Value, message), Witness: witness})
				}
			}
		},
	},
	{
		ID: "KX715", Severity: config.Advice, Title: "challenges that may not arrive",
		Why: "the ACME server connects to port 443 (tls-alpn-01) or port 80 (http-01) of each name; without either no certificate is issued",
		Fix: "listen on 443 with this tls block, or on 80 with an http frontend without tls; nothing is to do where those ports are forwarded here",
		Run: func(p *Pass) {
			plain := slices.ContainsFunc(p.Config.Frontends, func(f *config.Frontend) bool { return f.Protocol == "http" && f.TLS == nil && listensOn(f, 80) })
			for _, f := range p.Config.Frontends {
				if f.TLS != nil && f.TLS.ACME != nil && !plain && !listensOn(f, 443) && !f.ProxyProtocol {
					p.Report(Finding{Range: f.TLS.ACME.Range, Message: fmt.Sprintf("nothing listens on port 443 or 80 for the challenges of %q", f.Name), Witness: "unless another machine forwards one of the ports, each order ends in a challenge that fails"})
				}
			}
		},
	},
	{
		ID: "KX716", Severity: config.Error, Title: "one storage for two ACME servers",
		Why: "the certificate of a name has one file there, so one server's could be taken for the other's",
		Fix: "a storage for each directory",
		Run: func(p *Pass) {
			first := map[string]*config.ACME{}
			for _, a := range p.Config.ACMEs() {
				o := first[a.Storage.Value]
				if o == nil {
					first[a.Storage.Value] = a
				} else if o.Directory.Value != a.Directory.Value {
					p.Report(Finding{Range: a.Storage.Range, Message: fmt.Sprintf("%s stores certificates of two servers", a.Storage.Value), Hint: fmt.Sprintf("the other is at %s", finder{o.Directory.Range}.place())})
				}
			}
		},
	},
}

// renewedBy returns when the proxy has renewed a certificate, if all is well.
func renewedBy(f PairFact) time.Time {
	left := min(f.Until.Sub(f.From)/3, 30*24*time.Hour)
	return f.Until.Add(left/5 - left)
}

// listensOn reports whether a frontend listens on a port.
func listensOn(f *config.Frontend, port int) bool {
	return slices.ContainsFunc(f.Listen, func(l config.Placed[config.Address]) bool { return l.Value.Unix == "" && l.Value.Port == port })
}
