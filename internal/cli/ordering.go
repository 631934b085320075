package cli

import (
	"context"
	"flag"
	"fmt"
	"time"

	"kestrix/internal/core/replay"
	"kestrix/internal/core/trace"
)

// ordering says which records of traces are taken one after the other, in the order
// of their times.
type ordering struct {
	read          readFlags
	traces        []string
	what          string // is done with them, for the progress line
	from, until   string
	part          trace.Span
	window        time.Duration
	spread, stamp string
}

// define defines the flags, for a command that does so with records.
func (o *ordering) define(fs *flag.FlagSet, what string) {
	o.what = what
	fs.StringVar(&o.from, "from", "", "`MOMENT` of the trace from which to "+what)
	fs.StringVar(&o.until, "until", "", "`MOMENT` of the trace until which to "+what)
	fs.DurationVar(&o.window, "window", replay.DefaultWindow, "maximum `TIME` by which records may be out of order; they are sorted")
	fs.StringVar(&o.spread, "spread", "even", "`METHOD` for time stamps of whole seconds:\neven  spread them evenly over their second\nnone  take them as they are")
	fs.StringVar(&o.stamp, "stamp", "start", "`MEANING` of the trace's time stamps:\nstart  the request began\nend    the request ended; its duration is subtracted")
	o.read.define(fs)
}

// check looks the flags through.
func (o *ordering) check() (err error) {
	switch {
	case o.spread != "even" && o.spread != "none":
		return usage("-spread cannot be %q; it is even or none", o.spread)
	case o.stamp != "start" && o.stamp != "end":
		return usage("-stamp cannot be %q; it is start or end", o.stamp)
	case o.window <= 0 || o.window > 24*time.Hour:
		return usage("-window cannot be %s; more than 0s and up to 24h", o.window)
	}
	o.part, err = span(o.from, o.until)
	return err
}

// records hands out the records of the part that is wanted, in order.
func (o *ordering) records(ctx context.Context, env *Env, give func(*trace.Record) error) (*reading, error) {
	order := trace.Ordered{Window: o.window, Spread: o.spread == "even"}
	change := trace.Change{Part: o.part, Sample: 1, Speed: 1}
	all := func(ready []*trace.Record) error {
		for _, r := range ready {
			if err := give(r); err != nil {
				return err
			}
		}
		return nil
	}
	given := 0
	found, err := o.read.records(ctx, env, o.what, o.traces, func(r *trace.Record) error {
		if o.stamp == "end" && r.Duration > 0 && r.Time != trace.NoTime {
			r.Time, r.WholeSecond = r.Time-r.Duration, false
		}
		if wanted, err := change.Apply(r); err != nil || !wanted {
			return err
		}
		given++
		ready, err := order.Add(r)
		if err != nil {
			return err
		}
		return all(ready)
	})
	if err == nil && given == 0 && ctx.Err() == nil {
		return nil, unusable(fmt.Errorf("no record lies in the part that -from and -until leave"))
	}
	if err == nil {
		err = all(order.Rest())
	}
	return found, err
}
