package study

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"kestrix/internal/core/config"
	"kestrix/internal/core/ingest"
	"kestrix/internal/core/replay"
	"kestrix/internal/core/result"
	"kestrix/internal/core/scenario"
)

// Hunt is what came of the search for the smallest failure that breaks an expectation. The keys
// are documented and stable.
type Hunt struct {
	Of    HuntRun   `json:"of"`
	Found *Weakness `json:"found"` // the smallest one; null for none
	// FoundReplay is the replay of it with its seed; nil where there was none.
	FoundReplay *result.Replay `json:"-"`
	Others      []Weakness     `json:"others"` // confirmed ones of other kinds and targets, which are larger
	Tried       []HuntTried    `json:"tried"`  // by size and kind
	Rounds      []HuntRound    `json:"rounds"` // of the search, in their order
	Shots       []HuntShot     `json:"shots"`  // all failures tried, in their order
	Replays     int            `json:"replays"`
	Notes       []string       `json:"notes"`
	Partial     bool           `json:"partial"` // stopped before its end
}

// HuntRun says what was searched.
type HuntRun struct {
	Names        []string `json:"names"` // of the files
	Seed         uint64   `json:"seed"`
	Requests     int64    `json:"requests"` // with nothing failed
	Clients      int64    `json:"clients"`
	Duration     float64  `json:"duration"`
	Expectations []string `json:"expectations"` // their titles
	Kinds        []string `json:"kinds"`
	Targets      int      `json:"targets"`
	Equal        int      `json:"equal"`       // further backends that are equal to a target by design
	Longest      float64  `json:"longest"`     // of a fault, in seconds
	LoadFactor   float64  `json:"load_factor"` // the largest; 1: the load stays as it is
	Faults       int      `json:"faults"`      // most at once
	Tries        int      `json:"tries"`       // replays allowed

	Trace   result.Trace       `json:"trace"`
	Assumed result.Assumptions `json:"assumed"`
}

// Failure is some faults, and a load.
type Failure struct {
	Faults     []HuntFault `json:"faults"`
	LoadFactor float64     `json:"load_factor"` // 1: the load as it is
}

// Weakness is a failure that breaks an expectation.
type Weakness struct {
	Failure
	Expectation string `json:"expectation"` // the title of the one that is broken most often
	That        string `json:"that"`
	Broken      int    `json:"broken"` // of the seeds
	Needed      int    `json:"needed"` // so many broken seeds count as broken
	Seeds       int    `json:"seeds"`  // fresh ones: the search did not use them

	// Medians of the fresh seeds; failed_more has its range besides.
	FailedMore float64 `json:"failed_more"` // requests that failed or whose clients left, less those with nothing failed
	MoreLow    float64 `json:"failed_more_low"`
	MoreHigh   float64 `json:"failed_more_high"`
	ErrorRate  float64 `json:"error_rate"`
	ElapsedP99 float64 `json:"elapsed_p99"`
	CalmP99    float64 `json:"elapsed_p99_without"` // with nothing failed

	Shrunk   []ShrinkStep `json:"shrunk"`
	Seed     uint64       `json:"seed"`     // one with which the expectation is not met: the scenario's own where that is so
	Scenario string       `json:"scenario"` // the text of a scenario with it, and that seed
}

// HuntFault is one fault of a weakness.
type HuntFault struct {
	Kind     string   `json:"kind"`
	Targets  []string `json:"targets"` // backends, dependencies or a proxy
	At       float64  `json:"at"`
	Until    float64  `json:"until"`
	Rate     float64  `json:"rate"`      // of errors and probe-lies; 0 for others
	Factor   float64  `json:"factor"`    // of slow; 0 for others
	FailsFor float64  `json:"fails_for"` // of flap; 0 for others
	WorksFor float64  `json:"works_for"`
}

// ShrinkStep is how one property of a weakness became smaller.
type ShrinkStep struct {
	What    string  `json:"what"` // fewer, shorter, milder or later; taken back where fresh seeds did not confirm it
	From    Failure `json:"from"`
	To      Failure `json:"to"`
	Replays int     `json:"replays"`
}

// HuntTried is what was tried of one size and kind.
type HuntTried struct {
	Faults   int     `json:"faults"` // at once; a load factor counts as one
	Kind     string  `json:"kind"`   // of one of them, or "load"
	Tried    int     `json:"tried"`
	Broken   int     `json:"broken"`   // of those, with the first seed
	Nearest  string  `json:"nearest"`  // the expectation that came nearest to its bound
	PastMost float64 `json:"distance"` // how far: -1 to 0 before its bound, above 0 past it
}

