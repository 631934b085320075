package cli

import (
	"cmp"
	"context"
	"encoding/json"
	"flag"
	"io"
	"os"
	"time"

	"kestrix/internal/core/config"
	"kestrix/internal/core/ingest"
	"kestrix/internal/core/replay"
	"kestrix/internal/core/result"
	"kestrix/internal/core/scenario"
	"kestrix/internal/core/study"
	"kestrix/internal/report"
)

func replayCommand() *command {
	return &command{
		name: "replay", group: "predict", args: "CONFIG [TRACE...]",
		summary: "send a trace through the configuration in virtual time, with faults",
		help: readable + `Several traces are read one after the other. A scenario with a load block makes the
requests itself and needs no TRACE.

With several scenarios, or a folder of them, each is replayed and the report lists
their expectations. -format junit writes that list for CI servers.

-from and -until are times since the first record, as in 5m, or RFC 3339 times.

exit code:
  0  fine
  1  an expectation of the scenario is not met
  2  wrong usage
  3  input that cannot be used

examples:
  kestrix replay harbour.hcl morning.log
  kestrix replay harbour.hcl morning.log -scenario auk-fails.scenario.hcl
  kestrix replay harbour.hcl morning.log -scenario auk-fails.scenario.hcl -brief
  kestrix replay harbour.hcl day.csv.zst -map duration/ms=took -from 8h -until 9h
  kestrix replay harbour.hcl -scenario load.scenario.hcl -csv timeline.csv
  kestrix replay harbour.hcl morning.log -scenario scenarios/ -format junit -o met.xml
  zcat old.log.gz | kestrix replay harbour.hcl - -bad skip -format json`,
		setup: func(fs *flag.FlagSet) func(context.Context, *Env, []string) error {
			var o output
			o.define(fs)
			var r replayFlags
			with := withFlag(fs)
			r.define(fs)
			csv := fs.String("csv", "", "also write the timeline as CSV to `FILE`")
			var f figures
			f.define(fs)
			all := fs.Bool("all", false, "list every row of long tables and every transition, and chart every upstream")
			r.defineSeeds(fs, 1, "`NUMBER` of seeds with which it is replayed, for the range in which figures lie")
			brief := fs.Bool("brief", false, "print the verdict, unmet expectations and recommended changes only, for CI")
			by := fs.String("by", "", "additional `BREAKDOWN` of the backends:\npath  by request path")
			diagnose := fs.String("diagnose", "yes", "`SWITCH` for the diagnosis of failures and waiting by further replays:\nyes\nno")
			return func(ctx context.Context, env *Env, args []string) error {
				junit := o.format == "junit"
				if junit {
					o.format = "text"
				}
				if err := formOf("replay", o.format); err != nil {
					return err
				}
				if err := o.check(); err != nil {
					return err
				}
				if err := r.checkMore(*diagnose, *by); err != nil {
					return err
				}
				r.given(fs)
				several, err := scenarioFiles(r.scenarios)
				if err != nil {
					return err
				}
				forms := replayForms{*csv, *all, *brief, *diagnose == "yes", f}
				if len(args) < 1 || len(args) < 2 && len(several) == 0 {
					return usage("a configuration and a trace are required: kestrix replay CONFIG TRACE..., or a scenario with a load")
				}
				if len(several) > 1 || junit {
					if err := forms.ofOne(&r, len(several)); err != nil {
						return err
					}
					return runScenarios(ctx, env, &o, &r, junit, several, args, *with)
				}
				if len(several) == 1 {
					r.scenario = several[0]
				}
				if forms.brief && (o.format != "text" || forms.all || *by != "") {
					return usage("-brief is a text of its own; it does not go with -format, -all and -by")
				}
				return runReplay(ctx, env, &o, &r, forms, args, *with)
			}
		},
	}
}

// checkMore returns the error of flags that ask for further replays or counts, and takes them.
func (r *replayFlags) checkMore(diagnose, by string) error {
	switch {
	case diagnose != "yes" && diagnose != "no":
		return usage("-diagnose cannot be %q; it is yes or no", diagnose)
	case by != "" && by != "path":
		return usage("-by cannot be %q; it is path", by)
	}
	r.o.ByPath = by == "path"
	return r.checkSeeds(1)
}

// replayForms are the forms in which a replay is written.
type replayForms struct {
	csv      string
	all      bool
	brief    bool
	diagnose bool
	figures
}

// ofOne returns the error of flags that need a report of one scenario, where there are n or the result is for a CI server.
func (f *replayForms) ofOne(r *replayFlags, n int) error {
	if r.seeds != 1 || !f.diagnose || r.o.ByPath {
		return usage("-seeds, -by and -diagnose need one scenario; there are %s", plural(n, "scenario"))
	}
	if f.csv != "" || f.all || f.brief || f.figures != (figures{}) {
		return usage("-csv, -all, -brief, -svg, -png and -html need one scenario in text or json; there are %s", plural(n, "scenario"))
	}
	return nil
}

