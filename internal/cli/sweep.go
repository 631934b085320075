package cli

import (
	"cmp"
	"context"
	"encoding/json"
	"flag"
	"fmt"
	"io"
	"os"
	"slices"
	"strings"
	"time"

	"kestrix/internal/core/config"
	"kestrix/internal/core/ingest"
	"kestrix/internal/core/scenario"
	"kestrix/internal/core/study"
	"kestrix/internal/report"
)

func sweepCommand() *command {
	return &command{
		name: "sweep", group: "predict", args: "CONFIG [TRACE...]",
		summary: "fail each backend and zone in turn and report the worst case",
		help: `
For each backend and each zone, sweep searches for the fault with the most failed
requests. It varies the kind of fault, the moment (peak, rise and fall of the load,
phases of the probe) and the length up to -for. Requests that fail after the fault, until
everything is as before, are included. Equal backends are one target; each seed fails
another one. Pairs (-pairs) fail at the peak of the load only. The report begins with the
worst case, and with the cases that cannot be distinguished from it.

The report lists backends whose upstream has no other. For each upstream it shows the
headroom with one backend lost: the load at which more than -too-much additional requests
fail, or p99 is three times as long.

-shard 2/5 runs the second of five parts and writes JSON; -merge joins all parts into the
result of one sweep. The trace is read several times; input from a pipe is kept in a
temporary file.

exit code:
  0  fine
  2  wrong usage
  3  input that cannot be used

examples:
  kestrix sweep harbour.hcl morning.log
  kestrix sweep harbour.hcl morning.log -kinds refuse,hang,slow -upstream booking
  kestrix sweep harbour.hcl morning.log -pairs -for 2m
  kestrix sweep harbour.hcl day.log.zst -shard 1/2 -o one.json
  kestrix sweep -merge one.json two.json`,
		setup: func(fs *flag.FlagSet) func(context.Context, *Env, []string) error {
			var f sweepFlags
			f.out.define(fs)
			f.figures.define(fs)
			with := withFlag(fs)
			f.replay.define(fs)
			f.replay.defineSeeds(fs, 0, "`NUMBER` of seeds with which the worst case of each target is replayed; 0 for as many as tell them apart, at least 10")
			fs.StringVar(&f.kinds, "kinds", "refuse,hang,blackhole,errors,slow,reset,flap", "`KINDS` of faults to try, comma-separated:\n"+strings.Join(sweepKinds(), "\n"))
			fs.StringVar(&f.upstreams, "upstream", "", "`NAMES` of the upstreams whose backends fail, comma-separated; all when not given")
			fs.BoolVar(&f.o.Pairs, "pairs", false, "also fail pairs of backends")
			fs.DurationVar(&f.o.For, "for", 0, "maximum `TIME` of a fault; one minute when not given, or a quarter of a short replay")
			fs.StringVar(&f.tooMuch, "too-much", "1%", "`SHARE` of additional failed requests at which the search for the maximum load stops")
			fs.StringVar(&f.shard, "shard", "", "`PART` of the sweep to run, as in 1/4")
			fs.BoolVar(&f.merge, "merge", false, "join the results of all parts, named as operands")
			fs.BoolVar(&f.all, "all", false, "list every row of long tables")
			return func(ctx context.Context, env *Env, args []string) error {
				if err := f.check(); err != nil {
					return err
				}
				f.replay.given(fs)
				if f.merge {
					var idle []string
					fs.Visit(func(x *flag.Flag) {
						if !slices.Contains([]string{"merge", "format", "o", "plain", "all", "svg", "png", "html"}, x.Name) {
							idle = append(idle, "-"+x.Name)
						}
					})
					if len(idle) > 0 {
						return usage("%s has no meaning with -merge, which joins what was done", strings.Join(idle, ", "))
					}
					return f.join(env, args)
				}
				return f.run(ctx, env, args, *with)
			}
		},
	}
}

