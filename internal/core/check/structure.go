package check

import (
	"bytes"
	"fmt"
	"net/netip"
	"path"
	"slices"
	"strings"
	"time"
	"unicode"

	"github.com/hashicorp/hcl/v2"
	"github.com/hashicorp/hcl/v2/hclsyntax"

	"kestrix/internal/core/config"
	"kestrix/internal/core/units"
)

// finder words a place for a hint.
type finder struct{ rng hcl.Range }

func (f finder) place() string {
	return fmt.Sprintf("%s:%d", f.rng.Filename, f.rng.Start.Line)
}

var structureRules = []*Rule{
	{
		ID: "KX107", Severity: config.Error, Title: "two listeners with the same address",
		Why: "the second cannot be bound, so the proxy does not start",
		Fix: "change one of the ports, or merge the two frontends and separate requests by host",
		Run: func(p *Pass) {
			type bound struct {
				addr config.Address
				who  string
				at   hcl.Range
			}
			var all []bound
			if c := p.Config.Control; c != nil {
				all = append(all, bound{c.Listen.Value, "control", c.Listen.Range})
			}
			for _, f := range p.Config.Frontends {
				for _, l := range f.Listen {
					for _, o := range all {
						if !clash(o.addr, l.Value) {
							continue
						}
						message := fmt.Sprintf("%s is listened on twice", l.Value)
						if o.addr != l.Value {
							message = fmt.Sprintf("%s and %s cannot both be listened on: one contains the other", o.addr, l.Value)
						}
						p.Report(Finding{Range: l.Range, Message: message, Hint: fmt.Sprintf("%s uses it at %s", o.who, finder{o.at}.place())})
						break
					}
					all = append(all, bound{l.Value, fmt.Sprintf("frontend %q", f.Name), l.Range})
				}
			}
		},
	},
	{
		ID: "KX108", Severity: config.Error, Title: "a backend that is this proxy itself",
		Why: "requests circulate until connections run out",
		Fix: "use the address of the application",
		Run: func(p *Pass) {
			for _, u := range p.Config.Upstreams {
				for _, b := range u.Backends {
					if f, l, ok := itself(p.Config, b.Address); ok {
						p.Report(Finding{
							Range:   b.AddressAt,
							Message: fmt.Sprintf("the backend %q is the listener %s of frontend %q", b.Name, l.Value, f.Name),
							Hint:    fmt.Sprintf("listened on at %s", finder{l.Range}.place()),
						})
					}
				}
			}
		},
	},
	{
		ID: "KX111", Severity: config.Error, Title: "an http setting in a tcp frontend",
		Why: "a tcp frontend forwards bytes and sees no host, path or header",
		Fix: "protocol = \"http\", or remove the setting; sni separates TLS connections by name",
		Run: func(p *Pass) {
			for _, f := range p.Config.Frontends {
				if f.Protocol != "tcp" {
					continue
				}
				if f.Limits.BodySize > 0 {
					p.Report(Finding{Range: f.Limits.Range, Message: fmt.Sprintf("body_size needs http, and frontend %q speaks tcp", f.Name)})
				}
				for _, r := range f.Routes {
					for _, x := range httpOnly(r) {
						p.Report(Finding{
							Range: x.at, Message: fmt.Sprintf("%s needs http, and frontend %q speaks tcp", x.what, f.Name),
							Hint: fmt.Sprintf("the protocol is at %s", finder{f.ProtocolAt}.place()),
						})
					}
				}
			}
		},
	},
	{
		ID: "KX113", Severity: config.Error, Title: "one file with two uses",
		Why: "output of one use destroys that of the other",
		Fix: "give each its own file",
		Run: func(p *Pass) {
			files := p.Config.NamedFiles()
			for i, f := range files {
				for _, o := range files[:i] {
					if f.Written && f.Name.Value != "/dev/null" && placeOf(p.Config, &f) == placeOf(p.Config, &o) {
						message := fmt.Sprintf("%s is written to %s, which is %s", f.What, f.Name.Value, o.What)
						if o.Written {
							message = fmt.Sprintf("%s and %s are written to one file, %s", o.What, f.What, f.Name.Value)
						}
						p.Report(Finding{Range: f.Name.Range, Message: message, Hint: fmt.Sprintf("%s is at %s", o.What, finder{o.Name.Range}.place())})
						break
					}
				}
			}
		},
	},
	{
		ID: "KX109", Severity: config.Warning, Title: "two backends of one upstream with the same address",
		Why: "the server counts twice in every share, and both backends fail together",
		Fix: "remove one, or give one more weight if that was the intention",
		Run: func(p *Pass) {
			for _, u := range p.Config.Upstreams {
				seen := map[config.Address]string{}
				for _, b := range u.Backends {
					one := sameServer(b.Address)
					if first, ok := seen[one]; ok {
						p.Report(Finding{Range: b.AddressAt, Message: fmt.Sprintf("%q and %q are the same server, %s", first, b.Name, b.Address), Witness: fmt.Sprintf("when %s is gone, both are", one)})
						continue
					}
					seen[one] = b.Name
				}
			}
		},
	},
	{
		ID: "KX110", Severity: config.Warning, Title: "one server in two upstreams with different probes",
		Why: "the upstreams can disagree about the state of the server: one uses it while the other does not",
		Fix: "give both upstreams the same probe, or send both routes to one upstream",
		Run: func(p *Pass) {
			type seen struct {
				up *config.Upstream
				at hcl.Range
			}
			first := map[config.Address]seen{}
			for _, u := range p.Config.Upstreams {
				for _, b := range u.Backends {
					s, ok := first[b.Address]
					if !ok {
						first[b.Address] = seen{u, b.AddressAt}
						continue
					}
					if s.up == u || probesAlike(s.up.Probe, u.Probe) {
						continue
					}
					p.Report(Finding{
						Range:   b.AddressAt,
						Message: fmt.Sprintf("%s is probed differently by %q and by %q", b.Address, s.up.Name, u.Name),
						Hint:    "the other is at " + finder{s.at}.place(),
						Witness: probeWitness(b.Address, s.up, u),
					})
				}
			}
		},
	},
}

