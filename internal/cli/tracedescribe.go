package cli

import (
	"cmp"
	"context"
	"flag"
	"fmt"
	"io"

	"kestrix/internal/core/trace"
	"kestrix/internal/report"
)

func traceDescribeCommand() *command {
	return &command{
		name: "trace describe", args: "TRACE...", summary: "summarise a trace",
		help: readable + `examples:
  kestrix trace describe morning.log
  kestrix trace describe -svg morning.svg morning.log
  kestrix trace describe day.csv -map duration/ms=took -format json`,
		setup: func(fs *flag.FlagSet) func(context.Context, *Env, []string) error {
			var o output
			o.define(fs)
			var r readFlags
			r.define(fs)
			var f figures
			f.define(fs)
			return func(ctx context.Context, env *Env, args []string) error {
				if err := cmp.Or(o.check(), f.check()); err != nil {
					return err
				}
				if len(args) == 0 {
					return usage("no trace is named: kestrix trace describe TRACE")
				}
				return describe(ctx, env, &o, &r, &f, args)
			}
		},
	}
}

func describe(ctx context.Context, env *Env, o *output, r *readFlags, f *figures, names []string) error {
	d := trace.NewDescriber()
	read, err := r.records(ctx, env, "trace describe", names, func(rec *trace.Record) error {
		d.Add(rec)
		return nil
	})
	if err != nil {
		return err
	}
	sum := d.Summary()
	sum.Format, sum.BadLines = read.format, read.badLines
	sum.Bad = append(sum.Bad, read.bad...)
	name := names[0]
	if len(names) > 1 {
		name = fmt.Sprintf("%s and %d more", names[0], len(names)-1)
	}
	err = o.write(env, func(w io.Writer) error {
		if o.format == "json" {
			return writeJSON(w, sum)
		}
		_, err := io.WriteString(w, o.style(env).Trace(name, &sum))
		return err
	})
	if err == nil { // a figure that cannot be written takes no text away
		err = f.write(func(kind string) ([]byte, error) { return report.TraceFigure(kind, name, &sum) },
			func() ([]byte, error) { return report.TracePage(name, &sum, Version) })
	}
	if err == nil && ctx.Err() != nil {
		fmt.Fprintln(env.Stderr, "kestrix trace describe: stopped early; what was printed is partial")
		return &exitError{interrupted, nil}
	}
	return err
}
