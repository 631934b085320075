package check

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	"kestrix/internal/core/config"
	"kestrix/internal/core/rng"
	"kestrix/internal/core/sticky"
	"kestrix/internal/core/units"
	"kestrix/internal/core/upstream"
)

// seatRules are about seats that do not hold.
var seatRules = []*Rule{
	{
		ID: "KX409", Severity: config.Warning, Title: "two upstreams with one seat cookie on one host",
		Why: "a browser sends one cookie of a name to the whole host, so each upstream replaces the seat of the other",
		Fix: "a different cookie name for each upstream",
		Run: func(p *Pass) {
			for _, f := range p.Config.Frontends {
				told := map[string]bool{}
				for i, r := range f.Routes {
					u := p.Config.Upstream(r.SendTo.Value)
					if f.Protocol != "http" || u == nil || u.Sticky == nil || u.Sticky.By != "cookie" || told[u.Name] {
						continue
					}
					for _, before := range f.Routes[:i] {
						o := p.Config.Upstream(before.SendTo.Value)
						if o == nil || o == u || o.Sticky == nil || o.Sticky.By != "cookie" || o.Sticky.Name != u.Sticky.Name || hostsApart(&r.When, &before.When) || len(o.Backends) == 0 || len(u.Backends) == 0 {
							continue
						}
						told[u.Name] = true
						p.Report(Finding{
							Range: u.Sticky.Range, Message: fmt.Sprintf("%q and %q both keep seats in the cookie %s, for the same hosts", o.Name, u.Name, u.Sticky.Name),
							Witness: alternating(o, u),
						})
						break
					}
				}
			}
		},
	},
	{
		ID: "KX410", Severity: config.Warning, Title: "a secret that is easy to guess",
		Why: "an attacker with the secret can make valid seats, and direct load at one backend",
		Fix: "32 random characters, from openssl rand -base64 24 for example, by env(\"NAME\") or file(\"name\")",
		Run: func(p *Pass) {
			for _, u := range p.Config.Upstreams {
				if s := u.Sticky; s != nil && s.By == "cookie" && s.Secret != "" && !p.broken(s.Range) {
					if why := guessable(s.Secret); why != "" {
						p.Report(Finding{Range: s.Range, Message: fmt.Sprintf("the secret of %q is easy to guess", u.Name), Witness: why})
					}
				}
			}
		},
	},
	{
		ID: "KX411", Severity: config.Advice, Title: "an upgrade that may reach another backend than its handshake",
		Why: "browsers that poll first and then upgrade expect the same server",
		Fix: "sticky { ... } for the upstream",
		Run: func(p *Pass) {
			for _, f := range p.Config.Frontends {
				for i, r := range f.Routes {
					u := p.Config.Upstream(r.SendTo.Value)
					if f.Protocol != "http" || u == nil || u.Sticky != nil || u.Balance().Hash || len(u.Backends) < 2 || !upgrades(r) {
						continue
					}
					for _, other := range f.Routes[i+1:] {
						if other.SendTo.Value != u.Name || upgrades(other) || len(r.When.Path) == 0 || len(other.When.Path) == 0 || apart(&r.When, &other.When) {
							continue
						}
						t := try(u)
						met := 0
						for k := range 100 {
							polled := t.ask(uint64(k))
							if upgraded := t.ask(uint64(k)); upgraded != polled {
								met++
							}
						}
						if met == 0 {
							continue
						}
						p.Report(Finding{Range: r.Range, Message: fmt.Sprintf("%q opens streams that %q prepares, and %q is not sticky", r.Name, other.Name, u.Name), Witness: fmt.Sprintf("of 100 clients that poll and then upgrade, %d meet two backends", met)})
						break
					}
				}
			}
		},
	},
	{
		ID: "KX412", Severity: config.Warning, Title: "a seat shorter than a response",
		Why: "a seat lasts ttl from one request to the next; a response that takes longer leaves no seat",
		Fix: "a ttl of many times the answer timeout",
		Run: func(p *Pass) {
			for _, u := range p.Config.Upstreams {
				s := u.Sticky
				if s == nil || len(u.Backends) < 2 || p.broken(s.Range) {
					continue
				}
				if longest := p.longestAnswer(u); s.TTL < longest {
					p.Report(Finding{Range: s.Range, Message: fmt.Sprintf("the seats of %q end after %s, and the answer timeout is %s", u.Name, units.Duration(s.TTL), units.Duration(longest)), Witness: apartAfter(u, longest), Edits: p.set(s.Range, "ttl", `"8h"`)})
				}
			}
		},
	},
}

