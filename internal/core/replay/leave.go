package replay

import (
	"context"
	"slices"

	"kestrix/internal/core/config"
	"kestrix/internal/core/ingest"
	"kestrix/internal/core/result"
	"kestrix/internal/core/sim"
	"kestrix/internal/core/trace"
)

// owner is who has a place in an upstream: a client, or what is hashed.
type owner struct {
	upstream int32
	who      uint64
}

// leave tries it with a sample of the arrivals of a sequence.
func leave(ctx context.Context, c Case, seq *ingest.Sequence, sample []ingest.Arrival, o Options) (*result.Leave, error) {
	calm := *c.Scenario
	calm.Faults, calm.Load = nil, nil
	if s := calm.Streams; s != nil {
		once := *s
		once.Resend = false // resent streams would take numbers of requests
		calm.Streams = &once
	}
	picks := make([]string, len(sample))
	o = o.of(c)
	weight := func(ingest.Arrival) int64 { return 1 }
	if seed := o.Seed; o.Resample {
		// The sample is simulated as it came, and counted as often as its clients are drawn.
		weight = func(a ingest.Arrival) int64 { return int64(sim.TimesDrawn(seed, a.Session)) }
		o.Resample = false
	}
	o.Part, o.Progress = trace.Span{}, nil
	o.Observe = func(d sim.Decision) {
		if d.Attempt == 1 {
			picks[d.Request] = d.Backend
		}
	}
	x, p, err := prepare(ctx, Case{Config: c.Config, Scenario: &calm}, o)
	if err != nil {
		return nil, err
	}
	x.Attach(seq, p)
	out := &result.Leave{Backends: []string{}}
	gone := map[string]string{}
	half := len(sample) / 2
	if half == 0 {
		return out, nil
	}
	x.Begin(sample[0].At)
	x.Arrive(sample[:half])
	for _, u := range c.Config.Upstreams {
		if len(o.LeaveOf) > 0 && !slices.Contains(o.LeaveOf, u.Name) {
			continue
		}
		if name := x.ParkHeaviest(u.Name); name != "" {
			gone[u.Name] = name
			out.Backends = append(out.Backends, u.Name+"."+name)
		}
	}
	x.Arrive(sample[half:])
	movedRequests{c.Config, seq, p, gone, weight}.count(out, sample, picks)
	if out.Requests > 0 {
		out.Share = float64(out.Moved) / float64(out.Requests)
	}
	return out, nil
}

// movedRequests knows which backends are gone, by upstream, and by what requests keep a backend.
type movedRequests struct {
	cfg  *config.Config
	seq  *ingest.Sequence
	plan *ingest.Plan
	gone map[string]string
	// weight is how often an arrival counts.
	weight func(ingest.Arrival) int64
}

// count counts in the second half of a sample the requests of those whose backend is not
// gone, and how many of them another backend was chosen for.
func (m movedRequests) count(out *result.Leave, sample []ingest.Arrival, picks []string) {
	had := map[owner]string{}
	for i := range sample {
		a := &sample[i]
		if a.Route < 0 || m.plan.Routes[a.Route].Upstream < 0 || a.Redirected || picks[i] == "" {
			continue
		}
		up := m.plan.Routes[a.Route].Upstream
		cfg := m.cfg.Upstreams[up]
		o := owner{up, uint64(a.Session)}
		if m.seq.Hashed(a.Route) && cfg.Sticky == nil {
			o.who = a.Key
		}
		gone := m.gone[cfg.Name]
		switch before := had[o]; {
		case i < len(sample)/2:
			had[o] = picks[i]
		case before != "" && gone != "" && before != gone:
			out.Requests += m.weight(*a)
			if picks[i] != before {
				out.Moved += m.weight(*a)
			}
		}
	}
}
