package cli

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"io"
	"time"

	"kestrix/internal/core/config"
	"kestrix/internal/core/trace"
)

func traceCommand() *command {
	return &command{
		name: "trace", args: "make|describe", summary: "make and summarise traces",
		help: `
kestrix trace describe TRACE...    what is in it
kestrix trace make                 makes one; -as combined or json

  kestrix trace describe morning.log
  kestrix trace make -rate 50/s -for 10m -shape spike -path '/seats=5' -path 'POST /book=1' -o made.log`,
		setup: func(fs *flag.FlagSet) func(context.Context, *Env, []string) error {
			var o output
			o.define(fs)
			var t traceFlags
			t.define(fs)
			return func(ctx context.Context, env *Env, args []string) error {
				if err := o.check(); err != nil {
					return err
				}
				if len(args) == 0 {
					return usage("make or describe is wanted: kestrix trace describe TRACE")
				}
				switch args[0] {
				case "describe":
					return describe(ctx, env, &o, &t, args[1:])
				case "make":
					return makeTrace(ctx, env, &o, &t, args[1:])
				}
				hint := "make or describe"
				if s := config.Suggest(args[0], []string{"make", "describe"}); s != "" {
					hint = "did you mean " + s + "?"
				}
				return usage("there is no kestrix trace %q; %s", args[0], hint)
			}
		},
	}
}

type traceFlags struct {
	fields, bad string
	as, rate    string
	start       string
	paths       list
	spec        trace.Spec
}

func (t *traceFlags) define(fs *flag.FlagSet) {
	fs.StringVar(&t.fields, "fields", "", "describe: `NAMES` of log lines' further fields, as in duration,host; duration/ms for milliseconds, - passes one over")
	fs.StringVar(&t.bad, "bad", "stop", "describe: `WHAT` to do at lines that cannot be read: stop or skip")
	fs.StringVar(&t.as, "as", "combined", "make: `FORMAT` of the trace: combined (with the duration as a further field) or json (JSON Lines)")
	fs.StringVar(&t.rate, "rate", "20/s", "make: `RATE` of requests on average, as in 20/s")
	fs.DurationVar(&t.spec.For, "for", 10*time.Minute, "make: for how much `TIME`, as in 10m")
	fs.StringVar(&t.start, "start", "2026-11-23T06:30:00Z", "make: when it begins, as an RFC 3339 `TIME`")
	fs.IntVar(&t.spec.Clients, "clients", 500, "make: `NUMBER` of clients")
	fs.Float64Var(&t.spec.Popularity, "popularity", 0.8, "make: `EXPONENT` of the zipf distribution of clients; 0 makes them equal")
	fs.StringVar(&t.spec.Arrivals, "arrivals", "poisson", "make: `KIND` of arrivals: poisson or even")
	fs.StringVar(&t.spec.Shape, "shape", "steady", "make: `COURSE` of the rate: steady, ramp, spike or day")
	fs.StringVar(&t.spec.Host, "host", "", "make: `HOST` of every request (JSON Lines only; log lines have no place for it)")
	fs.DurationVar(&t.spec.Mean, "mean", 40*time.Millisecond, "make: mean `DURATION` of answers")
	fs.Float64Var(&t.spec.CV, "cv", 0.6, "make: coefficient of variation of durations, a `NUMBER`")
	fs.Uint64Var(&t.spec.Seed, "seed", 1, "make: `NUMBER` that keys every draw")
	fs.Var(&t.paths, "path", "make: `PATH=WEIGHT`, with a method before it if not GET; {n} is a number drawn anew; may be repeated")
}

