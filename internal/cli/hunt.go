package cli

import (
	"cmp"
	"context"
	"flag"
	"fmt"
	"io"
	"strings"
	"time"

	"kestrix/internal/core/scenario"
	"kestrix/internal/core/study"
	"kestrix/internal/report"
)

func huntCommand() *command {
	return &command{
		name: "hunt", group: "predict", args: "CONFIG [TRACE...]",
		summary: "search for the smallest failure that breaks an expectation",
		help: `
hunt searches for a failure with which an expectation of the -scenario is not met. It
varies the kind of fault, its target (backend, zone, dependency, proxy), beginning,
length and severity, and the load. It tries single failures first, then pairs and
sequences. In each round a third of the kinds and targets goes on to the next one.

An expectation counts as broken if it is not met with at least 8 of 9 fresh seeds, or by
its own seeds and share. hunt then makes the failure smaller as long as it stays broken:
fewer faults, shorter, milder, later. The result is a scenario file for kestrix replay.
Without a result the report lists the tried failures by number and kind.

The search is random, but the same -seed and -tries give the same result, however many
processors work on it. With -within the result depends on the speed of the machine.
A search without a result is no proof: failures that were not tried may break it.

exit code:
  0  no failure was found
  1  a failure was found
  2  wrong usage
  3  input that cannot be used

examples:
  kestrix hunt harbour.hcl -scenario rush.scenario.hcl
  kestrix hunt harbour.hcl morning.log -scenario promises.scenario.hcl -tries 5000
  kestrix hunt harbour.hcl morning.log -scenario promises.scenario.hcl -kinds refuse,hang -faults 1
  kestrix hunt harbour.hcl -scenario rush.scenario.hcl -write weakest.scenario.hcl`,
		setup: func(fs *flag.FlagSet) func(context.Context, *Env, []string) error {
			var f huntFlags
			f.out.define(fs)
			f.figures.define(fs)
			with := withFlag(fs)
			f.replay.define(fs)
			fs.StringVar(&f.kinds, "kinds", "", "`KINDS` of faults to try, comma-separated; all but park and drain when not given:\n"+strings.Join(huntKinds(), "\n"))
			fs.StringVar(&f.upstreams, "upstream", "", "`NAMES` of the upstreams whose backends fail, comma-separated; all when not given")
			fs.DurationVar(&f.o.For, "for", 0, "maximum `TIME` of a fault; one minute when not given, or a quarter of a short replay")
			fs.Float64Var(&f.o.MostLoad, "load-up-to", 1.5, "maximum `FACTOR` of the load; 1 leaves the load as it is")
			fs.IntVar(&f.o.Faults, "faults", 3, "maximum `NUMBER` of failures at once, from 1 to 3; a higher load counts as one")
			fs.IntVar(&f.o.Tries, "tries", 2000, "maximum `NUMBER` of replays")
			fs.DurationVar(&f.within, "within", 0, "maximum `TIME` of the search; confirming its result goes on after that. No limit when not given")
			fs.StringVar(&f.write, "write", "", "write the scenario with the failure to `FILE`")
			return func(ctx context.Context, env *Env, args []string) error {
				if err := f.check(); err != nil {
					return err
				}
				f.replay.given(fs)
				return f.run(ctx, env, args, *with)
			}
		},
	}
}

// huntKinds lists the faults that a hunt can try.
func huntKinds() []string {
	return scenario.FaultNames(func(k *scenario.FaultKind) bool { return k.Order != "weight" })
}

type huntFlags struct {
	out       output
	figures   figures
	replay    replayFlags
	kinds     string
	upstreams string
	within    time.Duration
	write     string
	o         study.HuntOptions
}

