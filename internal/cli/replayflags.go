package cli

import (
	"context"
	"flag"
	"fmt"
	"io"
	"os"
	"slices"
	"strings"
	"time"

	"kestrix/internal/core/ingest"
	"kestrix/internal/core/replay"
	"kestrix/internal/core/scenario"
)

type replayFlags struct {
	scenarios list
	scenario  string // if it is one
	seed      seedFlag
	read      readFlags
	from      string
	until     string
	// instances says that their number was given.
	instances bool
	seeds     int      // how often each replay is repeated; 0 for as often as the command has it
	ofTraces  []string // the flags given that say how a trace is read
	o         replay.Options
}

// define defines the flags that say what is replayed and how.
func (r *replayFlags) define(fs *flag.FlagSet) {
	fs.Var(&r.scenarios, "scenario", "scenario `FILE` with faults, behaviour and expectations; replay accepts several, or a folder")
	fs.Var(&r.seed, "seed", "`NUMBER` that seeds the random number generator; the scenario's when not given, or 1")
	fs.StringVar(&r.o.Spread, "spread", "even", "`METHOD` for time stamps of whole seconds:\neven  spread them evenly over their second\nnone  take them as they are")
	fs.DurationVar(&r.o.Window, "window", replay.DefaultWindow, "maximum `TIME` by which records may be out of order; they are sorted")
	fs.StringVar(&r.from, "from", "", "`MOMENT` at which the replay begins")
	fs.StringVar(&r.until, "until", "", "`MOMENT` at which the replay ends; requests in flight count as unfinished")
	fs.StringVar(&r.o.Stamp, "stamp", "start", "`MEANING` of the trace's time stamps:\nstart  the request began\nend    the request ended; its duration is subtracted")
	fs.BoolVar(&r.o.Recorded, "recorded-failures", false, "answer requests that have a status from 500 on in the trace with that status again")
	fs.IntVar(&r.o.Instances, "instances", 0, "`NUMBER` of proxies that share the traffic, each with its own state; the scenario's when not given, or 1")
	fs.StringVar(&r.o.Frontend, "frontend", "", "`NAME` of the frontend for records without one")
	fs.StringVar(&r.o.Host, "host", "", "`NAME` of the host for records without one")
	r.read.define(fs)
}

// defineSeeds defines the flags that repeat a replay with other seeds.
func (r *replayFlags) defineSeeds(fs *flag.FlagSet, value int, help string) {
	fs.IntVar(&r.seeds, "seeds", value, help)
	fs.BoolVar(&r.o.Resample, "resample", false, "resample the clients of the trace, with replacement, for each of the -seeds")
}

// checkSeeds returns the error of -seeds and -resample, where as few seeds as least may be
// given.
func (r *replayFlags) checkSeeds(least int) error {
	switch {
	case r.seeds < least || r.seeds > 1000:
		return usage("-seeds cannot be %d; it lies from %d to 1000", r.seeds, least)
	case r.o.Resample && r.seeds == 1:
		return usage("-resample draws other clients for each seed; give -seeds as well, as in -seeds 20")
	}
	return nil
}

// given notes which of them were.
func (r *replayFlags) given(fs *flag.FlagSet) {
	if len(r.scenarios) == 1 {
		r.scenario = r.scenarios[0]
	}
	fs.Visit(func(f *flag.Flag) {
		r.instances = r.instances || f.Name == "instances"
		if slices.Contains([]string{"bad", "fields", "map", "line", "spread", "window", "stamp", "recorded-failures"}, f.Name) {
			r.ofTraces = append(r.ofTraces, "-"+f.Name)
		}
	})
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

// one says that only one scenario can be looked at.
func (r *replayFlags) one() error {
	if len(r.scenarios) > 1 {
		return usage("-scenario is given %d times; this command looks at one scenario, replay takes several", len(r.scenarios))
	}
	return nil
}

// inputs reads a configuration, and the scenario that was given for it.
func (r *replayFlags) inputs(env *Env, name string, with []string) (*source, *scenario.Scenario, error) {
	s, err := usable(env, name, with)
	if err != nil || r.scenario == "" {
		return s, scenario.None(), err
	}
	sc, err := readScenario(env, r.scenario, s.config)
	return s, sc, err
}

// fits holds the flags and operands, the configuration first, against a scenario and
// takes the seed from it, unless one was given.
func (r *replayFlags) fits(sc *scenario.Scenario, args []string) error {
	switch {
	case sc.Load != nil && len(args) > 1:
		return usage("the load of %s makes the requests; leave %s out, or the load block", r.scenario, args[1])
	case sc.Load == nil && len(args) == 1 && r.scenario != "":
		return usage("a trace is required after %s, for %s has no load block that would make requests", args[0], r.scenario)
	case sc.Load == nil && len(args) == 1:
		return usage("a trace is required after %s, or a scenario with a load", args[0])
	}
	if sc.Load != nil {
		if err := r.checkLoad(sc); err != nil {
			return err
		}
	}
	if r.o.Seed = sc.Seed; r.seed.given {
		r.o.Seed = r.seed.value
	}
	return nil
}

// traceSources opens each trace once before the work begins, so that a missing last
// file is known at once; but a pipe can be opened only once.
func traceSources(ctx context.Context, env *Env, names []string) ([]ingest.Source, error) {
	var sources []ingest.Source
	for _, t := range names {
		if info, err := os.Stat(t); t != "-" && (err != nil || info.Mode().IsRegular() || info.IsDir()) {
			f, err := openTrace(ctx, env, t)
			if err != nil {
				return nil, err
			}
			f.Close()
		}
		sources = append(sources, ingest.Source{Name: t, Open: func() (io.ReadCloser, error) { return openTrace(ctx, env, t) }})
	}
	return sources, nil
}

// checkLoad returns which flags have no meaning without a trace.
func (r *replayFlags) checkLoad(sc *scenario.Scenario) error {
	switch {
	case len(r.ofTraces) > 0:
		return usage("%s says how a trace is read, and the load of %s makes the requests", strings.Join(r.ofTraces, ", "), r.scenario)
	case r.o.Resample:
		return usage("-resample draws the clients of a trace; the load of %s makes other clients with each seed anyway", r.scenario)
	case sc.Load.Closed && r.from != "":
		return usage("-from has no meaning for a closed load, whose clients begin together; leave it out")
	case r.o.Part.From.Wall() || r.o.Part.Until.Wall():
		return usage("the load of %s has no time of day; -from and -until count from its beginning, as in 5m", r.scenario)
	}
	return nil
}
