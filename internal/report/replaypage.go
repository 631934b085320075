package report

import (
	"cmp"
	"fmt"
	"html/template"
	"maps"
	"slices"
	"strings"

	"kestrix/internal/core/config"
	"kestrix/internal/core/result"
)

// replayPage is what the page of a replay shows, in words.
type replayPage struct {
	pageTop
	Advice                            []string
	Sessions                          []pageFigure
	Expectations                      []pageExpectation
	Requests, Latencies               template.HTML
	RequestsCaption, LatenciesCaption string
	Idle                              string // upstreams that are not shown
	Upstreams                         []pageUpstream
	Causes                            []pageCause
	Felt                              []pageFelt
	Aftermaths                        []string
	Paths                             [][]string
	Story                             []pageEvent
	StoryMore                         string
	Model                             []pageModel
	Why                               []recommendation
	HowFound                          string
	SeedsTitle, SeedsNote             string
	Seeds                             [][]string
	Method                            string
	Settings                          []pageSettings
}

type pageExpectation struct {
	Met             bool
	Name, That, Was string
}

type pageUpstream struct {
	Name, Says, More, Caption string
	Rows                      []pageBackend
	Chart                     template.HTML
}

type pageBackend struct {
	Name, State, Requests, Share, Fair, Failed, P50, P99, Elapsed, Peak, Out string
	ShareWide, FairWide                                                      string // per cent of the bar
	Bad                                                                      bool
}

type pageCause struct{ Name, Requests, Wide string }

type pageFelt struct {
	Fault, When, Requests, Failed, Share, P50, P95, P99, Elapsed50, Elapsed95, Elapsed99 string
	Bad                                                                                  bool
}

type pageEvent struct{ At, Who, What, Text string }

type pageModel struct{ Backends, Service, Workers, Backlog, Connect string }

type pageSettings struct {
	Name string
	Keys []config.Setting
}

// mostOnPage is how many events the page tells of.
const mostOnPage = 200

// ReplayPage writes a replay as a page of HTML that needs nothing besides itself.
// The error is that of writing it, which a buffer does not have.
func ReplayPage(p Replay, version string) ([]byte, error) {
	r := p.Result
	names := strings.Join(p.Names, " · ")
	v := replayPage{pageTop: top(names+" · kestrix replay", version), Advice: p.advise()}
	v.Notes = Style{Width: 1 << 20}.noteLines(r)
	parts, bad := p.verdict()
	v.Headline, v.Bad = strings.Join(parts, " · "), bad
	v.Of = fmt.Sprintf("%s · seed %d · %s in %s from %s", names, r.Model.Seed, plural(r.Requests, "request"), span(r.Duration), plural(r.Trace.Clients, "client"))
	if r.Trace.First != nil {
		v.Of += fmt.Sprintf(", beginning at %s UTC", wallTime(*r.Trace.First))
	}
	v.Figures = p.figures()
	v.Sessions = []pageFigure{
		{Name: "seen", Value: count(r.Sessions.Seen)}, {Name: "moved", Value: count(r.Sessions.Moved)},
		{Name: "misses", Value: count(r.Sessions.Misses)}, {Name: "refused", Value: count(r.Sessions.Refused)},
	}
	for _, x := range r.Expectations {
		v.Expectations = append(v.Expectations, pageExpectation{x.Met, x.Name, x.That, values(&x)})
	}
	v.Requests, v.RequestsCaption = p.requestsChart()
	v.Latencies, v.LatenciesCaption = p.latencyChart()
	shown, idle := p.shownUpstreams()
	for _, u := range shown {
		v.Upstreams = append(v.Upstreams, p.upstreamCard(u))
	}
	v.Idle = idle
	for _, e := range r.Errors.List() {
		if e.Requests > 0 {
			v.Causes = append(v.Causes, pageCause{e.Cause.String(), count(e.Requests), wide(float64(e.Requests) / float64(r.Failed))})
		}
	}
	v.Felt, v.Aftermaths, v.Paths = p.feltRows(), aftermaths(r.Faults), pathRows(r.Paths)
	all := summed(p.events())
	if len(all) > mostOnPage {
		v.StoryMore = fmt.Sprintf("and %s more; -format json lists them", count(int64(len(all)-mostOnPage)))
		all = all[:mostOnPage]
	}
	for _, e := range all {
		v.Story = append(v.Story, pageEvent{moment(e.at), e.who, e.what, e.text})
	}
	if r.Seeds != nil {
		title, arrivals, note := p.acrossSeeds()
		v.SeedsTitle, v.SeedsNote, v.Seeds = "A"+title[1:]+", "+arrivals, note, seedsOf(r)
	}
	if r.Diagnosis != nil {
		v.Why, v.HowFound = recommendations(r), howFound(r.Diagnosis)
	}
	v.Model, v.Assumed = p.model(), assumptions(r.Assumed)
	v.Method = p.method()
	v.Settings = settingsOf(p.Config)
	return render("replay", &v)
}

