package study

import (
	"slices"
	"time"
)

// mostOthers is how many larger findings of other families are reported.
const mostOthers = 3

// shrinkSteps are the parts of what is left of a length or severity that are tried, in this order,
// each as long as it succeeds: the last is within the distance that a result may be off.
var shrinkSteps = []float64{0.5, 0.8, 0.93}

// inVain is after how many rounds without a smaller failure the hunt ends.
const inVain = 10

// ofFamily is how many trials of its own family are made in each round, to make a failure smaller
// that has to change in two properties at once.
const ofFamily = 40

// promisingArms is how many other families are tried in each round, and how many at random.
const promisingArms = 12

// placements is how many moments are tried for a shorter fault: its beginning, its end, and
// others, as it may have to meet a phase of the probe.
const placements = 8

// shrinkFound makes the findings smaller, looks for smaller ones of other families, and fills in
// the result.
func (h *hunting) shrinkFound() error {
	h.found = h.distinct(h.found)
	if len(h.found) > 0 {
		if err := h.shrink(h.found[0]); err != nil {
			return err
		}
	}
	for in := 0; in < inVain && len(h.found) > 0 && h.mayGoOn(1); {
		found, err := h.smallerElsewhere()
		if err != nil {
			return err
		}
		if in++; found {
			in = 0
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
				return h.settle(f)
			}
		}
		if f.trial.size() == before || s.left() == 0 {
			break
		}
	}
	return h.settle(f)
}

