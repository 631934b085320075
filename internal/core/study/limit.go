package study

import (
	"cmp"
	"math"
	"slices"
	"time"

	"kestrix/internal/core/config"
	"kestrix/internal/core/replay"
	"kestrix/internal/core/result"
	"kestrix/internal/core/scenario"
	"kestrix/internal/core/trace"
)

// LoadLimit is how much of the load an upstream bears when it loses a backend, found
// by search: with more, or less, of its own requests at every moment. It is an interval: what
// it bears with every seed, and what is too much with every seed.
type LoadLimit struct {
	Upstream    string      `json:"upstream"`
	Backend     string      `json:"backend"`     // that it loses: the one of the most weight
	Load        float64     `json:"holds"`       // times the load at which losing it costs hardly more than it costs anyway; 0: none was found
	TooMuch     *float64    `json:"too_much"`    // times the load at which it costs more; null: none was found
	Rate        float64     `json:"rate"`        // requests a second to the upstream at what it holds, while the backend is gone
	Failed      float64     `json:"failed"`      // share of its requests that fail at what is too much
	P99         float64     `json:"p99"`         // and how long those that are answered take
	ElapsedP99  float64     `json:"elapsed_p99"` // and all, those that fail included
	Undisturbed Undisturbed `json:"anyway"`
	Seeds       int         `json:"seeds"`
}

// Undisturbed is what losing a backend costs with a quarter of the load, when there is room
// for all; times are of the least load at which 100 requests come.
type Undisturbed struct {
	Failed     float64 `json:"failed"`
	P99        float64 `json:"p99"`
	ElapsedP99 float64 `json:"elapsed_p99"`
}

// searchedPart is one upstream under search. What requests meet is looked at once the
// backend has left rotation: what fails before that fails for another reason than
// the load.
type searchedPart struct {
	limit     LoadLimit
	seed      int           // from 0
	known     bool          // how long that takes
	settle    time.Duration // from the fault's beginning
	low, high float64       // what it holds, what is too much; 0: not known yet
	next      float64       // what is tried next; 0: the search is over
}

const (
	leastLoad  = 1.0 / 4 // where there is room for all
	mostLoad   = 64
	nearEnough = 1.05 // of what holds, what is too much
	slower     = 3    // times as long is too much
	unlucky    = 2    // so many failures are chance
	enough     = 100  // requests of which p99 says something
)

// mostSettle is how long it may take until a backend that is gone has left rotation;
// one that has not by then is taken never to leave it.
const mostSettle = 30 * time.Second

// settledName is that of the time in which it has, told of like a fault that strikes
// nobody.
const settledName = "\x00settled"

// searched lists the upstreams of which it is searched how much is too much, each
// with the backend that it loses.
func (o *SweepOptions) searched(c *config.Config, s *scenario.Scenario, base *result.Replay) []LoadLimit {
	var out []LoadLimit
	targets, _ := o.targets(c, s) // they were listed before
	swept := map[string]bool{}
	for _, t := range targets {
		for _, b := range append(t.backends, t.alike...) {
			swept[b] = true
		}
	}
	for _, u := range c.Upstreams {
		if len(u.Backends) < 2 || !swept[u.Name+"."+u.Backends[0].Name] || base.Upstreams[u.Name].Requests == 0 {
			continue
		}
		most := u.Backends[0]
		for _, b := range u.Backends {
			if b.Weight > most.Weight {
				most = b
			}
		}
		out = append(out, LoadLimit{Upstream: u.Name, Backend: u.Name + "." + most.Name})
	}
	return out
}

// limitSeeds is with how many seeds a limit is searched: it is not a matter of chance alone.
const limitSeeds = 5

// searchRuns is about how many replays a search takes.
func (o *SweepOptions) searchRuns(n int) int { return 12 * n * limitSeeds }

// search finds how much is too much, for some upstreams side by side, with several seeds each.
// Only the time about a fault at the busiest time is replayed, without the scenario's own faults.
func (r *sweeping) search(all []LoadLimit, mine []int, at time.Duration, out *Sweep) error {
	var parts []searchedPart
	for seed := range limitSeeds {
		for _, i := range mine {
			parts = append(parts, searchedPart{limit: all[i], seed: seed, next: leastLoad})
		}
	}
	for seed := range limitSeeds {
		if err := r.searchWith(seed, parts[seed*len(mine):(seed+1)*len(mine)], at); err != nil {
			return err
		}
	}
	for k := range mine {
		if r.ctx.Err() != nil {
			return nil
		}
		of := []LoadLimit{}
		for seed := range limitSeeds {
			of = append(of, parts[seed*len(mine)+k].limit)
		}
		out.Limits = append(out.Limits, joinLimits(of))
	}
	return nil
}

