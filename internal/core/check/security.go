package check

import (
	"fmt"
	"strings"
	"time"

	"github.com/hashicorp/hcl/v2"

	"kestrix/internal/core/config"
)

// soon is how long before its end a certificate is spoken of.
const soon = 30 * 24 * time.Hour

var securityRules = []*Rule{
	{
		ID: "KX701", Severity: config.Error, Title: "control without users on a reachable address",
		Why: "any host that reaches the address could take backends out; therefore the proxy refuses every request there",
		Fix: "listen = \"unix:/run/kestrix.sock\", or a user block for each operator",
		Run: func(p *Pass) {
			if c := p.Config.Control; c != nil && c.Listen.Value != (config.Address{}) && len(c.Users) == 0 && !p.local(c.Listen.Value) {
				p.Report(Finding{
					Range: c.Listen.Range, Message: fmt.Sprintf("control listens on %s and has no users", c.Listen.Value),
					Witness: "GET /status is answered with 403 for every client",
				})
			}
		},
	},
	{
		ID: "KX702", Severity: config.Warning, Title: "a password hash that is quickly guessed",
		Why: "each step of the bcrypt cost halves the guesses per hour of an attacker with the file",
		Fix: "kestrix password makes a hash of cost 12",
		Run: func(p *Pass) {
			if p.Config.Control == nil {
				return
			}
			for _, u := range p.Config.Control.Users {
				if cost := u.Cost(); cost > 0 && cost < 10 {
					p.Report(Finding{
						Range: u.PasswordAt, Message: fmt.Sprintf("the password hash of %q has a cost of %d", u.Name, cost),
						Witness: fmt.Sprintf("an attacker guesses %d times as fast as with a cost of 12", 1<<(12-cost)),
					})
				}
			}
		},
	},
	{
		ID: "KX703", Severity: config.Error, Title: "passwords in clear text over the network",
		Why: "HTTP Basic sends the password with each request, and every host on the path can read it",
		Fix: "tls { ... } in control, or a Unix socket or loopback address",
		Run: func(p *Pass) {
			if c := p.Config.Control; c != nil && c.Listen.Value != (config.Address{}) && len(c.Users) > 0 && c.TLS == nil && !p.local(c.Listen.Value) {
				p.Report(Finding{Range: c.Listen.Range, Message: fmt.Sprintf("control listens on %s without TLS", c.Listen.Value), Witness: "each request carries user and password in base64, which is not encryption"})
			}
		},
	},
	{
		ID: "KX704", Severity: config.Warning, Title: "an old version of TLS",
		Why: "TLS 1.0 and 1.1 use broken hashes and are withdrawn (RFC 8996)",
		Fix: "min_version = \"1.2\"",
		Run: func(p *Pass) {
			old := func(who, version string, at hcl.Range) {
				fix := p.replace(at, `"1.2"`)
				if version == "1.0" || version == "1.1" {
					p.Report(Finding{Range: at, Message: fmt.Sprintf("%s speaks TLS %s", who, version), Witness: "a client that offers nothing newer than TLS " + version + " is let in", Edits: fix})
				}
			}
			for _, f := range p.Config.Frontends {
				if f.TLS != nil {
					old(fmt.Sprintf("the frontend %q", f.Name), f.TLS.MinVersion, f.TLS.MinVersionAt)
				}
			}
			for _, u := range p.Config.Upstreams {
				if u.TLS != nil {
					old(fmt.Sprintf("the upstream %q", u.Name), u.TLS.MinVersion, u.TLS.Range)
				}
			}
			if c := p.Config.Control; c != nil && c.TLS != nil {
				old("control", c.TLS.MinVersion, c.TLS.MinVersionAt)
			}
		},
	},
	{
		ID: "KX705", Severity: config.Error, Title: "an expired certificate, or one that is not yet valid",
		Why: "browsers refuse it and show a warning instead of the site",
		Fix: "a new certificate",
		Run: func(p *Pass) {
			p.pairs(func(x config.Pair, _ *config.Frontend, f PairFact) {
				if f.Unreadable != "" {
					return
				}
				switch now := p.Facts.Now; {
				case now.After(f.Until):
					p.Report(Finding{Range: x.Certificate.Range, Message: fmt.Sprintf("the certificate %s has expired", x.Certificate.Value), Witness: fmt.Sprintf("it expired on %s, %s ago", day(f.Until), days(now.Sub(f.Until)))})
				case now.Before(f.From):
					p.Report(Finding{Range: x.Certificate.Range, Message: fmt.Sprintf("the certificate %s is not valid yet", x.Certificate.Value), Witness: fmt.Sprintf("it begins on %s, in %s", day(f.From), days(f.From.Sub(now)))})
				}
			})
		},
	},
	{
		ID: "KX706", Severity: config.Warning, Title: "a certificate that expires soon",
		Why: "certificates expire at night and on weekends too",
		Fix: "renew it now, and automate the renewal",
		Run: func(p *Pass) {
			p.pairs(func(x config.Pair, _ *config.Frontend, f PairFact) {
				left := f.Until.Sub(p.Facts.Now)
				// One that is made anew every few days ends soon all its life.
				if f.Unreadable == "" && left > 0 && left < min(soon, f.Until.Sub(f.From)/3) {
					p.Report(Finding{Range: x.Certificate.Range, Message: fmt.Sprintf("the certificate %s expires soon", x.Certificate.Value), Witness: fmt.Sprintf("it expires on %s, in %s", day(f.Until), days(left))})
				}
			})
		},
	},
	{
		ID: "KX707", Severity: config.Warning, Title: "a host without a certificate",
		Why: "a client that asks for the name gets a certificate for another one, and refuses it",
		Fix: "a certificate that names the host, or a route without it",
		Run: func(p *Pass) {
			for _, f := range p.Config.Frontends {
				if f.TLS != nil {
					p.uncovered(f)
				}
			}
		},
	},
	{
		ID: "KX708", Severity: config.Warning, Title: "a private key that others can read",
		Why: "an attacker with the key can impersonate the site",
		Fix: "chmod 0600, and a new certificate if other people have accounts here",
		Run: func(p *Pass) {
			p.pairs(func(x config.Pair, _ *config.Frontend, f PairFact) {
				if f.Unreadable == "" && f.KeyMode&0o007 != 0 {
					p.Report(Finding{Range: x.Key.Range, Message: fmt.Sprintf("every user of this machine can read the key %s", x.Key.Value), Witness: fmt.Sprintf("its mode is %04o", f.KeyMode)})
				}
			})
		},
	},
	{
		ID: "KX709", Severity: config.Error, Title: "a certificate and a key that do not belong together",
		Why: "no handshake is possible with them, and the proxy does not start",
		Fix: "the key of the certificate request; renewals often create a new one",
		Run: func(p *Pass) {
			p.pairs(func(x config.Pair, _ *config.Frontend, f PairFact) {
				if f.Unreadable == "" && f.Mismatch != "" {
					p.Report(Finding{Range: x.Key.Range, Message: fmt.Sprintf("the key %s is not that of %s", x.Key.Value, x.Certificate.Value), Witness: f.Mismatch})
				}
			})
		},
	},
	{
		ID: "KX710", Severity: config.Warning, Title: "a file that cannot be read here",
		Why: "the proxy does not start without it; it may exist on the machine that serves",
		Fix: "create it, or correct its name; names are relative to the folder of the configuration",
		Run: func(p *Pass) {
			p.pairs(func(x config.Pair, _ *config.Frontend, f PairFact) {
				if f.Unreadable == "" {
					return
				}
				file := x.Certificate
				if f.OfKey {
					file = x.Key
				}
				p.Report(Finding{Range: file.Range, Message: fmt.Sprintf("%s cannot be used: %s", file.Value, f.Unreadable), Witness: "kestrix serve stops here with this error"})
			})
			if p.Facts == nil {
				return
			}
			for _, a := range append(p.Config.Authorities(), p.Config.ErrorPages()...) {
				if why := p.Facts.Files[a.Value]; why != "" {
					p.Report(Finding{Range: a.Range, Message: fmt.Sprintf("%s cannot be used: %s", a.Value, why), Witness: "kestrix serve stops here with this error"})
				}
			}
		},
	},
	{
		ID: "KX712", Severity: config.Warning, Title: "clients may set a field of the proxy",
		Why: "an application that trusts the field accepts a forged client address, or another path than the route matched",
		Fix: "remove the name from pass_fields, or list the proxies that set it in trusted_proxies",
		Run: func(p *Pass) {
			for _, f := range p.Config.Frontends {
				for _, name := range f.PassFields {
					p.Report(Finding{
						Range: name.Range, Message: fmt.Sprintf("the frontend %q accepts %s from every client", f.Name, name.Value),
						Witness: fmt.Sprintf("a request with %s: %s reaches the backend as it is", name.Value, claim(name.Value)),
					})
				}
			}
		},
	},
	{
		ID: "KX711", Severity: config.Warning, Title: "TLS without verification",
		Why: "the connection is encrypted but not authenticated: a host on the path can impersonate the backend",
		Fix: "ca = the CA bundle of your backends, and name = the name in their certificate",
		Run: func(p *Pass) {
			for _, u := range p.Config.Upstreams {
				if u.TLS != nil && !u.TLS.Verify {
					p.Report(Finding{Range: u.TLS.VerifyAt, Message: fmt.Sprintf("the backends of %q are not verified", u.Name), Witness: "any certificate is accepted, including a self-signed one"})
				}
			}
		},
	},
}