// HuntRound is one round of successive halving.
type HuntRound struct {
	Faults   int     `json:"faults"`
	Families int     `json:"families"` // kinds and targets under search
	Replays  int     `json:"replays"`
	Broken   int     `json:"broken"`
	PastMost float64 `json:"distance"`
}

// HuntShot is one failure that was tried.
type HuntShot struct {
	Replay int     `json:"replay"` // its number
	Phase  string  `json:"phase"`  // search, confirm, shrink, smaller or report
	Faults int     `json:"faults"`
	Kind   string  `json:"kind"`     // of its first fault, or "load"
	Past   float64 `json:"distance"` // of the expectation that is nearest to its bound, or furthest past it
	Broken bool    `json:"broken"`
}

// HuntOptions say what is searched, and for how long.
type HuntOptions struct {
	Names     []string // of the files, told back
	Kinds     []string // of faults
	Upstreams []string // whose backends fail; empty: all
	For       time.Duration
	MostLoad  float64 // the largest load factor; 1 leaves the load as it is
	Faults    int     // most at once, from 1 to 3
	Tries     int     // replays allowed
	Replay    replay.Options
	// Stop reports whether a part of the time that is allowed, from 0 to 1, has passed; nil for no
	// limit. What confirms the result goes on after that.
	Stop func(part float64) bool
	// Progress is told how many replays are done and what goes on; nil for nobody.
	Progress func(done, of int, what string)
}

// hunting is a hunt under way.
type hunting struct {
	ctx      context.Context
	o        *HuntOptions
	config   *config.Config // with all members
	scenario *scenario.Scenario
	sources  []ingest.Source
	base     *result.Replay // with nothing failed, and the scenario's own seed
	end      time.Duration  // of the arrivals
	longest  time.Duration
	elements []element
	reads    map[string]bool // keys of the result that expectations look at
	kept     []keptArrivals
	calms    map[uint64]*outcomeOf // by seed
	draws    uint64                // random numbers used
	fresh    uint64                // seeds used for confirming
	phase    string
	settling bool // the replays that are kept for the end may be used
	out      *Hunt
	tried    map[triedKey]*HuntTried
	found    []*finding
	seen     map[string]*arm // families that were tried, by their key
}

// RunHunt searches for the smallest failure that breaks an expectation of the scenario. The error
// says what cannot be searched, or that the trace cannot be read. When ctx ends, the best so far
// comes with Partial set.
func RunHunt(ctx context.Context, c *config.Config, s *scenario.Scenario, sources []ingest.Source, o HuntOptions) (*Hunt, error) {
	c = s.Expand(c)
	if o.Stop == nil {
		o.Stop = func(float64) bool { return false }
	}
	h := &hunting{ctx: ctx, o: &o, config: c, scenario: s, sources: sources, reads: s.Reads(), calms: map[uint64]*outcomeOf{}, tried: map[triedKey]*HuntTried{}, seen: map[string]*arm{}}
	h.out = &Hunt{Others: []Weakness{}, Tried: []HuntTried{}, Rounds: []HuntRound{}, Shots: []HuntShot{}, Notes: []string{}}
	if err := h.check(); err != nil {
		return nil, err
	}
	if err := h.calm(); err != nil {
		return nil, err
	}
	if ctx.Err() != nil {
		h.out.Partial = true
		return h.out, nil
	}
	if err := h.prepare(); err != nil {
		return nil, err
	}
	if err := h.search(); err != nil {
		return nil, err
	}
	if len(h.out.Shots) == 0 && ctx.Err() == nil && o.Stop(1) {
		return nil, errors.New("the time ended before the first failure was tried; give a longer -within")
	}
	if err := h.shrinkFound(); err != nil {
		return nil, err
	}
	h.finish()
	return h.out, nil
}

// check returns the error of expectations that cannot be broken, before anything is replayed.
func (h *hunting) check() error {
	s := h.scenario
	if len(s.Expects) == 0 {
		return fmt.Errorf("%s has no expect block, so that nothing can be broken; add one, as in expect \"few errors\" { that = result.error_rate <= 0.01 }", s.File.Name)
	}
	if bad := s.CannotFail(); len(bad) > 0 {
		r := bad[0].Range
		return fmt.Errorf("%s:%d:%d: the expectation %q cannot fail: %s is true of every result; compare a figure of the result with a bound that it can pass", s.File.Name, r.Start.Line, r.Start.Column, bad[0].Name, bad[0].Text)
	}
	if len(s.Faults)+h.o.Faults > scenario.MaxFaults {
		return fmt.Errorf("the scenario holds %d faults already, and at most %d are allowed", len(s.Faults), scenario.MaxFaults)
	}
	return nil
}

