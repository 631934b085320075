package cli

import (
	"context"
	"flag"
	"strings"
	"time"

	"kestrix/internal/core/config"
	"kestrix/internal/core/trace"
)

func traceCommand() *command {
	return &command{
		name: "trace", group: "predict", args: "make|describe|convert|learn",
		summary: "make, describe and convert traces, and learn a scenario from one",
		subs:    []*command{traceMakeCommand(), traceDescribeCommand(), traceConvertCommand(), traceLearnCommand()},
	}
}

// readable tells in help what traces may be.
const readable = `
The format of a TRACE is detected: Common or Combined log lines, W3C Extended, JSON
Lines, CSV with a header row, or HAR; plain, gzip or zstd. - is stdin. -line reads lines
of any other format.

`

func traceMakeCommand() *command {
	return &command{
		name: "trace make", args: "[-o FILE]", summary: "make a trace",
		help: `
A file whose name ends in .gz or .zst is compressed.

examples:
  kestrix trace make -rate 50/s -for 10m -shape spike -path '/seats=5' -path 'POST /book=1' -o made.log
  kestrix trace make -rate 2000/s -for 24h -shape day -as jsonl -o day.jsonl.zst`,
		setup: func(fs *flag.FlagSet) func(context.Context, *Env, []string) error {
			var t traceFlags
			t.define(fs)
			return func(ctx context.Context, env *Env, args []string) error {
				return makeTrace(ctx, env, &t, args)
			}
		},
	}
}

type traceFlags struct {
	as, file string
	rate     string
	start    string
	paths    list
	spec     trace.Spec
}

func (t *traceFlags) define(fs *flag.FlagSet) {
	fs.StringVar(&t.file, "o", "", "write the trace to `FILE` instead of stdout")
	fs.StringVar(&t.as, "as", "combined", "`FORMAT` of the trace; combined has the duration as a further field:\n"+strings.Join(trace.WrittenAs(), "\n"))
	fs.StringVar(&t.rate, "rate", "20/s", "mean `RATE` of requests, as in 20/s")
	fs.DurationVar(&t.spec.For, "for", 10*time.Minute, "`TIME` that the trace covers, as in 10m")
	fs.StringVar(&t.start, "start", "2026-11-23T06:30:00Z", "`TIME` of the first request, in RFC 3339 format")
	fs.IntVar(&t.spec.Clients, "clients", 500, "`NUMBER` of clients")
	fs.Float64Var(&t.spec.Popularity, "popularity", 0.8, "`EXPONENT` of the Zipf distribution of requests over clients; 0 is uniform")
	fs.StringVar(&t.spec.Arrivals, "arrivals", "poisson", "`KIND` of arrivals:\npoisson  random, independent of each other\neven     at equal intervals")
	fs.StringVar(&t.spec.Shape, "shape", "steady", "`COURSE` of the rate:\nsteady\nramp\nspike\nday")
	fs.StringVar(&t.spec.Host, "host", "", "`HOST` of every request; Common and Combined lines have no field for it")
	fs.DurationVar(&t.spec.Mean, "mean", 40*time.Millisecond, "mean `DURATION` of requests")
	fs.Float64Var(&t.spec.CV, "cv", 0.6, "coefficient of variation of durations, a `NUMBER`")
	fs.Uint64Var(&t.spec.Seed, "seed", 1, "`NUMBER` that seeds the random number generator")
	fs.Var(&t.paths, "path", "`PATH=WEIGHT`, after a method if it is not GET; {n} is a random number; may be repeated")
}

// ternPaths is what customers of a ferry line ask for.
var ternPaths = []string{
	"/=4", "/seats=5", "/seats/{n}=4", "POST /seats/{n}/hold=2", "POST /bookings=1", "/bookings/{n}=2",
	"/sailings/today=4", "/sailings/{n}=3", "/assets/tern.css=3", "/assets/quay.jpg=2",
}

func makeTrace(ctx context.Context, env *Env, t *traceFlags, rest []string) error {
	if len(rest) > 0 {
		return usage("no operand %q is taken; -o FILE says where to write", rest[0])
	}
	if err := writable(t.as); err != nil {
		return err
	}
	var err error
	if t.spec.Rate, err = config.ParseRate(t.rate); err != nil {
		return usage("-rate: %v", err)
	}
	if t.spec.Start, err = time.Parse(time.RFC3339Nano, t.start); err != nil {
		return usage("-start: %q is not like 2026-11-23T06:30:00Z", t.start)
	}
	if t.spec.Host != "" && (t.as == "combined" || t.as == "common") {
		return usage("-host has no place in log lines; -as jsonl has one")
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
	p := newProgress(env, "trace make")
	return writeTrace(ctx, env, t.as, t.file, func(w *trace.Writer) error {
		defer p.clear()
		var rec trace.Record
		for n := int64(0); g.Next(&rec) && ctx.Err() == nil; n++ {
			if err := w.Write(&rec); err != nil {
				return err
			}
			p.show(n, 0, 0)
		}
		return nil
	})
}
