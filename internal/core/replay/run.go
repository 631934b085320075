// Package replay sends a trace through configurations and scenarios in virtual time.
//
// Run replays one, RunAll several side by side from one reading of the trace: package
// ingest reads it, an Engine of package sim simulates each case, and the values are those of
// package result. leave.go replays a sample once more with a backend gone. Commands and
// package study call it. It must never read a clock or use random numbers other than those
// keyed by the seed: the same input and seed give the same bytes.
package replay

import (
	"cmp"
	"context"
	"errors"
	"sync"
	"sync/atomic"
	"time"

	"kestrix/internal/core/config"
	"kestrix/internal/core/ingest"
	"kestrix/internal/core/result"
	"kestrix/internal/core/scenario"
	"kestrix/internal/core/sim"
	"kestrix/internal/core/trace"
)

// Options say how a trace is replayed.
type Options struct {
	Seed     uint64        // keys every random number
	Spread   string        // "even" spreads stamps of whole seconds over their second; "none" keeps them
	Window   time.Duration // records out of order by up to this time are put in order; 0 is DefaultWindow
	Frontend string        // takes the records that name none; needed where there are several
	Host     string        // of records that name none; empty for unknown
	Read     trace.Options // of the trace readers
	Part     trace.Span    // of the trace that is replayed; its end stops the clock
	Stamp    string        // "start" or "end": the moment of a request that the trace's time is of
	Recorded bool          // failures that the trace records happen again
	Resample bool          // each seed draws the clients of the trace with replacement

	ByPath bool // backends are counted by the path of requests

	// Repeat is for how long, after the last arrival, those of the last Stretch come again and
	// again; 0 for not at all. A closed load takes no notice of it.
	Repeat, Stretch time.Duration

	Instances int // proxies side by side; 0 is the scenario's number, or 1

	// Leave is the number of requests from the beginning that are replayed once more with
	// a backend gone; 0 for none.
	Leave   int
	LeaveOf []string // the upstreams of which a backend leaves; empty for all

	// Observe is called with each decision; nil for nobody.
	Observe func(sim.Decision)
	// Progress is called now and then with the bytes of the sources read, as stored, and
	// the requests so far; nil for nobody.
	Progress func(bytes, requests int64)
}

// DefaultWindow is the default of Options.Window.
const DefaultWindow = 10 * time.Second

// Case is one of several replays of the same requests.
type Case struct {
	Config   *config.Config
	Scenario *scenario.Scenario
	Times    float64 // how often each request comes, on average; 0 is once
	Seed     uint64  // instead of that of the options; 0 for that
	Only     string  // the upstream whose requests are replayed; empty for all
	// RepeatAll has requests repeated whatever their method is.
	RepeatAll bool
}

// Run replays one case. The error is that of reading the trace, or says which option cannot
// be used. When ctx ends, the result of what was simulated so far has Partial set.
func Run(ctx context.Context, c *config.Config, s *scenario.Scenario, sources []ingest.Source, o Options) (*result.Replay, error) {
	all, err := RunAll(ctx, []Case{{Config: c, Scenario: s}}, sources, o)
	if err != nil {
		return nil, err
	}
	return all[0], nil
}

// RunAll replays several cases side by side from one reading of the trace, or of one open
// load, and returns the result of each in their order: to the digit that of the case
// replayed alone. Their scenarios must have the same load. Errors are those of Run.
func RunAll(ctx context.Context, cases []Case, sources []ingest.Source, o Options) ([]*result.Replay, error) {
	o = o.whole()
	load := cases[0].Scenario.Load
	if load != nil && len(sources) > 0 {
		return nil, errBoth
	}
	var engines []*sim.Engine
	var plans []*ingest.Plan
	for _, c := range cases {
		if len(engines) > 0 {
			o.Progress = nil // one reports for all
		}
		e, p, err := prepare(ctx, c, o)
		if err != nil {
			return nil, err
		}
		engines, plans = append(engines, e), append(plans, p)
	}
	var sequences []*ingest.Sequence
	var err error
	if load != nil && load.Closed {
		sequences = runClosed(engines, plans, cases, o)
	} else if sequences, err = runOpen(ctx, engines, plans, cases[0].Scenario, sources, o); err != nil {
		return nil, err
	}
	var out []*result.Replay
	for _, e := range engines {
		out = append(out, e.Result())
	}
	if o.Leave > 0 && ctx.Err() == nil {
		return out, leaveAll(ctx, cases, engines, sequences, out, o)
	}
	return out, nil
}

// atOnce is how many engines run at a time where each has its own arrivals.
const atOnce = 4