// sweepKinds lists the faults that make sense for any backend.
func sweepKinds() []string {
	return scenario.FaultNames(func(k *scenario.FaultKind) bool { return k.Order != "weight" && !k.Proxy })
}

type sweepFlags struct {
	out       output
	figures   figures
	replay    replayFlags
	kinds     string
	upstreams string
	tooMuch   string
	shard     string
	merge     bool
	all       bool
	o         study.SweepOptions
}

func (f *sweepFlags) check() error {
	if err := cmp.Or(f.out.check(), f.figures.check()); err != nil {
		return err
	}
	if err := cmp.Or(f.replay.check(), f.replay.checkSeeds(0)); err != nil {
		return err
	}
	f.o.Seeds = f.replay.seeds
	f.o.Kinds, f.o.Upstreams = commas(f.kinds), commas(f.upstreams)
	if err := knownKinds(f.o.Kinds, sweepKinds()); err != nil {
		return err
	}
	if f.o.For < 0 || f.o.For > 24*time.Hour || f.o.For > 0 && f.o.For < time.Second {
		return usage("-for cannot be %s; from 1s to 24h", f.o.For)
	}
	var share float64
	if n, err := fmt.Sscanf(f.tooMuch, "%g%%", &share); n != 1 || err != nil || !strings.HasSuffix(f.tooMuch, "%") || share <= 0 || share > 100 {
		return usage("-too-much cannot be %q; a share such as 1%%", f.tooMuch)
	}
	f.o.TooMuch = share / 100
	return f.checkShard()
}

// knownKinds checks the kinds of faults that are to be tried against those that can be.
func knownKinds(kinds, known []string) error {
	for i, k := range kinds {
		if !slices.Contains(known, k) {
			return usage("-kinds has no value %q; %s", k, config.DidYouMean(k, known))
		}
		if slices.Contains(kinds[:i], k) {
			return usage("-kinds names %s twice", k)
		}
	}
	if len(kinds) == 0 {
		return usage("-kinds names no kind; known: %s", strings.Join(known, ", "))
	}
	return nil
}

// checkShard reads which part of the sweep is to be done, if not all.
func (f *sweepFlags) checkShard() error {
	if f.shard == "" {
		return nil
	}
	var s study.Shard
	if n, err := fmt.Sscanf(f.shard, "%d/%d", &s.Number, &s.Of); n != 2 || err != nil || fmt.Sprintf("%d/%d", s.Number, s.Of) != f.shard {
		return usage("-shard cannot be %q; it is the number of a part and of how many, as in 1/4", f.shard)
	}
	if s.Of < 1 || s.Of > 10000 || s.Number < 1 || s.Number > s.Of {
		return usage("-shard cannot be %s: of %d parts the last is %d/%d", f.shard, s.Of, max(s.Of, 1), max(s.Of, 1))
	}
	f.o.Shard = &s
	if f.figures != (figures{}) {
		return usage("a part of a sweep is drawn when all parts are joined: give -svg, -png and -html to -merge")
	}
	return nil
}

func (f *sweepFlags) run(ctx context.Context, env *Env, args, with []string) error {
	if err := f.replay.one(); err != nil {
		return err
	}
	if len(args) < 1 {
		return usage("a configuration and a trace are required: kestrix sweep CONFIG TRACE..., or a scenario with a load")
	}
	s, err := usable(env, args[0], with)
	if err != nil {
		return err
	}
	sc := scenario.None()
	if f.replay.scenario != "" {
		if sc, err = readScenario(env, f.replay.scenario, s.config); err != nil {
			return err
		}
	}
	if err := f.replay.fits(sc, args); err != nil {
		return err
	}
	if err := knownUpstreams(s, f.o.Upstreams); err != nil {
		return err
	}
	sources, traces, remove, err := rereadable(ctx, env, args[1:])
	defer remove()
	if err != nil {
		return err
	}
	p := newProgress(env, "sweep")
	f.o.Names, f.o.Replay, f.o.Progress = bases(args[:1], args[1:], f.replay.scenario), f.replay.o, p.steps
	f.o.Replay.Progress = p.of(sc, traces)
	sw, err := study.RunSweep(ctx, s.config, sc, sources, f.o)
	p.clear()
	if err != nil {
		return unusable(err)
	}
	if err := f.write(env, sw); err != nil {
		return err
	}
	if sw.Partial {
		return &exitError{interrupted, nil}
	}
	return nil
}

