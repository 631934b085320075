package study

import (
	"slices"
	"time"
)

// mostShrunk is how many findings of different families are made smaller: the smallest of all need
// not be the one that was the smallest when it was found.
const mostShrunk = 3

// shrinkSteps are the parts of what is left of a length or severity that are tried, in this order,
// each as long as it succeeds: the last is within the distance that a result may be off.
var shrinkSteps = []float64{0.5, 0.8, 0.93}

// placements is how many moments are tried for a shorter fault: its beginning, its end, and
// others, as it may have to meet a phase of the probe.
const placements = 6

// shrinkFound makes the findings smaller, looks for smaller ones of other families, and fills in
// the result.
func (h *hunting) shrinkFound() error {
	h.found = h.distinct(h.found)
	for _, f := range h.found[:min(len(h.found), mostShrunk)] {
		if err := h.shrink(f); err != nil {
			return err
		}
	}
	for round := 0; round < mostShrunk && len(h.found) > 0 && h.mayGoOn(); round++ {
		found, err := h.smallerElsewhere()
		if err != nil {
			return err
		}
		if !found {
			break
		}
	}
	return h.report()
}

// distinct returns the smallest finding of each family, the smallest first.
func (h *hunting) distinct(all []*finding) (out []*finding) {
	slices.SortStableFunc(all, func(a, b *finding) int { return smaller(a.trial, b.trial) })
	seen := map[string]bool{}
	for _, f := range all {
		if key := f.trial.family(); !seen[key] {
			seen[key] = true
			out = append(out, f)
		}
	}
	return out
}

// shrinking is one finding that becomes smaller.
type shrinking struct {
	*hunting
	of    *finding
	seeds func(k int) uint64 // with which all steps are judged
}

// shrink makes a finding smaller as long as it stays broken: fewer parts, shorter, milder, later.
func (h *hunting) shrink(f *finding) error {
	h.phase = "shrink"
	s := &shrinking{hunting: h, of: f, seeds: h.freshSeeds()}
	for range 3 {
		before := f.trial.size()
		for _, step := range []struct {
			what string
			do   func() error
		}{{"fewer", s.fewer}, {"shorter", s.shorter}, {"milder", s.milder}, {"later", s.later}} {
			from, began := f.trial, h.out.Replays
			if err := step.do(); err != nil {
				return err
			}
			if f.trial != from {
				f.steps = append(f.steps, ShrinkStep{What: step.what, From: from.failure(), To: f.trial.failure(), Replays: h.out.Replays - began})
			}
			if h.ctx.Err() != nil || h.o.Stop(1) {
				return nil
			}
		}
		if f.trial.size() == before || s.left() == 0 {
			break
		}
	}
	return nil
}

// try takes a trial instead of the finding's if it is broken, with the scenario's own seed as well.
func (s *shrinking) try(c *trial) (bool, error) {
	if s.left() == 0 || s.ctx.Err() != nil || c.key() == s.of.trial.key() {
		return false, nil
	}
	done, err := s.run([]tryJob{{trial: c, seed: s.o.Replay.Seed}})
	if err != nil || len(done) == 0 || !done[0].of.broken {
		return false, err
	}
	v, err := s.judge(c, s.seeds, false)
	if err != nil || !v.broken {
		return false, err
	}
	s.of.trial, s.of.last = c, v
	s.of.trail = append(s.of.trail, c)
	return true, nil
}

// fewer takes out faults, the load factor and backends.
func (s *shrinking) fewer() error {
	for i := 0; i < len(s.of.trial.faults) && s.of.trial.parts() > 1; {
		c := s.of.trial.clone()
		c.faults = slices.Delete(c.faults, i, i+1)
		if ok, err := s.try(c); err != nil {
			return err
		} else if !ok {
			i++
		}
	}
	if t := s.of.trial; t.load > 1 && len(t.faults) > 0 {
		c := t.clone()
		c.load = 1
		if _, err := s.try(c); err != nil {
			return err
		}
	}
	for i := range s.of.trial.faults {
		for k := 0; k < len(s.of.trial.faults[i].backends) && len(s.of.trial.faults[i].backends) > 1; {
			c := s.of.trial.clone()
			c.faults[i].backends = slices.Delete(slices.Clone(c.faults[i].backends), k, k+1)
			if ok, err := s.try(c); err != nil {
				return err
			} else if !ok {
				k++
			}
		}
	}
	return nil
}

