package study

import (
	"cmp"
	"context"
	"slices"
	"strings"

	"kestrix/internal/core/config"
	"kestrix/internal/core/ingest"
	"kestrix/internal/core/replay"
	"kestrix/internal/core/result"
	"kestrix/internal/core/scenario"
)

// worthDiagnosing is from how many failures on, and from which part of the requests, a
// replay is asked why; and from which part of the time at backends that is spent waiting.
const (
	worthDiagnosing = 5
	worthShare      = 0.0005
	worthWaiting    = 0.10
)

// WorthDiagnosing reports whether Diagnose would look for anything.
func WorthDiagnosing(c *config.Config, s *scenario.Scenario, base *result.Replay) bool {
	return len(patients(c, s, base)) > 0
}

// patients returns the upstreams in which requests failed or waited, those that suffer most
// first.
func patients(c *config.Config, s *scenario.Scenario, base *result.Replay) (all []patient) {
	for _, u := range c.Upstreams {
		if p := (patient{config: c, scenario: s, upstream: u, base: base}); p.suffers() {
			all = append(all, p)
		}
	}
	slices.SortStableFunc(all, func(a, b patient) int { return cmp.Compare(b.harm(base).Failed, a.harm(base).Failed) })
	return all
}

// Diagnose replays with one thing changed at a time and returns what that says of why
// requests failed or waited; nil if none did. base is the replay of what is to be explained.
// The error is that of reading the trace.
func Diagnose(ctx context.Context, c *config.Config, s *scenario.Scenario, sources []ingest.Source, o replay.Options, base *result.Replay) (*result.Diagnosis, error) {
	o.Leave, o.Observe = 0, nil
	all := patients(c, s, base)
	if len(all) == 0 {
		return nil, nil
	}
	all = all[:min(len(all), mostPatients)] // more of them than a reader would read about cost replays for nothing
	d := &result.Diagnosis{Causes: []result.Diagnosed{}}
	for i := range all {
		p := &all[i]
		p.try()
		results, err := replay.RunAll(ctx, p.cases, sources, o)
		if err != nil {
			return nil, err
		}
		if ctx.Err() != nil {
			d.Note = "it was stopped"
			return d, nil
		}
		d.Replays += len(results)
		p.results = results
		d.Causes = append(d.Causes, p.conclude()...)
	}
	slices.SortStableFunc(d.Causes, func(a, b result.Diagnosed) int {
		return cmp.Compare(b.Before.Failed-b.With.Failed, a.Before.Failed-a.With.Failed)
	})
	d.Unclear = len(d.Causes) == 0
	return d, nil
}

// mostPatients is in how many upstreams causes are looked for.
const mostPatients = 3

// patient is an upstream some of whose requests failed or waited, and what was tried on it.
type patient struct {
	config   *config.Config
	scenario *scenario.Scenario
	upstream *config.Upstream
	base     *result.Replay
	cases    []replay.Case
	results  []*result.Replay
	tried    map[string]int // place in cases, by the name of the trial
}

// suffers reports whether it is worth asking why.
func (p *patient) suffers() bool {
	u := p.base.Upstreams[p.upstream.Name]
	if u == nil || u.Requests == 0 {
		return false
	}
	lost := u.Failed + u.ClientLeft
	if lost >= worthDiagnosing && float64(lost) >= worthShare*float64(u.Requests) {
		return true
	}
	waited, worked := 0.0, 0.0
	for name, b := range u.Backends {
		waited += b.QueuedSeconds
		worked += b.Busy * p.base.Duration * float64(p.scenario.Behaviour(p.upstream.Name+"."+name).Workers)
	}
	return waited > worthWaiting*(waited+worked)
}

// harm returns what the upstream's requests met.
func (p *patient) harm(r *result.Replay) result.Harm {
	u := r.Upstreams[p.upstream.Name]
	if u == nil {
		return result.Harm{}
	}
	return result.Harm{Requests: u.Requests, Failed: u.Failed + u.ClientLeft, ElapsedP99: u.Elapsed.P99}
}

// after returns what the requests met that came after the end of the last fault, of all
// upstreams; nothing if no fault ends.
func after(r *result.Replay) result.Harm {
	var last *result.Fault
	for i := range r.Faults {
		f := &r.Faults[i]
		if f.Until == nil || !f.Began {
			return result.Harm{After: true}
		}
		if last == nil || *f.Until > *last.Until {
			last = f
		}
	}
	if last == nil {
		return result.Harm{After: true}
	}
	x := last.After
	return result.Harm{Requests: x.Requests, Failed: x.Failed + x.ClientLeft, ElapsedP99: x.Elapsed.P99, After: true}
}

