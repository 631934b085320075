package report

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kestrix/internal/core/status"
)

// standing is a proxy with one upstream of backends in these states.
func standing(states ...string) *status.View {
	at := time.Date(2026, 11, 26, 3, 0, 0, 0, time.UTC)
	u := status.Upstream{Name: "booking", Algorithm: "round-robin"}
	for i, state := range states {
		u.Backends = append(u.Backends, status.Backend{
			Name: fmt.Sprintf("gull%d", i), State: state, Since: at.Add(-90 * time.Second), Weight: 1, Tier: 1, FairShare: 1 / float64(len(states)),
			Recent: &status.Recent{Step: 5, Requests: []uint32{10, 20, uint32(i), 1}, Failed: []uint32{0, 0, 1, 0}},
		})
	}
	return &status.View{Operator: true, Status: &status.Status{Version: "1", Began: at.Add(-3 * time.Hour), Counted: at, At: at, Upstreams: []status.Upstream{u}}}
}

func TestHowAProxyStandsIsSaidInOneLine(t *testing.T) {
	for want, states := range map[string][]string{
		"All 2 backends are in rotation":  {"up", "failing"},
		"The one backend is in rotation":  {"up"},
		"No backend answers for booking":  {"down", "parked"},
		"There is no backend":             nil,
		"1 of 2 backends out of rotation": {"up", "suspended"},
		"4 of 5 backends out of rotation: booking.gull0 is down, booking.gull1 is down, booking.gull2 is draining and 1 more": {"down", "down", "draining", "parked", "up"},
	} {
		v := standing(states...)
		if states == nil {
			v.Status.Upstreams = nil
		}
		got, bad := headline(v.Status)
		assert.True(t, strings.HasPrefix(got, want), "%s: %s", want, got)
		assert.Equal(t, !strings.HasSuffix(want, "in rotation"), bad, want)
	}
	v := standing("up", "up")
	v.Status.Upstreams[0].Backends[1].Weight = 0
	got, _ := headline(v.Status)
	assert.Equal(t, "1 of 2 backends out of rotation: booking.gull1 is without weight", got)
}

// TestTiersAndZonesAreShown: in the text and on the page, by load and by health.
func TestTiersAndZonesAreShown(t *testing.T) {
	room, none := 16.0, 0.0
	for want, groups := range map[string][]status.Group{
		"tier 1, own zone: 12 of 16 in flight, gets the next request; tier 1, other zones: 3 of 16 in flight; tier 2, other zones: 0 of 0 in flight": {{Tier: 1, OwnZone: true, Share: 1, Room: &room, InFlight: 12}, {Tier: 1, Room: &room, InFlight: 3}, {Tier: 2, Room: &none}},
		"tier 1: gets 75.0 %; tier 2: gets 25.0 %": {{Tier: 1, Share: 0.75}, {Tier: 2, Share: 0.25}},
	} {
		v := standing("up", "up")
		v.Status.Upstreams[0].Groups = groups
		assert.Contains(t, Style{Width: 1000}.Status(v.Status, "here"), "\n  "+want+"\n")
		page, err := StatusPage{}.Page(v)
		require.NoError(t, err)
		assert.Contains(t, string(page), capital(want))
	}
}

