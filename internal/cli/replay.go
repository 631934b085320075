package cli

import (
	"context"
	"encoding/json"
	"flag"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"kestrix/internal/core/config"
	"kestrix/internal/core/replay"
	"kestrix/internal/core/scenario"
	"kestrix/internal/report"
)

func replayCommand() *command {
	return &command{
		name: "replay", args: "CONFIG [TRACE...]", summary: "the trace through the configuration under a scenario, in virtual time",
		help: `
TRACE is told by its content: Common or Combined log lines, W3C Extended, JSON
Lines, CSV with a header row, HAR; plain, gzip or zstd; - is stdin. Several are
read one after the other. -line reads lines of any other form. A scenario with a
load block makes the requests itself and takes no TRACE.

-from and -until count from the first record, as in 5m, or are RFC 3339 times.

exit code: 0 fine; 1 an expectation of the scenario is not met; 2 wrong usage;
3 input that cannot be used

  kestrix replay harbour.hcl morning.log
  kestrix replay harbour.hcl morning.log -scenario auk-fails.scenario.hcl
  kestrix replay harbour.hcl day.csv.zst -map duration/ms=took -from 8h -until 9h
  kestrix replay harbour.hcl -scenario load.scenario.hcl -csv timeline.csv
  zcat old.log.gz | kestrix replay harbour.hcl - -bad skip -format json`,
		setup: func(fs *flag.FlagSet) func(context.Context, *Env, []string) error {
			var o output
			o.define(fs)
			var r replayFlags
			with := withFlag(fs)
			fs.StringVar(&r.scenario, "scenario", "", "`FILE` that says what happens: faults, behaviour, expectations")
			fs.Var(&r.seed, "seed", "`NUMBER` that keys every draw; otherwise the scenario's, or 1")
			fs.StringVar(&r.o.Spread, "spread", "even", "`HOW` stamps of whole seconds are spread over their second: even or none")
			fs.DurationVar(&r.o.Window, "window", replay.DefaultWindow, "records out of order by up to this `TIME` are put right")
			fs.StringVar(&r.from, "from", "", "replay from this `MOMENT` on")
			fs.StringVar(&r.until, "until", "", "stop the clock at this `MOMENT`; what is open then stays unfinished")
			fs.StringVar(&r.o.Stamp, "stamp", "start", "`WHICH` moment the trace's times are of: the start or the end of a request; of the end, its duration is taken off")
			fs.BoolVar(&r.o.Recorded, "recorded-failures", false, "requests that failed with a status from 500 on in the trace are answered with it again")
			fs.IntVar(&r.o.Instances, "instances", 0, "`NUMBER` of proxies side by side, each with its own view; otherwise the scenario's, or 1")
			fs.StringVar(&r.csv, "csv", "", "also write the timeline as CSV into this `FILE`")
			fs.StringVar(&r.o.Frontend, "frontend", "", "`NAME` of the frontend of records that name none")
			fs.StringVar(&r.o.Host, "host", "", "`NAME` of the host of records that name none")
			r.read.define(fs)
			fs.BoolVar(&r.all, "all", false, "long tables whole")
			return func(ctx context.Context, env *Env, args []string) error {
				if err := o.check(); err != nil {
					return err
				}
				if len(args) < 1 || len(args) < 2 && r.scenario == "" {
					return usage("a configuration and a trace are wanted: kestrix replay CONFIG TRACE..., or a scenario with a load")
				}
				fs.Visit(func(f *flag.Flag) {
					r.instances = r.instances || f.Name == "instances"
					if slices.Contains([]string{"bad", "fields", "map", "line", "spread", "window", "stamp", "recorded-failures"}, f.Name) {
						r.ofTraces = append(r.ofTraces, "-"+f.Name)
					}
				})
				return runReplay(ctx, env, &o, &r, args, *with)
			}
		},
	}
}

type replayFlags struct {
	scenario string
	seed     seedFlag
	read     readFlags
	all      bool
	from     string
	until    string
	csv      string
	// instances says that their number was given.
	instances bool
	ofTraces  []string // the flags given that say how a trace is read
	o         replay.Options
}

// seedFlag is a number that may be left out.
type seedFlag struct {
	given bool
	value uint64
}

func (s *seedFlag) String() string { return "" }
func (s *seedFlag) Set(v string) error {
	s.given = true
	n, err := fmt.Sscanf(v, "%d", &s.value)
	if err != nil || n != 1 || fmt.Sprint(s.value) != v {
		return fmt.Errorf("not a whole number")
	}
	return nil
}

func (r *replayFlags) check() error {
	var err error
	if r.o.Read, err = r.read.options(); err != nil {
		return err
	}
	if r.o.Spread != "even" && r.o.Spread != "none" {
		return usage("-spread cannot be %q; it is even or none", r.o.Spread)
	}
	if r.o.Part, err = span(r.from, r.until); err != nil {
		return err
	}
	if r.o.Stamp != "start" && r.o.Stamp != "end" {
		return usage("-stamp cannot be %q; it is start or end", r.o.Stamp)
	}
	if r.instances && (r.o.Instances < 1 || r.o.Instances > 64) {
		return usage("-instances cannot be %d; it lies from 1 to 64", r.o.Instances)
	}
	if r.o.Window <= 0 || r.o.Window > 24*time.Hour {
		return usage("-window cannot be %s; more than 0s and up to 24h", r.o.Window)
	}
	return nil
}

