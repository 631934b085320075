package study

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"kestrix/internal/core/config"
	"kestrix/internal/core/ingest"
	"kestrix/internal/core/replay"
	"kestrix/internal/core/result"
	"kestrix/internal/core/scenario"
)

// Sweep is what came of failing every backend, zone and pair in turn. The keys are
// documented and stable.
type Sweep struct {
	Of       SweptRun      `json:"of"`
	Baseline SweepPart     `json:"baseline"` // what came while nothing was failed, at the moment and for the time that something is
	Cases    []SweepCase   `json:"cases"`    // the worst first
	Worst    *SweepCase    `json:"worst"`    // null without cases
	Single   []SinglePoint `json:"single_points"`
	Limits   []LoadLimit   `json:"limits"`
	Notes    []string      `json:"notes"`
	Partial  bool          `json:"partial"` // stopped before its end
	Shard    *Shard        `json:"shard"`   // null for the whole
}

// SweptRun says what was swept, so that parts can be told to be of one run.
type SweptRun struct {
	Names    []string `json:"names"` // of the files
	Seed     uint64   `json:"seed"`
	Requests int64    `json:"requests"`
	Clients  int64    `json:"clients"`
	Duration float64  `json:"duration"`
	Kinds    []string `json:"kinds"`
	At       float64  `json:"at"`    // when backends fail: the busiest moment
	Until    float64  `json:"until"` // and when they work again
	Rate     float64  `json:"rate"`  // requests a second in between, where nothing is failed
	Cases    int      `json:"cases"` // of all parts together
	Identity string   `json:"identity"`

	Trace   result.Trace       `json:"trace"` // what was read
	Assumed result.Assumptions `json:"assumed"`
}

// Shard is one of several parts of a sweep.
type Shard struct {
	Number int `json:"number"` // from 1
	Of     int `json:"of"`
}

// SweepPart is what requests met that arrived while something was failed.
type SweepPart struct {
	Requests  int64   `json:"requests"`
	Failed    int64   `json:"failed"`
	ErrorRate float64 `json:"error_rate"`
	P50       float64 `json:"p50"`
	P99       float64 `json:"p99"`
	// ElapsedP99 is of all requests, those that failed or whose clients left included.
	ElapsedP99 float64 `json:"elapsed_p99"`
}

// SweepCase is what came of failing something in one way.
type SweepCase struct {
	Name           string    `json:"name"`
	What           string    `json:"what"` // backend, zone or pair
	Kind           string    `json:"kind"`
	Failed         []string  `json:"failed"`     // UPSTREAM.BACKEND
	ErrorRate      float64   `json:"error_rate"` // of the whole replay
	P99            float64   `json:"p99"`
	During         SweepPart `json:"during"`
	Lost           int64     `json:"lost"` // requests that failed and had met it
	Retried        int64     `json:"retried"`
	SessionsMoved  int64     `json:"sessions_moved"`
	SessionsLost   int64     `json:"sessions_lost"`
	DetectedAfter  *float64  `json:"detected_after"`
	RecoveredAfter *float64  `json:"recovered_after"`
	Overloaded     []string  `json:"overloaded"`   // upstreams in which requests waited without a pause
	LeftWithout    []string  `json:"left_without"` // upstreams of which all backends are failed
}

// SinglePoint is what an upstream cannot do without.
type SinglePoint struct {
	Name     string `json:"name"` // the backend or zone
	Upstream string `json:"upstream"`
	Requests int64  `json:"requests"` // that went there, of the whole replay
}

// SweepOptions say what is failed, when and how.
type SweepOptions struct {
	Names     []string // of the files, told back
	Kinds     []string // of faults
	Pairs     bool     // pairs of backends as well
	Upstreams []string // whose backends are failed; empty: all
	For       time.Duration
	Shard     *Shard // nil: all of it
	TooMuch   float64
	Replay    replay.Options
	// Progress is told how many replays of how many are done.
	Progress func(done, of int)
}

