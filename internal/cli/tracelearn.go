package cli

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"io"

	"kestrix/internal/core/config"
	"kestrix/internal/core/study"
	"kestrix/internal/core/trace"
	"kestrix/internal/report"
)

func traceLearnCommand() *command {
	return &command{
		name: "trace learn", args: "TRACE...",
		summary: "write a scenario whose backends and clients behave as in a trace",
		help: readable + `Fits service times and the number of workers per upstream, and per backend when the trace
names it, as the log of serve does. It also fits the arrivals and the clients. The result
is a scenario; comments in it rate each fit. -config assigns requests to upstreams when
the trace does not name them.

examples:
  kestrix trace learn today.jsonl.zst -o today.scenario.hcl
  kestrix trace learn morning.log -config harbour.hcl -svg fit.svg
  kestrix replay harbour.hcl -scenario today.scenario.hcl`,
		setup: func(fs *flag.FlagSet) func(context.Context, *Env, []string) error {
			var o output
			o.define(fs)
			f := &ordering{}
			f.define(fs, "learn")
			with := withFlag(fs)
			name := fs.String("config", "", "configuration `FILE` that assigns requests to upstreams")
			host := fs.String("host", "", "`NAME` of the host for records without one")
			frontend := fs.String("frontend", "", "`NAME` of the frontend for records without one")
			svg := fs.String("svg", "", "also draw the fits as SVG to `FILE`")
			png := fs.String("png", "", "also draw the fits as PNG to `FILE`")
			return func(ctx context.Context, env *Env, args []string) error {
				if err := o.check(); err != nil {
					return err
				}
				if err := places(*svg, *png); err != nil {
					return err
				}
				switch {
				case len(args) == 0:
					return usage("no trace is named: kestrix trace learn TRACE")
				case *name == "" && (*frontend != "" || *host != "" || len(*with) > 0):
					return usage("-frontend, -host and -with go with -config")
				}
				if err := f.check(); err != nil {
					return err
				}
				f.traces = args
				var c *config.Config
				if *name != "" {
					s, err := usable(env, *name, *with)
					if err != nil {
						return err
					}
					c = s.config
					if *frontend != "" && c.Frontend(*frontend) == nil {
						return usage("-frontend: no frontend is called %q", *frontend)
					}
				}
				l := study.NewLearner(c, *host, *frontend)
				if _, err := f.records(ctx, env, func(r *trace.Record) error { l.Add(r); return nil }); err != nil {
					return err
				}
				if ctx.Err() != nil {
					return &exitError{interrupted, errors.New("stopped before the trace was read; nothing was written")}
				}
				return learned(env, &o, l.Done(), bases(nil, args, ""), *svg, *png)
			}
		},
	}
}

// learned writes what was learned.
func learned(env *Env, o *output, l *study.Learned, names []string, svg, png string) error {
	if l.Load == nil && len(l.Services) == 0 {
		return unusable(fmt.Errorf("there is too little to learn from: %s", l.Notes[len(l.Notes)-1]))
	}
	err := o.write(env, func(w io.Writer) error {
		if o.format == "json" {
			return writeJSON(w, l)
		}
		_, err := io.WriteString(w, report.LearnedScenario(l, names))
		return err
	})
	for kind, file := range map[string]string{"svg": svg, "png": png} {
		if err != nil || file == "" {
			continue
		}
		var drawn []byte
		if drawn, err = report.LearnFigure(kind, l); err != nil {
			return unusable(err)
		}
		err = replaceFile(file, func(w io.Writer) error { _, err := w.Write(drawn); return err })
	}
	return err
}