func (f *huntFlags) check() error {
	if err := cmp.Or(f.out.check(), f.figures.check(), places(f.write), f.replay.check()); err != nil {
		return err
	}
	f.o.Kinds, f.o.Upstreams = commas(f.kinds), commas(f.upstreams)
	if f.kinds == "" {
		f.o.Kinds = scenario.FaultNames(func(k *scenario.FaultKind) bool { return k.Order == "" })
	}
	if err := knownKinds(f.o.Kinds, huntKinds()); err != nil {
		return err
	}
	switch {
	case f.o.For < 0 || f.o.For > 24*time.Hour || f.o.For > 0 && f.o.For < time.Second:
		return usage("-for cannot be %s; from 1s to 24h", f.o.For)
	case !(f.o.MostLoad >= 1 && f.o.MostLoad <= 100):
		return usage("-load-up-to cannot be %g; from 1 to 100", f.o.MostLoad)
	case f.o.Faults < 1 || f.o.Faults > 3:
		return usage("-faults cannot be %d; from 1 to 3", f.o.Faults)
	case f.o.Tries < 1 || f.o.Tries > 1_000_000:
		return usage("-tries cannot be %d; from 1 to 1,000,000", f.o.Tries)
	case f.within < 0:
		return usage("-within cannot be %s; more than 0s", f.within)
	}
	return nil
}

func (f *huntFlags) run(ctx context.Context, env *Env, args, with []string) error {
	if err := f.replay.one(); err != nil {
		return err
	}
	switch {
	case len(args) < 1:
		return usage("a configuration and a scenario are required: kestrix hunt CONFIG [TRACE...] -scenario FILE")
	case f.replay.scenario == "":
		return usage("a scenario with expectations is required: kestrix hunt %s -scenario FILE", strings.Join(args, " "))
	}
	s, sc, err := f.replay.inputs(env, args[0], with)
	if err != nil {
		return err
	}
	if err := f.replay.fits(sc, args); err != nil {
		return err
	}
	if err := cmp.Or(knownUpstreams(s, f.o.Upstreams), rehearseExpectations(env, s, sc, &f.replay)); err != nil {
		return err
	}
	sources, _, remove, err := rereadable(ctx, env, args[1:])
	defer remove()
	if err != nil {
		return err
	}
	p := newProgress(env, "hunt")
	f.o.Names, f.o.Replay, f.o.Progress = bases(args[:1], args[1:], f.replay.scenario), f.replay.o, p.phases
	if began := time.Now(); f.within > 0 {
		f.o.Stop = func(part float64) bool { return time.Since(began) >= time.Duration(part*float64(f.within)) }
		p.limit = f.within
	}
	h, err := study.RunHunt(ctx, s.config, sc, sources, f.o)
	p.clear()
	if err != nil {
		return unusable(err)
	}
	return f.report(env, h)
}

// report writes the result, and the files that were asked for.
func (f *huntFlags) report(env *Env, h *study.Hunt) error {
	err := f.out.write(env, func(w io.Writer) error {
		if f.out.format == "json" {
			return writeJSON(w, h)
		}
		_, err := io.WriteString(w, f.out.style(env).Hunt(h, f.write))
		return err
	})
	if err == nil && f.write != "" && h.Found != nil {
		err = replaceFile(f.write, func(w io.Writer) error { _, err := io.WriteString(w, h.Found.Scenario); return err })
	}
	if err == nil && h.Of.Requests > 0 {
		err = f.figures.write(func(kind string) ([]byte, error) { return report.HuntFigure(kind, h) }, func() ([]byte, error) { return report.HuntPage(h, Version) })
	}
	switch {
	case err != nil:
		return err
	case h.Partial:
		return &exitError{interrupted, nil}
	case h.Found != nil:
		return &exitError{exitFound, nil}
	}
	return nil
}

// phases is steps with what goes on at the moment.
func (p *progress) phases(done, of int, what string) {
	if !p.on || time.Since(p.last) < 200*time.Millisecond {
		return
	}
	p.shown, p.last = true, time.Now()
	spent := time.Since(p.began)
	left := spent.Seconds() * float64(max(of-done, 0)) / float64(max(done, 1))
	if p.limit > 0 {
		left = min(left, max(p.limit-spent, 0).Seconds())
	}
	fmt.Fprintf(p.env.Stderr, "\r\x1b[K%s: %s, %s of %s replays, %s left", p.what, what, report.Count(int64(done)), report.Count(int64(of)), report.Span(left))
}
