package cli

import (
	"context"
	"flag"
	"fmt"
	"io"
	"net"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"kestrix/internal/core/config"
	"kestrix/internal/core/scenario"
	"kestrix/internal/core/status"
	"kestrix/internal/live/standin"
)

func standinCommand() *command {
	return &command{
		name: "standin", group: "serve and rehearse", args: "CONFIG",
		summary: "run simulated backends on the addresses of a configuration",
		help: `
Each stand-in answers with its name, the request it received, and the protocols of the
connection. It accepts TLS and PROXY protocol headers, and returns bytes that are not
HTTP as they came. -n and -base start stand-ins without a configuration. Ctrl-C ends
them like processes that are killed.

-scenario sets service times, workers, backlog, and faults in real time from the start.
-tell, from another terminal, causes or ends a fault by hand. Faults are:

  ` + strings.Join(standin.Faults, "  ") + `
  ` + standin.Fixed + `   ends the fault

paths with a response of their own:

` + specialPaths() + `
examples:
  kestrix standin harbour.hcl
  kestrix standin harbour.hcl -scenario auk-fails.scenario.hcl
  kestrix standin -n 3 -base 127.0.0.1:9001
  kestrix standin -tell auk hang
  kestrix standin -tell auk fixed`,
		setup: func(fs *flag.FlagSet) func(context.Context, *Env, []string) error {
			var only, except list
			with := withFlag(fs)
			fs.Var(&only, "only", "`PATTERN` of UPSTREAM.BACKEND to simulate, * is any text; may be repeated")
			fs.Var(&except, "except", "`PATTERN` of UPSTREAM.BACKEND to omit; may be repeated")
			var f standinFlags
			fs.DurationVar(&f.delay, "delay", 0, "`TIME` before each response; a service time of the scenario takes precedence")
			fs.StringVar(&f.ready, "ready", "", "`FILE` to write when all stand-ins listen, for scripts")
			fs.StringVar(&f.scenario, "scenario", "", "scenario `FILE` with behaviour and faults")
			fs.StringVar(&f.control, "control", "", "path of the control `SOCKET`; one in the user's runtime folder when not given")
			n := fs.Int("n", 0, "`NUMBER` of stand-ins, when no configuration is given")
			base := fs.String("base", "127.0.0.1:9001", "`ADDRESS` of the first stand-in of -n")
			tell := fs.String("tell", "", "`BACKEND`, or a pattern, that gets the fault named by the operand")
			return func(ctx context.Context, env *Env, args []string) error {
				var idle []string
				fs.Visit(func(x *flag.Flag) {
					switch {
					case *tell != "" && x.Name != "tell" && x.Name != "control", *n > 0 && slices.Contains([]string{"only", "except", "with"}, x.Name), *n == 0 && x.Name == "base":
						idle = append(idle, "-"+x.Name)
					}
				})
				if len(idle) > 0 {
					return usage("%s has no meaning here: -tell stands with -control alone, -base with -n, and -only, -except and -with with a configuration", strings.Join(idle, ", "))
				}
				if *tell != "" {
					return f.tell(ctx, env, *tell, args)
				}
				if f.delay < 0 {
					return usage("-delay cannot be negative")
				}
				if *n > 0 && len(args) == 0 {
					return f.inARow(ctx, env, *n, *base)
				}
				if len(args) != 1 || *n != 0 {
					return usage("a configuration or a number is required: kestrix standin CONFIG, or kestrix standin -n 3 -base 127.0.0.1:9001")
				}
				return f.ofConfig(ctx, env, args[0], *with, only, except)
			}
		},
	}
}

// tell sends an order to stand-ins at work.
func (f *standinFlags) tell(ctx context.Context, env *Env, who string, args []string) error {
	if len(args) != 1 {
		return usage("-tell needs one fault: kestrix standin -tell %s hang; known: %s, %s", who, strings.Join(standin.Faults, ", "), standin.Fixed)
	}
	answer, err := standin.Tell(ctx, f.socket(env), standin.Order{Backend: who, Fault: args[0]})
	if err != nil {
		return unusable(err)
	}
	_, err = io.WriteString(env.Stdout, answer)
	return err
}

// inARow starts stand-ins on ports in a row.
func (f *standinFlags) inARow(ctx context.Context, env *Env, n int, base string) error {
	chosen, err := inARow(n, base)
	if err != nil {
		return err
	}
	if f.scenario != "" {
		return usage("-scenario speaks of the backends of a configuration; name one instead of -n")
	}
	return standIns(ctx, env, chosen, nil, f)
}

// ofConfig starts stand-ins for the backends of a configuration.
func (f *standinFlags) ofConfig(ctx context.Context, env *Env, name string, with, only, except []string) error {
	s, err := usable(env, name, with)
	if err != nil {
		return err
	}
	chosen, err := choose(s.config, only, except)
	if err != nil {
		return err
	}
	var faults []scenario.Fault
	if f.scenario != "" {
		sc, err := readScenario(env, f.scenario, s.config)
		if err != nil {
			return err
		}
		faults = sc.Faults
		shared := standin.DependenciesOf(sc)
		for _, x := range chosen {
			behave(x, sc, s.config, f.delay)
			up, backend, _ := strings.Cut(x.Name, ".")
			x.Needs = standin.NeedsOf(sc.Needs(s.config.Upstream(up), backend), shared)
		}
	}
	return standIns(ctx, env, chosen, faults, f)
}