// target is what is failed together.
type target struct {
	name, what string
	backends   []string
}

// atATime is how many replays go side by side: as many as keep a few cores busy and
// little memory.
const atATime = 8

// mostCases is how many cases a sweep may have: their results are kept.
const mostCases = 50_000

// faultName is that of the fault of a sweep, which no scenario can have.
const faultName = "\x00sweep"

// RunSweep fails every backend and zone in turn, and every pair if so asked, at the
// busiest moment. The sources are read over and over. An error says what cannot be
// swept, or that the trace cannot be read; when ctx ends, what is done comes with
// Partial set.
func RunSweep(ctx context.Context, c *config.Config, s *scenario.Scenario, sources []ingest.Source, o SweepOptions) (*Sweep, error) {
	c = s.Expand(c)
	if len(s.Faults) >= scenario.MaxFaults {
		return nil, fmt.Errorf("the scenario holds %d faults already, which is all it may", len(s.Faults))
	}
	targets, err := o.targets(c)
	if err != nil {
		return nil, err
	}
	if n := len(targets) * len(o.Kinds); n > mostCases {
		return nil, fmt.Errorf("that is %d cases, and at most %d are done; fewer upstreams, kinds, or no pairs", n, mostCases)
	}
	base, err := replay.Run(ctx, c, s, sources, o.Replay)
	if err != nil {
		return nil, err
	}
	out := &Sweep{Cases: []SweepCase{}, Single: []SinglePoint{}, Limits: []LoadLimit{}, Notes: []string{}, Shard: o.Shard}
	if base.Partial {
		out.Partial = true
		return out, nil
	}
	if len(base.Timeline.Rows) < 4 {
		return nil, fmt.Errorf("the replay lasts %.1f s, too short for something to fail in the middle of it", base.Duration)
	}
	at, length := o.busiest(base)
	fault := scenario.Fault{Name: faultName, At: at, Until: at + length, Status: 503, Rate: 1, Factor: 10, FailsFor: 5 * time.Second, WorksFor: 15 * time.Second}
	var cases []SweepCase
	for _, kind := range o.Kinds {
		for _, t := range targets {
			cases = append(cases, SweepCase{Name: t.name, What: t.what, Kind: kind, Failed: t.backends})
		}
	}
	out.Of = SweptRun{
		Names: o.Names, Seed: base.Model.Seed, Requests: base.Requests, Clients: base.Trace.Clients, Duration: base.Duration, Kinds: o.Kinds,
		At: at.Seconds(), Until: (at + length).Seconds(), Cases: len(cases), Trace: base.Trace, Assumed: base.Assumed,
	}
	out.Of.Identity = o.identity(c, s, base, cases)
	out.Single = singlePoints(c, targets, base)
	mine := o.share(len(cases), 0)
	searched := o.searched(c, base)
	limits := o.share(len(searched), len(cases))
	r := sweeping{ctx: ctx, o: &o, config: c, scenario: s, sources: sources, fault: fault, total: 1 + len(mine) + o.searchRuns(len(limits)), done: 1}
	if err := r.baseline(out); err != nil {
		return nil, err
	}
	for from := 0; from < len(mine) && ctx.Err() == nil; from += atATime {
		group := mine[from:min(from+atATime, len(mine))]
		if err := r.cases(cases, group, out); err != nil {
			return nil, err
		}
	}
	if s.Load != nil && s.Load.Closed {
		out.Notes = append(out.Notes, "the clients of a closed load wait for their answers, so that there is no load to multiply: how much is too much was not searched")
	} else if err := r.search(searched, limits, out); err != nil {
		return nil, err
	}
	out.Partial = ctx.Err() != nil
	out.finish()
	return out, nil
}

