package cli

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"kestrix/internal/core/config"
	"kestrix/internal/core/status"
	"kestrix/internal/live/control"
)

// orderWords are what a backend can be told.
var orderWords = []string{"drain", "park", "return", "weight=N", "forget"}

func tellCommand() *command {
	return &command{
		name: "tell", args: "UPSTREAM.BACKEND ORDER", summary: "tell a running proxy what to do with a backend",
		help: `
  drain     keeps its sessions and open requests, and gets no new ones
  park      is taken out at once; open requests may end
  return    is let in again
  weight=N  is given N for a weight, whatever the file says
  forget    has its probes and failures forgotten

The last backend in rotation is taken out only with -yes. What is set outlives a
reload, and is told there and in the status. Each order is told in the proxy's news.

  kestrix tell booking.auk drain -for 10m
  kestrix tell booking.auk weight=3
  kestrix tell booking.auk return
  kestrix tell -reload
  kestrix tell -zero`,
		setup: func(fs *flag.FlagSet) func(context.Context, *Env, []string) error {
			var f operatorFlags
			f.define(fs)
			file := fs.String("config", "", "the configuration `FILE` that says where the proxy is told")
			lasts := fs.Duration("for", 0, "`TIME` after which it ends by itself")
			yes := fs.Bool("yes", false, "also if nobody is left to answer")
			zero := fs.Bool("zero", false, "begin all counts anew")
			again := fs.Bool("reload", false, "read the configuration again")
			return func(ctx context.Context, env *Env, args []string) error {
				if *zero && *again || (*zero || *again) && (len(args) > 0 || *lasts != 0 || *yes) {
					return usage("-zero and -reload stand alone")
				}
				var o status.Order
				if !*zero && !*again {
					var err error
					if o, err = readOrder(args, *lasts, *yes); err != nil {
						return err
					}
				}
				c, err := f.client(env, *file)
				if err != nil {
					return err
				}
				switch {
				case *zero:
					if err = c.Zero(ctx); err == nil {
						fmt.Fprintln(env.Stdout, "counts begin anew")
					}
				case *again:
					var said string
					if said, err = c.Reload(ctx); err == nil {
						fmt.Fprintln(env.Stdout, said)
					}
				default:
					var told status.Told
					if told, err = c.Operate(ctx, o); err == nil {
						fmt.Fprintf(env.Stdout, "%s: %s; it was %s\n", told.Backend, told.After, told.Before)
					}
				}
				if errors.Is(err, control.ErrInsist) {
					text := strings.TrimPrefix(err.Error(), control.ErrInsist.Error()+": ")
					if !*again {
						text += "; -yes has it done all the same"
					}
					return unusable(errors.New(text))
				}
				if err != nil {
					return unusable(err)
				}
				return nil
			}
		},
	}
}

// readOrder reads operands.
func readOrder(args []string, lasts time.Duration, yes bool) (status.Order, error) {
	if len(args) != 2 {
		return status.Order{}, usage("a backend and an order are wanted: kestrix tell booking.auk drain; there are %s", strings.Join(orderWords, ", "))
	}
	o := status.Order{Backend: args[0], Do: args[1], For: lasts.Seconds(), Insist: yes}
	name, value, given := strings.Cut(args[1], "=")
	if name == "weight" {
		n, err := strconv.Atoi(value)
		if err != nil || n < 0 || n > 10000 {
			return o, usage("weight wants a whole number from 0 to 10000, as in weight=3; it is %q", value)
		}
		o.Do, o.Weight = "weight", &n
	} else if given || !slices.Contains(orderWords, name) {
		hint := "there are " + strings.Join(orderWords, ", ")
		if s := config.Suggest(name, orderWords); s != "" {
			hint = "did you mean " + s + "?"
		}
		return o, usage("a backend cannot be told %q; %s", args[1], hint)
	}
	if lasts < 0 || lasts > 0 && (o.Do == "return" || o.Do == "forget") {
		return o, usage("-for goes with drain, park and weight, and cannot be negative")
	}
	return o, nil
}
