package rehearse

import (
	"cmp"
	"slices"
	"strings"
	"time"

	"kestrix/internal/core/cause"
	"kestrix/internal/core/config"
	"kestrix/internal/core/health"
	"kestrix/internal/core/result"
	"kestrix/internal/core/status"
	"kestrix/internal/core/trace"
	"kestrix/internal/core/upstream"
	"kestrix/internal/live/accesslog"
	"kestrix/internal/live/drive"
)

// result puts together what the driver saw and what the proxy tells.
func (s *stage) result(samples []drive.Sample, partial bool) {
	now := s.proxy.Status()
	s.mu.Lock()
	access, events := slices.Clone(s.access), slices.Clone(s.events)
	s.mu.Unlock()
	r := drive.Result(samples, partial)
	s.out.Result = r
	answers := r.Upstreams
	r.Upstreams = map[string]*result.Upstream{}
	if s.o.Bucket > 0 {
		r.Timeline = drive.Timeline(samples, s.o.Bucket)
	}
	for i, u := range s.config.Upstreams {
		r.Upstreams[u.Name] = s.upstream(u, answers[u.Name], &now.Upstreams[i], access)
	}
	s.boxes(r, access)
	clients := map[uint32]bool{}
	for i := range samples {
		clients[samples[i].Client] = true
	}
	r.Sessions.Seen, r.Sessions.Misses = int64(len(clients)), 0
	r.Sessions.Refused = r.Errors[cause.SessionRefused]
	s.holders(r, access)
	for _, u := range r.Upstreams {
		r.Sessions.Misses += u.Sessions.Misses
	}
	moved := map[string]bool{}
	for i := range access {
		if a := &access[i]; a.Moved {
			moved[who(a)] = true
		}
	}
	r.Sessions.Moved = int64(len(moved))
	countAccess(r, access)
	s.health(r, events)
	for _, f := range s.o.Scenario.Faults {
		strikes := func(name string) bool { return struck(f, name) || s.o.Scenario.Calls(name, f.Dependencies) }
		x := s.fault(r, f.Name, f.Kind, f.At, f.Until, strikes, samples, access)
		x.Dependencies = append([]string{}, f.Dependencies...)
		r.Faults = append(r.Faults, x)
	}
	r.Pages = s.pageResults()
	r.Model.Seed, r.Model.Again, r.Model.Dependencies = s.o.Seed, s.o.Scenario.Again, s.o.Scenario.DependencyTexts()
	if p := s.o.Scenario.Patience; p != nil {
		r.Model.Patience = p.String()
	}
	if r.Model.Again > 0 {
		r.Model.After = s.o.Scenario.After.String()
	}
	for _, x := range s.standIn {
		words := x.Service.String()
		if !x.Draws {
			words = "as the trace says, else " + words
		}
		for _, p := range x.OfPaths {
			words += "; for " + p.List.String() + " " + p.Service.String()
		}
		r.Model.Backends[x.Name] = result.BackendModel{Service: words, Workers: x.Workers, Backlog: x.Backlog, Cores: s.o.Scenario.Behaviour(x.Name).Cores, ColdFor: x.Cold.For.Seconds(), ColdFactor: x.Cold.Factor}
	}
}

// pageResults returns what came of the pages of the load.
func (s *stage) pageResults() []result.Page {
	out := []result.Page{}
	for _, p := range s.o.Scenario.Pages {
		x := result.Page{Path: p.Path}
		var took []time.Duration
		for _, sample := range s.pages {
			switch {
			case sample.N != p.N:
				continue
			case sample.Failed:
				x.Failed++
			default:
				x.Loaded++
			}
			took = append(took, sample.Took)
		}
		x.Elapsed = drive.Latency(took)
		out = append(out, x)
	}
	return out
}

// boxes fills the timeline with the attempts: the proxy knows of those that no answer
// names.
func (s *stage) boxes(r *result.Replay, access []accesslog.Line) {
	for i := range r.Timeline.Rows {
		r.Timeline.Rows[i].Upstreams = map[string]map[string]result.TimelineBox{}
	}
	for i := range access {
		a := &access[i]
		from := a.Time.Sub(s.began)
		for _, t := range a.Tried() {
			drive.Box(&r.Timeline, a.Upstream, t.Backend, from, from)
		}
		if a.Backend != "" {
			drive.Box(&r.Timeline, a.Upstream, a.Backend, from, from+a.Duration)
		}
	}
}

// countAccess counts what the access log alone knows of requests.
func countAccess(r *result.Replay, access []accesslog.Line) {
	for i := range access {
		a := &access[i]
		if a.Route != "" {
			r.Routes[a.Frontend+"/"+a.Route]++
		}
		if len(a.Tried()) > 0 { // also if nobody was left to be asked again
			r.Retried++
		}
		if a.Kind == trace.TCP && a.Backend == "" && a.Cause.Final() && r.Errors[cause.Reset] > 0 {
			r.Errors[cause.Reset]-- // all that its client sees is a connection that ends
			r.Errors[a.Cause]++
		}
		if a.Upstream == "" && a.Status < 400 {
			r.Replied++
		}
	}
}

