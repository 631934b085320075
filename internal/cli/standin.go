package cli

import (
	"context"
	"flag"
	"fmt"
	"io"
	"os"
	"strings"
	"time"

	"kestrix/internal/core/config"
	"kestrix/internal/core/scenario"
	"kestrix/internal/live/standin"
)

func standinCommand() *command {
	return &command{
		name: "standin", args: "CONFIG", summary: "simulated backends on the addresses of a configuration",
		help: `
Each answers with its name and with what it received; /ready answers "ready".
Ctrl-C ends them like processes that are killed. To kill one alone, run it in a
terminal of its own:

  kestrix standin harbour.hcl -except booking.auk
  kestrix standin harbour.hcl -only booking.auk`,
		setup: func(fs *flag.FlagSet) func(context.Context, *Env, []string) error {
			var only, except list
			with := withFlag(fs)
			fs.Var(&only, "only", "`PATTERN` of UPSTREAM.BACKEND, * for any text; may be repeated")
			fs.Var(&except, "except", "`PATTERN` of those to leave out; may be repeated")
			delay := fs.Duration("delay", 0, "`TIME` before each answer")
			ready := fs.String("ready", "", "`FILE` that is written when all listen, for scripts")
			return func(ctx context.Context, env *Env, args []string) error {
				if len(args) != 1 {
					return usage("one configuration is wanted: kestrix standin CONFIG")
				}
				if *delay < 0 {
					return usage("-delay cannot be negative")
				}
				s, err := usable(env, args[0], *with)
				if err != nil {
					return err
				}
				chosen, err := choose(s.config, only, except)
				if err != nil {
					return err
				}
				return standIns(ctx, env, chosen, *delay, *ready)
			}
		},
	}
}

// choose lists the stand-ins that are wanted. Every pattern must fit one.
func choose(c *config.Config, only, except []string) ([]*standin.StandIn, error) {
	fitted := map[string]bool{}
	fits := func(patterns []string, name string) bool {
		any := false
		for _, p := range patterns {
			if scenario.Fits(p, name) {
				fitted[p], any = true, true
			}
		}
		return any
	}
	var out []*standin.StandIn
	var names []string
	for _, u := range c.Upstreams {
		for _, b := range u.Backends {
			name := u.Name + "." + b.Name
			names = append(names, name)
			left := fits(except, name)
			if (len(only) == 0 || fits(only, name)) && !left {
				out = append(out, &standin.StandIn{Name: name, Address: b.Address})
			}
		}
	}
	for _, p := range append(append([]string{}, only...), except...) {
		if !fitted[p] {
			hint := "backends are named UPSTREAM.BACKEND"
			if s := config.Suggest(p, names); s != "" {
				hint = "did you mean " + s + "?"
			}
			return nil, usage("no backend is called %q; %s", p, hint)
		}
	}
	if len(out) == 0 {
		return nil, usage("no backend is left to stand in for")
	}
	return out, nil
}

func standIns(ctx context.Context, env *Env, all []*standin.StandIn, delay time.Duration, ready string) error {
	style := env.style(env.Stderr, false)
	var started []*standin.StandIn
	defer func() {
		for _, s := range started {
			s.Stop()
		}
	}()
	for _, s := range all {
		s.Delay = delay
		if err := s.Start(); err != nil {
			return unusable(err)
		}
		started = append(started, s)
		io.WriteString(env.Stderr, style.Event(time.Now(), s.Name, "listening", s.Address.String()))
	}
	if ready != "" {
		if err := replaceFile(ready, func(w io.Writer) error { _, err := fmt.Fprintln(w, os.Getpid()); return err }); err != nil {
			return err
		}
	}
	<-ctx.Done()
	var names []string
	for _, s := range started {
		names = append(names, s.Name)
	}
	io.WriteString(env.Stderr, style.Event(time.Now(), "kestrix", "stopped", strings.Join(names, ", ")))
	return nil
}