// share returns the positions, of n, that fall to this shard, counting on from others
// that were dealt before.
func (o *SweepOptions) share(n, before int) []int {
	var out []int
	for i := range n {
		if o.Shard == nil || (before+i)%o.Shard.Of == o.Shard.Number-1 {
			out = append(out, i)
		}
	}
	return out
}

// targets lists what is failed: each backend, each zone, and each pair.
func (o *SweepOptions) targets(c *config.Config) ([]target, error) {
	for _, name := range o.Upstreams {
		if c.Upstream(name) == nil {
			return nil, fmt.Errorf("no upstream is called %q", name)
		}
	}
	var out []target
	var zones []string
	inZone := map[string][]string{}
	for _, u := range c.Upstreams {
		if len(o.Upstreams) > 0 && !slices.Contains(o.Upstreams, u.Name) {
			continue
		}
		for _, b := range u.Backends {
			name := u.Name + "." + b.Name
			out = append(out, target{name, "backend", []string{name}})
			if b.Zone != "" {
				if inZone[b.Zone] == nil {
					zones = append(zones, b.Zone)
				}
				inZone[b.Zone] = append(inZone[b.Zone], name)
			}
		}
	}
	if len(out) == 0 {
		return nil, errors.New("there is nothing to fail: no upstream has a backend")
	}
	single := out
	for _, z := range zones {
		out = append(out, target{"zone " + z, "zone", inZone[z]})
	}
	if o.Pairs {
		for i, a := range single {
			for _, b := range single[i+1:] {
				out = append(out, target{a.name + " and " + b.name, "pair", []string{a.name, b.name}})
			}
		}
	}
	return out, nil
}

// busiest returns when backends fail and for how long: the part of so long in which
// most attempts were begun while nothing failed.
func (o *SweepOptions) busiest(base *result.Replay) (at, length time.Duration) {
	rows, bucket := base.Timeline.Rows, base.Timeline.Bucket
	if length = o.For; length == 0 {
		length = min(time.Minute, time.Duration(base.Duration/4)*time.Second)
	}
	length = max(length, time.Second)
	wide := min(max(int(length.Seconds()/bucket+0.5), 1), len(rows))
	begun := make([]int64, len(rows))
	for i := range rows {
		for _, u := range rows[i].Upstreams {
			for _, b := range u {
				begun[i] += b.Requests
			}
		}
	}
	sum, most, from := int64(0), int64(-1), 0
	for i, n := range begun {
		if sum += n; i >= wide {
			sum -= begun[i-wide]
		}
		if i >= wide-1 && sum > most {
			most, from = sum, i-wide+1
		}
	}
	return time.Duration(rows[from].At * 1e9), length
}

// sweeping is a sweep under way.
type sweeping struct {
	ctx         context.Context
	o           *SweepOptions
	config      *config.Config
	scenario    *scenario.Scenario
	sources     []ingest.Source
	fault       scenario.Fault
	done, total int
}

// with returns the scenario in which some backends fail in some way; nobody at all for
// the baseline, which is looked at in the same way.
func (r *sweeping) with(kind string, backends []string) *scenario.Scenario {
	s := *r.scenario
	f := r.fault
	f.Kind = kind
	for _, b := range backends {
		f.Backends = append(f.Backends, config.Placed[string]{Value: b})
	}
	s.Faults = append(slices.Clone(s.Faults), f)
	return &s
}

// baseline looks at what requests meet while nothing is failed.
func (r *sweeping) baseline(out *Sweep) error {
	res, err := replay.Run(r.ctx, r.config, r.with("slow", nil), r.sources, r.quiet())
	if err != nil {
		return err
	}
	out.Baseline = partOf(res.Faults[len(res.Faults)-1].During)
	if length := out.Of.Until - out.Of.At; length > 0 {
		out.Of.Rate = float64(out.Baseline.Requests) / length
	}
	r.tell(1)
	return nil
}