// behave has a stand-in behave as a scenario says. Where that does not say how long
// work takes, -delay does, and without it what a replay takes for granted.
func behave(s *standin.StandIn, sc *scenario.Scenario, c *config.Config, delay time.Duration) {
	b := sc.Behaviour(s.Name)
	up, backend, _ := strings.Cut(s.Name, ".")
	s.Behave(b, sc.PathServices(c.Upstream(up), backend))
	switch {
	case b.Service.Kind == "" && delay > 0:
	case b.Service.Kind == "", b.Service.Kind == "from_trace":
		s.Service = scenario.UnknownService
	}
}

type standinFlags struct {
	delay    time.Duration
	ready    string
	scenario string
	control  string
}

// socket is where orders are taken.
func (f *standinFlags) socket(env *Env) string {
	if f.control != "" {
		return f.control
	}
	if dir := env.Getenv("XDG_RUNTIME_DIR"); dir != "" {
		return filepath.Join(dir, "kestrix-standin.sock")
	}
	return filepath.Join(os.TempDir(), fmt.Sprintf("kestrix-standin-%d.sock", os.Getuid()))
}

// specialPaths lists the paths at which a stand-in responds in a way of its own.
func specialPaths() string {
	var b strings.Builder
	for _, p := range standin.Paths {
		fmt.Fprintf(&b, "  %-10s  %s\n", p[0], p[1])
	}
	return b.String()
}

// inARow makes stand-ins on ports in a row.
func inARow(n int, base string) ([]*standin.StandIn, error) {
	host, port, err := net.SplitHostPort(base)
	first, e := strconv.Atoi(port)
	if err != nil || e != nil || net.ParseIP(host) == nil || first < 1 || first+n-1 > 65535 || n > 1000 {
		return nil, usage("-base cannot be %q for %d stand-ins; an IP address and a port, as in 127.0.0.1:9001, and no port beyond 65535", base, n)
	}
	var out []*standin.StandIn
	for i := range n {
		out = append(out, &standin.StandIn{Name: fmt.Sprintf("pool.b%d", i+1), Address: config.Address{Host: host, Port: first + i}})
	}
	return out, nil
}

// inFull replaces names of backends that only one upstream has by UPSTREAM.BACKEND.
func inFull(c *config.Config, patterns []string) []string {
	var names []string
	for _, u := range c.Upstreams {
		for _, b := range u.Backends {
			names = append(names, u.Name+"."+b.Name)
		}
	}
	out := slices.Clone(patterns)
	for i, p := range out {
		if full, _ := config.FullName(p, names); full != "" {
			out[i] = full
		}
	}
	return out
}

// choose lists the stand-ins that are wanted. Every pattern must fit one.
func choose(c *config.Config, only, except []string) ([]*standin.StandIn, error) {
	only, except = inFull(c, only), inFull(c, except)
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
				if i := slices.IndexFunc(out, func(s *standin.StandIn) bool { return s.Address == b.Address }); i >= 0 {
					out[i].Also = append(out[i].Also, name)
					out[i].Reports = out[i].Reports || u.Probe != nil && u.Probe.Of().Reports && u.Probe.Port == 0
					continue
				}
				out = append(out, &standin.StandIn{Name: name, Address: b.Address, Reports: u.Probe != nil && u.Probe.Of().Reports && u.Probe.Port == 0})
			}
		}
	}
	for _, p := range append(append([]string{}, only...), except...) {
		if !fitted[p] {
			if _, several := config.FullName(p, names); len(several) > 1 {
				return nil, usage("several backends are called %q; name one of %s", p, strings.Join(several, ", "))
			}
			hint := "backends are named UPSTREAM.BACKEND"
			if s := config.Suggest(p, names); s != "" {
				hint = "did you mean " + s + "?"
			}
			return nil, usage("no backend is called %q; %s", p, hint)
		}
	}
	if len(out) == 0 {
		return nil, usage("no backend remains to simulate")
	}
	return out, nil
}

func standIns(ctx context.Context, env *Env, all []*standin.StandIn, faults []scenario.Fault, f *standinFlags) error {
	style := env.style(env.Stderr, false)
	var mu sync.Mutex
	tell := func(object string, kind status.EventKind, text string) {
		mu.Lock()
		defer mu.Unlock()
		_, _ = io.WriteString(env.Stderr, style.Event(status.Event{At: time.Now(), Object: object, Kind: kind, Text: text})) // stderr has nobody to tell
	}
	var started []*standin.StandIn
	defer func() {
		for _, s := range started {
			s.Stop()
		}
	}()
	for _, s := range all {
		s.Delay = f.delay
		if err := s.Start(); err != nil {
			return unusable(err)
		}
		started = append(started, s)
		at := s.Address.String()
		if len(s.Also) > 0 {
			at += ", also for " + strings.Join(s.Also, ", ")
		}
		tell(s.Name, status.EventListening, at)
	}
	socket := f.socket(env)
	if err := standin.Listen(ctx, socket, all, tell); err != nil {
		if f.control != "" {
			return unusable(err)
		}
		tell("kestrix", status.EventOrders, err.Error())
	} else {
		defer os.Remove(socket)
	}
	standin.Play(ctx, started, faults, tell)
	if f.ready != "" {
		if err := replaceFile(f.ready, func(w io.Writer) error { _, err := fmt.Fprintln(w, os.Getpid()); return err }); err != nil {
			return err
		}
	}
	<-ctx.Done()
	var names []string
	for _, s := range started {
		names = append(names, s.Name)
	}
	tell("kestrix", status.EventStopped, strings.Join(names, ", "))
	return nil
}
