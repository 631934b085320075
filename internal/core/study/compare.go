package study

import (
	"context"
	"slices"

	"kestrix/internal/core/ingest"
	"kestrix/internal/core/replay"
	"kestrix/internal/core/result"
)

// Comparison is what came of several variants of doing the same work. The keys are
// documented and stable.
type Comparison struct {
	Runs      []Run     `json:"runs"`
	LeftOut   []LeftOut `json:"left_out"` // variants that were asked for and not tried
	Advice    []Advice  `json:"advice"`
	Seeds     int       `json:"seeds"`        // with which each variant was replayed
	Needed    int       `json:"seeds_needed"` // the fewest with which anything can be told apart
	Resampled bool      `json:"resampled"`    // each seed drew the clients of the trace with replacement
	Apart     []Apart   `json:"apart"`        // pairs that can be told apart
	Partial   bool      `json:"partial"`      // stopped before its end
}

// Run is what came of one variant.
type Run struct {
	Name       string         `json:"name"`
	Configured bool           `json:"configured"` // it is as the first configuration says
	Notes      []string       `json:"notes"`
	Figures    Figures        `json:"figures"` // medians of all seeds
	Low        Figures        `json:"low"`     // their range, see result.SeedFigure
	High       Figures        `json:"high"`
	Best       []string       `json:"best"` // figures in which no other can be told to be better, where some can be told apart
	Leave      *result.Leave  `json:"leave"`
	Result     *result.Replay `json:"result"` // of the first seed, clients not resampled

	seeds []Figures
}

// Figures are what variants are compared by. Times are seconds, shares 0 to 1.
type Figures struct {
	Spread        float64  `json:"spread"` // of the upstream that is spread worst: requests by weight of its busiest backend over the mean
	P50           float64  `json:"p50"`
	P95           float64  `json:"p95"`
	P99           float64  `json:"p99"`
	ElapsedP99    float64  `json:"elapsed_p99"` // of all requests, those that failed or whose clients left included
	Failed        float64  `json:"failed"`
	Retried       float64  `json:"retried"`
	Spilled       float64  `json:"spilled"` // attempts in another tier or zone than the first
	SessionsMoved float64  `json:"sessions_moved"`
	SessionMisses float64  `json:"session_misses"` // requests that reached a backend which does not hold their session
	PeakInFlight  float64  `json:"peak_in_flight"`
	MovedOnLeave  *float64 `json:"moved_on_leave"`  // of requests of known clients, when a backend leaves: those that are given another one; null: none was there to tell by
	PushedOnLeave *float64 `json:"pushed_on_leave"` // of the same requests, those that overload gives another one besides
	Duration      float64  `json:"duration"`
	Throughput    float64  `json:"throughput"`
}

// Apart is a pair of variants that can be told apart by a figure.
type Apart struct {
	Figure string  `json:"figure"` // a key of Figures
	Better string  `json:"better"` // the name of the variant
	Worse  string  `json:"worse"`
	P      float64 `json:"p"` // of the paired test, corrected for the number of tests
}

// Advice is a sentence of it: what to do, the figures it rests on, and when it
// would be wrong.
type Advice struct {
	Say     string `json:"say"`
	Because string `json:"because"`
	Unless  string `json:"unless"`
}

// LeaveSample is with how many requests it is tried what becomes of them when a
// backend leaves.
const LeaveSample = 20_000

// SideBySide replays the same requests in several variants with so many seeds each; 0 is as
// many as SeedsFor says. Figures are of the upstreams named, of all if none is. hear is called
// with every result of a variant, and tell is told how many seeds are done; nil for nobody.
// The error is that of reading the trace.
func SideBySide(ctx context.Context, variants []Variant, upstreams []string, sources []ingest.Source, o replay.Options, seeds int, hear func(variant int, r *result.Replay), tell func(done, of int)) (*Comparison, error) {
	if hear == nil {
		hear = func(int, *result.Replay) {}
	}
	o.Leave, o.LeaveOf = LeaveSample, upstreams
	var cases []replay.Case
	for _, w := range variants {
		cases = append(cases, replay.Case{Config: w.Config, Scenario: w.Scenario})
	}
	asItIs := o
	asItIs.Resample = false
	results, err := replay.RunAll(ctx, cases, sources, asItIs)
	if err != nil {
		return nil, err
	}
	if seeds == 0 {
		seeds = SeedsFor(results[0].Requests, len(variants))
	}
	c := &Comparison{Runs: []Run{}, LeftOut: []LeftOut{}, Advice: []Advice{}, Resampled: o.Resample, Apart: []Apart{}, Needed: seedsNeeded(len(variants))}
	for i, r := range results {
		notes := variants[i].Notes
		if notes == nil {
			notes = []string{}
		}
		run := Run{Name: variants[i].Name, Configured: variants[i].Configured, Notes: notes, Best: []string{}, Leave: r.Leave, Result: r}
		if !o.Resample {
			run.seeds = append(run.seeds, figures(r, upstreams))
			hear(i, r)
		}
		c.Runs = append(c.Runs, run)
	}
	o.Progress = nil
	if ctx.Err() == nil {
		err = manySeeds(ctx, cases, sources, o, len(c.Runs[0].seeds), seeds, func(seed int, of []*result.Replay) {
			if ctx.Err() != nil {
				return // half a replay says nothing
			}
			for i, r := range of {
				c.Runs[i].seeds = append(c.Runs[i].seeds, figures(r, upstreams))
				hear(i, r)
			}
			if tell != nil {
				tell(seed+1, seeds)
			}
		})
	}
	if err != nil {
		return nil, err
	}
	c.Partial, c.Seeds = ctx.Err() != nil, len(c.Runs[0].seeds)
	c.sumUp(func(i int) Figures { return figures(results[i], upstreams) })
	return c, nil
}