// with adds a trial: the replay with an upstream that is changed, or another scenario; nil
// leaves either as it is.
func (p *patient) with(name string, change func(*config.Upstream), other func(*scenario.Scenario)) {
	x := replay.Case{Config: p.config, Scenario: p.scenario}
	if change != nil {
		a := Axes{Upstreams: []string{p.upstream.Name}}
		x.Config = a.with(p.config, func(u *config.Upstream) *config.Upstream {
			y := *u
			change(&y)
			return &y
		})
	}
	if other != nil {
		y := *p.scenario
		y.Faults, y.Behaviours = slices.Clone(y.Faults), slices.Clone(y.Behaviours)
		other(&y)
		x.Scenario = &y
	}
	p.add(name, x)
}

func (p *patient) add(name string, c replay.Case) {
	if p.tried == nil {
		p.tried = map[string]int{}
	}
	p.tried[name] = len(p.cases)
	p.cases = append(p.cases, c)
}

// struck returns the backends of the upstream that a fault strikes.
func (p *patient) struck(f *scenario.Fault) []string {
	var out []string
	for _, b := range p.upstream.Backends {
		name := p.upstream.Name + "." + b.Name
		if slices.ContainsFunc(f.Backends, func(x config.Placed[string]) bool { return scenario.Fits(x.Value, name) }) {
			out = append(out, name)
		}
	}
	return out
}

// faulty returns the kinds of the faults that strike the upstream.
func (p *patient) faulty() (kinds []string) {
	for i := range p.scenario.Faults {
		if f := &p.scenario.Faults[i]; len(p.struck(f)) > 0 {
			kinds = append(kinds, f.Kind)
		}
	}
	return kinds
}

// contrast is how a trial stands against what is to be explained.
type contrast struct {
	before, with result.Harm
	ok           bool // it was tried
}

// trial returns how a trial came out, for all requests of the upstream.
func (p *patient) trial(name string) contrast {
	i, ok := p.tried[name]
	if !ok {
		return contrast{}
	}
	return contrast{p.harm(p.base), p.harm(p.results[i]), true}
}

// trialAfter is trial for the requests that came after the last fault.
func (p *patient) trialAfter(name string) contrast {
	i, ok := p.tried[name]
	if !ok {
		return contrast{}
	}
	return contrast{after(p.base), after(p.results[i]), true}
}

// fewer reports whether at least a part of the failures are not there in a trial.
func (x contrast) fewer(part float64) bool {
	saved := x.before.Failed - x.with.Failed
	return x.ok && saved >= worthDiagnosing && float64(saved) >= part*float64(x.before.Failed)
}

// sooner reports whether requests end in a part of the time in a trial, and no more of them
// fail.
func (x contrast) sooner(part float64) bool {
	return x.ok && x.with.ElapsedP99 <= part*x.before.ElapsedP99 && x.with.Failed <= x.before.Failed+x.before.Failed/10
}

// behaviours gives each backend of the upstream a changed behaviour of its own.
func (p *patient) behaviours(s *scenario.Scenario, change func(*scenario.Behaviour)) {
	for _, b := range p.upstream.Backends {
		x := p.scenario.Behaviour(p.upstream.Name + "." + b.Name)
		x.Pattern = p.upstream.Name + "." + b.Name
		change(&x)
		s.Behaviours = append(s.Behaviours, x)
	}
}

// onlyOneOf has each fault that strikes several backends of the upstream strike the first
// of them.
func (p *patient) onlyOneOf(s *scenario.Scenario) {
	for i := range s.Faults {
		f := &s.Faults[i]
		if all := p.struck(f); len(all) > 1 {
			f.Backends = []config.Placed[string]{{Value: all[0]}}
		}
	}
}

// zones returns the zones of which a fault strikes all backends of the upstream, and more
// than one.
func (p *patient) zones() (out []string) {
	for i := range p.scenario.Faults {
		all := p.struck(&p.scenario.Faults[i])
		of := map[string]int{}
		for _, b := range p.upstream.Backends {
			if slices.Contains(all, p.upstream.Name+"."+b.Name) {
				of[b.Zone]++
			}
		}
		for zone, n := range of {
			whole := 0
			for _, b := range p.upstream.Backends {
				if b.Zone == zone {
					whole++
				}
			}
			if zone != "" && n > 1 && n == whole && len(all) == n {
				out = append(out, zone)
			}
		}
	}
	slices.Sort(out)
	return out
}

// exposed counts the requests that ran into faults of the upstream's backends, and failed.
func (p *patient) exposed(r *result.Replay) (failed int64) {
	for _, f := range r.Faults {
		if slices.ContainsFunc(f.Backends, func(b string) bool { return strings.HasPrefix(b, p.upstream.Name+".") }) {
			failed += f.ExposedFailed
		}
	}
	return failed
}
