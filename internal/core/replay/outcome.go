package replay

import (
	"cmp"
	"context"
	"math/bits"

	"kestrix/internal/core/config"
	"kestrix/internal/core/route"
	"kestrix/internal/core/scenario"
	"kestrix/internal/core/trace"
	"kestrix/internal/core/upstream"
)

// result puts together what was counted.
func (e *engine) result() *Result {
	e.endRow()
	l, f := e.sequence, e.sequence.ingest
	r := &e.res
	r.Duration = e.now.Seconds()
	if r.Requests > 0 {
		r.ErrorRate = float64(r.Failed) / float64(r.Requests)
	}
	if r.Duration > 0 {
		r.Throughput = float64(r.Answered) / r.Duration
	}
	r.Routes = map[string]int64{}
	for i, n := range e.routes {
		r.Routes[e.refs[i].name] = n
	}
	r.Upstreams = map[string]*Upstream{}
	r.Assumed = Assumed{Seed: e.o.Seed, Instances: max(e.o.Instances, 1), Stamp: cmp.Or(e.o.Stamp, "start"), Backends: map[string]Assumes{}}
	var all []*histogram
	for _, u := range e.ups {
		r.Upstreams[u.cfg.Name] = e.upstream(u)
		for k := range u.latency {
			all = append(all, &u.latency[k])
		}
		r.Sessions.Moved += u.sessions.Moved
		r.Sessions.Refused += u.sessions.Refused
		r.Sessions.Misses += u.sessions.Misses
	}
	r.Sessions.Seen = f.clients()
	r.Latency = e.latencies.latency(all...)
	r.Elapsed = e.latencies.latency(append(all, &e.unanswered)...)
	r.Faults = []FaultResult{}
	for _, x := range e.faults {
		r.Faults = append(r.Faults, e.faultResult(x))
	}
	if r.Health == nil {
		r.Health = []HealthChange{}
	}
	r.Timeline = e.rows()
	r.Trace = TraceResult{
		Records: l.records, BadLines: f.badLines, Bad: f.bad, Clients: int64(len(f.addresses.hashes)),
		Unknown: map[string]int64{}, Spread: e.o.Spread, Shifted: l.shifted, OutOfOrder: l.late,
	}
	if r.Trace.Bad == nil {
		r.Trace.Bad = []trace.Bad{}
	}
	if l.started && e.scenario.Load == nil {
		first, last := float64(l.first)/1e9, float64(l.last)/1e9
		r.Trace.First, r.Trace.Last = &first, &last
	}
	for _, x := range route.Fields {
		if n := l.known[bits.TrailingZeros8(uint8(x.Bit))]; n > 0 {
			r.Trace.Unknown[x.Name] = n
		}
	}
	r.Overloaded = e.overloaded()
	r.Engine.Events = e.events
	return r
}

func (e *engine) upstream(u *up) *Upstream {
	var whole []*histogram
	for k := range u.latency {
		whole = append(whole, &u.latency[k])
	}
	out := &Upstream{
		Requests: u.requests, Answered: u.answered, Failed: u.failed, ClientLeft: u.left, Retried: u.retried,
		Latency: e.latencies.latency(whole...), Sessions: u.sessions, Backends: map[string]*Backend{},
	}
	core := u.views[0].core
	picks, weights := int64(0), 0
	requests := make([]int64, len(u.servers))
	for i := range e.timeline.rows {
		for k, n := range e.timeline.rows[i].requests[u.first:][:len(requests)] {
			requests[k] += int64(n)
		}
	}
	for k := range u.servers {
		picks += requests[k]
		weights += core.Backend(upstream.BackendID(k)).Weight
	}
	var perWeight []float64
	fair := upstream.FairShares(u.cfg)
	for _, m := range core.Members(e.now) {
		s := &u.servers[m.ID]
		requests := requests[m.ID]
		for _, v := range u.views {
			if p := &v.probes[m.ID]; p.out {
				s.outTime += e.now - p.outSince
				p.outSince = e.now
			}
		}
		b := &Backend{
			State: m.State.String(), Requests: requests, Answered: s.latency.n, Failed: s.failed, ClientLeft: s.left,
			Latency: e.latencies.latency(&s.latency), PeakInFlight: int(s.peak), SecondsOut: s.outTime.Seconds() / float64(len(u.views)),
		}
		if picks > 0 {
			b.Share = float64(requests) / float64(picks)
		}
		weight := core.Backend(m.ID).Weight
		b.FairShare = fair[m.Name]
		if u.cfg.Failover == nil && weights > 0 {
			b.FairShare = float64(weight) / float64(weights) // as set by hand
		}
		if weight > 0 {
			perWeight = append(perWeight, float64(requests)/float64(weight))
		}
		if e.now > 0 {
			b.Busy = s.worked.Seconds() / float64(s.workers) / e.now.Seconds()
		}
		out.Backends[m.Name] = b
		out.Order = append(out.Order, m.Name)
		service := s.service.String()
		if s.service.Kind == "" {
			service = "the trace's durations, else " + s.fallback.String()
		}
		e.res.Assumed.Backends[s.name] = Assumes{service, int(s.workers), int(s.backlog), s.connect.Seconds()}
	}
	out.Imbalance = ImbalanceOf(perWeight)
	return out
}

// rows gives the timeline under the names of upstreams and backends.
func (e *engine) rows() Timeline {
	t := Timeline{Bucket: e.timeline.width.Seconds(), Rows: []TimelineRow{}}
	if n := len(e.timeline.rows); n > 0 {
		copy(e.timeline.rows[n-1].open, e.openNow)
	}
	for i := range e.timeline.rows {
		x := &e.timeline.rows[i]
		row := TimelineRow{
			At: float64(i) * t.Bucket, Answered: x.answered, Failed: x.failed, ClientLeft: x.left,
			Upstreams: map[string]map[string]TimelineBox{},
		}
		if x.latency != nil {
			row.P50, row.P95, row.P99 = x.latency.quantile(0.5), x.latency.quantile(0.95), x.latency.quantile(0.99)
		}
		for _, u := range e.ups {
			boxes := map[string]TimelineBox{}
			for k := range u.servers {
				s := &u.servers[k]
				boxes[u.views[0].core.Backend(s.id).Name] = TimelineBox{int64(x.requests[s.index]), int64(x.open[s.index])}
			}
			row.Upstreams[u.cfg.Name] = boxes
		}
		t.Rows = append(t.Rows, row)
	}
	per := t.PerRow()
	for i := 0; i < len(e.timeline.rows); i += per {
		var all sketch
		for k := i; k < min(i+per, len(e.timeline.rows)); k++ {
			if l := e.timeline.rows[k].latency; l != nil {
				join(&all, l)
			}
		}
		t.Coarse = append(t.Coarse, CoarseRow{float64(i) * t.Bucket, all.quantile(0.5), all.quantile(0.95), all.quantile(0.99)})
	}
	return t
}

// Empty returns the result of no request at all: every key is there.
func Empty(c *config.Config, s *scenario.Scenario, o Options) (*Result, error) {
	e, p, err := prepare(context.Background(), Case{Config: c, Scenario: s}, o)
	if err != nil {
		return nil, err
	}
	_, sequences := newIngest(s, nil, o, p)
	e.attach(sequences[0], p)
	return e.result(), nil
}
