package replay

import (
	"context"
	"errors"
	"sync"
	"sync/atomic"

	"kestrix/internal/core/config"
	"kestrix/internal/core/scenario"
)

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
func Run(ctx context.Context, c *config.Config, s *scenario.Scenario, sources []Source, o Options) (*Result, error) {
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
func RunAll(ctx context.Context, cases []Case, sources []Source, o Options) ([]*Result, error) {
	o = o.whole()
	load := cases[0].Scenario.Load
	if load != nil && len(sources) > 0 {
		return nil, errors.New("the scenario's load makes the requests; a trace has no place beside it")
	}
	var engines []*engine
	var plans []*plan
	for _, c := range cases {
		e, p, err := prepare(ctx, c, o)
		if err != nil {
			return nil, err
		}
		if len(engines) > 0 {
			e.o.Progress = nil // one tells for all
		}
		engines, plans = append(engines, e), append(plans, p)
	}
	if load != nil && load.Closed {
		runClosed(engines, plans)
	} else if err := runOpen(ctx, engines, plans, cases[0].Scenario, sources, o); err != nil {
		return nil, err
	}
	var out []*Result
	for _, e := range engines {
		e.res.Partial = ctx.Err() != nil
		out = append(out, e.result())
	}
	if o.Leave > 0 && ctx.Err() == nil {
		return out, leaveAll(ctx, cases, engines)
	}
	return out, nil
}

// atOnce is how many engines work at a time where each has all it needs.
const atOnce = 4

// leaveAll tries for each case what becomes of requests when a backend leaves.
func leaveAll(ctx context.Context, cases []Case, engines []*engine) error {
	errs := make([]error, len(engines))
	each(len(engines), func(i int) {
		e := engines[i]
		sample := e.sample
		if e.closed == nil {
			sample = e.sequence.sample
		}
		e.res.Leave, errs[i] = e.leave(ctx, cases[i], sample)
	})
	return errors.Join(errs...)
}

// each does something for the numbers below n, a few at a time.
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

// whole fills in what was left out.
func (o Options) whole() Options {
	if o.Window == 0 {
		o.Window = DefaultWindow
	}
	if o.Spread == "" {
		o.Spread = "even"
	}
	return o
}

// prepare makes the engine of a case, and the plan by which it reads.
func prepare(ctx context.Context, c Case, o Options) (*engine, *plan, error) {
	if o.Instances == 0 {
		o.Instances = max(c.Scenario.Instances, 1)
	}
	if c.Seed != 0 {
		o.Seed = c.Seed
	}
	cfg := c.Scenario.Expand(c.Config)
	p, err := newPlan(cfg, c.Scenario, o)
	if err != nil {
		return nil, nil, err
	}
	e, err := newEngine(ctx, cfg, c.Scenario, o)
	if err != nil {
		return nil, nil, err
	}
	if c.Times > 0 {
		e.times = c.Times
	}
	for i, u := range cfg.Upstreams {
		if u.Name == c.Only {
			e.only = int32(i)
		}
	}
	return e, p, nil
}

// runClosed runs engines whose clients wait for their answers, so that each makes
// its requests by itself.
func runClosed(engines []*engine, plans []*plan) {
	for i, e := range engines {
		_, sequences := newIngest(e.scenario, nil, e.o, plans[i])
		e.attach(sequences[0], plans[i])
	}
	each(len(engines), func(i int) {
		engines[i].begin(0)
		engines[i].askAll()
		engines[i].drain()
	})
}

// runOpen runs engines over what one ingest reads.
func runOpen(ctx context.Context, engines []*engine, plans []*plan, s *scenario.Scenario, sources []Source, o Options) error {
	f, sequences := newIngest(s, sources, o, plans...)
	inner, stop := context.WithCancel(ctx)
	defer stop()
	var going atomic.Int32
	going.Store(int32(len(engines)))
	var wait sync.WaitGroup
	for _, l := range f.sequences {
		var ends []chan *shared
		for i, e := range engines {
			if sequences[i] != l {
				continue
			}
			e.attach(l, plans[i])
			end := make(chan *shared, aheadOfMe)
			if l.readers++; l.readers == 1 {
				end = l.out // the only one, so far
			}
			ends = append(ends, end)
		}
		if l.readers > 1 {
			ends[0] = make(chan *shared, aheadOfMe)
			wait.Go(func() { l.handOut(ends) })
		}
		k := 0
		for i, e := range engines {
			if sequences[i] != l {
				continue
			}
			end := ends[k]
			k++
			wait.Go(func() {
				e.follow(ctx, end)
				if going.Add(-1) == 0 {
					stop() // nobody wants more
				}
				for b := range end {
					b.drop(f)
				}
				if f.err == nil {
					e.drain()
				}
			})
		}
	}
	f.run(inner)
	wait.Wait()
	switch {
	case ctx.Err() != nil:
		return nil
	case f.err != nil:
		return f.err
	case engines[0].begun:
		return nil
	}
	return errors.New("the trace gave nothing to replay")
}

// follow takes in what a sequence brings, until that ends or nothing more is wanted.
func (e *engine) follow(ctx context.Context, blocks <-chan *shared) {
	f := e.sequence.ingest
	for b := range blocks {
		if !e.begun && len(b.block) > 0 {
			e.begin(b.block[0].at)
		}
		e.arriveAll(b.block)
		if e.o.Progress != nil {
			e.o.Progress(f.read.Load(), e.res.Requests)
		}
		b.drop(f)
		if ctx.Err() != nil || e.now >= e.stop {
			return
		}
	}
}

// aheadOfMe is how many blocks may wait for one engine of several. Some more than it
// takes to keep it busy: the longer it goes on without another in between, the
// longer what it needs stays near.
const aheadOfMe = 16

// shared is a block that several engines read.
type shared struct {
	block []arrival
	left  atomic.Int32 // how many have not read it yet
}

// drop says that one has read it.
func (s *shared) drop(f *ingest) {
	if s.left.Add(-1) == 0 {
		f.giveBack(s.block)
	}
}

// handOut gives every block of a sequence to each of its engines.
func (l *sequence) handOut(ends []chan *shared) {
	for b := range l.out {
		for _, end := range ends {
			end <- b
		}
	}
	for _, end := range ends {
		close(end)
	}
}
