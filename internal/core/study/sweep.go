package study

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"time"

	"kestrix/internal/core/config"
	"kestrix/internal/core/ingest"
	"kestrix/internal/core/replay"
	"kestrix/internal/core/result"
	"kestrix/internal/core/scenario"
	"kestrix/internal/core/units"
)

// Sweep is what came of failing every backend, zone and pair in turn. The keys are
// documented and stable.
type Sweep struct {
	Of       SweptRun      `json:"of"`
	Baseline SweepPart     `json:"baseline"` // what came in the busiest time with nothing failed
	Cases    []SweepCase   `json:"cases"`    // the worst first
	Worst    *SweepCase    `json:"worst"`    // null without cases
	Single   []SinglePoint `json:"single_points"`
	Limits   []LoadLimit   `json:"limits"`
	Notes    []string      `json:"notes"`
	Replays  int           `json:"replays"` // of faults, those of the search for limits not among them
	Partial  bool          `json:"partial"` // stopped before its end
	Shard    *Shard        `json:"shard"`   // null for the whole
}

// SweptRun says what was swept, so that parts can be told to be of one run.
type SweptRun struct {
	Names     []string `json:"names"` // of the files
	Seed      uint64   `json:"seed"`
	Seeds     int      `json:"seeds"`     // with which the worst case of each target was replayed
	Resampled bool     `json:"resampled"` // each seed drew the clients of the trace with replacement
	Requests  int64    `json:"requests"`
	Clients   int64    `json:"clients"`
	Duration  float64  `json:"duration"`
	Repeated  float64  `json:"repeated"` // until when the last stretch of the arrivals came again
	Kinds     []string `json:"kinds"`
	At        float64  `json:"at"`    // the busiest time, as long as the longest fault
	Until     float64  `json:"until"` //
	Rate      float64  `json:"rate"`  // requests a second in it, where nothing is failed
	Targets   int      `json:"targets"`
	Cases     int      `json:"cases"` // of all parts together
	Identity  string   `json:"identity"`

	Trace   result.Trace       `json:"trace"` // what was read
	Assumed result.Assumptions `json:"assumed"`
}

// Shard is one of several parts of a sweep.
type Shard struct {
	Number int `json:"number"` // from 1
	Of     int `json:"of"`
}

// SweepPart is what requests met that arrived in some time.
type SweepPart struct {
	Requests  int64   `json:"requests"`
	Failed    int64   `json:"failed"`
	ErrorRate float64 `json:"error_rate"`
	P50       float64 `json:"p50"`
	P99       float64 `json:"p99"`
	// ElapsedP99 is of all requests, those that failed or whose clients left included.
	ElapsedP99 float64 `json:"elapsed_p99"`
}

// SweepCase is the worst that was found of failing something in one way. Figures are
// medians of its seeds.
type SweepCase struct {
	Name           string           `json:"name"`
	What           string           `json:"what"` // backend, zone or pair
	Kind           string           `json:"kind"`
	Failed         []string         `json:"failed"` // UPSTREAM.BACKEND
	Alike          []string         `json:"alike"`  // backends that are equal to it by design, which failed instead with other seeds
	At             float64          `json:"at"`
	Until          float64          `json:"until"`
	Seeds          int              `json:"seeds"`       // with which it was replayed
	More           float64          `json:"failed_more"` // requests of the whole replay that failed or whose clients left, less those without it
	MoreLow        float64          `json:"failed_more_low"`
	MoreHigh       float64          `json:"failed_more_high"`
	MoreBySeed     []float64        `json:"failed_more_by_seed"`
	AsBad          bool             `json:"as_bad"`     // it fails no fewer than the worst, beyond chance
	ErrorRate      float64          `json:"error_rate"` // of the whole replay
	P99            float64          `json:"p99"`
	During         SweepPart        `json:"during"`
	Otherwise      SweepPart        `json:"otherwise"`      // what came at the same time with nothing failed, with the first seed
	Aftermath      result.Aftermath `json:"aftermath"`      // of its worst seed
	Unrecovered    int              `json:"unrecovered"`    // seeds with which all was not as before in the replay
	Lost           int64            `json:"exposed_failed"` // failed requests with an attempt that the fault hit
	Retried        int64            `json:"retried"`
	SessionsMoved  int64            `json:"sessions_moved"`
	SessionMisses  int64            `json:"session_misses"`
	DetectedAfter  *float64         `json:"detected_after"`
	RecoveredAfter *float64         `json:"recovered_after"`
	Overloaded     []string         `json:"overloaded"`   // upstreams in which requests waited without a pause, with some seed
	LeftWithout    []string         `json:"left_without"` // upstreams of which all backends are failed
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
	Seeds     int    // with which the worst case of each target is replayed; 0: as many as tell them apart
	Shard     *Shard // nil: all of it
	TooMuch   float64
	Replay    replay.Options
	// Progress is told how many replays of about how many are done.
	Progress func(done, of int)
}

