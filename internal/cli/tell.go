package cli

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"
	"time"

	"kestrix/internal/core/config"
	"kestrix/internal/core/status"
	"kestrix/internal/live/control"
	"kestrix/internal/report"
)

// orderWords are what a backend can be told.
var orderWords = []string{"drain", "park", "return", "weight=N", "forget", "close"}

func tellCommand() *command {
	return &command{
		name: "tell", group: "operate", args: "[CONFIG] BACKENDS ORDER | [CONFIG] -reload | [CONFIG] -zero",
		summary: "drain, park, return or weigh backends of a running proxy",
		help: `
orders:
  drain     no new clients; sessions and requests in flight continue
  park      no new requests; requests in flight may end
  return    in rotation again; ends drain, park and weight
  weight=N  N instead of the weight in the file; 0 is out of rotation except for sessions
  forget    resets the results of probes and failures
  close     closes requests, streams and connections in flight

BACKENDS is UPSTREAM.BACKEND, a name that only one backend has, a pattern with * in
quotes, or several of these with commas between them. A name with several addresses
(resolve = "each") stands for all of them.

Only -yes takes the last backend out of rotation. An order outlives a reload, and also a
restart when orders are kept in a file. A later order keeps the end of an earlier one of
another kind.

examples:
  kestrix tell auk drain -for 10m -because 'a new disk'
  kestrix tell 'booking.canary-*' drain -wait 5m
  kestrix tell harbour.hcl booking.auk weight=3
  kestrix tell booking.auk return
  kestrix tell -reload
  kestrix tell -zero`,
		setup: func(fs *flag.FlagSet) func(context.Context, *Env, []string) error {
			var f operatorFlags
			f.define(fs)
			var t teller
			fs.DurationVar(&t.lasts, "for", 0, "`TIME` after which the order ends; 0 is never")
			fs.StringVar(&t.because, "because", "", "`REASON` for the order; status and the event log show it")
			fs.DurationVar(&t.wait, "wait", 0, "maximum `TIME` to wait, after drain or park, until nothing is in flight at the backend; exit code 1 when it is exceeded")
			fs.StringVar(&t.format, "format", "text", formUsage("tell"))
			fs.BoolVar(&t.yes, "yes", false, "carry out the order even when it leaves no backend in rotation")
			zero := fs.Bool("zero", false, "reset all counters to zero")
			again := fs.Bool("reload", false, "read the configuration again")
			return func(ctx context.Context, env *Env, args []string) error {
				if *zero && *again || (*zero || *again) && (len(args) > 1 || t != teller{format: "text"}) {
					return usage("-zero and -reload take no order, only CONFIG")
				}
				file := ""
				if n := len(args); n == 3 || n == 1 && (*zero || *again) || n > 0 && exists(args[0]) {
					file, args = args[0], args[1:]
				}
				if err := formOf("tell", t.format); err != nil {
					return err
				}
				var o status.Order
				if !*zero && !*again {
					var err error
					if o, err = t.read(args); err != nil {
						return err
					}
				}
				c, err := f.client(env, file)
				if err != nil {
					return err
				}
				switch {
				case *zero:
					err = zeroCounts(ctx, env, c)
				case *again:
					err = reloadProxy(ctx, env, c)
				default:
					err = t.tell(ctx, env, c, o)
				}
				return refused(err, *again)
			}
		},
	}
}

// refused returns the error of an order, or of a reload, that a proxy did not carry out.
func refused(err error, reload bool) error {
	var code *exitError
	switch {
	case errors.Is(err, control.ErrInsist):
		text := strings.TrimPrefix(err.Error(), control.ErrInsist.Error()+": ")
		if !reload {
			text += "; -yes carries it out"
		}
		return unusable(errors.New(text))
	case err != nil && !errors.As(err, &code):
		return unusable(err)
	}
	return err
}

// zeroCounts has counts begin anew.
func zeroCounts(ctx context.Context, env *Env, c *control.Client) error {
	err := c.Zero(ctx)
	if err == nil {
		fmt.Fprintln(env.Stdout, "counters are zero")
	}
	return err
}

// reloadProxy has the configuration read again, and writes what is said of it.
func reloadProxy(ctx context.Context, env *Env, c *control.Client) error {
	said, err := c.Reload(ctx)
	if err == nil {
		fmt.Fprintln(env.Stdout, said)
	}
	return err
}

// teller tells a proxy an order.
type teller struct {
	lasts, wait     time.Duration
	because, format string
	yes             bool
}

// askEvery is how often is looked whether something is in flight.
const askEvery = 200 * time.Millisecond

