package replay

import (
	"context"
	"errors"
	"fmt"

	"kestrix/internal/core/ingest"
	"kestrix/internal/core/result"
	"kestrix/internal/core/units"
)

// MostKept is how many arrivals Gather keeps at most: they take about 100 bytes each.
const MostKept = 10_000_000

// Arrivals are those of a trace, or of an open load with one seed, which are read or made once
// for many replays. They are read only, so that replays may go on side by side.
type Arrivals struct {
	sequence *ingest.Sequence // nil for a closed load, of which each replay makes its own
	o        Options
}

// Gather reads the trace, or makes the requests of the case's open load with the seed of the
// options. The error is that of reading, or says that there are more than MostKept. When ctx
// ends, it returns nil.
func Gather(ctx context.Context, c Case, sources []ingest.Source, o Options) (*Arrivals, error) {
	o = o.whole()
	o.Progress = nil
	a := &Arrivals{o: o}
	if l := c.Scenario.Load; l != nil && l.Closed {
		return a, nil
	}
	if c.Scenario.Load != nil && len(sources) > 0 {
		return nil, errBoth
	}
	reading := o.reading()
	reading.Instances, reading.Keep = o.of(c).Instances, MostKept
	p, err := ingest.NewPlan(c.Scenario.Expand(c.Config), c.Scenario, reading)
	if err != nil {
		return nil, err
	}
	f, sequences := ingest.New(c.Scenario, sources, reading, p)
	f.Run(ctx)
	a.sequence = sequences[0]
	switch {
	case ctx.Err() != nil:
		return nil, nil
	case f.Err != nil:
		return nil, f.Err
	case a.sequence.Total > MostKept:
		return nil, fmt.Errorf("there are %s requests, and at most %s are kept in memory; -from and -until take a part", units.Count(int64(a.sequence.Total)), units.Count(MostKept))
	case a.sequence.Total == 0:
		return nil, errNone
	}
	return a, nil
}

// Count returns how many there are, 0 for a closed load.
func (a *Arrivals) Count() int {
	if a.sequence == nil {
		return 0
	}
	return a.sequence.Total
}

// Run replays a case. Its configuration must be that of Gather; its scenario may differ in faults
// and the load factor. The error says what cannot be replayed. When ctx ends, the result is
// partial.
func (a *Arrivals) Run(ctx context.Context, c Case) (*result.Replay, error) {
	if a.sequence == nil {
		all, err := RunAll(ctx, []Case{c}, nil, a.o)
		if err != nil {
			return nil, err
		}
		return all[0], nil
	}
	e, p, err := prepare(ctx, c, a.o)
	if err != nil {
		return nil, err
	}
	e.Attach(a.sequence, p)
	e.Begin(a.sequence.Kept[0][0].At)
	for _, block := range a.sequence.Kept {
		if e.Arrive(block); ctx.Err() != nil {
			break
		}
	}
	e.Drain()
	return e.Result(), nil
}

var (
	errBoth = errors.New("the scenario's load makes the requests; a trace has no place beside it")
	errNone = errors.New("the trace has no request to replay")
)