// unseenRules are about what stands in a source and cannot be read off it.
var unseenRules = []*Rule{
	{
		ID: "KX130", Severity: config.Warning, Title: "an invisible character in a text",
		Why: "it comes with text copied from a page or document; the text then matches nothing",
		Fix: "type the text again",
		Run: func(p *Pass) {
			for _, f := range p.Config.Files {
				src := bytes.TrimPrefix(f.Source, []byte("\xef\xbb\xbf"))
				if !bytes.ContainsFunc(src, unseen) {
					continue
				}
				tokens, _ := hclsyntax.LexConfig(src, f.Name, hcl.InitialPos)
				for _, t := range tokens {
					if t.Type != hclsyntax.TokenQuotedLit && t.Type != hclsyntax.TokenStringLit || !bytes.ContainsFunc(t.Bytes, unseen) {
						continue
					}
					r := []rune(string(t.Bytes[bytes.IndexFunc(t.Bytes, unseen):]))[0]
					p.Report(Finding{Range: t.Range, Message: fmt.Sprintf("a text contains the invisible character U+%04X", r), Witness: fmt.Sprintf("it is read as %+q", string(t.Bytes)), Edits: []config.Edit{{Range: t.Range, Text: string(bytes.Map(seen, t.Bytes))}}})
				}
			}
		},
	},
}

// seen leaves out what nobody sees.
func seen(r rune) rune {
	if unseen(r) {
		return -1
	}
	return r
}

// unseen reports whether a character has no looks of its own; a tab and the ends of lines are seen.
func unseen(r rune) bool {
	return r != '\n' && r != '\r' && r != '\t' && r != ' ' && !unicode.IsPrint(r)
}

type settingAt struct {
	what string
	at   hcl.Range
}

// httpOnly lists what a route asks or does that only http has.
func httpOnly(r *config.Route) []settingAt {
	var out []settingAt
	match := func(what string, all []config.Match) {
		if len(all) > 0 {
			out = append(out, settingAt{"a condition on the " + what, all[0].Range})
		}
	}
	pairs := func(what string, all []config.MatchPair) {
		if len(all) > 0 {
			out = append(out, settingAt{"a condition on a " + what, all[0].Name.Range})
		}
	}
	for _, w := range r.When.Parts() {
		match("host", w.Host)
		match("path", w.Path)
		match("method", w.Method)
		pairs("header field", w.Header)
		pairs("query parameter", w.Query)
		pairs("cookie", w.Cookie)
	}
	for _, x := range []struct {
		given bool
		what  string
		at    func() hcl.Range
	}{
		{r.Redirect != nil, "redirect", func() hcl.Range { return r.Redirect.Range }},
		{r.Reply != nil, "reply", func() hcl.Range { return r.Reply.Range }},
		{r.Rewrite != nil, "rewrite", func() hcl.Range { return r.Rewrite.Range }},
		{r.Headers != nil, "headers", func() hcl.Range { return r.Headers.Range }},
		{r.Limits.BodySize > 0, "body_size", func() hcl.Range { return r.Limits.Range }},
	} {
		if x.given {
			out = append(out, settingAt{x.what, x.at()})
		}
	}
	return out
}