// settle has fresh seeds judge the last step of shrinking, and takes steps back until one of them
// is broken: the seeds that judged the steps chose them as well.
func (h *hunting) settle(f *finding) error {
	h.phase, h.settling = "confirm", true
	defer func() { h.settling = false }()
	last := f.trial
	for i := len(f.trail) - 1; i > 0; i-- {
		v, err := h.judge(f.trail[i], h.freshSeeds(), true)
		if err != nil {
			return err
		}
		if v.broken {
			f.trial, f.sure, f.trail = f.trail[i], v, f.trail[:i+1]
			break
		}
		f.trial = f.trail[i-1] // the first one has been confirmed before
	}
	if f.trial != last && h.ctx.Err() != nil {
		h.out.Notes = append(h.out.Notes, "stopped before fresh seeds judged the last steps of making it smaller; these steps were taken back")
	}
	if f.trial != last {
		f.steps = append(f.steps, ShrinkStep{What: "taken back", From: last.failure(), To: f.trial.failure()})
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
	s.of.trial = c
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

// shorter shortens all faults together, and then each.
func (s *shrinking) shorter() error {
	if len(s.of.trial.faults) > 1 {
		if _, err := s.try(s.overlap()); err != nil {
			return err
		}
		for _, part := range shrinkSteps {
			for {
				ok, err := s.shortenAll(part)
				if err != nil {
					return err
				}
				if !ok {
					break
				}
			}
		}
	}
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

// shortenAll tries a part of the length of all faults at several moments.
func (s *shrinking) shortenAll(part float64) (bool, error) {
	for k := range placements / 2 {
		c := s.of.trial.clone()
		by := time.Duration(0)
		if first := c.faults[0].at; k > 0 {
			by = time.Duration(s.unit()*float64(s.end-s.longest)) - first
		}
		for i := range c.faults {
			c.faults[i].long = time.Duration(float64(c.faults[i].long) * part)
			c.faults[i].at += by
			s.placed(&c.faults[i])
		}
		if ok, err := s.try(c); ok || err != nil {
			return ok, err
		}
	}
	return false, nil
}

// overlap returns the finding's trial with the time alone in which all its faults last; as it is if
// there is none.
func (s *shrinking) overlap() *trial {
	c := s.of.trial.clone()
	from, until := time.Duration(0), s.end
	for _, f := range c.faults {
		from, until = max(from, f.at), min(until, f.at+f.long)
	}
	for i := range c.faults {
		if until-from >= shortestFault {
			c.faults[i].at, c.faults[i].long = from, until-from
			s.placed(&c.faults[i])
		}
	}
	return c
}

// shorten tries a part of the length of a fault at several moments, and as severe as may be: to be
// shorter counts more than to be milder.
func (s *shrinking) shorten(i int, part float64) (bool, error) {
	was := s.of.trial.faults[i]
	long := rounded(time.Duration(float64(was.long) * part))
	if long >= was.long || long < shortestFault {
		return false, nil
	}
	room := was.long - long
	every := interval(s.config, was.backends)
	for k := range placements + 2 {
		c := s.of.trial.clone()
		f := &c.faults[i]
		if k >= placements {
			if s.severer(f, 2); c.load > 1 {
				c.load = s.o.MostLoad
			}
			if c.load == s.of.trial.load && f.severity() == was.severity() {
				break // it is already
			}
		}
		switch f.long = long; {
		case k == 1:
			f.at += room
		case k == 2:
			f.at += room / 2
		case k > 2 && k < placements-2:
			f.at += time.Duration((2*s.unit() - 1) * float64(every))
		case k > 2 && k != placements: // with the other faults, if there are any
			by := time.Duration(s.unit()*float64(s.end-long)) - f.at
			for i := range c.faults {
				c.faults[i].at += by
				s.placed(&c.faults[i])
			}
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

// smallerElsewhere tries failures that are smaller than the smallest found, of all kinds and targets
// and more of its own, and reports whether one of them is broken.
func (h *hunting) smallerElsewhere() (bool, error) {
	h.phase = "smaller"
	slices.SortStableFunc(h.found, func(a, b *finding) int { return smaller(a.trial, b.trial) })
	best := h.found[0].trial
	var trials []armTrial
	add := func(t *trial, a *arm) {
		if t = h.shortened(t, best); t.parts() == best.parts() && smaller(t, best) < 0 {
			trials = append(trials, armTrial{t, a})
		}
	}
	for _, a := range h.promising(best.parts(), promisingArms) {
		add(h.draw(a, false), a)
		if len(a.elements) == len(best.faults) {
			add(h.likened(a, best, false), a)
			add(h.likened(a, best, true), a)
		}
	}
	own := &arm{} // what is known of it is the finding
	for range ofFamily {
		add(h.redrawn(best), own)
	}
	all := h.arms(best.parts())
	for range promisingArms {
		a := all[h.below(len(all))]
		add(h.draw(a, false), a)
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
		return true, h.shrink(h.found[len(h.found)-1])
	}
	return false, nil
}

// likened returns a trial of an arm with the moments and load of another, or with all faults at
// once.
func (h *hunting) likened(a *arm, to *trial, atOnce bool) *trial {
	c := to.clone()
	for i, e := range a.elements {
		c.faults[i] = h.worst(&h.elements[e])
		f := &c.faults[i]
		if f.at, f.long = to.faults[i].at, to.faults[i].long; atOnce {
			f.at, f.long = to.faults[0].at, to.lasts()/time.Duration(len(to.faults))
		}
		h.severity(f)
		h.placed(f)
	}
	if c.load > 1 {
		c.load = h.o.MostLoad
	}
	return c
}

// redrawn returns a trial of the kinds and targets of another, with other moments and severities.
func (h *hunting) redrawn(t *trial) *trial {
	c := t.clone()
	for i := range c.faults {
		f := &c.faults[i]
		f.at += time.Duration((2*h.unit() - 1) * float64(interval(h.config, f.backends)))
		if h.unit() < 0.5 {
			f.at = time.Duration(h.unit() * float64(h.end-f.long))
		}
		if h.unit() < 0.75 {
			h.severity(f)
		}
		h.placed(f)
	}
	if c.load > 1 && h.unit() < 0.5 {
		c.load = h.o.MostLoad // with which it may be shorter
	}
	return c
}

// shortened shortens the faults of a trial until they last less together than those of another.
func (h *hunting) shortened(t, than *trial) *trial {
	own, limit := t.lasts(), than.lasts()*3/4
	for i := range t.faults {
		if own > limit {
			t.faults[i].long = time.Duration(float64(t.faults[i].long) * float64(limit) / float64(own))
		}
		h.placed(&t.faults[i])
	}
	return t
}

// report fills in the result, the smallest failure first.
func (h *hunting) report() error {
	h.phase, h.settling = "report", true
	h.found = h.distinct(h.found)
	for i, f := range h.found[:min(len(h.found), 1+mostOthers)] {
		w, err := h.weakness(f)
		if err != nil {
			return err
		}
		if i > 0 {
			h.out.Others = append(h.out.Others, *w)
			continue
		}
		h.out.Found = w
		if h.left() > 0 && h.ctx.Err() == nil {
			if h.out.FoundReplay, err = h.replay(f.trial, w.Seed); err != nil {
				return err
			}
		}
	}
	return nil
}

// weakness describes what was found.
func (h *hunting) weakness(f *finding) (*Weakness, error) {
	t, v := f.trial, f.sure
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
	seed, err := h.showing(t, v)
	if err != nil {
		return nil, err
	}
	other := *h.scenarioOf(t)
	w.Seed, other.Seed, other.Instances = seed, seed, h.instances()
	w.Scenario = string(h.scenario.With(&other, h.faultsOf(t)))
	return w, nil
}

// showing returns a seed with which a trial breaks its expectation: the scenario's own if that is
// one, else the first of those that confirmed it.
func (h *hunting) showing(t *trial, v verdict) (uint64, error) {
	own := h.o.Replay.Seed
	done, err := h.run([]tryJob{{trial: t, seed: own}})
	if err != nil || len(done) == 1 && done[0].of.scores[v.expectation].Broken {
		return own, err
	}
	for _, j := range v.of {
		if j.of.scores[v.expectation].Broken {
			return j.seed, nil
		}
	}
	return own, nil // cannot be: it was confirmed
}
