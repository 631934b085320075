// Package replay sends a trace through a configuration in virtual time: the decision
// core decides as it would for live traffic, and a model of backends responds, fails
// and recovers as the scenario says.
//
// Run is the entry. The files ingest.go, parser.go and order.go turn records into
// arrivals; replay.go is the event loop; server.go, streams.go, probe.go and fault.go
// are the model of backends; settle.go ends requests; histogram.go, timeline.go,
// outcome.go and result.go count and report. Commands and package study call it. It
// must never read a clock or use random numbers other than those keyed by the seed: the
// same input and seed give the same bytes.
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
	"kestrix/internal/core/trace"
)

// Options say how a trace is replayed.
type Options struct {
	Seed     uint64
	Spread   string        // "even" or "none": what becomes of stamps of whole seconds
	Window   time.Duration // within which records are put in order
	Frontend string        // which takes records that name none; needed where there are several
	Host     string        // the host of records that name none
	Read     trace.Options // how
	Part     trace.Span    // of the trace that is replayed; its end stops the clock
	Stamp    string        // "start" or "end": what of a request the trace's time is of
	Recorded bool          // failures that the trace records happen again

	Instances int // proxies side by side; 0 leaves it to the scenario

	// Leave is with how many requests from the beginning it is tried what becomes
	// of them when a backend leaves; 0: it is not.
	Leave   int
	LeaveOf []string // the upstreams of which one leaves; empty: all

	// Observe is told of each decision, nil for nobody.
	Observe func(Decision)
	// Progress is told from time to time how far reading has come: bytes of
	// the source under way, and requests so far. nil for nobody.
	Progress func(bytes, requests int64)
}

// DefaultWindow is within which records out of order are put right.
const DefaultWindow = 10 * time.Second

// Case is one of several replays of the same requests.
type Case struct {
	Config   *config.Config
	Scenario *scenario.Scenario
	Times    float64 // how many times as many requests come as the trace has, or an open load makes; 0 is 1
	Seed     uint64  // instead of that of the options; 0 for that
	Only     string  // the upstream whose requests are replayed; empty: all are
}

// Run replays. The error is that of reading the trace, or says which option
// cannot be used; when ctx ends, the result of what was done comes with
// Partial set.
func Run(ctx context.Context, c *config.Config, s *scenario.Scenario, sources []ingest.Source, o Options) (*result.Replay, error) {
	all, err := RunAll(ctx, []Case{{Config: c, Scenario: s}}, sources, o)
	if err != nil {
		return nil, err
	}
	return all[0], nil
}

// RunAll replays several cases side by side from one reading of the trace, or of
// what the load of their scenarios makes, and gives the result of each in their
// order: the same, to the digit, as that of each replayed alone. Their scenarios
// have the same load. Errors are those of Run.
func RunAll(ctx context.Context, cases []Case, sources []ingest.Source, o Options) ([]*result.Replay, error) {
	o = o.whole()
	load := cases[0].Scenario.Load
	if load != nil && len(sources) > 0 {
		return nil, errors.New("the scenario's load makes the requests; a trace has no place beside it")
	}
	var engines []*engine
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
		out = append(out, e.result())
	}
	if o.Leave > 0 && ctx.Err() == nil {
		return out, leaveAll(ctx, cases, engines, sequences, out, o)
	}
	return out, nil
}

// atOnce is how many engines run at a time where each has its own arrivals.
const atOnce = 4

// leaveAll tries for each case what becomes of requests when a backend leaves.
func leaveAll(ctx context.Context, cases []Case, engines []*engine, sequences []*ingest.Sequence, out []*result.Replay, o Options) error {
	errs := make([]error, len(engines))
	each(len(engines), func(i int) {
		sample := sequences[i].Sample
		if load := cases[i].Scenario.Load; load != nil && load.Closed {
			sample = engines[i].sampled()
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
		Stamp: o.Stamp, Recorded: o.Recorded, Instances: o.Instances, Sample: o.Leave,
	}
}

// prepare returns the engine of a case, and the plan by which its trace is read.
func prepare(ctx context.Context, c Case, o Options) (*engine, *ingest.Plan, error) {
	o = o.of(c)
	cfg := c.Scenario.Expand(c.Config)
	p, err := ingest.NewPlan(cfg, c.Scenario, o.reading())
	if err != nil {
		return nil, nil, err
	}
	e, err := newEngine(ctx, cfg, c.Scenario, SimOptions{
		Seed: o.Seed, Instances: o.Instances, Times: c.Times, Only: c.Only, Until: o.Part.Until, Sample: o.Leave, Stamp: o.Stamp,
		Observe: o.Observe, Progress: o.Progress,
	})
	return e, p, err
}

// runClosed runs engines whose clients wait for their answers: each makes its own
// requests, so that each has a sequence of its own.
func runClosed(engines []*engine, plans []*ingest.Plan, cases []Case, o Options) []*ingest.Sequence {
	var all []*ingest.Sequence
	for i, e := range engines {
		_, sequences := ingest.New(cases[i].Scenario, nil, o.of(cases[i]).reading(), plans[i])
		e.attach(sequences[0], plans[i])
		all = append(all, sequences[0])
	}
	each(len(engines), func(i int) {
		engines[i].begin(0)
		engines[i].askAll()
		engines[i].drain()
	})
	return all
}

// runOpen runs engines over what one pipeline reads.
func runOpen(ctx context.Context, engines []*engine, plans []*ingest.Plan, s *scenario.Scenario, sources []ingest.Source, o Options) ([]*ingest.Sequence, error) {
	f, sequences := ingest.New(s, sources, o.reading(), plans...)
	inner, stop := context.WithCancel(ctx)
	defer stop()
	var going atomic.Int32
	going.Store(int32(len(engines)))
	var wait sync.WaitGroup
	for i, e := range engines {
		e.attach(sequences[i], plans[i])
		blocks := sequences[i].NewReader()
		wait.Go(func() {
			e.follow(blocks)
			if going.Add(-1) == 0 {
				stop() // no engine wants more
			}
			blocks.Close()
			if f.Err == nil {
				e.drain()
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
	case engines[0].begun:
		return sequences, nil
	}
	return nil, errors.New("the trace has no request to replay")
}

// Empty returns the result of no request at all: every key is there.
func Empty(c *config.Config, s *scenario.Scenario, o Options) (*result.Replay, error) {
	e, p, err := prepare(context.Background(), Case{Config: c, Scenario: s}, o)
	if err != nil {
		return nil, err
	}
	_, sequences := ingest.New(s, nil, o.reading(), p)
	e.attach(sequences[0], p)
	return e.result(), nil
}