// probesAlike reports whether two probes judge a server alike.
func probesAlike(a, b *config.Probe) bool {
	if a == nil || b == nil {
		return a == b
	}
	return a.Kind == b.Kind && a.Path == b.Path && a.Method == b.Method && a.Host == b.Host && slices.EqualFunc(a.Headers, b.Headers, func(x, y config.FieldPair) bool {
		return x.Name.Value == y.Name.Value && x.Value.Value == y.Value.Value
	}) && a.Body == b.Body && a.Every == b.Every && a.Timeout == b.Timeout && a.DownAfter == b.DownAfter && a.UpAfter == b.UpAfter
}

// probeWitness words how long each of two upstreams takes to notice that a
// server is gone.
func probeWitness(a config.Address, x, y *config.Upstream) string {
	say := func(u *config.Upstream) string {
		switch {
		case u.Probe != nil:
			return fmt.Sprintf("the probes of %q within %s", u.Name, units.Duration(time.Duration((1+u.Probe.Jitter)*float64(u.Probe.Every))*time.Duration(u.Probe.DownAfter)))
		case u.Suspend != nil:
			return fmt.Sprintf("requests to %q that fail", u.Name)
		}
		return fmt.Sprintf("%q never", u.Name)
	}
	return fmt.Sprintf("when %s refuses connections, it is noticed by %s, and by %s", a, say(x), say(y))
}

// placeOf returns where a file stands, as far as its name tells.
func placeOf(c *config.Config, f *config.NamedFile) string {
	if f.Beside && !path.IsAbs(f.Name.Value) && len(c.Files) > 0 {
		return path.Join(path.Dir(c.Files[0].Name), f.Name.Value)
	}
	return path.Clean(f.Name.Value)
}

// itself finds a listener of ours at which connecting to an address ends.
func itself(c *config.Config, a config.Address) (*config.Frontend, config.Placed[config.Address], bool) {
	for _, f := range c.Frontends {
		for _, l := range f.Listen {
			if Reaches(a, l.Value) {
				return f, l, true
			}
		}
	}
	return nil, config.Placed[config.Address]{}, false
}

// sameServer returns an address as it is compared: this machine has several names.
func sameServer(a config.Address) config.Address {
	if strings.EqualFold(a.Host, "localhost") {
		a.Host = "127.0.0.1"
	}
	if a.Unix != "" {
		a.Unix = path.Clean(a.Unix)
	}
	a.Host = strings.ToLower(strings.TrimSuffix(a.Host, "."))
	return a
}

// clash reports whether two listeners cannot be bound side by side. IPv4 and IPv6
// are bound apart; an unspecified address takes every one of its family.
func clash(a, b config.Address) bool {
	a, b = sameServer(a), sameServer(b)
	x, okA := a.IP()
	y, okB := b.IP()
	same := okA && okB && x == y && a.Port == b.Port && a.Unix == b.Unix // however they are written
	return a == b || same || a.Contains(b) || b.Contains(a)
}

// Reaches reports whether connecting to an address ends at a listener of ours, as
// far as that can be told without asking the network.
func Reaches(to, listener config.Address) bool {
	if to == listener {
		return true
	}
	if to.Unix != "" || listener.Unix != "" || to.Port != listener.Port {
		return false
	}
	l, ok := listener.IP()
	if !ok {
		return false
	}
	if to.Host == "localhost" {
		return l.IsUnspecified() || l.IsLoopback() && (l == netip.MustParseAddr("127.0.0.1") || l.Is6())
	}
	t, ok := to.IP()
	return ok && t.Is4() == l.Is4() && (t == l || l.IsUnspecified() && (t.IsLoopback() || t.IsUnspecified()))
}
