package replay

import (
	"context"
	"slices"
	"time"

	"kestrix/internal/core/config"
	"kestrix/internal/core/ingest"
	"kestrix/internal/core/result"
	"kestrix/internal/core/scenario"
	"kestrix/internal/core/sim"
	"kestrix/internal/core/trace"
)

// owner is who has a place in an upstream: a client, or what is hashed.
type owner struct {
	upstream int32
	who      uint64
}

// leave tries it with a sample of the arrivals of a sequence. Where clients keep their backend, it
// tries it with backends that respond at once, which shows what the method moves, and under
// the load, which shows what overload pushes away besides.
func leave(ctx context.Context, c Case, seq *ingest.Sequence, sample []ingest.Arrival, o Options) (*result.Leave, error) {
	calm := *c.Scenario
	calm.Faults, calm.Load, calm.Again, calm.LoadFactor = nil, nil, 0, 0 // repeats and copies would take numbers of requests
	if s := calm.Streams; s != nil {
		once := *s
		once.Resend = false // resent streams would take numbers of requests
		calm.Streams = &once
	}
	o = o.of(c)
	loaded, err := leaveIn(ctx, c.Config, &calm, seq, sample, o)
	if err != nil || !slices.ContainsFunc(c.Config.Upstreams, func(u *config.Upstream) bool { return u.Sticky != nil || u.Hash != nil }) {
		return loaded, err
	}
	idle := calm
	idle.Dependencies = nil
	idle.Behaviours = []scenario.Behaviour{{Pattern: "*", Service: config.Distribution{Kind: "fixed", Mean: time.Microsecond}, Workers: 1 << 20}}
	out, err := leaveIn(ctx, c.Config, &idle, seq, sample, o)
	if err == nil {
		pushed := max(loaded.Share-out.Share, 0)
		out.Pushed = &pushed
	}
	return out, err
}

// leaveIn tries it in a scenario.
func leaveIn(ctx context.Context, c *config.Config, s *scenario.Scenario, seq *ingest.Sequence, sample []ingest.Arrival, o Options) (*result.Leave, error) {
	half := len(sample) / 2
	m := moves{cfg: c, seq: seq, sample: sample, half: half, had: map[owner]string{}, gone: map[string]string{}, out: &result.Leave{Backends: []string{}}}
	if seed := o.Seed; o.Resample {
		// The sample is simulated as it came, and counted as often as its clients are drawn.
		m.weight = func(client uint32) int64 { return int64(sim.TimesDrawn(seed, client)) }
		o.Resample = false
	}
	o.Part, o.Progress, o.Repeat = trace.Span{}, nil, 0
	o.Observe = m.decided
	x, p, err := prepare(ctx, Case{Config: c, Scenario: s}, o)
	if err != nil {
		return nil, err
	}
	x.Attach(seq, p)
	if m.plan = p; half == 0 {
		return m.out, nil
	}
	x.Begin(sample[0].At)
	x.Arrive(sample[:half])
	for _, u := range c.Upstreams {
		if len(o.LeaveOf) > 0 && !slices.Contains(o.LeaveOf, u.Name) {
			continue
		}
		if name := x.ParkHeaviest(u.Name); name != "" {
			m.gone[u.Name] = name
			m.out.Backends = append(m.out.Backends, u.Name+"."+name)
		}
	}
	x.Arrive(sample[half:])
	if m.out.Requests > 0 {
		m.out.Share = float64(m.out.Moved) / float64(m.out.Requests)
	}
	return m.out, nil
}

// moves counts, while a sample is simulated, the requests in its second half of those whose
// backend is not gone, and how many of them another backend was chosen for.
type moves struct {
	cfg    *config.Config
	seq    *ingest.Sequence
	plan   *ingest.Plan
	sample []ingest.Arrival
	half   int                       // where the second half begins
	had    map[owner]string          // the backend of each owner
	gone   map[string]string         // by upstream
	weight func(client uint32) int64 // how often an arrival counts; nil for once
	out    *result.Leave
}

// decided takes a decision of the core in.
func (m *moves) decided(d sim.Decision) {
	if d.Attempt != 1 || d.Backend == "" || d.Request >= uint64(len(m.sample)) {
		return
	}
	a := &m.sample[d.Request]
	if a.Route < 0 || m.plan.Routes[a.Route].Upstream < 0 || a.Redirected {
		return
	}
	up := m.plan.Routes[a.Route].Upstream
	cfg := m.cfg.Upstreams[up]
	o := owner{up, uint64(a.Session)}
	if m.seq.Hashed(a.Route) && cfg.Sticky == nil {
		o.who = a.Key
	}
	before := m.had[o]
	if int(d.Request) < m.half {
		m.had[o] = d.Backend
		return
	}
	if gone := m.gone[cfg.Name]; before == "" || gone == "" || before == gone {
		return
	}
	n := int64(1)
	if m.weight != nil {
		n = m.weight(a.Session)
	}
	if m.out.Requests += n; d.Backend != before {
		m.out.Moved += n
	}
}