// TestWhatIsAmissWithAProxyItself is told in its text, on its page and in the terminal view.
func TestWhatIsAmissWithAProxyItself(t *testing.T) {
	v := standing("up")
	at := v.Status.At
	day := 24 * time.Hour
	v.Status.Certificates = []status.Certificate{
		{File: "long.pem", From: at.Add(-day), Until: at.Add(90 * day)},
		{File: "soon.pem", From: at.Add(-day), Until: at.Add(3 * day)},
		{File: "ended.pem", From: at.Add(-9 * day), Until: at.Add(-2 * time.Hour), Failing: "no"},
		{File: "later.pem", From: at.Add(time.Hour), Until: at.Add(90 * day)},
		{Name: "short.tern.example", From: at.Add(-day), Until: at.Add(5 * day)},
		{Name: "none.tern.example", Failing: "acme.tern.example: refused"},
		{Name: "old.tern.example", From: at.Add(-60 * day), Until: at.Add(20 * day), Failing: "<b>too many</b>"},
	}
	v.Status.Reloads = status.Reloads{Taken: 1, Refused: 1, At: at.Add(-day), RefusedAt: at.Add(-5 * time.Minute)}
	v.Status.LostLines, v.Status.LostSpans = 1, 2500
	want := []string{
		"certificate soon.pem: ends in 3 days, at 2026-11-29 03:00 UTC",
		"certificate ended.pem: ended 2 h 0 min ago, at 2026-11-26 01:00 UTC; no",
		"certificate later.pem: begins in 1 h 0 min, at 2026-11-26 04:00 UTC",
		"certificate none.tern.example: there is none yet; acme.tern.example: refused",
		"certificate old.tern.example: not renewed, and ends in 20 days, at 2026-12-16 03:00 UTC; <b>too many</b>",
		"configuration: the newest reload, 5 min ago, was refused; the configuration in force is that of 2026-11-25 03:00 UTC",
		"logs: 1 line of the access log or the recorded trace lost since the start",
		"tracing: 2,500 spans lost since the start",
	}
	require.Equal(t, want, warnings(v.Status))
	s := Style{Width: 200}
	text := strings.Join(strings.Fields(s.Status(v.Status, "here")), " ")
	page, err := StatusPage{}.Page(v)
	require.NoError(t, err)
	for _, w := range want {
		assert.Contains(t, text, "warning: "+w)
		assert.Contains(t, string(page), "Warning: "+strings.NewReplacer("<", "&lt;", ">", "&gt;").Replace(w))
	}
	assert.Contains(t, s.Watch(&Watch{View: v, Height: 24}), "warning (1 of 8: kestrix status): "+want[0])

	v.Status.Certificates = make([]status.Certificate, 8)
	assert.Contains(t, warnings(v.Status), "certificates: 3 others likewise; all with kestrix status -format json")
	v.Status.Reloads.At, v.Status.Certificates, v.Status.LostLines, v.Status.LostSpans = at, nil, 0, 0
	assert.Empty(t, warnings(v.Status))
	assert.NotContains(t, s.Status(v.Status, "here"), "warning")
}