// joinLimits returns the interval of the limits with several seeds, with the figures of the
// one that bears least.
func joinLimits(of []LoadLimit) LoadLimit {
	out := slices.MinFunc(of, func(a, b LoadLimit) int { return cmp.Compare(a.Load, b.Load) })
	out.Seeds = len(of)
	for _, l := range of {
		switch {
		case out.TooMuch == nil:
		case l.TooMuch == nil:
			out.TooMuch = nil
		case *l.TooMuch > *out.TooMuch:
			out.TooMuch = l.TooMuch
		}
	}
	return out
}

// searchWith finds how much is too much with one seed.
func (r *sweeping) searchWith(seed int, parts []searchedPart, at time.Duration) error {
	o, lead := r.about(at)
	if r.scenario.Load != nil {
		o.Seed += uint64(seed)
	}
	steps := 0
	for r.ctx.Err() == nil {
		var runs []replay.Case
		var of []int
		for k := range parts {
			p := &parts[k]
			if p.next == 0 {
				continue
			}
			begin := max(lead-p.settle, 0)
			s := r.with(r.o.Kinds[0], []string{p.limit.Backend}, begin, begin+p.settle+r.length)
			s.Faults = s.Faults[len(s.Faults)-1:]
			settled := s.Faults[0]
			settled.Name, settled.Kind, settled.Backends, settled.At = settledName, "slow", nil, begin+p.settle
			s.Faults = append(s.Faults, settled)
			runs, of = append(runs, replay.Case{Config: r.config, Scenario: s, Times: p.next, Only: p.limit.Upstream, Seed: r.quiet.Seed + uint64(seed)}), append(of, k)
		}
		if len(runs) == 0 {
			break
		}
		results, err := replay.RunAll(r.ctx, runs, r.sources, o)
		if err != nil {
			return err
		}
		if r.ctx.Err() != nil {
			break
		}
		for j, k := range of {
			parts[k].step(results[j], r.o.TooMuch, r.length)
		}
		if steps++; steps <= 12 {
			r.tell(len(of))
		}
	}
	return nil
}

// about returns the options that replay the time about a fault, and how long after
// their beginning it comes.
func (r *sweeping) about(at time.Duration) (replay.Options, time.Duration) {
	o := r.quiet
	const before, after = 30 * time.Second, mostSettle + 10*time.Second
	lead := min(at, before)
	o.Part, o.Repeat = trace.Around(o.Part, at-lead, at+r.length+after), 0
	return o, lead
}

// step takes in what came of the last try and says what is tried next: first how long
// it takes until the backend is out, then twice as much until it is too much, then
// between what holds and what does not.
func (p *searchedPart) step(res *result.Replay, more float64, length time.Duration) {
	if !p.known {
		p.known = true // and the same is tried again
		if after := res.Faults[0].DetectedAfter; after != nil {
			p.settle = min(time.Duration(*after*1e9)+2*time.Second, mostSettle).Truncate(time.Second)
		}
		return
	}
	f := res.Faults[1].During
	tried := p.next
	if tried == leastLoad {
		p.limit.Undisturbed.Failed = f.ErrorRate
	}
	allowed := (p.limit.Undisturbed.Failed+more)*float64(f.Requests) + unlucky
	// p99 of a few requests is that of the slowest of them: it says nothing of the load.
	usual := p.limit.Undisturbed.ElapsedP99
	if usual == 0 && f.Requests >= enough {
		p.limit.Undisturbed.P99, p.limit.Undisturbed.ElapsedP99 = f.Latency.P99, f.Elapsed.P99
	}
	if float64(f.Failed) > allowed || usual > 0 && f.Elapsed.P99 > slower*usual {
		p.high, p.limit.Failed, p.limit.P99, p.limit.ElapsedP99 = tried, f.ErrorRate, f.Latency.P99, f.Elapsed.P99
	} else {
		p.low, p.limit.Load, p.limit.Rate = tried, tried, float64(f.Requests)/length.Seconds()
	}
	switch {
	case p.high == 0 && tried*2 > mostLoad, p.high > 0 && p.high <= p.low*nearEnough:
		p.next = 0
	case p.high == 0:
		p.next = tried * 2
	default:
		p.next = math.Sqrt(p.low * p.high)
	}
	if p.next == 0 && p.high > 0 {
		high := p.high
		p.limit.TooMuch = &high
	}
}
