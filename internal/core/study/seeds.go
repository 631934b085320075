package study

import (
	"context"
	"slices"

	"gonum.org/v1/gonum/stat"

	"kestrix/internal/core/config"
	"kestrix/internal/core/ingest"
	"kestrix/internal/core/replay"
	"kestrix/internal/core/result"
	"kestrix/internal/core/scenario"
)

// seedsAtOnce is how many replays that differ in their seed go on side by side, from one reading
// of the trace: each holds what it counts in memory. With 4 at once a replay of a million
// requests with 20 seeds takes 1.2 times as long (kestrix replay ten.hcl 1m.log -seeds 20).
const seedsAtOnce = 10

// wholeRange is from how many seeds on a range leaves out the most extreme: fewer say
// nothing of what 95 % of them stay within.
const wholeRange = 40

// manySeeds replays cases with the seeds from one on until so many have been used, the first
// being that of the options, and hands the results of each seed to visit. The arrivals of
// a trace are the same with all seeds, a load has others with each. It returns early when
// ctx ends, after results that are partial. The error is that of reading the trace.
func manySeeds(ctx context.Context, cases []replay.Case, sources []ingest.Source, o replay.Options, from, until int, visit func(seed int, of []*result.Replay)) error {
	load := cases[0].Scenario.Load != nil
	for done := from; done < until; {
		n := min(max(seedsAtOnce/len(cases), 1), until-done)
		if load {
			n = 1
		}
		x := o
		var all []replay.Case
		for i := range n {
			for _, c := range cases {
				c.Seed = o.Seed + uint64(done+i)
				all = append(all, c)
			}
		}
		if load {
			x.Seed += uint64(done)
		}
		results, err := replay.RunAll(ctx, all, sources, x)
		if err != nil {
			return err
		}
		for i := range n {
			visit(done+i, results[i*len(cases):(i+1)*len(cases)])
		}
		if done += n; ctx.Err() != nil {
			return nil // what was visited last is partial
		}
	}
	return nil
}

// AcrossSeeds replays with so many seeds, from that of the options on, and returns the result
// of the first, to the digit that of a single replay, and how figures differ. A trace's
// arrivals are the same with all of them, unless its clients are resampled, which the
// result is without; a load draws its own. hear is called with each result, the one that is
// returned first, and tell is told how many are done; nil for nobody. The error is that of
// reading the trace.
func AcrossSeeds(ctx context.Context, c *config.Config, s *scenario.Scenario, sources []ingest.Source, o replay.Options, seeds int, hear func(*result.Replay), tell func(done, of int)) (*result.Replay, error) {
	if tell == nil {
		tell = func(int, int) {}
	}
	if hear == nil {
		hear = func(*result.Replay) {}
	}
	var first *result.Replay
	var all []*result.Replay
	cases := []replay.Case{{Config: c, Scenario: s}}
	if o.Resample {
		asItIs := o
		asItIs.Resample = false
		own, err := replay.RunAll(ctx, cases, sources, asItIs)
		if err != nil {
			return nil, err
		}
		first = own[0]
		hear(first)
	}
	err := manySeeds(ctx, cases, sources, o, 0, seeds, func(seed int, of []*result.Replay) {
		all = append(all, of[0])
		hear(of[0])
		tell(seed+1, seeds)
	})
	if err != nil {
		return nil, err
	}
	if first == nil {
		first = all[0]
	}
	if ctx.Err() != nil {
		first.Partial = true
		return first, nil
	}
	first.Seeds = &result.Seeds{Seeds: len(all), Resampled: o.Resample, Figures: []result.SeedFigure{}}
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
	x.Low, x.Median, x.High = rangeOf(values)
	return x, true
}

// rangeOf sorts values, and returns their median, of an even number the lower of the two in
// the middle, and their range: min to max of fewer than 40, from there on what 95 % of them
// stay within.
func rangeOf(values []float64) (low, median, high float64) {
	slices.Sort(values)
	n, out := len(values), 0
	if n >= wholeRange {
		out = n / wholeRange // of 40, one at each end: 2.5 %
	}
	return values[out], stat.Quantile(0.5, stat.Empirical, values, nil), values[n-1-out]
}
