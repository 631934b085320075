package check

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"unicode"

	"github.com/agext/levenshtein"

	"kestrix/internal/core/config"
)

// placeRules are about where backends stand.
var placeRules = []*Rule{
	{
		ID: "KX222", Severity: config.Warning, Title: "one zone in two spellings",
		Why: "zones are compared letter by letter, so a misspelt zone is another zone",
		Fix: "one spelling; a value of let keeps it in one place",
		Run: func(p *Pass) {
			for _, u := range p.Config.Upstreams {
				var zones []string
				first := map[string]string{} // the first backend of each
				for _, b := range u.Backends {
					if b.Zone != "" && !slices.Contains(zones, b.Zone) {
						zones, first[b.Zone] = append(zones, b.Zone), b.Name
					}
				}
				for i, z := range zones {
					for _, before := range zones[:i] {
						if !misspelt(before, z) {
							continue
						}
						stray := z
						if zoneSize(u, before) < zoneSize(u, z) {
							stray = before
						}
						p.Report(Finding{
							Range: u.BackendsAt, Message: fmt.Sprintf("%q and %q, zones of %q, seem to be the same", before, z, u.Name),
							Witness: fmt.Sprintf("a proxy in the other zone does not prefer %q", first[stray]),
						})
					}
				}
			}
		},
	},
	{
		ID: "KX223", Severity: config.Advice, Title: "a gap between tiers",
		Why: "only the order of tiers counts: a gap has no effect, and suggests that a tier is missing",
		Fix: "numbers without a gap; or the missing backends",
		Run: func(p *Pass) {
			for _, u := range p.Config.Upstreams {
				tiers := tiersOf(u)
				if u.Failover == nil || u.Partial || len(tiers) == 0 {
					continue
				}
				for i, n := range tiers {
					if n != i+1 {
						p.Report(Finding{Range: u.BackendsAt, Message: fmt.Sprintf("%q has no tier %d", u.Name, i+1), Witness: fmt.Sprintf("its tiers are %s; without those before it, tier %d serves", joined(tiers), n)})
						break
					}
				}
			}
		},
	},
	{
		ID: "KX224", Severity: config.Advice, Title: "too little capacity without one tier",
		Why: "the requests in flight of a tier move to the next one at once",
		Fix: "more capacity in the next tier; or document that this site does not survive the loss of a tier",
		Run: func(p *Pass) {
			for _, u := range p.Config.Upstreams {
				tiers := tiersOf(u)
				if u.Failover == nil || u.Partial || len(tiers) < 2 {
					continue
				}
				load, known := goodDay(u)
				if !known || load > 100_000 || zonesOf(u, tiers[0]) > 1 { // which do not fail together
					continue
				}
				t := try(u)
				for _, b := range u.Backends {
					if b.Tier == tiers[0] {
						t.out(b.Name)
					}
				}
				if in, _, _ := t.open(load); in < load {
					p.Report(Finding{Range: u.BackendsAt, Message: fmt.Sprintf("%q lacks capacity without tier %d", u.Name, tiers[0]), Witness: fmt.Sprintf("of %d requests in flight, six tenths of what tier %d may have, %d exceed the capacity without it", load, tiers[0], load-in)})
				}
			}
		},
	},
	{
		ID: "KX225", Severity: config.Warning, Title: "a preferred zone that contains every backend",
		Why: "with one zone there is no preference, and no other zone when it lacks capacity",
		Fix: "the real zones of the backends; or no prefer",
		Run: func(p *Pass) {
			for _, u := range p.Config.Upstreams {
				if u.Failover == nil || !u.Failover.PreferZone || u.Partial || len(u.Backends) < 2 {
					continue
				}
				zone := u.Backends[0].Zone
				if zone != "" && zoneSize(u, zone) == len(u.Backends) {
					p.Report(Finding{Range: u.Failover.Range, Message: fmt.Sprintf("all backends of %q are in %q", u.Name, zone), Witness: fmt.Sprintf("with %q gone there is no other zone to spill to", zone)})
				}
			}
		},
	},
	{
		ID: "KX226", Severity: config.Advice, Title: "a backend without a zone among others with one",
		Why: "no proxy prefers it, so it gets requests only when every zone lacks capacity",
		Fix: "its zone",
		Run: func(p *Pass) {
			for _, u := range p.Config.Upstreams {
				if u.Failover == nil || !u.Failover.PreferZone || u.Partial {
					continue
				}
				without := slices.IndexFunc(u.Backends, func(b config.Backend) bool { return b.Zone == "" })
				if without < 0 || zoneSize(u, "") == len(u.Backends) {
					continue
				}
				b := u.Backends[without]
				p.Report(Finding{Range: b.AddressAt, Message: fmt.Sprintf("%q has no zone, and others of %q do", b.Name, u.Name), Witness: "no proxy in any zone prefers it"})
			}
		},
	},
	{
		ID: "KX129", Severity: config.Warning, Title: "a backend at an unspecified address",
		Why: "0.0.0.0 and [::] are addresses to listen on; a connection to them reaches this machine on some systems only",
		Fix: "127.0.0.1 for this machine, or the address of the server",
		Run: func(p *Pass) {
			for _, u := range p.Config.Upstreams {
				for _, b := range u.Backends {
					if ip, ok := b.Address.IP(); ok && ip.IsUnspecified() && !p.broken(b.AddressAt) {
						if _, _, own := itself(p.Config, b.Address); own {
							continue // which KX108 says
						}
						p.Report(Finding{Range: b.AddressAt, Message: fmt.Sprintf("%q has the address %s, which is no server's address", b.Name, b.Address), Witness: fmt.Sprintf("on Linux a connection to it reaches %s", netip.AddrPortFrom(netip.MustParseAddr("127.0.0.1"), uint16(b.Address.Port)))})
					}
				}
			}
		},
	},
}

