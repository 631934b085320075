package cli

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"io"
	"sync"

	"kestrix/internal/core/config"
	"kestrix/internal/core/ingest"
	"kestrix/internal/core/replay"
	"kestrix/internal/core/result"
	"kestrix/internal/core/scenario"
	"kestrix/internal/core/status"
	"kestrix/internal/core/study"
	"kestrix/internal/core/trace"
	"kestrix/internal/live/drive"
	"kestrix/internal/live/rehearse"
	"kestrix/internal/report"
)

func rehearseCommand() *command {
	return &command{
		name: "rehearse", group: "serve and rehearse", args: "CONFIG [TRACE...]",
		summary: "run a scenario for real on loopback and compare it with the prediction",
		help: `
Sends a trace through the configuration twice: in virtual time, as replay does, and for
real. Stand-ins behave and fail as in the scenario, the proxy listens on loopback, and a
driver sends the requests at their times. The report compares both and shows the effect
of chance. It takes as long as the trace, or less with -speed. Ctrl-C ends it early and
prints the report.

A stand-in works for as long as the record says, unless the scenario has a service time.

exit code:
  0  fine
  1  an expectation of the scenario is not met, in prediction or rehearsal
  2  wrong usage
  3  input that cannot be used

examples:
  kestrix rehearse harbour.hcl morning.log -scenario auk-fails.scenario.hcl
  kestrix rehearse harbour.hcl morning.log -until 1m -html rehearsal.html
  kestrix rehearse harbour.hcl -scenario rush.scenario.hcl`,
		setup: func(fs *flag.FlagSet) func(context.Context, *Env, []string) error {
			var o output
			o.define(fs)
			var r replayFlags
			with := withFlag(fs)
			r.define(fs)
			var f rehearseFlags
			fs.Float64Var(&f.speed, "speed", 1, "`FACTOR` by which the trace is sent faster, in prediction and rehearsal; moments of the scenario do not change")
			fs.IntVar(&f.seeds, "seeds", 9, "`NUMBER` of predictions, each with another seed, from 3 to 100; their range shows the effect of chance")
			fs.StringVar(&f.html, "html", "", "also write an HTML page to `FILE`")
			fs.BoolVar(&f.all, "all", false, "list every row of long tables")
			return func(ctx context.Context, env *Env, args []string) error {
				if err := o.check(); err != nil {
					return err
				}
				r.given(fs)
				if err := r.one(); err != nil {
					return err
				}
				if len(args) < 1 {
					return usage("a configuration and a trace are required: kestrix rehearse CONFIG TRACE, or a scenario with a load")
				}
				switch {
				case !(f.speed > 0) || f.speed > 1000:
					return usage("-speed is more than 0 and at most 1000; it is %g", f.speed)
				case f.seeds < 3 || f.seeds > 100:
					return usage("-seeds lies from 3 to 100; it is %d", f.seeds)
				case r.o.Recorded:
					return usage("-recorded-failures cannot be rehearsed: stand-ins answer as the scenario says")
				}
				if err := places(f.html); err != nil {
					return err
				}
				return runRehearse(ctx, env, &o, &r, &f, args, *with)
			}
		},
	}
}

type rehearseFlags struct {
	speed float64
	seeds int
	html  string
	all   bool
}

// rehearsal is what is sent twice.
type rehearsal struct {
	config     *config.Config
	scenario   *scenario.Scenario // as it is rehearsed
	prediction *scenario.Scenario // without its open load, which the records are of
	records    []*trace.Record
	sources    []ingest.Source
	options    replay.Options
}

