package cli

import (
	"cmp"
	"context"
	"flag"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"kestrix/internal/core/result"
	"kestrix/internal/core/study"
	"kestrix/internal/report"
)

func compareCommand() *command {
	return &command{
		name: "compare", group: "predict", args: "CONFIG... [TRACE...]",
		summary: "replay with several algorithms or configurations, and advise",
		help: `
CONFIG is a file that ends in .hcl, or a folder of such files; every other operand is a
TRACE, as for replay. All variants get the same requests, the same work and the same
faults.

With one CONFIG every algorithm is a variant: round-robin, least-connections, random,
two-choices, least-latency, first-fit, ring, rendezvous and modulo. Algorithms that
hash use the configured key, or else the client; ring:1.25 is a bounded ring. With
several CONFIGs each is a variant as it is, unless -algorithms is given.

Each variant is replayed with several seeds. The table shows medians and ranges. A mark
or an advice needs a difference that a significance test supports.

"on leave" is measured separately: one backend of each upstream leaves, and the column
counts requests that move although their client's backend is still there.

exit code:
  0  fine
  2  wrong usage
  3  input that cannot be used

examples:
  kestrix compare harbour.hcl morning.log
  kestrix compare harbour.hcl morning.log -scenario auk-fails.scenario.hcl -upstream booking
  kestrix compare harbour.hcl morning.log -algorithms least-connections,ring,ring:1.25
  kestrix compare harbour.hcl harbour-new.hcl morning.log
  kestrix compare harbour.hcl -scenario load.scenario.hcl -backends 1,2,5`,
		setup: func(fs *flag.FlagSet) func(context.Context, *Env, []string) error {
			var o output
			o.define(fs)
			var r replayFlags
			with := withFlag(fs)
			r.define(fs)
			var f figures
			f.define(fs)
			algorithms := fs.String("algorithms", "", "`NAMES` of the algorithms to compare, comma-separated, or all")
			backends := fs.String("backends", "", "`NUMBERS` of backends per pool to compare, comma-separated")
			r.defineSeeds(fs, 0, "`NUMBER` of seeds with which each variant is replayed; 0 for as many as the requests need, by the table in docs/replay.md")
			sticky := fs.String("sticky", "", "`METHODS` of stickiness to compare, comma-separated:\n"+strings.Join(study.StickyWays, "\n")+"\nheader:NAME")
			onLoss := fs.String("on-loss", "", "`REACTIONS` to the loss of a client's backend to compare, comma-separated:\n"+strings.Join(study.LossWays, "\n"))
			spill := fs.String("spill", "", "`WAYS` to spill to other tiers and zones to compare, comma-separated:\nbelow:SHARE of healthy weight, as in below:80%\nat:SHARE of max_in_flight, as in at:80%")
			upstreams := fs.String("upstream", "", "`NAMES` of the upstreams to vary and to report, comma-separated; all when not given")
			return func(ctx context.Context, env *Env, args []string) error {
				if err := cmp.Or(o.check(), f.check()); err != nil {
					return err
				}
				if err := r.checkSeeds(0); err != nil {
					return err
				}
				r.given(fs)
				axes := study.Axes{Algorithms: commas(*algorithms), Upstreams: commas(*upstreams), Sticky: commas(*sticky), OnLoss: commas(*onLoss), Spill: commas(*spill)}
				for _, n := range commas(*backends) {
					i, err := strconv.Atoi(n)
					if err != nil {
						return usage("-backends cannot be %q: whole numbers, as in 1,2,5", *backends)
					}
					axes.Pools = append(axes.Pools, i)
				}
				return runCompare(ctx, env, &o, &f, &r, axes, args, *with)
			}
		},
	}
}

// commas takes a comma-separated list apart.
func commas(list string) []string {
	var out []string
	for w := range strings.SplitSeq(list, ",") {
		if w = strings.TrimSpace(w); w != "" {
			out = append(out, w)
		}
	}
	return out
}

// apart tells configurations from traces.
func apart(args []string) (configs, traces []string) {
	for _, a := range args {
		info, err := os.Stat(a)
		if strings.HasSuffix(a, ".hcl") || err == nil && info.IsDir() {
			configs = append(configs, a)
		} else {
			traces = append(traces, a)
		}
	}
	return configs, traces
}