// SeedsFor returns with how many seeds variants are compared unless the user says: by the
// requests of all of them together, as docs/replay.md has it in a table.
func SeedsFor(requests int64, variants int) int {
	needed := seedsNeeded(variants)
	switch all := requests * int64(variants); {
	case all <= 1_000_000:
		return max(needed, 20)
	case all <= 10_000_000:
		return needed
	}
	return 1 // which tells nothing apart, and the report says so
}

// seedsNeeded returns the fewest seeds with which some of so many variants can be told apart.
func seedsNeeded(variants int) int {
	tested := 0
	for i := range Measures {
		tested += 1 - boolInt(Measures[i].plain)
	}
	return fewestSeeds(variants * (variants - 1) / 2 * tested)
}

func figures(r *result.Replay, upstreams []string) Figures {
	f := Figures{Retried: float64(r.Retried), Duration: r.Duration, Throughput: r.Throughput, Failed: float64(r.Failed)}
	l, elapsed, moved, misses, spilled := r.Latency, r.Elapsed.P99, r.Sessions.Moved, r.Sessions.Misses, int64(0)
	if len(upstreams) > 0 {
		l, elapsed, moved, misses, f.Failed, f.Retried = result.Latency{}, 0, 0, 0, 0, 0
	}
	for name, u := range r.Upstreams {
		if len(upstreams) > 0 {
			if !slices.Contains(upstreams, name) {
				continue
			}
			f.Failed += float64(u.Failed)
			f.Retried += float64(u.Retried)
			moved += u.Sessions.Moved
			misses += u.Sessions.Misses
			// Of several, the slowest: percentiles do not add up.
			l.P50, l.P95, l.P99 = max(l.P50, u.Latency.P50), max(l.P95, u.Latency.P95), max(l.P99, u.Latency.P99)
			elapsed = max(elapsed, u.Elapsed.P99)
		}
		spilled += u.Spilled
		if len(u.Backends) > 1 {
			f.Spread = max(f.Spread, u.Imbalance.MaxOverMean)
		}
		for _, b := range u.Backends {
			f.PeakInFlight = max(f.PeakInFlight, float64(b.PeakInFlight))
		}
	}
	f.P50, f.P95, f.P99, f.ElapsedP99, f.SessionsMoved, f.SessionMisses = l.P50, l.P95, l.P99, elapsed, float64(moved), float64(misses)
	f.Spilled = float64(spilled)
	if r.Leave != nil && r.Leave.Requests > 0 {
		f.MovedOnLeave, f.PushedOnLeave = &r.Leave.Share, r.Leave.Pushed
	}
	return f
}

// Measure is a figure that can be better or worse.
type Measure struct {
	Key   string
	More  bool                    // is better; else less is
	At    func(*Figures) *float64 // nil where there is none
	some  bool                    // 0 means that there is none
	plain bool                    // shown and not tested: neither more nor less of it is better
}

// Of returns the figure, and whether there is one.
func (m *Measure) Of(f *Figures) (float64, bool) {
	if p := m.At(f); p != nil && (*p > 0 || !m.some) {
		return *p, true
	}
	return 0, false
}

// Measures are the figures that variants are compared by.
var Measures = []Measure{
	{"spread", false, func(f *Figures) *float64 { return &f.Spread }, true, false},
	{"p50", false, func(f *Figures) *float64 { return &f.P50 }, true, false},
	{"p95", false, func(f *Figures) *float64 { return &f.P95 }, true, false},
	{"p99", false, func(f *Figures) *float64 { return &f.P99 }, true, false},
	{"elapsed_p99", false, func(f *Figures) *float64 { return &f.ElapsedP99 }, true, false},
	{"failed", false, func(f *Figures) *float64 { return &f.Failed }, false, false},
	{"retried", false, func(f *Figures) *float64 { return &f.Retried }, false, false},
	{Key: "spilled", At: func(f *Figures) *float64 { return &f.Spilled }, plain: true},
	{"sessions_moved", false, func(f *Figures) *float64 { return &f.SessionsMoved }, false, false},
	{"session_misses", false, func(f *Figures) *float64 { return &f.SessionMisses }, false, false},
	{"peak_in_flight", false, func(f *Figures) *float64 { return &f.PeakInFlight }, true, false},
	{"moved_on_leave", false, func(f *Figures) *float64 { return f.MovedOnLeave }, false, false},
	{"pushed_on_leave", false, func(f *Figures) *float64 { return f.PushedOnLeave }, false, false},
	{"duration", false, func(f *Figures) *float64 { return &f.Duration }, false, false},
	{"throughput", true, func(f *Figures) *float64 { return &f.Throughput }, false, false},
}