// holders counts the requests that reached another backend than their client's last, as the
// replay does: by each attempt that reached one, in the order in which they ended.
func (s *stage) holders(r *result.Replay, access []accesslog.Line) {
	type seat struct{ upstream, client string }
	for _, u := range r.Upstreams {
		u.Sessions.Misses = 0
	}
	held := map[seat]string{}
	ended := slices.Clone(access)
	slices.SortStableFunc(ended, func(a, b accesslog.Line) int { return a.Time.Add(a.Duration).Compare(b.Time.Add(b.Duration)) })
	for i := range ended {
		a := &ended[i]
		u := r.Upstreams[a.Upstream]
		if u == nil {
			continue
		}
		k := seat{a.Upstream, who(a)}
		reached := func(backend string, why cause.Cause) {
			if backend == "" || why == cause.Refused || why == cause.Unreachable || why == cause.ConnectTimeout || why == cause.TLSFailed {
				return
			}
			before, known := held[k]
			if !known && a.Kind == trace.TCP {
				u.Sessions.Seen++ // whose answers name no backend
			}
			if known && before != backend {
				u.Sessions.Misses++
			}
			held[k] = backend
		}
		for _, t := range a.Tried() {
			reached(t.Backend, t.Cause)
		}
		reached(a.Backend, a.Cause)
	}
}

// who is what sessions are counted by.
func who(a *accesslog.Line) string {
	if a.Session != "" {
		return "session " + a.Session
	}
	return a.Client + " " + a.UserAgent
}

// upstream puts together what is known of one.
func (s *stage) upstream(cfg *config.Upstream, answers *result.Upstream, st *status.Upstream, access []accesslog.Line) *result.Upstream {
	u := &result.Upstream{Backends: map[string]*result.Backend{}}
	if answers != nil {
		u.Latency, u.Elapsed, u.Sessions = answers.Latency, answers.Elapsed, answers.Sessions
	}
	spans, moved, made := map[string][][2]time.Time{}, map[string]bool{}, map[string]int64{}
	for i := range access {
		a := &access[i]
		if a.Upstream != cfg.Name {
			continue
		}
		u.Requests++
		switch {
		case a.Cause == cause.ClientLeft:
			u.ClientLeft++
		case a.Status >= 500 || a.Backend == "" || a.Status == 0 && a.Kind != trace.TCP:
			u.Failed++
		default:
			u.Answered++
		}
		if len(a.Tried()) > 0 {
			u.Retried++
		}
		if a.Reason == upstream.Spilled.String() {
			u.Spilled++ // the last attempt alone is known
		}
		if a.Moved {
			moved[who(a)] = true
		}
		if a.Connect > 0 {
			made[a.Backend]++
		}
		if a.Backend != "" {
			spans[a.Backend] = append(spans[a.Backend], [2]time.Time{a.Time, a.Time.Add(a.Duration)})
		}
	}
	u.Sessions.Moved = int64(len(moved))
	total := uint64(0)
	weights := map[string]float64{}
	for _, b := range st.Backends {
		total += b.Requests
		weights[b.Name] = float64(b.Weight)
	}
	fair := upstream.FairShares(cfg)
	for _, b := range st.Backends {
		x := &result.Backend{State: b.State, Requests: int64(b.Requests), Failed: int64(b.Failed), FairShare: fair[b.Name], ClientLeft: int64(b.ClientLeft), Connections: made[b.Name], PeakInFlight: peak(spans[b.Name])}
		x.Answered = x.Requests - x.Failed - x.ClientLeft
		if total > 0 {
			x.Share = float64(b.Requests) / float64(total)
		}
		if answers != nil && answers.Backends[b.Name] != nil {
			x.Latency, x.Elapsed = answers.Backends[b.Name].Latency, answers.Backends[b.Name].Elapsed
		}
		u.Backends[b.Name] = x
		u.Order = append(u.Order, b.Name)
	}
	drive.Unevenness(u, weights)
	return u
}

// peak is how many of these spans lie above one moment, at most.
func peak(spans [][2]time.Time) int {
	type edge struct {
		at   time.Time
		step int
	}
	var edges []edge
	for _, s := range spans {
		edges = append(edges, edge{s[0], 1}, edge{s[1], -1})
	}
	slices.SortFunc(edges, func(a, b edge) int { return cmp.Or(a.at.Compare(b.at), cmp.Compare(a.step, b.step)) })
	open, most := 0, 0
	for _, e := range edges {
		open += e.step
		most = max(most, open)
	}
	return most
}