// shorter shortens each fault.
func (s *shrinking) shorter() error {
	for i := range s.of.trial.faults {
		for _, part := range shrinkSteps {
			for {
				ok, err := s.shorten(i, part)
				if err != nil {
					return err
				}
				if !ok {
					break
				}
			}
		}
	}
	return nil
}

// shorten tries a part of the length of a fault at several moments.
func (s *shrinking) shorten(i int, part float64) (bool, error) {
	was := s.of.trial.faults[i]
	long := rounded(time.Duration(float64(was.long) * part))
	if long >= was.long || long < shortestFault {
		return false, nil
	}
	room := was.long - long
	every := interval(s.config, was.backends)
	for k := range placements {
		c := s.of.trial.clone()
		f := &c.faults[i]
		switch f.long = long; {
		case k == 1:
			f.at += room
		case k == 2:
			f.at += room / 2
		case k > 2:
			f.at += time.Duration((2*s.unit() - 1) * float64(every))
		}
		s.placed(f)
		if ok, err := s.try(c); ok || err != nil {
			return ok, err
		}
	}
	return false, nil
}

// milder lowers the severity of each fault, and the load.
func (s *shrinking) milder() error {
	for i := range s.of.trial.faults {
		for _, part := range shrinkSteps {
			for {
				c := s.of.trial.clone()
				f := &c.faults[i]
				was := f.severity()
				if s.severer(f, part); f.severity() >= was {
					break
				}
				if ok, err := s.try(c); err != nil {
					return err
				} else if !ok {
					break
				}
			}
		}
	}
	for _, part := range shrinkSteps {
		for s.of.trial.load > 1 {
			c := s.of.trial.clone()
			if c.load = s.loadOf((c.load - 1) * part); c.load >= s.of.trial.load {
				break
			}
			if ok, err := s.try(c); err != nil {
				return err
			} else if !ok {
				break
			}
		}
	}
	return nil
}

// later has the faults begin later, all by the same time.
func (s *shrinking) later() error {
	for _, part := range []time.Duration{2, 4, 8} {
		if len(s.of.trial.faults) == 0 {
			return nil
		}
		last := time.Duration(0)
		for _, f := range s.of.trial.faults {
			last = max(last, f.at+f.long)
		}
		by := ((s.end - last) / part).Round(startPrecision)
		if by < time.Second {
			return nil
		}
		c := s.of.trial.clone()
		for i := range c.faults {
			c.faults[i].at += by
		}
		if _, err := s.try(c); err != nil {
			return err
		}
	}
	return nil
}

// smallerElsewhere tries failures of other kinds and targets that are smaller than the smallest
// found, and reports whether one of them is broken and smaller still when it is shrunk.
func (h *hunting) smallerElsewhere() (bool, error) {
	h.phase = "smaller"
	slices.SortStableFunc(h.found, func(a, b *finding) int { return smaller(a.trial, b.trial) })
	best := h.found[0].trial
	var trials []armTrial
	for _, a := range h.arms(best.parts()) {
		for range 2 {
			if t := h.shortened(h.draw(a, false), best); t.family() != best.family() && len(t.faults) == len(best.faults) && smaller(t, best) < 0 {
				trials = append(trials, armTrial{t, a})
			}
		}
	}
	if err := h.tryAll(trials, h.o.Replay.Seed); err != nil || h.ctx.Err() != nil {
		return false, err
	}
	trials = slices.DeleteFunc(trials, func(t armTrial) bool { return t.tries == 0 || t.broken < t.tries })
	slices.SortStableFunc(trials, func(a, b armTrial) int { return smaller(a.trial, b.trial) })
	for _, t := range trials[:min(len(trials), confirmable)] {
		h.phase = "confirm"
		if ok, err := h.confirm(t.trial); err != nil {
			return false, err
		} else if !ok {
			continue
		}
		f := h.found[len(h.found)-1]
		if err := h.shrink(f); err != nil {
			return false, err
		}
		return smaller(f.trial, best) < 0, nil
	}
	return false, nil
}

