package cli

import (
	"context"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"kestrix/internal/core/ingest"
	"kestrix/internal/core/replay"
	"kestrix/internal/core/scenario"
	"kestrix/internal/core/study"
	"kestrix/internal/report"
)

// scenarioFiles lists the scenarios that -scenario names: files, and those of folders
// in the order of their names.
func scenarioFiles(names []string) ([]string, error) {
	var out []string
	for _, name := range names {
		info, err := os.Stat(name)
		if err != nil || !info.IsDir() {
			out = append(out, name) // whoever reads it says what is wrong
			continue
		}
		entries, err := os.ReadDir(name)
		if err != nil {
			return nil, unusable(fmt.Errorf("%s cannot be read: %w", name, reason(err)))
		}
		found := false
		for _, e := range entries {
			if !e.IsDir() && strings.HasSuffix(e.Name(), ".scenario.hcl") {
				found = true
				out = append(out, filepath.Join(name, e.Name()))
			}
		}
		if !found {
			return nil, unusable(fmt.Errorf("%s: no .scenario.hcl file is in this folder", name))
		}
	}
	return out, nil
}

// sideBySide is how many scenarios are replayed from one reading of the trace.
const sideBySide = 8

// runScenarios replays several scenarios and sums up what was expected of them.
func runScenarios(ctx context.Context, env *Env, o *output, r *replayFlags, junit bool, files, args, with []string) error {
	if err := r.check(); err != nil {
		return err
	}
	s, err := usable(env, args[0], with)
	if err != nil {
		return err
	}
	m, err := gatherScenarios(env, s, r, files, args)
	if err != nil {
		return err
	}
	sources, traces, remove, err := rereadable(ctx, env, args[1:])
	defer remove()
	if err != nil {
		return err
	}
	p := newProgress(env, "replay")
	for from := 0; from < len(m.traced) && ctx.Err() == nil; from += sideBySide {
		if err := m.run(ctx, p, traces, m.traced[from:min(from+sideBySide, len(m.traced))], sources); err != nil {
			return err
		}
	}
	for _, i := range m.loaded {
		if ctx.Err() == nil {
			if err := m.run(ctx, p, traces, []int{i}, nil); err != nil {
				return err
			}
		}
	}
	for _, i := range m.repeated {
		of := sources
		if m.scenarios[i].Load != nil {
			of = nil
		}
		if ctx.Err() == nil {
			if err := m.repeat(ctx, p, i, of); err != nil {
				return err
			}
		}
	}
	p.clear()
	return judgeAll(ctx, env, o, junit, bases(args[:1], args[1:], ""), m)
}

// many are scenarios that are replayed with one configuration.
type many struct {
	source         *source
	flags          *replayFlags
	held           []report.Held
	scenarios      []*scenario.Scenario
	judges         []judging
	traced, loaded []int // which of them replay the trace, and which make their own load
	repeated       []int // which are replayed with several seeds, and in neither of these
}