// longestAnswer returns the longest answer timeout with which requests come to an upstream.
func (p *Pass) longestAnswer(u *config.Upstream) time.Duration {
	longest := u.Timeouts.Answer
	for _, f := range p.Config.Frontends {
		for _, r := range f.Routes {
			if r.SendTo.Value == u.Name {
				longest = max(longest, r.Waits(u).Answer)
			}
		}
	}
	return longest
}

// apartAfter words how many clients come back to another backend after a pause.
func apartAfter(u *config.Upstream, pause time.Duration) string {
	t := try(keyed(u))
	var before [100]string
	for i := range before {
		before[i] = t.ask(uint64(i))
	}
	t.at = t.at.Add(pause)
	moved := 0
	for _, k := range shuffled(len(before)) {
		if t.ask(uint64(k)) != before[k] {
			moved++
		}
	}
	return fmt.Sprintf("of 100 clients that return after %s, %d are given another backend", units.Duration(pause), moved)
}

// shuffled returns the numbers below n in an order of no pattern: in step with turns everybody would find another
// backend, or nobody.
func shuffled(n int) []int {
	out := make([]int, n)
	for i := range out {
		out[i] = i
	}
	slices.SortFunc(out, func(a, b int) int {
		return cmp.Compare(rng.Bits(1, uint64(a), 0, rng.Ordering), rng.Bits(1, uint64(b), 0, rng.Ordering))
	})
	return out
}

// alternating words what becomes of a client that asks two upstreams in turn.
func alternating(a, b *config.Upstream) string {
	t := try(b)
	unknown := 0
	for _, x := range a.Backends {
		if t.core.Seat(sticky.BackendHash(a.Name, x.Name)) == upstream.None {
			unknown++
		}
	}
	return fmt.Sprintf("of the %d seats that %q gives %q knows %d: a client that asks both in turn is given a new seat each time", len(a.Backends), a.Name, b.Name, len(a.Backends)-unknown)
}

// upgrades reports whether a route is for upgrades alone.
func upgrades(r *config.Route) bool {
	return slices.ContainsFunc(r.When.Header, func(m config.MatchPair) bool {
		return strings.EqualFold(m.Name.Value, "Upgrade") && !slices.ContainsFunc(m.Matches, func(x config.Match) bool { return x.Not })
	})
}

// guessable says why a secret is quickly guessed, empty if nothing shows it.
func guessable(secret string) string {
	different := map[rune]bool{}
	for _, c := range secret {
		different[c] = true
	}
	if len(different) < 8 {
		return fmt.Sprintf("it has %d different characters", len(different))
	}
	rest := strings.ToLower(secret)
	for _, word := range firstGuesses {
		rest = strings.ReplaceAll(rest, word, "")
	}
	rest = strings.Trim(rest, " -_.,;:!?0123456789")
	if len(rest) < 8 {
		return "it is made of words that are tried first, and digits"
	}
	return ""
}

// firstGuesses are what guessing begins with.
var firstGuesses = []string{
	"passwords", "password", "passwort", "secrets", "secret", "changeme", "change", "replace", "please", "default", "example", "kestrix", "sticky", "cookie", "session",
	"letmein", "qwertyuiop", "qwerty", "asdfghjkl", "abcdefghijklmnopqrstuvwxyz", "abcdefghijklmnop", "abcdefgh", "abcdef", "admin", "server", "proxy", "test", "my", "me", "key", "super", "the", "this", "is", "a-", "very",
}