// misspelt reports whether two different names look like one: but for letter case and signs, or for a letter that is
// missing, too many or another. Names that differ in a digit are two.
func misspelt(a, b string) bool {
	plain := func(s string) string {
		return strings.Map(func(r rune) rune {
			if unicode.IsLetter(r) || unicode.IsDigit(r) {
				return unicode.ToLower(r)
			}
			return -1
		}, s)
	}
	digits := func(s string) string {
		return strings.Map(func(r rune) rune {
			if unicode.IsDigit(r) {
				return r
			}
			return -1
		}, s)
	}
	x, y := plain(a), plain(b)
	if digits(x) != digits(y) || a == b {
		return false
	}
	return x == y || min(len(x), len(y)) >= 5 && levenshtein.Distance(x, y, nil) == 1
}

// zoneSize counts the backends of a zone.
func zoneSize(u *config.Upstream, zone string) (n int) {
	for _, b := range u.Backends {
		if b.Zone == zone {
			n++
		}
	}
	return n
}

// zonesOf counts the zones in which a tier stands.
func zonesOf(u *config.Upstream, tier int) int {
	zones := map[string]bool{}
	for _, b := range u.Backends {
		if b.Tier == tier {
			zones[b.Zone] = true
		}
	}
	return len(zones)
}

// goodDay returns how many requests an upstream has open on a good day, taken to be six tenths of the room of
// its first tier; not known where a backend has no max_in_flight.
func goodDay(u *config.Upstream) (load int, known bool) {
	tiers := tiersOf(u)
	for _, b := range u.Backends {
		if b.MaxInFlight == 0 || b.Weight == 0 {
			return 0, false
		}
		if b.Tier == tiers[0] || u.Failover == nil {
			load += b.MaxInFlight
		}
	}
	return load * 6 / 10, load > 0
}

// tiersOf returns the tiers of an upstream, the first first.
func tiersOf(u *config.Upstream) []int {
	var out []int
	for _, b := range u.Backends {
		if !slices.Contains(out, b.Tier) {
			out = append(out, b.Tier)
		}
	}
	slices.Sort(out)
	return out
}

// joined writes numbers as a list.
func joined(all []int) string {
	return strings.Trim(strings.ReplaceAll(fmt.Sprint(all), " ", ", "), "[]")
}