// toldJSON is what tell says with -format json.
type toldJSON struct {
	status.Told
	Waited   *float64       `json:"waited"`    // seconds; null without -wait
	InFlight map[string]int `json:"in_flight"` // after -wait, of those with some
}

// tell gives an order, and waits for its end where that is wanted.
func (t *teller) tell(ctx context.Context, env *Env, c *control.Client, o status.Order) error {
	told, err := c.Operate(ctx, o)
	if err != nil {
		return err
	}
	out := toldJSON{Told: told, InFlight: map[string]int{}}
	if t.format == "text" {
		for _, x := range told.Orders {
			if o.Do == "close" {
				fmt.Fprintf(env.Stdout, "%s: closed, %d in flight\n", x.Backend, x.Ended)
				continue
			}
			fmt.Fprintf(env.Stdout, "%s: %s; it was %s\n", x.Backend, x.After, x.Before)
		}
		if len(told.Orders) == 0 {
			fmt.Fprintf(env.Stdout, "%s: no address is known yet; the order applies to new ones\n", o.Backend)
		}
		if lasts := o.Do == "drain" || o.Do == "park" || o.Do == "weight"; lasts && !told.Kept {
			fmt.Fprintln(env.Stdout, "a restart of the proxy discards the order; control { orders_file } keeps orders")
		}
	}
	if t.wait > 0 {
		began := time.Now()
		out.InFlight, err = t.waitFor(ctx, c, &told)
		if err != nil {
			return err
		}
		waited := time.Since(began).Seconds()
		out.Waited = &waited
		if t.format == "text" && len(out.InFlight) == 0 {
			fmt.Fprintf(env.Stdout, "nothing in flight after %s\n", report.Span(waited))
		}
		for _, name := range slices.Sorted(maps.Keys(out.InFlight)) {
			if t.format == "text" {
				fmt.Fprintf(env.Stdout, "%s: %d in flight after %s\n", name, out.InFlight[name], report.Span(t.wait.Seconds()))
			}
		}
	}
	if t.format == "json" {
		if err := writeJSON(env.Stdout, out); err != nil {
			return err
		}
	}
	if len(out.InFlight) > 0 {
		return &exitError{exitFound, nil}
	}
	return nil
}

// waitFor returns how much is in flight with the backends of an order, once that is
// nothing, or the time is over.
func (t *teller) waitFor(ctx context.Context, c *control.Client, told *status.Told) (map[string]int, error) {
	late := time.NewTimer(t.wait)
	defer late.Stop()
	tick := time.NewTicker(askEvery)
	defer tick.Stop()
	over := false
	for {
		s, err := c.Status(ctx)
		if err != nil {
			return nil, err
		}
		left, there := map[string]int{}, s.Named()
		for _, x := range told.Orders {
			if !slices.Contains(there, x.Backend) {
				return nil, fmt.Errorf("%s is no longer in the configuration; the number in flight is unknown", x.Backend)
			}
		}
		for _, u := range s.Upstreams {
			for _, b := range u.Backends {
				name := u.Name + "." + b.Name
				if b.InFlight > 0 && slices.ContainsFunc(told.Orders, func(x status.ToldBackend) bool { return x.Backend == name }) {
					left[name] = b.InFlight
				}
			}
		}
		if len(left) == 0 || over {
			return left, nil
		}
		select {
		case <-tick.C:
		case <-late.C:
			over = true // it is looked once more
		case <-ctx.Done():
			return nil, ctx.Err()
		}
	}
}

// read reads operands.
func (t *teller) read(args []string) (status.Order, error) {
	lasts := t.lasts
	if len(args) != 2 {
		return status.Order{}, usage("a backend and an order are required: kestrix tell [CONFIG] auk drain; known: %s", strings.Join(orderWords, ", "))
	}
	o := status.Order{Backend: args[0], Do: args[1], For: lasts.Seconds(), Because: t.because, Insist: t.yes}
	name, value, given := strings.Cut(args[1], "=")
	if name == "weight" {
		n, err := strconv.Atoi(value)
		if err != nil || n < 0 || n > 10000 {
			return o, usage("weight needs a whole number from 0 to 10000, as in weight=3; it is %q", value)
		}
		o.Do, o.Weight = "weight", &n
	} else if given || !slices.Contains(orderWords, name) {
		return o, usage("there is no order %q; %s", args[1], config.DidYouMean(name, orderWords))
	}
	if t.wait < 0 || t.wait > 0 && o.Do != "drain" && o.Do != "park" {
		return o, usage("-wait goes with drain and park, and cannot be negative")
	}
	if lasts < 0 || lasts > 0 && o.Do != "drain" && o.Do != "park" && o.Do != "weight" {
		return o, usage("-for goes with drain, park and weight, and cannot be negative")
	}
	return o, nil
}