// leaveAll tries for each case what becomes of requests when a backend leaves.
func leaveAll(ctx context.Context, cases []Case, engines []*sim.Engine, sequences []*ingest.Sequence, out []*result.Replay, o Options) error {
	errs := make([]error, len(engines))
	each(len(engines), func(i int) {
		sample := sequences[i].Sample
		if load := cases[i].Scenario.Load; load != nil && load.Closed {
			sample = engines[i].Sampled()
		}
		out[i].Leave, errs[i] = leave(ctx, cases[i], sequences[i], sample, o)
	})
	return errors.Join(errs...)
}

// each calls do with the numbers below n, up to atOnce at a time.
func each(n int, do func(int)) {
	var wait sync.WaitGroup
	room := make(chan struct{}, atOnce)
	for i := range n {
		room <- struct{}{}
		wait.Go(func() {
			defer func() { <-room }()
			do(i)
		})
	}
	wait.Wait()
}

// whole returns the options with defaults for those that are not set.
func (o Options) whole() Options {
	o.Window = cmp.Or(o.Window, DefaultWindow)
	o.Spread = cmp.Or(o.Spread, "even")
	return o
}

// of returns the options as they are for a case.
func (o Options) of(c Case) Options {
	o.Instances = cmp.Or(o.Instances, c.Scenario.Instances, 1)
	o.Seed = cmp.Or(c.Seed, o.Seed)
	return o
}

// reading returns the options of reading the trace.
func (o Options) reading() ingest.Options {
	return ingest.Options{
		Seed: o.Seed, Spread: o.Spread, Window: o.Window, Frontend: o.Frontend, Host: o.Host, Read: o.Read, Part: o.Part,
		Stamp: o.Stamp, Instances: o.Instances, Sample: o.Leave, Repeat: o.Repeat, Stretch: o.Stretch, ByPath: o.ByPath,
	}
}

// prepare returns the engine of a case, and the plan by which its trace is read.
func prepare(ctx context.Context, c Case, o Options) (*sim.Engine, *ingest.Plan, error) {
	reading := o.reading() // whatever the seed of a case is, the arrivals are the same
	o = o.of(c)
	reading.Instances = o.Instances
	cfg := c.Scenario.Expand(c.Config)
	p, err := ingest.NewPlan(cfg, c.Scenario, reading)
	if err != nil {
		return nil, nil, err
	}
	e, err := sim.New(ctx, cfg, c.Scenario, sim.Options{
		Seed: o.Seed, Instances: o.Instances, Times: cmp.Or(c.Times, 1) * cmp.Or(c.Scenario.LoadFactor, 1), Only: c.Only, Resample: o.Resample, ByPath: o.ByPath, Until: o.Part.Until, Sample: o.Leave, Stamp: o.Stamp, Recorded: o.Recorded, RepeatAll: c.RepeatAll,
		Observe: o.Observe, Progress: o.Progress,
	})
	return e, p, err
}

// runClosed runs engines whose clients wait for their answers: each makes its own
// requests, so that each has a sequence of its own.
func runClosed(engines []*sim.Engine, plans []*ingest.Plan, cases []Case, o Options) []*ingest.Sequence {
	var all []*ingest.Sequence
	for i, e := range engines {
		_, sequences := ingest.New(cases[i].Scenario, nil, o.of(cases[i]).reading(), plans[i])
		e.Attach(sequences[0], plans[i])
		all = append(all, sequences[0])
	}
	each(len(engines), func(i int) {
		engines[i].RunClosed()
	})
	return all
}

// runOpen runs engines over what one pipeline reads.
func runOpen(ctx context.Context, engines []*sim.Engine, plans []*ingest.Plan, s *scenario.Scenario, sources []ingest.Source, o Options) ([]*ingest.Sequence, error) {
	f, sequences := ingest.New(s, sources, o.reading(), plans...)
	inner, stop := context.WithCancel(ctx)
	defer stop()
	var going atomic.Int32
	going.Store(int32(len(engines)))
	var wait sync.WaitGroup
	for i, e := range engines {
		e.Attach(sequences[i], plans[i])
		blocks := sequences[i].NewReader()
		wait.Go(func() {
			e.Follow(blocks)
			if going.Add(-1) == 0 {
				stop() // no engine needs more
			}
			blocks.Close()
			if f.Err == nil {
				e.Drain()
			}
		})
	}
	f.Run(inner)
	wait.Wait()
	switch {
	case ctx.Err() != nil:
		return sequences, nil
	case f.Err != nil:
		return nil, f.Err
	case engines[0].Begun():
		return sequences, nil
	}
	return nil, errNone
}

// Empty returns the result of no request at all: every key is there.
func Empty(c *config.Config, s *scenario.Scenario, o Options) (*result.Replay, error) {
	e, p, err := prepare(context.Background(), Case{Config: c, Scenario: s}, o)
	if err != nil {
		return nil, err
	}
	_, sequences := ingest.New(s, nil, o.reading(), p)
	e.Attach(sequences[0], p)
	return e.Result(), nil
}