// gatherScenarios reads the scenarios, or takes none at all for one.
func gatherScenarios(env *Env, s *source, r *replayFlags, files, args []string) (*many, error) {
	m := &many{source: s, flags: r, held: make([]report.Held, len(files)), scenarios: make([]*scenario.Scenario, len(files))}
	if len(files) == 0 {
		m.held, m.scenarios, m.traced = make([]report.Held, 1), []*scenario.Scenario{scenario.None()}, []int{0}
		m.held[0].Scenario = "no scenario"
	}
	for i, name := range files {
		sc, err := readScenario(env, name, s.config)
		if err != nil {
			return nil, err
		}
		m.scenarios[i], m.held[i].Scenario = sc, filepath.Base(name)
		if sc.Load != nil {
			m.loaded = append(m.loaded, i)
		} else if m.traced = append(m.traced, i); len(args) < 2 {
			return nil, usage("a trace is required after %s, for %s has no load block that would make requests", args[0], name)
		}
		if err := rehearseExpectations(env, s, sc, r); err != nil {
			return nil, err
		}
	}
	if len(m.traced) == 0 && len(args) > 1 {
		return nil, usage("all of these scenarios have a load that makes the requests; leave %s out", args[1])
	}
	for _, i := range m.loaded {
		one := *r
		if one.scenario = files[i]; len(m.traced) > 0 {
			one.ofTraces = nil // they are for the others
		}
		if err := one.checkLoad(m.scenarios[i]); err != nil {
			return nil, err
		}
	}
	for i, sc := range m.scenarios {
		if m.judges = append(m.judges, judging{judge: sc.Judge()}); sc.Seeds() > 1 {
			m.repeated = append(m.repeated, i)
		}
	}
	several := func(i int) bool { return m.scenarios[i].Seeds() > 1 }
	m.traced, m.loaded = slices.DeleteFunc(m.traced, several), slices.DeleteFunc(m.loaded, several)
	return m, nil
}

// run replays some of the scenarios side by side.
func (m *many) run(ctx context.Context, p *progress, traces []string, group []int, sources []ingest.Source) error {
	var cases []replay.Case
	for _, i := range group {
		c := replay.Case{Config: m.source.config, Scenario: m.scenarios[i], Seed: m.scenarios[i].Seed}
		if m.flags.seed.given {
			c.Seed = m.flags.seed.value
		}
		cases = append(cases, c)
	}
	opt := m.flags.o
	if opt.Seed = 0; len(cases) == 1 { // which is what a case without a seed falls back on
		opt.Seed = cases[0].Seed
	}
	opt.Progress = p.of(m.scenarios[group[0]], traces)
	results, err := replay.RunAll(ctx, cases, sources, opt)
	if err != nil {
		return unusable(err)
	}
	for k, i := range group {
		m.held[i].Result = results[k]
		m.judges[i].hear(results[k])
	}
	return nil
}

// repeat replays one of the scenarios with all the seeds that its expectations ask for.
func (m *many) repeat(ctx context.Context, p *progress, i int, sources []ingest.Source) error {
	sc, opt := m.scenarios[i], m.flags.o
	if opt.Seed = sc.Seed; m.flags.seed.given {
		opt.Seed = m.flags.seed.value
	}
	res, err := study.AcrossSeeds(ctx, sc.Expand(m.source.config), sc, sources, opt, sc.Seeds(), m.judges[i].hear, p.steps)
	if err != nil {
		return unusable(err)
	}
	m.held[i].Result = res
	return nil
}

// judgeAll holds each result against what its scenario expects, and writes it.
func judgeAll(ctx context.Context, env *Env, o *output, junit bool, names []string, m *many) error {
	all := report.HeldAll{Names: names, Partial: ctx.Err() != nil, Scenarios: []report.Held{}}
	for i, h := range m.held {
		if h.Result == nil || h.Result.Partial {
			continue // half a replay meets or misses nothing
		}
		unmet, err := m.judges[i].settle(env, m.scenarios[i], h.Result)
		if err != nil {
			return err
		}
		h.NotMet, h.Met = unmet, len(h.Result.Expectations)-unmet
		all.Met, all.NotMet = all.Met+h.Met, all.NotMet+h.NotMet
		all.Scenarios = append(all.Scenarios, h)
	}
	err := o.write(env, func(w io.Writer) error {
		if o.format == "json" {
			return writeJSON(w, all)
		}
		if junit {
			text, err := report.HeldJUnit(&all)
			if err == nil {
				_, err = w.Write(text)
			}
			return err
		}
		_, err := io.WriteString(w, o.style(env).Held(&all))
		return err
	})
	switch {
	case err != nil:
		return err
	case all.Partial:
		return &exitError{interrupted, nil}
	case all.NotMet > 0:
		return &exitError{exitFound, nil}
	}
	return nil
}