// shortened shortens the faults of a trial until they last less together than those of another.
func (h *hunting) shortened(t, than *trial) *trial {
	var own, limit time.Duration
	for i := range t.faults {
		own += t.faults[i].long
	}
	for i := range than.faults {
		limit += than.faults[i].long
	}
	limit = limit * 3 / 4
	for i := range t.faults {
		if own > limit {
			t.faults[i].long = time.Duration(float64(t.faults[i].long) * float64(limit) / float64(own))
		}
		h.placed(&t.faults[i])
	}
	return t
}

// report confirms what was found with fresh seeds, and fills in the result, the smallest first.
func (h *hunting) report() error {
	h.phase = "report"
	h.found = h.distinct(h.found)
	for _, f := range h.found {
		if h.out.Found != nil && (len(h.out.Others) >= mostShrunk || h.left() < confirmSeeds) {
			break
		}
		w, err := h.confirmed(f)
		switch {
		case err != nil:
			return err
		case h.out.Found == nil:
			h.out.Found = w
			if h.left() > 0 && h.ctx.Err() == nil {
				if h.out.FoundReplay, err = h.replay(h.shown, h.o.Replay.Seed); err != nil {
					return err
				}
			}
		default:
			h.out.Others = append(h.out.Others, *w)
		}
	}
	return nil
}

// confirmed returns the smallest step of a finding that is broken with fresh seeds, described. Where
// the end comes before that is known, it returns the latest step with the seeds that it has met.
func (h *hunting) confirmed(f *finding) (*Weakness, error) {
	for i := len(f.trail) - 1; i >= 0; i-- {
		v, err := h.judge(f.trail[i], h.freshSeeds(), true)
		if err != nil {
			return nil, err
		}
		if v.broken {
			return h.weakness(f, f.trail[i], v)
		}
		if h.ctx.Err() != nil {
			h.out.Notes = append(h.out.Notes, "stopped before fresh seeds confirmed the last steps of shrinking")
			return h.weakness(f, f.trial, f.last)
		}
		if h.left() == 0 {
			break
		}
	}
	return h.weakness(f, f.trail[0], f.first)
}

// weakness describes what was found.
func (h *hunting) weakness(f *finding, t *trial, v verdict) (*Weakness, error) {
	e := &h.scenario.Expects[v.expectation]
	w := &Weakness{Failure: t.failure(), Expectation: e.Name, That: e.Text, Broken: v.brokenSeeds, Needed: v.needed, Seeds: v.seeds, Shrunk: f.steps, CalmP99: h.base.Elapsed.P99}
	if w.Shrunk == nil {
		w.Shrunk = []ShrinkStep{}
	}
	var more, rates, p99s []float64
	for _, j := range v.of {
		calm, err := h.calmOf(j.seed)
		if err != nil {
			return nil, err
		}
		failed := float64(h.base.Failed + h.base.ClientLeft) // where no replay is left for it
		if calm != nil {
			failed = calm.failed
		}
		more, rates, p99s = append(more, j.of.failed-failed), append(rates, j.of.rate), append(p99s, j.of.p99)
	}
	w.MoreLow, w.FailedMore, w.MoreHigh = rangeOf(more)
	_, w.ErrorRate, _ = rangeOf(rates)
	_, w.ElapsedP99, _ = rangeOf(p99s)
	w.Scenario = string(h.scenario.WithFaults(t.load, h.faultsOf(t)))
	h.shown = t
	if t != f.trial {
		w.Shrunk = append(w.Shrunk, ShrinkStep{What: "taken back", From: f.trial.failure(), To: t.failure(), Replays: v.seeds})
	}
	return w, nil
}