// knownUpstreams returns which of the names of -upstream is none.
func knownUpstreams(s *source, names []string) error {
	var known []string
	for _, u := range s.config.Upstreams {
		known = append(known, u.Name)
	}
	for _, name := range names {
		if slices.Contains(known, name) {
			continue
		}
		return usage("-upstream: %s has no upstream %q; %s", s.name, name, config.DidYouMean(name, known))
	}
	return nil
}

func (f *sweepFlags) write(env *Env, sw *study.Sweep) error {
	err := f.out.write(env, func(w io.Writer) error {
		if f.out.format == "json" || sw.Shard != nil {
			return writeJSON(w, sw)
		}
		style := f.out.style(env)
		style.All = f.all
		_, err := io.WriteString(w, style.Sweep(sw))
		return err
	})
	if err == nil {
		err = f.figures.write(func(kind string) ([]byte, error) { return report.SweepFigure(kind, sw) }, func() ([]byte, error) { return report.SweepPage(sw, Version) })
	}
	return err
}

// join reads the parts and writes the whole.
func (f *sweepFlags) join(env *Env, names []string) error {
	if len(names) == 0 {
		return usage("the parts are required: kestrix sweep -merge PART...")
	}
	var parts []*study.Sweep
	for _, name := range names {
		text, err := os.ReadFile(name)
		if err != nil {
			return unusable(fmt.Errorf("%s cannot be read: %w", name, reason(err)))
		}
		part := new(study.Sweep)
		if err := json.Unmarshal(text, part); err != nil || part.Of.Identity == "" {
			return unusable(fmt.Errorf("%s is no part of a sweep; kestrix sweep ... -shard 1/2 -o PART writes one", name))
		}
		parts = append(parts, part)
	}
	whole, err := study.Merge(names, parts)
	if err != nil {
		return unusable(err)
	}
	return f.write(env, whole)
}

// rereadable returns traces that can be read over and over under their own names, the
// files that they are read from, and what removes those that were made.
func rereadable(ctx context.Context, env *Env, names []string) ([]ingest.Source, []string, func(), error) {
	files, remove, err := keepPipes(ctx, env, names)
	if err != nil {
		return nil, nil, remove, err
	}
	sources, err := traceSources(ctx, env, files)
	for i := range sources {
		sources[i].Name = names[i]
	}
	return sources, files, remove, err
}

// keepPipes copies what can be read only once, such as stdin, into temporary files,
// and returns the names to read instead and what removes them.
func keepPipes(ctx context.Context, env *Env, names []string) ([]string, func(), error) {
	var made []string
	remove := func() {
		for _, m := range made {
			os.Remove(m)
		}
	}
	out := slices.Clone(names)
	for i, name := range names {
		if info, err := os.Stat(name); name != "-" && (err != nil || info.Mode().IsRegular() || info.IsDir()) {
			continue
		}
		src, err := openTrace(ctx, env, name)
		if err != nil {
			return nil, remove, err
		}
		f, err := os.CreateTemp("", "kestrix-trace-")
		if err != nil {
			src.Close()
			return nil, remove, unusable(err)
		}
		made = append(made, f.Name())
		_, err = io.Copy(f, src)
		src.Close()
		if e := f.Close(); err == nil {
			err = e
		}
		if err != nil && ctx.Err() != nil {
			return nil, remove, &exitError{interrupted, nil}
		}
		if err != nil {
			return nil, remove, unusable(fmt.Errorf("%s cannot be kept for reading it again: %w", name, reason(err)))
		}
		out[i] = f.Name()
	}
	return out, remove, nil
}