func runReplay(ctx context.Context, env *Env, o *output, r *replayFlags, args, with []string) error {
	if err := r.check(); err != nil {
		return err
	}
	s, err := usable(env, args[0], with)
	if err != nil {
		return err
	}
	sc := scenario.None()
	names := []string{filepath.Base(args[0])}
	for _, t := range args[1:] {
		names = append(names, filepath.Base(t))
	}
	if r.scenario != "" {
		if sc, err = readScenario(env, r.scenario, s.config); err != nil {
			return err
		}
		names = append(names, filepath.Base(r.scenario))
	}
	switch {
	case sc.Load != nil && len(args) > 1:
		return usage("the load of %s makes the requests; leave %s out, or the load block", r.scenario, args[1])
	case sc.Load == nil && len(args) == 1:
		return usage("a trace is wanted: kestrix replay CONFIG TRACE..., for %s has no load block that would make requests", r.scenario)
	}
	if sc.Load != nil {
		if err := r.besideLoad(sc); err != nil {
			return err
		}
	}
	s.config = sc.Expand(s.config)
	r.o.Seed = sc.Seed
	if r.seed.given {
		r.o.Seed = r.seed.value
	}
	var sources []replay.Source
	total := sizes(args[1:])
	for _, t := range args[1:] {
		// Opened once before the work begins, so that a missing last file is
		// known at once; but a pipe can be opened only once.
		if info, err := os.Stat(t); t != "-" && (err != nil || info.Mode().IsRegular() || info.IsDir()) {
			f, err := openTrace(ctx, env, t)
			if err != nil {
				return err
			}
			f.Close()
		}
		sources = append(sources, replay.Source{Name: t, Open: func() (io.ReadCloser, error) { return openTrace(ctx, env, t) }})
	}
	if err := rehearseExpectations(env, s, sc, r); err != nil {
		return err
	}
	p := newProgress(env, "replay")
	r.o.Progress = func(bytes, requests int64) {
		if l := sc.Load; l != nil {
			bytes, total = requests, int64(l.Requests)
			if !l.Closed {
				total = int64(l.Spec.Rate * l.Spec.For.Seconds())
			}
		}
		p.show(requests, bytes, total)
	}
	began := time.Now()
	res, err := replay.Run(ctx, s.config, sc, sources, r.o)
	p.clear()
	if err != nil {
		return unusable(err)
	}
	res.Engine.WallSeconds = time.Since(began).Seconds()
	if res.Engine.WallSeconds > 0 {
		res.Engine.RequestsPerSecond = float64(res.Requests) / res.Engine.WallSeconds
	}
	unmet, err := judge(env, sc, res)
	if err != nil {
		return err
	}
	if r.csv != "" {
		if err := replaceFile(r.csv, func(w io.Writer) error { return report.TimelineCSV(w, s.config, res) }); err != nil {
			return err
		}
	}
	err = o.write(env, func(w io.Writer) error {
		if o.format == "json" {
			return writeJSON(w, res)
		}
		style := env.style(env.Stdout, o.plain || o.file != "")
		style.All = r.all
		_, err := io.WriteString(w, style.Replay(report.Replay{Config: s.config, Scenario: sc, Path: args[0], Names: names, Result: res}))
		return err
	})
	switch {
	case err != nil:
		return err
	case res.Partial:
		return &exitError{interrupted, nil}
	case unmet > 0:
		return &exitError{exitFound, nil}
	}
	return nil
}

// besideLoad says which flags have no meaning without a trace.
func (r *replayFlags) besideLoad(sc *scenario.Scenario) error {
	switch {
	case len(r.ofTraces) > 0:
		return usage("%s says how a trace is read, and the load of %s makes the requests", strings.Join(r.ofTraces, ", "), r.scenario)
	case sc.Load.Closed && r.from != "":
		return usage("-from has no meaning for a closed load, whose clients begin together; leave it out")
	case r.o.Part.From.Wall() || r.o.Part.Until.Wall():
		return usage("the load of %s has no time of day; -from and -until count from its beginning, as in 5m", r.scenario)
	}
	return nil
}

// judge holds the result against the expectations and gives how many are not
// met.
func judge(env *Env, sc *scenario.Scenario, res *replay.Result) (int, error) {
	res.Expectations = []scenario.Verdict{}
	if len(sc.Expects) == 0 {
		return 0, nil
	}
	text, err := json.Marshal(res)
	if err != nil {
		return 0, unusable(err)
	}
	verdicts, found := sc.Judge(text)
	if err := refuse(env, found, []config.File{sc.File}, sc.File.Name); err != nil {
		return 0, err
	}
	unmet := 0
	for _, v := range verdicts {
		if !v.Met {
			unmet++
		}
	}
	res.Expectations = verdicts
	return unmet, nil
}

// rehearseExpectations evaluates the expectations on the result of nothing, so
// that a misspelt key is found before the work and not after it.
func rehearseExpectations(env *Env, s *source, sc *scenario.Scenario, r *replayFlags) error {
	if len(sc.Expects) == 0 {
		return nil
	}
	res, err := replay.Empty(s.config, sc, r.o)
	if err != nil {
		return usage("%v", err)
	}
	_, err = judge(env, sc, res)
	return err
}