// mostUpstreams is how many upstreams have a card of their own.
const mostUpstreams = 20

// shownUpstreams returns the upstreams to which requests came, of many those in which
// most failed, and a sentence about the others.
func (p Replay) shownUpstreams() ([]*config.Upstream, string) {
	var shown, idle []*config.Upstream
	for _, u := range p.Config.Upstreams {
		if x := p.Result.Upstreams[u.Name]; x != nil && x.Requests > 0 {
			shown = append(shown, u)
		} else {
			idle = append(idle, u)
		}
	}
	var says []string
	if n := len(shown); n > mostUpstreams {
		slices.SortStableFunc(shown, func(a, b *config.Upstream) int {
			x, y := p.Result.Upstreams[a.Name], p.Result.Upstreams[b.Name]
			return cmp.Or(cmp.Compare(y.Failed, x.Failed), cmp.Compare(y.Requests, x.Requests))
		})
		shown = shown[:mostUpstreams]
		says = append(says, fmt.Sprintf("The %d upstreams with the most failed requests; -format json lists %d more.", mostUpstreams, n-mostUpstreams))
	}
	if n := len(idle); n > 0 {
		var names []string
		for _, u := range idle[:min(n, 10)] {
			names = append(names, u.Name)
		}
		if n > 10 {
			names = append(names, fmt.Sprintf("%d more", n-10))
		}
		says = append(says, "No request came to "+and(names)+".")
	}
	return shown, strings.Join(says, " ")
}

// wide writes a share as per cent for a style.
func wide(share float64) string { return px(min(max(share, 0), 1) * 100) }

func (p Replay) figures() []pageFigure {
	r := p.Result
	l := r.Latency
	out := []pageFigure{
		{Name: "answered", Value: count(r.Answered), More: finePercent(share(r.Answered, r.Requests))},
		{Name: "failed", Value: count(r.Failed), More: finePercent(r.ErrorRate), Bad: r.Failed > 0},
	}
	if r.Unfinished > 0 {
		out = append(out, pageFigure{Name: "unfinished", Value: count(r.Unfinished)})
	}
	out = append(out, pageFigure{Name: "retried", Value: count(r.Retried)})
	if t := timesOf(r); r.Answered > 0 {
		out = append(out, pageFigure{Name: "p50", Value: t.of(l.P50)}, pageFigure{Name: "p95", Value: t.of(l.P95)},
			pageFigure{Name: "p99", Value: t.of(l.P99)}, pageFigure{Name: "max", Value: t.of(l.Max)})
		if r.Failed+r.ClientLeft > 0 {
			out = append(out, pageFigure{Name: "elapsed p99", Value: t.of(r.Elapsed.P99)})
		}
	}
	return out
}

func share(of, all int64) float64 {
	if all == 0 {
		return 0
	}
	return float64(of) / float64(all)
}

// upstreamCard tells of an upstream: who carried what, and when.
func (p Replay) upstreamCard(cfg *config.Upstream) pageUpstream {
	u := p.Result.Upstreams[cfg.Name]
	out := pageUpstream{Name: cfg.Name, Says: "no requests"}
	if u == nil || u.Requests == 0 {
		return out
	}
	says := []string{cfg.Algorithm}
	says = append(says, stickiness(cfg, u, p.Result.Sessions.Known)...)
	says = append(says, fmt.Sprintf("%s, %s failed", plural(u.Requests, "request"), count(u.Failed)))
	out.Says = strings.Join(says, " · ")
	shown, more := worstBackends(u)
	if more > 0 {
		out.More = fmt.Sprintf("The ten worst; -format json lists %d more.", more)
	}
	top, t := 0.0, timesOf(p.Result)
	for _, name := range shown {
		top = max(top, u.Backends[name].Share, u.Backends[name].FairShare)
	}
	room := max(top, 1e-9) * 1.08
	for _, name := range shown {
		b := u.Backends[name]
		row := pageBackend{
			Name: name, State: b.State, Requests: count(b.Requests), Share: percent(b.Share), Fair: percent(b.FairShare), Failed: count(b.Failed),
			P50: "-", P99: "-", Elapsed: t.orDash(b.Elapsed.P99), Peak: count(int64(b.PeakInFlight)), Out: "-", Bad: b.Failed > 0,
			ShareWide: wide(b.Share / room), FairWide: wide(b.FairShare / room),
		}
		if b.Answered > 0 {
			row.P50, row.P99 = t.of(b.Latency.P50), t.of(b.Latency.P99)
		}
		if b.SecondsOut > 0 {
			row.Out = span(b.SecondsOut)
		}
		out.Rows = append(out.Rows, row)
	}
	if u.Failed > 0 || len(p.faultBands(cfg.Name)) > 0 {
		out.Chart, out.Caption = p.backendsChart(cfg, shown)
	}
	return out
}