// TestTheStatusPageEscapesAndBoundsWhatItShows gives it texts of strangers, and
// more backends than anyone reads.
func TestTheStatusPageEscapesAndBoundsWhatItShows(t *testing.T) {
	states := make([]string, 200)
	for i := range states {
		states[i] = "up"
	}
	states[150] = "down"
	v := standing(states...)
	v.Status.Upstreams[0].Backends[150].Why = `<script>alert("x")</script>`
	v.Status.Upstreams[0].Backends[150].ByHand = `"><img src=x>`
	v.Events = []status.Event{{At: v.Status.At, Object: "<b>", Kind: status.EventOrder, Text: "&<script>"}}
	routes := make([]status.Route, 200)
	for i := range routes {
		routes[i] = status.Route{Name: fmt.Sprintf("route%d", i), Answered: uint64(i)}
	}
	routes[70] = status.Route{Name: "route70", Failed: 3, Errors: map[string]uint64{"<script>": 3}}
	v.Status.Frontends = []status.Frontend{{Name: "web", Answered: 7, Failed: 3, Routes: routes}}
	id := uint64(7)
	v.Failed = []status.Request{{
		At: v.Status.At, Frontend: "web", Method: "GET", Host: "<script>", Path: "/?<img src=x>", Status: 502, Cause: "reset", ID: &id, Upstream: "booking",
		Attempts: []status.RequestAttempt{{Backend: "auk", Address: "192.0.2.1:80", Reason: "round-robin", Cause: "refused", Duration: 0.002, Connect: 0.001}, {Backend: "knot", Status: 503, Cause: "status_5xx", FirstByte: 0.001, Duration: 0.003}},
	}}
	page, err := StatusPage{}.Page(v)
	require.NoError(t, err)
	text := string(page)
	assert.NotContains(t, text, "<script>")
	assert.Contains(t, text, "<li>booking.auk at 192.0.2.1:80, chosen by round-robin: refused after 2.00 ms</li>")
	for _, other := range []func() ([]byte, error){
		func() ([]byte, error) {
			return StatusPage{}.Requests(&status.RequestsView{At: v.Status.At, Routes: []string{"web/a<b"}, Query: status.RequestQuery{Frontend: "web", Route: "a<b", Slow: true}, Kept: status.Requests{Most: 100, SlowFrom: 1, Requests: v.Failed}})
		},
		func() ([]byte, error) {
			return StatusPage{}.Events(&status.EventsView{At: v.Status.At, Since: `"><script>`, Wrong: "<img src=x>", Kind: "down", Severity: "error", Events: v.Events})
		},
	} {
		aside, err := other()
		require.NoError(t, err)
		assert.NotContains(t, string(aside), "<script>")
		assert.NotContains(t, string(aside), "<img")
		assert.Equal(t, 2, strings.Count(string(aside), " selected>"), string(aside))
	}
	odd := v.Failed[0]
	odd.Path = "/\x1b[2J" // what a terminal would obey
	assert.NotContains(t, Style{Width: 110}.Request(&odd), "\x1b")
	assert.Equal(t, 10, strings.Count(text, "<tr><td>web</td>"))
	assert.Contains(t, text, `route70</a></td><td class="n">0</td><td class="n bad">3</td>`)
	assert.Contains(t, text, "190 more routes with fewer failures, in the JSON below.")
	assert.NotContains(t, text, "<img")
	assert.Equal(t, 10, strings.Count(text, "<article"))
	assert.Contains(t, text, "gull150", "what is amiss is among those that are shown")
	assert.Contains(t, text, "the JSON and CSV below list 190 more")
	part, err := StatusPage{}.Part(v)
	require.NoError(t, err)
	assert.Contains(t, text, string(part), "what is sent live is what was loaded")
	table := Style{Width: 110}.Status(v.Status, "here")
	assert.Contains(t, table, "the ten that are most amiss; the other 190 with -all")
	assert.Contains(t, table, "the ten with most failures; the other 190 with -all")
	assert.Contains(t, Style{Width: 110, All: true}.Status(v.Status, "here"), "gull199")
}

// TestTheViewFitsItsTerminal draws it in terminals of all sizes, with each
// backend chosen.
func TestTheViewFitsItsTerminal(t *testing.T) {
	v := standing("up", "failing", "down", "recovering", "suspended", "draining", "parked", "up", "up", "up", "up", "up")
	v.Events = []status.Event{{At: v.Status.At, Object: "booking.gull2", Kind: "down", Text: strings.Repeat("because ", 40)}}
	for _, unicode := range []bool{true, false} {
		for height := 8; height < 60; height += 3 {
			for width := 40; width <= 200; width += 20 {
				for i := range 12 {
					w := &Watch{View: v, Where: "here", Chosen: fmt.Sprintf("booking.gull%d", i), Height: height, Said: "nothing was done"}
					text := Style{Width: width, Unicode: unicode}.Watch(w)
					lines := strings.Split(text, "\n")
					assert.LessOrEqual(t, len(lines), height, "%dx%d", width, height)
					cursor := map[bool]string{true: "▸", false: ">"}[unicode]
					if height >= 20 {
						assert.Contains(t, text, fmt.Sprintf("%s gull%d ", cursor, i), "%dx%d\n%s", width, height, text)
						assert.Contains(t, lines[len(lines)-1], "d drain")
					}
					for _, l := range lines {
						if width >= 60 {
							assert.LessOrEqual(t, visible(l), width, "%dx%d: %s", width, height, l)
						}
					}
				}
			}
		}
	}
}