func runReplay(ctx context.Context, env *Env, o *output, r *replayFlags, forms replayForms, args, with []string) error {
	if err := cmp.Or(r.check(), places(forms.csv), forms.check()); err != nil {
		return err
	}
	s, sc, err := r.inputs(env, args[0], with)
	if err != nil {
		return err
	}
	if err := r.fits(sc, args); err != nil {
		return err
	}
	s.config = sc.Expand(s.config)
	sources, err := traceSources(ctx, env, args[1:])
	if err != nil {
		return err
	}
	if err := rehearseExpectations(env, s, sc, r); err != nil {
		return err
	}
	began := time.Now()
	j := judging{judge: sc.Judge()}
	res, err := replayed(ctx, env, s.config, sc, sources, args[1:], r, &j)
	if err != nil {
		return err
	}
	res.Engine.WallSeconds = time.Since(began).Seconds()
	if res.Engine.WallSeconds > 0 {
		res.Engine.RequestsPerSecond = float64(res.Requests) / res.Engine.WallSeconds
	}
	unmet, err := j.settle(env, sc, res)
	if err != nil {
		return err
	}
	if forms.diagnose && !res.Partial {
		if err := diagnose(ctx, env, s.config, sc, sources, args[1:], r, res); err != nil {
			return err
		}
	}
	if forms.csv != "" {
		if err := replaceFile(forms.csv, func(w io.Writer) error { return report.TimelineCSV(w, s.config, res) }); err != nil {
			return err
		}
	}
	about := report.Replay{Config: s.config, Scenario: sc, Path: args[0], Names: bases(args[:1], args[1:], r.scenario), Result: res}
	err = o.write(env, func(w io.Writer) error {
		if o.format == "json" {
			return writeJSON(w, res)
		}
		style := o.style(env)
		style.All = forms.all
		text := style.Replay
		if forms.brief {
			text = style.ReplayBrief
		}
		_, err := io.WriteString(w, text(about))
		return err
	})
	if err == nil { // a figure that cannot be written takes no text away
		err = forms.write(func(kind string) ([]byte, error) { return report.ReplayFigure(kind, about) }, func() ([]byte, error) { return report.ReplayPage(about, Version) })
	}
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

// replayed replays, with several seeds if the flags or an expectation ask for them, and has
// each result judged.
func replayed(ctx context.Context, env *Env, c *config.Config, sc *scenario.Scenario, sources []ingest.Source, traces []string, r *replayFlags, j *judging) (*result.Replay, error) {
	p := newProgress(env, "replay")
	defer p.clear()
	seeds := max(r.seeds, sc.Seeds())
	if seeds == 1 {
		r.o.Progress = p.of(sc, traces)
		res, err := replay.Run(ctx, c, sc, sources, r.o)
		if err != nil {
			return nil, unusable(err)
		}
		j.hear(res)
		return res, nil
	}
	sources, _, remove, err := rereadable(ctx, env, traces)
	defer remove()
	if err != nil {
		return nil, err
	}
	res, err := study.AcrossSeeds(ctx, c, sc, sources, r.o, seeds, j.hear, p.steps)
	if err != nil {
		return nil, unusable(err)
	}
	return res, nil
}

// onlyOnce returns the first of some traces that is no file on a disk; empty if all are.
func onlyOnce(traces []string) string {
	for _, name := range traces {
		if info, err := os.Stat(name); err != nil || !info.Mode().IsRegular() {
			return name
		}
	}
	return ""
}

// diagnose finds out why requests failed or waited, if any did.
func diagnose(ctx context.Context, env *Env, c *config.Config, sc *scenario.Scenario, sources []ingest.Source, traces []string, r *replayFlags, res *result.Replay) error {
	if !study.WorthDiagnosing(c, sc, res) {
		return nil
	}
	if name := onlyOnce(traces); name != "" {
		res.Diagnosis = &result.Diagnosis{Causes: []result.Diagnosed{}, Note: name + " can be read only once; give the trace as a file"}
		return nil
	}
	p := newProgress(env, "finding out why")
	o := r.o
	o.Progress, o.Resample, o.ByPath = p.of(sc, traces), false, false // as the result that is explained was replayed
	d, err := study.Diagnose(ctx, c, sc, sources, o, res)
	p.clear()
	if err != nil {
		return unusable(err)
	}
	res.Diagnosis = d
	return nil
}

// judging holds results with different seeds against the expectations of a scenario.
type judging struct {
	judge *scenario.Judge
	err   error
}

// hear takes the result of the next seed, as it is written.
func (j *judging) hear(res *result.Replay) {
	res.Expectations = []scenario.Verdict{}
	if !j.judge.HasExpectations() {
		return
	}
	text, err := json.Marshal(res)
	j.err = cmp.Or(j.err, err)
	j.judge.Add(text)
}

// settle notes with a result what came of the expectations, and returns how many are not met.
func (j *judging) settle(env *Env, sc *scenario.Scenario, res *result.Replay) (int, error) {
	if j.err != nil {
		return 0, unusable(j.err)
	}
	verdicts, found := j.judge.Verdicts()
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

// judge holds one result against the expectations and returns how many are not met.
func judge(env *Env, sc *scenario.Scenario, res *result.Replay) (int, error) {
	j := judging{judge: sc.Judge()}
	j.hear(res)
	return j.settle(env, sc, res)
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