// calm replays with nothing failed: an expectation that is broken then has no weakness to find.
func (h *hunting) calm() error {
	h.phase, h.settling = "search", true // whatever time and tries there are, this comes first
	defer func() { h.settling = false }()
	calm := &trial{load: 1}
	v, err := h.judge(calm, h.freshSeeds(), false)
	if err != nil || h.ctx.Err() != nil {
		return err
	}
	if v.broken {
		e := h.scenario.Expects[v.expectation]
		return fmt.Errorf("%s:%d:%d: the expectation %q is not met already, with no fault added: %s is false with %d of %d seeds; replay shows why", h.scenario.File.Name, e.Range.Start.Line, e.Range.Start.Column, e.Name, e.Text, v.brokenSeeds, v.seeds)
	}
	if v.brokenSeeds > 0 {
		h.out.Notes = append(h.out.Notes, fmt.Sprintf("%q is not met with %d of %d seeds without any failure: chance has a part in what is found", h.scenario.Expects[v.expectation].Name, v.brokenSeeds, v.seeds))
	}
	res, err := h.replay(calm, h.o.Replay.Seed)
	if err != nil || h.ctx.Err() != nil {
		return err
	}
	h.base = res
	h.end = time.Duration(res.Duration * float64(time.Second))
	if len(res.Timeline.Rows) < 4 || h.end < 4*time.Second {
		return fmt.Errorf("the replay lasts %.1f s, too short for a fault in the middle of it; at least 4 s are needed", res.Duration)
	}
	return nil
}

// prepare lists the space that is searched.
func (h *hunting) prepare() error {
	o := h.o
	if h.longest = o.For; h.longest == 0 {
		h.longest = min(time.Minute, h.end/4)
	}
	h.longest = rounded(min(h.longest, h.end*9/10))
	if l := h.scenario.Load; l != nil && l.Closed && o.MostLoad > 1 {
		o.MostLoad = 1
		h.out.Notes = append(h.out.Notes, "the clients of a closed load wait for their responses, so that the load has no factor")
	}
	if f := h.scenario.LoadFactor; f != 0 && f != 1 && o.MostLoad > 1 {
		o.MostLoad = 1
		h.out.Notes = append(h.out.Notes, "the scenario has a load_factor, which stays as it is")
	}
	targets, equal, err := h.addElements()
	if err != nil {
		return err
	}
	if len(h.elements) == 0 && o.MostLoad == 1 {
		return errors.New("the space is empty: no kind of fault applies to a backend, dependency or proxy, and the load has no factor; give -kinds or -load-up-to")
	}
	families := len(h.arms(1))
	need := h.out.Replays + firstPulls*families + 1 + 2*h.reserve() // the first round, one confirmation, and the end
	if o.Tries < need {
		return fmt.Errorf("-tries %d is too small for one round: %d kinds and targets are tried %d times each; give -tries %d, or fewer -kinds or -upstream", o.Tries, families, firstPulls, need)
	}
	h.out.Of = HuntRun{
		Names: o.Names, Seed: o.Replay.Seed, Requests: h.base.Requests, Clients: h.base.Trace.Clients, Duration: h.base.Duration, Expectations: []string{}, Kinds: []string{}, Targets: targets, Equal: equal,
		Longest: h.longest.Seconds(), LoadFactor: o.MostLoad, Faults: o.Faults, Tries: o.Tries, Trace: h.base.Trace, Assumed: h.base.Assumed,
	}
	for i := range h.elements {
		if kind := h.elements[i].kind; !slices.Contains(h.out.Of.Kinds, kind) {
			h.out.Of.Kinds = append(h.out.Of.Kinds, kind) // others strike nothing that there is
		}
	}
	for _, e := range h.scenario.Expects {
		h.out.Of.Expectations = append(h.out.Of.Expectations, e.Name)
	}
	return nil
}

// finish puts what was tried in order.
func (h *hunting) finish() {
	h.out.Partial = h.out.Partial || h.ctx.Err() != nil
	if !h.out.Partial && h.o.Stop(1) {
		h.out.Notes = append(h.out.Notes, "the time that was allowed ended before the replays that were")
	}
	for _, t := range h.tried {
		h.out.Tried = append(h.out.Tried, *t)
	}
	place := func(kind string) int { return slices.Index(append([]string{"load"}, h.o.Kinds...), kind) }
	slices.SortFunc(h.out.Tried, func(a, b HuntTried) int {
		if a.Faults != b.Faults {
			return a.Faults - b.Faults
		}
		if a.Kind != b.Kind {
			return place(a.Kind) - place(b.Kind)
		}
		return strings.Compare(a.Kind, b.Kind)
	})
}