func runRehearse(ctx context.Context, env *Env, o *output, r *replayFlags, f *rehearseFlags, args, with []string) error {
	if err := r.check(); err != nil {
		return err
	}
	s, sc, err := r.inputs(env, args[0], with)
	if err != nil {
		return err
	}
	if err := r.fits(sc, args); err != nil {
		return err
	}
	if sc.Instances > 1 || r.o.Instances > 1 {
		return usage("one proxy is rehearsed, and the scenario or -instances needs several")
	}
	if sc.LoadFactor != 1 && sc.LoadFactor != 0 {
		return usage("load_factor = %g is for replays: a rehearsal sends each request once; leave it out, or change the rate of the load", sc.LoadFactor)
	}
	for _, f := range sc.Faults {
		if f.Proxy > 0 {
			return usage("the fault %q ends the proxy, which a rehearsal needs to the end; leave it out", f.Name)
		}
	}
	s.config = sc.Expand(s.config)
	if err := rehearseExpectations(env, s, sc, r); err != nil {
		return err
	}
	x := &rehearsal{config: s.config, scenario: sc, prediction: sc, options: r.o}
	if err := x.gather(ctx, env, r, f, args[1:]); err != nil {
		return err
	}
	prediction, others, out, err := x.both(ctx, env, r, f.seeds)
	if err != nil {
		return err
	}
	unmet, err := judge(env, sc, prediction)
	if err != nil {
		return err
	}
	also, err := judge(env, sc, out.Result)
	if err != nil {
		return err
	}
	about := &report.Rehearsal{
		Names: bases(args[:1], args[1:], r.scenario), Config: s.config, Scenario: sc, Prediction: prediction, Rehearsal: out.Result, Left: out.Left, Speed: f.speed,
		Fidelity: study.HoldAgainst(s.config, prediction, out.Result, others), Late: report.Late{P50: out.Late.P50, P99: out.Late.P99, Max: out.Late.Max}, KeptUp: out.KeptUp,
	}
	for _, m := range out.Mapping {
		about.Mapping = append(about.Mapping, report.MappedAddress(m))
	}
	err = writeRehearsal(env, o, f, about, out)
	switch {
	case err != nil:
		return err
	case out.Result.Partial:
		return &exitError{interrupted, nil}
	case unmet+also > 0:
		return &exitError{exitFound, nil}
	}
	return nil
}

// both rehearses in virtual time, with further seeds, and for real. What was stopped is
// predicted anew for as far as it came.
func (x *rehearsal) both(ctx context.Context, env *Env, r *replayFlags, seeds int) (prediction *result.Replay, others []*result.Replay, out *rehearse.Outcome, err error) {
	prediction, others, err = x.predict(ctx, env, seeds)
	if err != nil {
		return nil, nil, nil, err
	}
	out, err = x.forReal(ctx, env, r, prediction)
	if err != nil {
		return nil, nil, nil, unusable(err)
	}
	if out.Result.Requests == 0 {
		return nil, nil, nil, &exitError{interrupted, errors.New("stopped before a request was sent; there is nothing to hold against the prediction")}
	}
	if out.Result.Partial { // of what was sent, then
		if x.options.Part.Until, err = trace.ParseMoment(fmt.Sprintf("%.3fs", out.Result.Duration)); err != nil {
			return nil, nil, nil, unusable(err)
		}
		if prediction, others, err = x.predict(context.WithoutCancel(ctx), env, seeds); err != nil {
			return nil, nil, nil, err
		}
	}
	return prediction, others, out, nil
}

// writeRehearsal writes the report, and the page where one is wanted.
func writeRehearsal(env *Env, o *output, f *rehearseFlags, about *report.Rehearsal, out *rehearse.Outcome) error {
	err := o.write(env, func(w io.Writer) error {
		if o.format == "json" {
			return writeJSON(w, rehearsalJSON{about.Prediction, out.Result, about.Fidelity, about.Fidelity.Verdict(), about.Mapping, about.Left, out.Late})
		}
		style := o.style(env)
		style.All = f.all
		_, err := io.WriteString(w, style.Rehearse(about))
		return err
	})
	if err == nil && f.html != "" {
		var page []byte
		if page, err = report.RehearsalPage(about, Version); err == nil {
			err = replaceFile(f.html, func(w io.Writer) error { _, err := w.Write(page); return err })
		}
	}
	return err
}

// rehearsalJSON is a rehearsal as JSON.
type rehearsalJSON struct {
	Prediction *result.Replay         `json:"prediction"`
	Rehearsal  *result.Replay         `json:"rehearsal"`
	Fidelity   study.Fidelity         `json:"fidelity"`
	Verdict    string                 `json:"verdict"`
	Mapping    []report.MappedAddress `json:"mapping"`
	Left       []string               `json:"left"`
	Driver     drive.Lateness         `json:"driver"`
}

// mostRehearsed bounds what is kept in memory, and how long anybody would wait.
const mostRehearsed = 5_000_000

