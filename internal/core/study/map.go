package study

import (
	"fmt"
	"strings"

	"kestrix/internal/core/config"
	"kestrix/internal/core/units"
	"kestrix/internal/core/upstream"
)

// Map is what a configuration looks like: what leads where. The keys are
// documented and stable.
type Map struct {
	Frontends []MapFrontend `json:"frontends"`
	Upstreams []MapUpstream `json:"upstreams"`
}

// MapFrontend is a frontend with its routes, in the order they are tried.
type MapFrontend struct {
	Name     string     `json:"name"`
	Protocol string     `json:"protocol"`
	Listen   []string   `json:"listen"`
	Routes   []MapRoute `json:"routes"`
}

// MapRoute is a route: what it asks, in words, and where it sends to.
type MapRoute struct {
	Name   string `json:"name"`
	When   string `json:"when"`
	SendTo string `json:"send_to"`
	Answer string `json:"answer"` // what the proxy answers by itself; empty if it sends to an upstream
}

// MapUpstream is an upstream with its backends.
type MapUpstream struct {
	Name      string       `json:"name"`
	Algorithm string       `json:"algorithm"`
	Settings  []string     `json:"settings"` // stickiness, probe, retries, in a few words each
	Backends  []MapBackend `json:"backends"`
}

// MapBackend is a backend and the share of requests that its weight gives it.
type MapBackend struct {
	Name    string  `json:"name"`
	Address string  `json:"address"`
	Weight  int     `json:"weight"`
	Share   float64 `json:"share"`
	Tier    int     `json:"tier"` // 0 without failover
	Zone    string  `json:"zone"`
}

// Draw makes the picture of a configuration.
func Draw(c *config.Config) *Map {
	p := &Map{Frontends: []MapFrontend{}, Upstreams: []MapUpstream{}}
	for _, f := range c.Frontends {
		x := MapFrontend{Name: f.Name, Protocol: f.Protocol, Listen: []string{}, Routes: []MapRoute{}}
		for _, l := range f.Listen {
			x.Listen = append(x.Listen, l.Value.String())
		}
		for _, r := range f.Routes {
			x.Routes = append(x.Routes, MapRoute{r.Name, when(&r.When), r.SendTo.Value, r.Answer()})
		}
		p.Frontends = append(p.Frontends, x)
	}
	for _, u := range c.Upstreams {
		x := MapUpstream{Name: u.Name, Algorithm: u.Algorithm, Settings: settings(u), Backends: []MapBackend{}}
		shares := upstream.FairShares(u)
		for _, b := range u.Backends {
			x.Backends = append(x.Backends, MapBackend{b.Name, b.Address.String(), b.Weight, shares[b.Name], tier(u, &b), b.Zone})
		}
		p.Upstreams = append(p.Upstreams, x)
	}
	return p
}

// when words a condition.
func when(w *config.When) string {
	if w.Empty() {
		return "everything"
	}
	var parts []string
	add := func(name string, values []config.Match) {
		if len(values) > 0 {
			parts = append(parts, name+" "+config.Words(values))
		}
	}
	add("host", w.Host)
	add("path", w.Path)
	add("method", w.Method)
	add("sni", w.SNI)
	var nets []string
	for _, c := range w.Client {
		text := c.Prefix.String()
		if c.Prefix.IsSingleIP() {
			text = c.Prefix.Addr().String()
		}
		if c.Not {
			text = "not(" + text + ")"
		}
		nets = append(nets, text)
	}
	if len(nets) > 0 {
		parts = append(parts, "client "+strings.Join(nets, " or "))
	}
	for _, f := range []struct {
		name  string
		pairs []config.MatchPair
	}{{"header", w.Header}, {"query", w.Query}, {"cookie", w.Cookie}} {
		for _, p := range f.pairs {
			words := config.Words(p.Matches)
			if len(p.Matches) == 1 {
				words = p.Matches[0].String()
			}
			parts = append(parts, fmt.Sprintf("%s %s: %s", f.name, p.Name.Value, words))
		}
	}
	var either []string
	for i := range w.Any {
		either = append(either, "("+when(&w.Any[i])+")")
	}
	if either != nil {
		parts = append(parts, strings.Join(either, " or "))
	}
	return strings.Join(parts, ", ")
}

// tier returns the tier of a backend, 0 where tiers do not count.
func tier(u *config.Upstream, b *config.Backend) int {
	if u.Failover == nil {
		return 0
	}
	return b.Tier
}

func settings(u *config.Upstream) []string {
	out := []string{}
	if s := u.Sticky; s != nil {
		out = append(out, "sticky by "+s.By)
	}
	switch p := u.Probe; {
	case p == nil:
		out = append(out, "no probe")
	case p.Kind != "http":
		out = append(out, fmt.Sprintf("%s probe every %s", p.Kind, units.Duration(p.Every)))
	default:
		out = append(out, fmt.Sprintf("probe %s every %s", p.Path, units.Duration(p.Every)))
	}
	if u.Suspend != nil {
		out = append(out, fmt.Sprintf("suspended after %d failures", u.Suspend.After))
	}
	if u.Retry != nil {
		out = append(out, fmt.Sprintf("up to %d attempts", u.Retry.Attempts))
	}
	if f := u.Failover; f != nil {
		text := fmt.Sprintf("spills below %g%%", 100*f.SpillBelow)
		if f.SpillAt > 0 {
			text = fmt.Sprintf("spills at %g%% of max_in_flight", 100*f.SpillAt)
		}
		out = append(out, text)
	}
	if u.OwnZone != "" {
		out = append(out, "prefers zone "+u.OwnZone)
	}
	if u.Queue != nil {
		out = append(out, fmt.Sprintf("up to %d wait", u.Queue.Limit))
	}
	if u.TLS != nil {
		out = append(out, map[bool]string{true: "TLS, verified", false: "TLS, not verified"}[u.TLS.Verify])
	}
	return out
}