func describe(ctx context.Context, env *Env, o *output, t *traceFlags, names []string) error {
	if len(names) == 0 {
		return usage("no trace is named: kestrix trace describe TRACE")
	}
	if t.bad != "stop" && t.bad != "skip" {
		return usage("-bad cannot be %q; it is stop or skip", t.bad)
	}
	d := trace.NewDescriber()
	p := newProgress(env, "describe")
	var last *trace.Reader
	var badLines int64
	var bad []trace.Bad
	var n int64
	for _, name := range names {
		src, err := openTrace(env, name)
		if err != nil {
			return err
		}
		defer src.Close()
		r, err := trace.NewReader(name, src, trace.Options{Fields: t.fields, Skip: t.bad == "skip"})
		if err != nil {
			return unusable(err)
		}
		var rec trace.Record
		for {
			err := r.Next(&rec)
			if errors.Is(err, io.EOF) {
				break
			}
			if err != nil {
				p.clear()
				return unusable(err)
			}
			d.Add(&rec)
			if n++; n%65536 == 0 {
				p.show(n, 0, 0)
				if ctx.Err() != nil {
					break
				}
			}
		}
		badLines += r.BadLines
		bad = append(bad, r.Bad...)
		last = r
	}
	p.clear()
	if n == 0 {
		return unusable(fmt.Errorf("%s: no readable record; %d lines could not be read", names[0], badLines))
	}
	last.BadLines, last.Bad = badLines, bad
	sum := d.Summary(last)
	name := names[0]
	if len(names) > 1 {
		name = fmt.Sprintf("%s and %d more", names[0], len(names)-1)
	}
	err := o.write(env, func(w io.Writer) error {
		if o.format == "json" {
			return writeJSON(w, sum)
		}
		_, err := io.WriteString(w, env.style(env.Stdout, o.plain || o.file != "").Trace(name, &sum))
		return err
	})
	if err == nil && ctx.Err() != nil {
		fmt.Fprintln(env.Stderr, "kestrix trace: stopped early; what was printed is partial")
		return &exitError{interrupted, nil}
	}
	return err
}

// ternPaths is what customers of a ferry line ask for.
var ternPaths = []string{
	"/=4", "/seats=5", "/seats/{n}=4", "POST /seats/{n}/hold=2", "POST /bookings=1", "/bookings/{n}=2",
	"/sailings/today=4", "/sailings/{n}=3", "/assets/tern.css=3", "/assets/quay.jpg=2",
}

func makeTrace(ctx context.Context, env *Env, o *output, t *traceFlags, rest []string) error {
	if len(rest) > 0 {
		return usage("trace make takes no operand %q; -o FILE says where to write", rest[0])
	}
	if t.as != "combined" && t.as != "json" {
		return usage("-as cannot be %q; it is combined or json", t.as)
	}
	var err error
	if t.spec.Rate, err = config.ParseRate(t.rate); err != nil {
		return usage("-rate: %v", err)
	}
	if t.spec.Start, err = time.Parse(time.RFC3339Nano, t.start); err != nil {
		return usage("-start: %q is not like 2026-11-23T06:30:00Z", t.start)
	}
	if t.spec.Host != "" && t.as == "combined" {
		return usage("-host has no place in Combined log lines; -as json has one")
	}
	paths := t.paths
	if len(paths) == 0 {
		paths = ternPaths
	}
	for _, p := range paths {
		w, err := trace.ParsePath(p)
		if err != nil {
			return usage("-path %v", err)
		}
		t.spec.Paths = append(t.spec.Paths, w)
	}
	if err := t.spec.Validate(); err != nil {
		return usage("%v", err)
	}
	g := trace.NewGenerator(t.spec)
	stopped := false
	err = o.write(env, func(w io.Writer) error {
		var rec trace.Record
		var line []byte
		for n := 0; g.Next(&rec); n++ {
			if t.as == "json" {
				line = trace.AppendJSON(line[:0], &rec)
			} else {
				line = trace.AppendCombined(line[:0], &rec)
			}
			if _, err := w.Write(append(line, '\n')); err != nil {
				return err
			}
			if n%65536 == 0 && ctx.Err() != nil {
				stopped = true
				return &exitError{interrupted, errors.New("stopped; nothing was written to the file")}
			}
		}
		return nil
	})
	if stopped && o.file == "" {
		return &exitError{interrupted, errors.New("stopped early; the trace is partial")}
	}
	return err
}
