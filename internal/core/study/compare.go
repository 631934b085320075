package study

import (
	"context"
	"math"
	"slices"

	"kestrix/internal/core/ingest"
	"kestrix/internal/core/replay"
	"kestrix/internal/core/result"
)

// Comparison is what came of several variants of doing the same work. The keys are
// documented and stable.
type Comparison struct {
	Runs    []Run     `json:"runs"`
	LeftOut []LeftOut `json:"left_out"` // variants that were asked for and not tried
	Advice  []Advice  `json:"advice"`
	Partial bool      `json:"partial"` // stopped before its end
}

// Run is what came of one variant.
type Run struct {
	Name       string         `json:"name"`
	Configured bool           `json:"configured"` // it is as the first configuration says
	Notes      []string       `json:"notes"`
	Figures    Figures        `json:"figures"`
	Best       []string       `json:"best"` // figures in which no other is better, where they differ
	Leave      *result.Leave  `json:"leave"`
	Result     *result.Replay `json:"result"`
}

// Figures are what variants are compared by. Times are seconds, shares 0 to 1.
type Figures struct {
	Spread        float64  `json:"spread"` // of the upstream that is spread worst: requests by weight of its busiest backend over the mean
	P50           float64  `json:"p50"`
	P95           float64  `json:"p95"`
	P99           float64  `json:"p99"`
	ElapsedP99    float64  `json:"elapsed_p99"` // of all requests, those that failed or whose clients left included
	Failed        int64    `json:"failed"`
	Retried       int64    `json:"retried"`
	SessionsMoved int64    `json:"sessions_moved"`
	PeakInFlight  int      `json:"peak_in_flight"`
	MovedOnLeave  *float64 `json:"moved_on_leave"` // of requests of known clients, when a backend leaves; null: nobody was there to tell by
	Duration      float64  `json:"duration"`
	Throughput    float64  `json:"throughput"`
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

// SideBySide replays the same requests in several variants. Figures are of the
// upstreams named, of all if none is. The error is that of reading the trace.
func SideBySide(ctx context.Context, variants []Variant, upstreams []string, sources []ingest.Source, o replay.Options) (*Comparison, error) {
	o.Leave, o.LeaveOf = LeaveSample, upstreams
	var cases []replay.Case
	for _, w := range variants {
		cases = append(cases, replay.Case{Config: w.Config, Scenario: w.Scenario})
	}
	results, err := replay.RunAll(ctx, cases, sources, o)
	if err != nil {
		return nil, err
	}
	c := &Comparison{Runs: []Run{}, LeftOut: []LeftOut{}, Advice: []Advice{}, Partial: ctx.Err() != nil}
	for i, r := range results {
		notes := variants[i].Notes
		if notes == nil {
			notes = []string{}
		}
		c.Runs = append(c.Runs, Run{Name: variants[i].Name, Configured: variants[i].Configured, Notes: notes, Figures: figures(r, upstreams), Best: []string{}, Leave: r.Leave, Result: r})
	}
	c.mark()
	return c, nil
}

func figures(r *result.Replay, upstreams []string) Figures {
	f := Figures{Retried: r.Retried, Duration: r.Duration, Throughput: r.Throughput, Failed: r.Failed}
	l, elapsed, moved := r.Latency, r.Elapsed.P99, r.Sessions.Moved
	if len(upstreams) > 0 {
		l, elapsed, moved, f.Failed, f.Retried = result.Latency{}, 0, 0, 0, 0
	}
	for name, u := range r.Upstreams {
		if len(upstreams) > 0 {
			if !slices.Contains(upstreams, name) {
				continue
			}
			f.Failed += u.Failed
			f.Retried += u.Retried
			moved += u.Sessions.Moved
			// Of several, the slowest: percentiles do not add up.
			l.P50, l.P95, l.P99 = max(l.P50, u.Latency.P50), max(l.P95, u.Latency.P95), max(l.P99, u.Latency.P99)
			elapsed = max(elapsed, u.Elapsed.P99)
		}
		if len(u.Backends) > 1 {
			f.Spread = max(f.Spread, u.Imbalance.MaxOverMean)
		}
		for _, b := range u.Backends {
			f.PeakInFlight = max(f.PeakInFlight, b.PeakInFlight)
		}
	}
	f.P50, f.P95, f.P99, f.ElapsedP99, f.SessionsMoved = l.P50, l.P95, l.P99, elapsed, moved
	if r.Leave != nil && r.Leave.Requests > 0 {
		f.MovedOnLeave = &r.Leave.Share
	}
	return f
}

// Measures are the figures that can be better or worse, with their keys; less is
// better in all but throughput.
var Measures = []struct {
	Key  string
	More bool // is better
	Of   func(*Figures) (float64, bool)
}{
	{"spread", false, func(f *Figures) (float64, bool) { return f.Spread, f.Spread > 0 }},
	{"p50", false, func(f *Figures) (float64, bool) { return f.P50, f.P50 > 0 }},
	{"p95", false, func(f *Figures) (float64, bool) { return f.P95, f.P95 > 0 }},
	{"p99", false, func(f *Figures) (float64, bool) { return f.P99, f.P99 > 0 }},
	{"elapsed_p99", false, func(f *Figures) (float64, bool) { return f.ElapsedP99, f.ElapsedP99 > 0 }},
	{"failed", false, func(f *Figures) (float64, bool) { return float64(f.Failed), true }},
	{"retried", false, func(f *Figures) (float64, bool) { return float64(f.Retried), true }},
	{"sessions_moved", false, func(f *Figures) (float64, bool) { return float64(f.SessionsMoved), true }},
	{"peak_in_flight", false, func(f *Figures) (float64, bool) { return float64(f.PeakInFlight), f.PeakInFlight > 0 }},
	{"moved_on_leave", false, func(f *Figures) (float64, bool) {
		if f.MovedOnLeave == nil {
			return 0, false
		}
		return *f.MovedOnLeave, true
	}},
	{"duration", false, func(f *Figures) (float64, bool) { return f.Duration, true }},
	{"throughput", true, func(f *Figures) (float64, bool) { return f.Throughput, true }},
}

// mark notes the best of each figure. What looks the same at three digits is the
// same, and where all are the same none is best.
func (c *Comparison) mark() {
	for _, m := range Measures {
		best, worst := math.Inf(1), math.Inf(-1)
		value := func(i int) (float64, bool) {
			v, ok := m.Of(&c.Runs[i].Figures)
			if m.More {
				v = -v
			}
			return v, ok
		}
		for i := range c.Runs {
			if v, ok := value(i); ok {
				best, worst = min(best, v), max(worst, v)
			}
		}
		near := math.Abs(best) * 0.001
		if m.Key == "spread" || m.Key == "moved_on_leave" {
			near = 0.005 // of what is told to the hundredth
		}
		if worst-best <= near {
			continue
		}
		for i := range c.Runs {
			if v, ok := value(i); ok && v-best <= near {
				c.Runs[i].Best = append(c.Runs[i].Best, m.Key)
			}
		}
	}
}