// health lists the changes of state, and for how long each backend was out.
func (s *stage) health(r *result.Replay, events []status.Event) {
	was, out := map[string]string{}, map[string]float64{}
	end := r.Duration
	for _, e := range events {
		up, backend, ok := strings.Cut(e.Object, ".")
		u := r.Upstreams[up]
		if _, state := health.Named(string(e.Kind)); !ok || !state || u == nil || u.Backends[backend] == nil {
			continue
		}
		from := cmp.Or(was[e.Object], "up")
		if from == "up" && e.Kind == "up" {
			continue // its first probe, which a replay does not have
		}
		at := e.At.Sub(s.began).Seconds()
		was[e.Object] = string(e.Kind)
		r.Health = append(r.Health, result.HealthChange{At: at, Upstream: up, Backend: backend, From: from, To: string(e.Kind), Why: e.Text})
		switch {
		case health.InRotation(from) && !health.InRotation(string(e.Kind)):
			out[e.Object] = at
		case !health.InRotation(from) && health.InRotation(string(e.Kind)):
			u.Backends[backend].SecondsOut += at - out[e.Object]
		}
	}
	for who, state := range was {
		if up, backend, _ := strings.Cut(who, "."); !health.InRotation(state) {
			r.Upstreams[up].Backends[backend].SecondsOut += max(end-out[who], 0)
		}
	}
}

// fault tells what came of one: when its backends left rotation and were back, and
// what became of requests before, while and after it lasted.
func (s *stage) fault(r *result.Replay, name, kind string, from, until time.Duration, strikes func(string) bool, samples []drive.Sample, access []accesslog.Line) result.Fault {
	x := result.Fault{Name: name, Kind: kind, At: from.Seconds(), Backends: []string{}, Began: r.Duration >= from.Seconds()}
	over := until
	if until >= 0 {
		u := until.Seconds()
		x.Until = &u
	} else {
		over = 1 << 62
	}
	left, back, missed, absent := 0.0, 0.0, false, false
	for _, u := range s.config.Upstreams {
		for i := range u.Backends {
			full := u.Name + "." + u.Backends[i].Name
			if !strikes(full) {
				continue
			}
			x.Backends = append(x.Backends, full)
			l, b := s.outAndBack(r, u.Name, u.Backends[i].Name, from.Seconds(), over.Seconds())
			missed, absent = missed || l < 0, absent || b < 0
			left, back = max(left, l), max(back, b)
		}
	}
	if x.Began && !missed {
		d := max(left-x.At, 0)
		x.DetectedAfter = &d
	}
	if x.Until != nil && r.Duration >= *x.Until && !missed && !absent {
		d := max(back-*x.Until, 0)
		x.RecoveredAfter = &d
	}
	s.exposed(&x, from, over, strikes, access)
	var before, during, after []drive.Sample
	for _, p := range samples {
		switch {
		case p.Due < from:
			before = append(before, p)
		case p.Due < over:
			during = append(during, p)
		default:
			after = append(after, p)
		}
	}
	x.Before, x.During, x.After = phase(before), phase(during), phase(after)
	return x
}

// exposed counts the requests with an attempt that ran into a fault, and those of them
// that failed.
func (s *stage) exposed(x *result.Fault, from, over time.Duration, strikes func(string) bool, access []accesslog.Line) {
	for i := range access {
		a := &access[i]
		if at := a.Time.Add(a.Duration).Sub(s.began); at < from || a.Time.Sub(s.began) >= over {
			continue
		}
		lost := a.Cause != cause.ClientLeft && (a.Status >= 500 || a.Status == 0 && a.Kind != trace.TCP) && strikes(a.Upstream+"."+a.Backend)
		if lost {
			x.ExposedFailed++
		}
		if lost || slices.ContainsFunc(a.Tried(), func(t accesslog.Try) bool { return strikes(a.Upstream + "." + t.Backend) }) {
			x.Exposed++
		}
	}
}

// outAndBack returns when a backend first left rotation in a time, and when it was
// back for the first time after that time was over; -1 for never.
func (s *stage) outAndBack(r *result.Replay, up, backend string, from, over float64) (left, back float64) {
	left, back = -1, -1
	in := true
	for _, h := range r.Health {
		if h.Upstream != up || h.Backend != backend {
			continue
		}
		now := health.InRotation(h.To)
		if h.At >= from && h.At <= over && in && !now && left < 0 {
			left = h.At
		}
		if h.At >= over && !in && now && left >= 0 && back < 0 {
			back = h.At
		}
		in = now
	}
	if left >= 0 && back < 0 && in {
		back = over // it was back before the fault's end
	}
	return left, back
}

func phase(samples []drive.Sample) result.Phase {
	var p result.Phase
	var took drive.Times
	for i := range samples {
		p.Requests++
		took.Add(&samples[i])
		switch x := &samples[i]; {
		case x.Cut:
		case x.Left:
			p.ClientLeft++
		case x.Fail != cause.None:
			p.Failed++
		default:
			p.Answered++
		}
	}
	if p.Requests > 0 {
		p.ErrorRate = float64(p.Failed) / float64(p.Requests)
	}
	p.Latency, p.Elapsed = took.Latencies()
	return p
}