// quiet returns the options without somebody who is told of each replay's progress.
func (r *sweeping) quiet() replay.Options {
	o := r.o.Replay
	o.Progress = nil
	return o
}

func (r *sweeping) tell(more int) {
	if r.done += more; r.o.Progress != nil {
		r.o.Progress(r.done, r.total)
	}
}

// cases replays some of the cases side by side.
func (r *sweeping) cases(all []SweepCase, group []int, out *Sweep) error {
	var runs []replay.Case
	for _, i := range group {
		runs = append(runs, replay.Case{Config: r.config, Scenario: r.with(all[i].Kind, all[i].Failed)})
	}
	results, err := replay.RunAll(r.ctx, runs, r.sources, r.quiet())
	if err != nil {
		return err
	}
	if r.ctx.Err() != nil {
		return nil // half a replay tells nothing that could be held against the others
	}
	for k, i := range group {
		x, res := all[i], results[k]
		f := res.Faults[len(res.Faults)-1]
		x.ErrorRate, x.P99, x.During, x.Lost, x.Retried = res.ErrorRate, res.Latency.P99, partOf(f.During), f.ExposedFailed, res.Retried
		x.SessionsMoved, x.SessionsLost = res.Sessions.Moved, res.Sessions.Misses
		x.DetectedAfter, x.RecoveredAfter = f.DetectedAfter, f.RecoveredAfter
		x.Overloaded, x.LeftWithout = []string{}, []string{}
		for _, o := range res.Overloaded {
			x.Overloaded = append(x.Overloaded, o.Upstream)
		}
		for _, u := range r.config.Upstreams {
			if res.Upstreams[u.Name].Requests > 0 && without(u, x.Failed) {
				x.LeftWithout = append(x.LeftWithout, u.Name)
			}
		}
		out.Cases = append(out.Cases, x)
	}
	r.tell(len(group))
	return nil
}

func partOf(p result.Phase) SweepPart {
	return SweepPart{Requests: p.Requests, Failed: p.Failed, ErrorRate: p.ErrorRate, P50: p.Latency.P50, P99: p.Latency.P99, ElapsedP99: p.Elapsed.P99}
}

// without reports whether all backends of an upstream are among those that fail.
func without(u *config.Upstream, failed []string) bool {
	for _, b := range u.Backends {
		if !slices.Contains(failed, u.Name+"."+b.Name) {
			return false
		}
	}
	return len(u.Backends) > 0
}

// singlePoints names the backends and zones without which an upstream that is asked
// for something has nothing left.
func singlePoints(c *config.Config, targets []target, base *result.Replay) []SinglePoint {
	out := []SinglePoint{}
	for _, t := range targets {
		for _, u := range c.Upstreams {
			n := base.Upstreams[u.Name].Requests
			if t.what != "pair" && n > 0 && without(u, t.backends) {
				out = append(out, SinglePoint{t.name, u.Name, n})
			}
		}
	}
	slices.SortStableFunc(out, func(a, b SinglePoint) int { return cmp.Compare(b.Requests, a.Requests) })
	return out
}

// finish puts the worst first.
func (s *Sweep) finish() {
	slices.SortStableFunc(s.Cases, func(a, b SweepCase) int {
		return cmp.Or(
			cmp.Compare(b.During.Failed, a.During.Failed), cmp.Compare(b.During.ElapsedP99, a.During.ElapsedP99), cmp.Compare(b.During.P50, a.During.P50),
			cmp.Compare(b.SessionsLost, a.SessionsLost), cmp.Compare(b.Retried, a.Retried), cmp.Compare(a.Name, b.Name), cmp.Compare(a.Kind, b.Kind),
		)
	})
	slices.SortFunc(s.Limits, func(a, b LoadLimit) int { return cmp.Compare(a.Upstream, b.Upstream) })
	s.Worst = nil
	if len(s.Cases) > 0 {
		worst := s.Cases[0]
		s.Worst = &worst
	}
}