// atATime is how many replays go side by side: as many as keep a few cores busy and
// little memory.
const atATime = 8

// mostCases is how many cases a sweep may have: their results are kept.
const mostCases = 50_000

// faultName is that of the fault of a sweep, which no scenario can have.
const faultName = "\x00sweep"

// afterwards is for how long at least a replay goes on after a fault at its end.
const afterwards = time.Minute

// RunSweep searches for each backend, each zone and, if so asked, each pair the fault that
// fails most requests. The sources are read over and over. An error says what cannot be
// swept, or that the trace cannot be read; when ctx ends, what is done comes with
// Partial set.
func RunSweep(ctx context.Context, c *config.Config, s *scenario.Scenario, sources []ingest.Source, o SweepOptions) (*Sweep, error) {
	c = s.Expand(c)
	if len(s.Faults) >= scenario.MaxFaults {
		return nil, fmt.Errorf("the scenario holds %d faults already, which is all it may", len(s.Faults))
	}
	targets, err := o.targets(c, s)
	if err != nil {
		return nil, err
	}
	cases := len(targets) * len(o.Kinds)
	if cases > mostCases {
		return nil, fmt.Errorf("that is %d cases, and at most %d are done; fewer upstreams, kinds, or no pairs", cases, mostCases)
	}
	asItIs := o.Replay
	asItIs.Resample = false
	base, err := replay.Run(ctx, c, s, sources, asItIs)
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
	if o.Seeds == 0 {
		o.Seeds = fewestSeeds(len(targets) - 1)
	}
	length := o.length(base)
	r := &sweeping{ctx: ctx, o: &o, config: c, scenario: s, sources: sources, base: base, length: length, quiet: o.Replay, bases: map[int]*result.Replay{}}
	r.quiet.Progress = nil
	r.share(len(targets))
	out.Notes = append(out.Notes, r.extend()...)
	at := o.at(base, begun(base, nil), length, peak)
	out.Of = SweptRun{
		Names: o.Names, Seed: base.Model.Seed, Seeds: o.Seeds, Resampled: o.Replay.Resample, Requests: base.Requests, Clients: base.Trace.Clients, Duration: base.Duration, Kinds: o.Kinds,
		Repeated: base.Duration + r.quiet.Repeat.Seconds(), At: at.Seconds(), Until: (at + length).Seconds(), Targets: len(targets), Cases: cases, Trace: base.Trace, Assumed: base.Assumed,
	}
	out.Of.Identity = o.identity(c, s, base, targets)
	out.Single = singlePoints(c, targets, base)
	searched := o.searched(c, s, base)
	limits := o.share(len(searched), len(targets))
	mine := o.share(len(targets), 0)
	r.total = len(mine)*r.ofSearch() + o.Seeds + o.searchRuns(len(limits))
	if err := r.searchAll(targets, mine, out); err != nil {
		return nil, err
	}
	if s.Load != nil && s.Load.Closed {
		out.Notes = append(out.Notes, "the clients of a closed load wait for their answers, so that there is no load to multiply: how much is too much was not searched")
	} else if err := r.search(searched, limits, at, out); err != nil {
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

// sweeping is a sweep under way.
type sweeping struct {
	ctx         context.Context
	o           *SweepOptions
	config      *config.Config
	scenario    *scenario.Scenario
	sources     []ingest.Source
	base        *result.Replay         // with nothing failed, as long as it is
	length      time.Duration          // of the longest faults
	quiet       replay.Options         // without somebody who is told of each replay's progress
	bases       map[int]*result.Replay // with nothing failed, by seed
	spare       int                    // replays of a search for further times
	finalists   int                    // further candidates that a search tries with all seeds
	done, total int
}

// extend has replays go on after the last arrival, so that what comes after a fault is seen,
// and returns the note of it.
func (r *sweeping) extend() []string {
	switch {
	case r.quiet.Part.Until.Set():
		return []string{"the replay ends with -until, so that the time after a late fault is not seen"}
	case r.scenario.Load != nil && r.scenario.Load.Closed:
		return []string{"a closed load ends with its last request, so that the time after a late fault is not seen"}
	}
	r.quiet.Repeat = max(r.length, afterwards)
	r.quiet.Stretch = min(r.quiet.Repeat, time.Duration(r.base.Duration*float64(time.Second)))
	return []string{fmt.Sprintf("the last %s of the arrivals are repeated for %s after the end, to show the time after a late fault",
		units.Duration(r.quiet.Stretch.Round(time.Second)), units.Duration(r.quiet.Repeat.Round(time.Second)))}
}

// with returns the scenario in which some backends fail in some way for some time; none at
// all for what is looked at in the same way with nothing failed.
func (r *sweeping) with(kind string, backends []string, at, until time.Duration) *scenario.Scenario {
	s := *r.scenario
	f := scenario.Named(faultName, kind, at, until)
	for _, b := range backends {
		f.Backends = append(f.Backends, config.Placed[string]{Value: b})
	}
	s.Faults = append(slices.Clone(s.Faults), f)
	return &s
}

// end returns when the replay ends, without what is repeated.
func (r *sweeping) end() time.Duration { return time.Duration(r.base.Duration * float64(time.Second)) }

func (r *sweeping) tell(more int) {
	if r.done += more; r.o.Progress != nil {
		r.o.Progress(min(r.done, r.total), r.total)
	}
}

// replays runs several scenarios with one seed, of those from 0.
func (r *sweeping) replays(seed int, scenarios []*scenario.Scenario) ([]*result.Replay, error) {
	o := r.quiet
	o.Seed += uint64(seed)
	var cases []replay.Case
	for _, s := range scenarios {
		cases = append(cases, replay.Case{Config: r.config, Scenario: s, Seed: o.Seed})
	}
	if r.scenario.Load == nil {
		o.Seed = r.quiet.Seed // the arrivals of a trace are the same with all seeds
	}
	return replay.RunAll(r.ctx, cases, r.sources, o)
}

// calm returns what comes with nothing failed, with a seed.
func (r *sweeping) calm(seed int) (*result.Replay, error) {
	if b := r.bases[seed]; b != nil {
		return b, nil
	}
	results, err := r.replays(seed, []*scenario.Scenario{r.with("slow", nil, 0, time.Second)})
	if err != nil {
		return nil, err
	}
	r.bases[seed] = results[0]
	r.tell(1)
	return results[0], nil
}

func partOf(p result.Phase) SweepPart {
	return SweepPart{Requests: p.Requests, Failed: p.Failed, ErrorRate: p.ErrorRate, P50: p.Latency.P50, P99: p.Latency.P99, ElapsedP99: p.Elapsed.P99}
}

// finish puts the worst first, and tells which are as bad as the worst.
func (s *Sweep) finish() {
	slices.SortStableFunc(s.Cases, func(a, b SweepCase) int {
		return cmp.Or(
			cmp.Compare(b.More, a.More), cmp.Compare(b.During.ElapsedP99, a.During.ElapsedP99), cmp.Compare(b.During.P50, a.During.P50),
			cmp.Compare(b.SessionMisses, a.SessionMisses), cmp.Compare(b.Retried, a.Retried), cmp.Compare(a.Name, b.Name), cmp.Compare(a.Kind, b.Kind),
		)
	})
	slices.SortFunc(s.Limits, func(a, b LoadLimit) int { return cmp.Compare(a.Upstream, b.Upstream) })
	if s.Worst = nil; len(s.Cases) == 0 {
		return
	}
	// The one that most is known of, among those at the top.
	first := max(slices.IndexFunc(s.Cases, func(c SweepCase) bool { return c.Seeds == s.Of.Seeds }), 0)
	s.asBad(first)
	worst := s.Cases[first]
	s.Worst = &worst
}

// asBad tells which cases of as many seeds cannot be told to fail fewer than the worst.
func (s *Sweep) asBad(worst int) {
	w := &s.Cases[worst]
	var of []int
	var p []float64
	for i := range s.Cases {
		c := &s.Cases[i]
		if c.AsBad = false; i == worst || c.Seeds != w.Seeds || c.Seeds != len(w.MoreBySeed) {
			continue
		}
		var differences []float64
		for k := range c.MoreBySeed {
			differences = append(differences, w.MoreBySeed[k]-c.MoreBySeed[k])
		}
		of, p = append(of, i), append(p, signFlip(differences, 20_000))
	}
	if w.Seeds < fewestSeeds(len(of)) || w.More <= 0 {
		return // nothing to tell apart, or too few seeds for it
	}
	holm(p)
	for k, i := range of {
		s.Cases[i].AsBad = p[k] > level
	}
}