// gather puts together what is sent: the trace in order, or what an open load
// makes. A closed load is made as it is sent.
func (x *rehearsal) gather(ctx context.Context, env *Env, r *replayFlags, f *rehearseFlags, traces []string) error {
	first := int64(0)
	take := func(rec *trace.Record) error {
		if len(x.records) == 0 {
			first = rec.Time
		}
		rec.Time = first + int64(float64(rec.Time-first)/f.speed)
		if x.records = append(x.records, rec); len(x.records) > mostRehearsed {
			return unusable(fmt.Errorf("more than %s requests are too many to be rehearsed; -from and -until take a part", report.Count(mostRehearsed)))
		}
		return nil
	}
	l := x.scenario.Load
	switch {
	case l == nil:
		d := &ordering{read: r.read, traces: traces, what: "rehearse", part: r.o.Part, window: r.o.Window, spread: r.o.Spread, stamp: r.o.Stamp}
		if _, err := d.records(ctx, env, take); err != nil {
			return err
		}
	case l.Closed:
		if f.speed != 1 {
			return usage("-speed has no meaning for a closed load, whose clients wait for their answers")
		}
		if r.until != "" {
			return usage("-until has no meaning for a rehearsal of a closed load, which ends when all is asked; Ctrl-C ends it early")
		}
		return nil
	default:
		spec := l.Spec
		spec.Seed = r.o.Seed
		g := trace.NewGenerator(spec)
		var rec trace.Record
		for g.Next(&rec) && ctx.Err() == nil {
			rec.Duration = -1
			if l.Frontend != "" {
				rec.Frontend = []byte(l.Frontend)
			}
			if r.o.Part.Contains(rec.Time, spec.Start.UnixNano()) {
				if err := take(rec.Clone()); err != nil {
					return err
				}
			}
		}
		without := *x.scenario
		without.Load = nil
		x.prediction = &without
	}
	if len(x.records) == 0 {
		return unusable(fmt.Errorf("there is nothing to rehearse in the part that -from and -until leave"))
	}
	// The prediction reads what is sent, as it is sent.
	x.sources = []ingest.Source{{Name: "what is rehearsed", Records: x.records}}
	x.options.Part, x.options.Spread, x.options.Stamp, x.options.Read = trace.Span{}, "none", "start", trace.Options{}
	return nil
}

// predict makes the prediction, and others with other seeds, so many in all.
func (x *rehearsal) predict(ctx context.Context, env *Env, seeds int) (*result.Replay, []*result.Replay, error) {
	p := newProgress(env, "prediction")
	defer p.clear()
	var all []*result.Replay
	for i := range seeds {
		o := x.options
		o.Seed += uint64(i)
		res, err := replay.Run(ctx, x.config, x.prediction, x.sources, o)
		if err != nil {
			return nil, nil, unusable(err)
		}
		all = append(all, res)
		p.steps(i+1, seeds)
		if ctx.Err() != nil {
			return nil, nil, &exitError{interrupted, nil}
		}
	}
	return all[0], all[1:], nil
}

// forReal rehearses.
func (x *rehearsal) forReal(ctx context.Context, env *Env, r *replayFlags, prediction *result.Replay) (*rehearse.Outcome, error) {
	style := env.style(env.Stderr, false)
	var mu sync.Mutex
	shown := false
	clear := func() {
		if shown {
			fmt.Fprint(env.Stderr, "\r\x1b[K")
			shown = false
		}
	}
	o := rehearse.Options{
		Config: x.config, Scenario: x.scenario, Records: x.records, Seed: x.options.Seed, Bucket: prediction.Timeline.Bucket, Frontend: r.o.Frontend, Host: r.o.Host, Version: Version,
	}
	if terminal(env.Stderr) {
		fmt.Fprintf(env.Stderr, "rehearsing %s for real; Ctrl-C ends it with what is known\n", report.Span(prediction.Duration))
		o.Event = func(e status.Event) {
			mu.Lock()
			defer mu.Unlock()
			clear()
			_, _ = io.WriteString(env.Stderr, style.Event(e)) // stderr has nobody to tell
		}
		o.Progress = func(p drive.Progress) {
			mu.Lock()
			defer mu.Unlock()
			shown = true
			fmt.Fprintf(env.Stderr, "\r\x1b[Krehearse: %s of %s, %s requests, %s failed", report.Span(p.For.Seconds()), report.Span(prediction.Duration), report.Count(p.Done), report.Count(p.Failed))
		}
	}
	out, err := rehearse.Run(ctx, o)
	mu.Lock()
	defer mu.Unlock()
	clear()
	return out, err
}