func runCompare(ctx context.Context, env *Env, o *output, f *figures, r *replayFlags, axes study.Axes, args, with []string) error {
	if err := cmp.Or(r.check(), r.one()); err != nil {
		return err
	}
	configs, traces := apart(args)
	if err := namedOnce(configs); err != nil {
		return err
	}
	if slices.Equal(axes.Algorithms, []string{"all"}) || len(configs) == 1 && len(axes.Algorithms)+len(axes.Pools)+len(axes.Sticky)+len(axes.OnLoss)+len(axes.Spill) == 0 {
		axes.Algorithms = study.Choices
	}
	subjects, first, err := compareSubjects(env, r, axes.Upstreams, configs, with)
	if err != nil {
		return err
	}
	sc := subjects[0].Scenario
	if err := r.fits(sc, append([]string{configs[0]}, traces...)); err != nil {
		return err
	}
	variants, left, err := study.Variants(subjects, axes)
	if err != nil {
		return usage("%v", err)
	}
	if len(variants) < 2 {
		return usage("there is only one variant to look at, %s; replay tells all of it", variants[0].Name)
	}
	sources, files, remove, err := rereadable(ctx, env, traces)
	defer remove()
	if err != nil {
		return err
	}
	if err := rehearseExpectations(env, first, sc, r); err != nil {
		return err
	}
	p := newProgress(env, "compare")
	r.o.Progress = p.of(sc, files)
	judges := judgesOf(variants)
	c, err := study.SideBySide(ctx, variants, axes.Upstreams, sources, r.o, r.seeds, judges.hear, p.steps)
	p.clear()
	if err != nil {
		return unusable(err)
	}
	c.LeftOut = append(c.LeftOut, left...)
	if err := judges.note(c.Runs); err != nil {
		return err
	}
	about := report.Compared{Upstreams: axes.Upstreams, Names: bases(configs, traces, r.scenario), Ways: variants, Result: c}
	c.Advice = about.Advise()
	err = o.write(env, func(w io.Writer) error {
		if o.format == "json" {
			return writeJSON(w, c)
		}
		_, err := io.WriteString(w, o.style(env).Compare(about))
		return err
	})
	if err == nil {
		err = f.write(func(kind string) ([]byte, error) { return report.CompareFigure(kind, about) }, func() ([]byte, error) { return report.ComparePage(about, Version) })
	}
	if err == nil && c.Partial {
		return &exitError{interrupted, nil}
	}
	return err
}

// namedOnce checks the configurations of the command line.
func namedOnce(configs []string) error {
	for i, c := range configs {
		if slices.Contains(configs[:i], c) {
			return usage("%s is named twice", c)
		}
	}
	if len(configs) == 0 {
		return usage("a configuration is required: kestrix compare CONFIG... TRACE...; its name ends in .hcl")
	}
	return nil
}

// compareSubjects reads the configurations, each with its scenario. first is what was
// read of the first.
func compareSubjects(env *Env, r *replayFlags, upstreams, configs, with []string) (subjects []study.Subject, first *source, err error) {
	for _, name := range configs {
		s, sc, err := r.inputs(env, name, with)
		if err != nil {
			return nil, nil, err
		}
		if first == nil {
			first = s
		}
		if err := knownUpstreams(s, upstreams); err != nil {
			return nil, nil, err
		}
		short := filepath.Base(name)
		if slices.ContainsFunc(configs, func(c string) bool { return c != name && filepath.Base(c) == short }) {
			short = name // of two that are called the same
		}
		subjects = append(subjects, study.Subject{Name: short, Config: sc.Expand(s.config), Scenario: sc})
	}
	return subjects, first, nil
}

// variantJudges hold the results of each variant against its scenario's expectations.
type variantJudges []judging

func judgesOf(variants []study.Variant) (out variantJudges) {
	for _, v := range variants {
		out = append(out, judging{judge: v.Scenario.JudgeAll()})
	}
	return out
}

func (j variantJudges) hear(variant int, r *result.Replay) { j[variant].hear(r) }

// note notes with each run what came of the expectations. A variant may lack what one speaks
// of, such as a backend of a larger pool: that is noted as well.
func (j variantJudges) note(runs []study.Run) error {
	for i := range runs {
		if j[i].err != nil {
			return unusable(j[i].err)
		}
		verdicts, found := j[i].judge.Verdicts()
		runs[i].Result.Expectations = verdicts
		if len(found) > 0 {
			runs[i].Notes = append(runs[i].Notes, "expectations cannot be judged: "+found[0].Message)
		}
	}
	return nil
}

// bases returns the last parts of the paths of what went in.
func bases(configs, traces []string, scenario string) []string {
	var out []string
	for _, p := range slices.Concat(configs, traces, []string{scenario}) {
		if p != "" {
			out = append(out, filepath.Base(p))
		}
	}
	return out
}
