package sim

import (
	"cmp"

	"kestrix/internal/core/histogram"
	"kestrix/internal/core/result"
	"kestrix/internal/core/upstream"
)

// Result returns the result so far. It must be called once, at the end.
func (e *Engine) Result() *result.Replay {
	e.endRow()
	r := &e.res
	r.Partial = e.ctx.Err() != nil
	r.Duration = e.now.Seconds()
	if r.Requests > 0 {
		r.ErrorRate = float64(r.Failed) / float64(r.Requests)
	}
	if r.Duration > 0 {
		r.Throughput, r.ProbeRate = float64(r.Answered)/r.Duration, float64(e.probes)/r.Duration
	}
	r.Routes = map[string]int64{}
	for i, n := range e.routes {
		r.Routes[e.refs[i].Name] = n
	}
	r.Upstreams = map[string]*result.Upstream{}
	r.Model = result.Model{Seed: e.o.Seed, Instances: max(e.o.Instances, 1), Stamp: cmp.Or(e.o.Stamp, "start"), Backends: map[string]result.BackendModel{}, Dependencies: e.scenario.DependencyTexts()}
	if p := e.scenario.Patience; p != nil {
		r.Model.Patience = p.String()
	}
	if r.Model.Again = e.scenario.Again; r.Model.Again > 0 {
		r.Model.After = e.scenario.After.String()
	}
	r.GivenUp = r.Failed + r.ClientLeft - e.repeated
	for _, u := range e.ups {
		r.Upstreams[u.cfg.Name] = e.upstream(u)
		r.Sessions.Refused += u.sessions.Refused
		r.Sessions.Misses += u.sessions.Misses
	}
	all := e.phase(0, len(e.phases))
	r.Latency, r.Elapsed = all.Latency, all.Elapsed
	r.Faults, r.Course = []result.Fault{}, e.course.result()
	for _, x := range e.faults {
		r.Faults = append(r.Faults, e.faultResult(x))
	}
	if r.Health == nil {
		r.Health = []result.HealthChange{}
	}
	r.Timeline = e.rows()
	durations := r.Trace.Durations
	r.Trace = e.sequence.Result()
	r.Trace.Durations = durations
	r.Sessions.Seen, r.Sessions.Known = e.sequence.Clients(), e.sequence.SessionsKnown() || e.scenario.KeepsSessions
	r.Overloaded, r.Paths = e.overloaded(), e.paths()
	r.Pages, r.Dependencies = e.pageResults(), e.dependencyResults()
	r.Assumed = e.assumed()
	r.Engine.Events = e.events
	out := *r // a pointer into the engine would keep all of it in memory
	return &out
}

func (e *Engine) upstream(u *up) *result.Upstream {
	var whole, others []*histogram.Histogram
	for k := range u.latency {
		whole, others = append(whole, &u.latency[k]), append(others, &u.unanswered[k])
	}
	out := &result.Upstream{
		Requests: u.requests, Answered: u.answered, Failed: u.failed, ClientLeft: u.left, Retried: u.retried, Spilled: u.spilled,
		Latency: e.latencies.Latency(whole...), Elapsed: e.latencies.Latency(append(whole, others...)...), Sessions: u.sessions, Backends: map[string]*result.Backend{},
	}
	out.RecordedInFlight = u.durations.most
	d := &e.res.Trace.Durations
	d.Recorded, d.Failed, d.Missing, d.Streams = d.Recorded+u.durations.own, d.Failed+u.durations.failed, d.Missing+u.durations.missing, d.Streams+u.durations.streams
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
		b := &result.Backend{
			State: m.State.String(), Requests: requests, Answered: s.latency.Count, Failed: s.failed, ClientLeft: s.left,
			Latency: e.latencies.Latency(&s.latency), Elapsed: e.latencies.Latency(&s.latency, &s.lost), Connections: s.dials, PeakInFlight: int(s.peak), SecondsOut: s.outTime.Seconds() / float64(len(u.views)),
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
			b.Queued, b.QueuedSeconds = s.lined, s.linedFor.Seconds()
			// Work that goes on after the end, for clients that have left, is in it.
			b.Busy = min(s.workedBy(e.now).Seconds()/s.capacity()/e.now.Seconds(), 1)
		}
		out.Backends[m.Name] = b
		out.Order = append(out.Order, m.Name)
		e.res.Model.Backends[s.name] = result.BackendModel{Service: s.serviceText(), Workers: int(s.workers), Backlog: int(s.backlog), Connect: s.behaves.Connect.Seconds(), Handshake: (s.connect - s.behaves.Connect).Seconds(), Cores: s.behaves.Cores, ColdFor: s.behaves.Cold.For.Seconds(), ColdFactor: s.behaves.Cold.Factor}
	}
	out.Imbalance = result.ImbalanceOf(perWeight)
	out.Spill = u.spill()
	return out
}

// spill returns how near backends came to the load at which requests spill.
func (u *up) spill() *result.Spill {
	f := u.cfg.Failover
	if f == nil || f.SpillAt == 0 {
		return nil
	}
	out, near := &result.Spill{BelowWorkers: []string{}}, -1.0
	for _, b := range u.cfg.Backends {
		id, _ := u.core.Lookup(b.Name)
		s := &u.servers[id]
		used := float64(s.peak) / float64(max(b.MaxInFlight, 1))
		out.Reached = out.Reached || used >= f.SpillAt
		if used > near {
			near, out.Backend, out.Peak, out.Of = used, b.Name, int(s.peak), b.MaxInFlight
		}
		if b.MaxInFlight < int(s.workers) && s.shared == nil {
			out.BelowWorkers = append(out.BelowWorkers, b.Name)
		}
	}
	return out
}

// rows returns the timeline under the names of upstreams and backends.
func (e *Engine) rows() result.Timeline {
	t := result.Timeline{Bucket: e.timeline.width.Seconds(), Rows: []result.TimelineRow{}}
	if n := len(e.timeline.rows); n > 0 {
		copy(e.timeline.rows[n-1].open, e.openNow)
	}
	for i := range e.timeline.rows {
		x := &e.timeline.rows[i]
		row := result.TimelineRow{
			At: float64(i) * t.Bucket, Answered: x.answered, Failed: x.failed, ClientLeft: x.left,
			Upstreams: map[string]map[string]result.TimelineBox{},
		}
		if x.latency != nil {
			row.P50, row.P95, row.P99 = x.latency.Quantile(0.5), x.latency.Quantile(0.95), x.latency.Quantile(0.99)
		}
		var all histogram.Sketch
		x.all(&all)
		row.Elapsed = result.Percentiles{P50: all.Quantile(0.5), P95: all.Quantile(0.95), P99: all.Quantile(0.99)}
		for _, u := range e.ups {
			boxes := map[string]result.TimelineBox{}
			for k := range u.servers {
				s := &u.servers[k]
				boxes[u.views[0].core.Backend(s.id).Name] = result.TimelineBox{Requests: int64(x.requests[s.index]), InFlight: int64(x.open[s.index])}
			}
			row.Upstreams[u.cfg.Name] = boxes
		}
		t.Rows = append(t.Rows, row)
	}
	per := t.PerRow()
	for i := 0; i < len(e.timeline.rows); i += per {
		var all histogram.Sketch
		for k := i; k < min(i+per, len(e.timeline.rows)); k++ {
			e.timeline.rows[k].all(&all)
		}
		t.Coarse = append(t.Coarse, result.CoarseRow{At: float64(i) * t.Bucket, P50: all.Quantile(0.5), P95: all.Quantile(0.95), P99: all.Quantile(0.99)})
	}
	return t
}
