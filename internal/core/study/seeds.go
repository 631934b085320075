package study

import (
	"context"
	"slices"

	"kestrix/internal/core/config"
	"kestrix/internal/core/ingest"
	"kestrix/internal/core/replay"
	"kestrix/internal/core/result"
	"kestrix/internal/core/scenario"
)

// seedsAtOnce is how many replays that differ in their seed go on side by side: each holds
// what it counts in memory.
const seedsAtOnce = 4

// wholeRange is from how many seeds on a range leaves out the most extreme: fewer say
// nothing of what 95 % of them stay within.
const wholeRange = 40

// AcrossSeeds replays with so many seeds, from that of the options on, and returns the result
// of the first, to the digit that of a single replay, and how figures differ. A trace's
// arrivals are the same with all of them; a load draws its own. tell is told how many are
// done; nil for nobody. The error is that of reading the trace.
func AcrossSeeds(ctx context.Context, c *config.Config, s *scenario.Scenario, sources []ingest.Source, o replay.Options, seeds int, tell func(done, of int)) (*result.Replay, error) {
	if tell == nil {
		tell = func(int, int) {}
	}
	var all []*result.Replay
	for len(all) < seeds && ctx.Err() == nil {
		n := min(seedsAtOnce, seeds-len(all))
		if s.Load != nil {
			n = 1
		}
		from := o.Seed + uint64(len(all))
		x := o
		var cases []replay.Case
		for i := range n {
			cases = append(cases, replay.Case{Config: c, Scenario: s, Seed: from + uint64(i)})
		}
		if s.Load != nil {
			x.Seed = from
		}
		some, err := replay.RunAll(ctx, cases, sources, x)
		if err != nil {
			return nil, err
		}
		all = append(all, some...)
		tell(len(all), seeds)
	}
	first := all[0]
	if ctx.Err() != nil {
		first.Partial = true
		return first, nil
	}
	first.Seeds = &result.Seeds{Seeds: len(all), Figures: []result.SeedFigure{}}
	of := result.Replay{Upstreams: first.Upstreams} // has the causes that any of them has
	for _, r := range all {
		for i, n := range r.Errors {
			of.Errors[i] += n
		}
	}
	for _, f := range figuresOf(c, first, &of) {
		if x, ok := spreadOf(f, all); ok {
			first.Seeds.Figures = append(first.Seeds.Figures, x)
		}
	}
	return first, nil
}

// spreadOf returns a figure across results; false if none has it.
func spreadOf(f figure, all []*result.Replay) (x result.SeedFigure, ok bool) {
	x = result.SeedFigure{What: f.what, Of: f.of, Unit: f.unit}
	var values []float64
	for _, r := range all {
		if v := f.value(r); v != nil {
			values = append(values, *v)
		} else {
			x.Never++
		}
	}
	if len(values) == 0 {
		return x, false
	}
	slices.Sort(values)
	n := len(values)
	x.Median, x.Low, x.High = values[n/2], values[0], values[n-1]
	if n%2 == 0 {
		x.Median = (values[n/2-1] + values[n/2]) / 2
	}
	if n >= wholeRange {
		out := n / wholeRange // of 40, one at each end: 2.5 %
		x.Low, x.High = values[out], values[n-1-out]
	}
	return x, true
}