// worstBackends returns the backends in order, of many the ten worst and how many more
// there are.
func worstBackends(u *result.Upstream) ([]string, int) {
	names := slices.Clone(u.Order)
	if len(names) <= 30 {
		return names, 0
	}
	slices.SortStableFunc(names, func(a, c string) int {
		x, y := u.Backends[a], u.Backends[c]
		return cmp.Or(cmp.Compare(y.Failed, x.Failed), cmp.Compare(y.SecondsOut, x.SecondsOut), cmp.Compare(y.Latency.P99, x.Latency.P99))
	})
	return names[:10], len(names) - 10
}

func (p Replay) feltRows() []pageFelt {
	var out []pageFelt
	t := timesOf(p.Result)
	for _, f := range p.Result.Faults {
		if !f.Began {
			continue
		}
		for i, x := range []struct {
			word string
			p    result.Phase
		}{{"before", f.Before}, {"during", f.During}, {"after", f.After}} {
			if x.p.Requests == 0 && i != 1 {
				continue
			}
			row := pageFelt{
				Fault: f.Name, When: x.word, Requests: count(x.p.Requests), Failed: count(x.p.Failed), Share: finePercent(x.p.ErrorRate),
				Bad: x.p.Failed > 0,
			}
			l, all := x.p.Latency, x.p.Elapsed
			row.P50, row.P95, row.P99 = t.orDash(l.P50), t.orDash(l.P95), t.orDash(l.P99)
			row.Elapsed50, row.Elapsed95, row.Elapsed99 = t.orDash(all.P50), t.orDash(all.P95), t.orDash(all.P99)
			out = append(out, row)
		}
	}
	return out
}

// model returns how backends were taken to behave, those alike together.
func (p Replay) model() []pageModel {
	alike := map[result.BackendModel][]string{}
	for _, u := range p.Config.Upstreams {
		for _, b := range u.Backends {
			name := u.Name + "." + b.Name
			if a, ok := p.Result.Model.Backends[name]; ok {
				alike[a] = append(alike[a], name)
			}
		}
	}
	var out []pageModel
	for _, a := range slices.SortedFunc(maps.Keys(alike), func(x, y result.BackendModel) int { return cmp.Compare(alike[x][0], alike[y][0]) }) {
		names := alike[a]
		if n := len(names); n > 12 {
			names = append(names[:11:11], fmt.Sprintf("%d more", n-11))
		}
		service, workers := a.Service, count(int64(a.Workers))
		if a.ColdFor > 0 {
			service += fmt.Sprintf("; %g times as long after a restart, falling to once within %s", a.ColdFactor, span(a.ColdFor))
		}
		if a.Cores > 0 {
			workers += fmt.Sprintf(" on %g cores", a.Cores)
		}
		out = append(out, pageModel{strings.Join(names, ", "), service, workers, count(int64(a.Backlog)), span(a.Connect)})
	}
	for _, name := range slices.Sorted(maps.Keys(p.Result.Model.Dependencies)) {
		out = append(out, pageModel{Backends: "dependency " + name, Service: p.Result.Model.Dependencies[name]})
	}
	return out
}

// method returns how stamps and proxies were taken.
func (p Replay) method() string {
	r := p.Result
	out := "Times are virtual and begin with the first request."
	if r.Model.Stamp == "end" {
		out += " Time stamps are of the end of requests; durations are subtracted."
	}
	if n := r.Model.Instances; n > 1 {
		out += fmt.Sprintf(" %d proxies share the traffic, each with its own state.", n)
	}
	return out
}

// mostSettings is how many blocks of a configuration are listed.
const mostSettings = 300

// settingsOf lists what everything is set to.
func settingsOf(c *config.Config) []pageSettings {
	var out []pageSettings
	add := func(name string, all []config.Settings) {
		for _, s := range all {
			if len(s.Keys) > 0 && len(out) < mostSettings {
				out = append(out, pageSettings{strings.TrimSpace(name + " " + s.Block), s.Keys})
			}
		}
	}
	add("at the top", c.Settings)
	for _, f := range c.Frontends {
		add("frontend "+f.Name, f.Settings)
	}
	for _, u := range c.Upstreams {
		add("upstream "+u.Name, u.Settings)
		s := pageSettings{Name: "upstream " + u.Name + " backends"}
		for i, b := range u.Backends {
			if i == 30 {
				s.Keys = append(s.Keys, config.Setting{Key: "and", Value: fmt.Sprintf("%d more", len(u.Backends)-i)})
				break
			}
			s.Keys = append(s.Keys, config.Setting{Key: b.Name, Value: fmt.Sprintf("%s, weight %d", b.Address, b.Weight)})
		}
		if len(out) < mostSettings {
			out = append(out, s)
		}
	}
	return out
}