// claim is what a client may say of itself in a field that belongs to the proxy.
func claim(field string) string {
	switch {
	case strings.Contains(strings.ToLower(field), "url"):
		return "/admin"
	case strings.Contains(strings.ToLower(field), "host"):
		return "inside.example"
	case config.SameField(field, "Proxy"):
		return "http://192.0.2.66:3128"
	}
	return "127.0.0.1"
}

func day(t time.Time) string { return t.UTC().Format("2006-01-02") }

func days(d time.Duration) string {
	n := int(d.Hours() / 24)
	if n == 1 {
		return "1 day"
	}
	return fmt.Sprintf("%d days", n)
}

// local reports whether an address is reached from this machine only.
func (p *Pass) local(a config.Address) bool {
	ip, ok := a.IP()
	return a.Unix != "" || ok && ip.IsLoopback() || a.Host == "localhost"
}

// uncovered reports the hosts that a frontend's routes name and none of its
// certificates does.
func (p *Pass) uncovered(f *config.Frontend) {
	if p.Facts == nil {
		return
	}
	var names []string
	if f.TLS.ACME != nil {
		for _, n := range f.TLS.ACME.Names {
			names = append(names, n.Value)
		}
	}
	for _, x := range f.TLS.Pairs {
		fact, ok := p.Facts.Pairs[PairName{x.Certificate.Value, x.Key.Value}]
		if !ok || fact.Unreadable != "" {
			return // it may be the one
		}
		names = append(names, fact.Names...)
	}
	seen := map[string]bool{}
	for _, r := range f.Routes {
		var hosts []config.Match
		for _, w := range r.When.Parts() {
			hosts = append(hosts, w.Host...)
		}
		for _, h := range hosts {
			host := strings.ToLower(h.Text)
			if h.Not || h.Regexp != nil || strings.Contains(host, "*") || seen[host] {
				continue
			}
			seen[host] = true
			if !named(names, host) {
				p.Report(Finding{
					Range: h.Range, Message: fmt.Sprintf("no certificate of frontend %q is for %s", f.Name, host),
					Witness: fmt.Sprintf("https://%s/ gets a certificate for %s", host, strings.Join(names, ", ")),
				})
			}
		}
	}
}

// named reports whether one of a certificate's names is for a host (RFC 6125
// section 6.4.3: a * stands for one label, the first).
func named(names []string, host string) bool {
	_, parent, _ := strings.Cut(host, ".")
	for _, n := range names {
		n = strings.ToLower(n)
		if n == host || strings.HasPrefix(n, "*.") && n[2:] == parent {
			return true
		}
	}
	return false
}