// TestWhyABackendStandsAsItDoes: what an operator set, for how long and why; silence; what it
// reports of itself; and the state that draining hides.
func TestWhyABackendStandsAsItDoes(t *testing.T) {
	at := time.Date(2026, 11, 29, 3, 0, 0, 0, time.UTC)
	in := func(d time.Duration) *time.Time { x := at.Add(d); return &x }
	share := 0.4
	for want, b := range map[string]status.Backend{
		"by hand: draining, for another 10m, because a new disk; weight 3 where the file says 1": {State: "draining", ByHand: "x", Orders: []status.Held{
			{Do: "drain", Until: in(10 * time.Minute), Because: "a new disk"}, {Do: "weight", Weight: 3, Configured: 1},
		}},
		"by hand: parked": {State: "parked", ByHand: "parked"},
		"no first byte to any client for 12.0 s; 4 clients left before one": {State: "up", SilentSince: in(-12 * time.Second), ClientLeft: 4},
		"": {State: "up", SilentSince: in(-time.Millisecond)},
		"it reports that it can take 40.0 %: of its weight, 5, 2.00 is in force": {State: "up", ReportedShare: &share, Weight: 5},
		"2 probes failed": {State: "down", Why: "2 probes failed"},
	} {
		assert.Equal(t, want, reasonOf(&status.Status{At: at}, &b))
	}
	text := plainStyle.Status(&status.Status{
		At: at, Began: at, Counted: at, Frontends: []status.Frontend{{Name: "idle"}, {Name: "web", Answered: 1882, Failed: 3, ClientLeft: 1, Routes: []status.Route{
			{Failed: 2, Errors: map[string]uint64{"no_route": 2}}, {Name: "rest", Answered: 1882, Failed: 1, ClientLeft: 1, Redirected: 7, Errors: map[string]uint64{"rate_limited": 1}, Elapsed: status.Elapsed{P50: 0.02, P99: 1.5}},
		}}},
		Refused: []status.Refused{{Frontend: "web", Cause: "no_route", Requests: 2}, {Frontend: "web", Cause: "rate_limited", Requests: 1}}, Connections: []status.RefusedConnections{{Frontend: "web", Cause: "tls_failed", Connections: 7}},
		Upstreams: []status.Upstream{{Name: "app", Backends: []status.Backend{{Name: "auk", State: "draining", Beneath: "down", Since: at}}}},
	}, "here")
	assert.Contains(t, text, "\n\nfrontend web · 1,882 answered · 3 failed · 1 whose client left · without a backend: 2 no_route, 1 rate_limited · connections refused: 7 tls_failed\n")
	assert.Contains(t, text, "  route       answered  failed  client left  redirected  elapsed p50  elapsed p99  errors\n  (no route)         0       2            0           0            -            -  2 no_route\n  rest           1,882       1            1           7      20.0 ms       1.50 s  1 rate_limited\n\napp")
	assert.Contains(t, text, "auk      draining, down")
}

// TestZonesAndTiersAreShown in the view and the status, wherever a backend has them.
func TestZonesAndTiersAreShown(t *testing.T) {
	v := standing("up", "up")
	wide := plainStyle
	wide.Width = 200
	w := &Watch{View: v, Where: "here", Height: 40}
	assert.NotContains(t, wide.Watch(w)+wide.Status(v.Status, "here"), "zone")
	v.Status.Upstreams[0].Backends[1].Zone, v.Status.Upstreams[0].Backends[1].Tier = "north", 2
	for _, text := range []string{wide.Watch(w), wide.Status(v.Status, "here")} {
		assert.Regexp(t, `weight +zone +tier`, text)
		assert.Regexp(t, `gull1 .* north +2`, text)
	}
}
