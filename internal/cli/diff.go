package cli

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"io"

	"kestrix/internal/core/config"
	"kestrix/internal/core/study"
	"kestrix/internal/report"
)

func diffCommand() *command {
	return &command{
		name: "diff", group: "write and check", args: "OLD NEW | -at ADDRESS NEW",
		summary: "list the requests and clients that a change sends elsewhere",
		help: `
diff compares all requests, not samples: it proves that every request is routed alike,
or lists the sets of requests that are not, each with an example. It lists conditions
that it cannot decide, such as a regular expression with too many states. The number of
clients that move is computed by the core.

exit code:
  0  every request is routed alike and no setting differs
  1  something changes, or is not decided
  2  wrong usage
  3  a configuration that cannot be used

-trace routes the requests of a trace by both configurations and counts requests and
clients that are routed differently. -scenario does the same with the load of a
scenario, such as one of trace learn.

-at takes the configuration in force in a running proxy as OLD. The proxy's control
shows it to operators, with digests instead of secrets.

examples:
  kestrix diff harbour.hcl harbour-new.hcl
  kestrix diff harbour.hcl harbour-new.hcl -trace morning.log -host tickets.tern.example
  kestrix diff -at unix:/run/kestrix/control.sock /etc/kestrix`,
		setup: func(fs *flag.FlagSet) func(context.Context, *Env, []string) error {
			var o output
			o.define(fs)
			var t diffTrace
			with := withFlag(fs)
			var running operatorFlags
			running.define(fs)
			fs.Lookup("at").Usage = "`ADDRESS` of the control of a running proxy, whose configuration in force is OLD: unix:/path, host:port or https://host:port"
			fs.StringVar(&t.file, "trace", "", "trace `FILE` whose requests are routed by both configurations; - for stdin")
			fs.StringVar(&t.scenario, "scenario", "", "scenario `FILE` whose load is routed by both configurations")
			fs.StringVar(&t.frontend, "frontend", "", "`NAME` of the frontend for records without one")
			fs.StringVar(&t.host, "host", "", "`NAME` of the host for records without one")
			t.read.define(fs)
			return func(ctx context.Context, env *Env, args []string) error {
				if err := formOf("diff", o.format); err != nil {
					return err
				}
				if err := places(o.file); err != nil {
					return err
				}
				if t.file != "" && t.scenario != "" {
					return usage("-trace and -scenario each say which requests to put through both; name one")
				}
				if err := t.idle(fs); err != nil {
					return err
				}
				old, name, err := running.before(ctx, env, args, *with)
				if err != nil {
					return err
				}
				now, err := usable(env, args[len(args)-1], *with)
				if err != nil {
					return err
				}
				d := study.Compare(old, now.config)
				if t.file+t.scenario != "" {
					moves, err := t.run(ctx, env, old, now.config)
					if err != nil {
						return err
					}
					d.Put(moves)
				}
				err = o.write(env, func(w io.Writer) error {
					if o.format == "json" {
						return writeJSON(w, d)
					}
					if o.format == "markdown" {
						_, err := io.WriteString(w, report.DiffMarkdown(name, args[len(args)-1], d))
						return err
					}
					_, err := io.WriteString(w, o.style(env).Diff(name, args[len(args)-1], d))
					return err
				})
				if err == nil && d.Changed() {
					return &exitError{exitFound, nil}
				}
				return err
			}
		},
	}
}

// before returns the configuration that is there before a change, and its name: that of a file, or
// of a running proxy where -at names one.
func (f *operatorFlags) before(ctx context.Context, env *Env, args, with []string) (*config.Config, string, error) {
	if len(f.at) == 0 {
		switch {
		case f.user != "" || f.ca != "":
			return nil, "", usage("-user and -ca say how a running proxy is asked; name it with -at")
		case len(args) != 2:
			return nil, "", usage("two configurations are required: kestrix diff OLD NEW")
		}
		s, err := usable(env, args[0], with)
		if err != nil {
			return nil, "", err
		}
		return s.config, args[0], nil
	}
	if len(args) != 1 {
		return nil, "", usage("one configuration is required with -at: kestrix diff -at ADDRESS NEW")
	}
	c, err := f.client(env, "")
	if err != nil {
		return nil, "", err
	}
	files, err := c.Configuration(ctx)
	if err != nil {
		return nil, "", unusable(err)
	}
	read, found, err := config.ReadIn(files, config.World{Hidden: true})
	if err != nil {
		return nil, "", unusable(fmt.Errorf("what the proxy at %s has in force cannot be read: %w", c.Where, err))
	}
	for _, x := range found {
		if x.Severity == config.Error {
			return nil, "", unusable(fmt.Errorf("what the proxy at %s has in force cannot be read here: %s:%d: %s", c.Where, x.Range.Filename, x.Range.Start.Line, x.Message))
		}
	}
	return read, "what " + c.Where + " has in force", nil
}

// diffTrace is what the flags of diff say of requests that are put through both.
type diffTrace struct {
	recordedFlags
	scenario string
}

func (t *diffTrace) run(ctx context.Context, env *Env, old, now *config.Config) (*study.TraceMoves, error) {
	m, err := study.NewMover(old, now, t.frontend, t.host)
	if err != nil {
		return nil, usage("%v", err)
	}
	if t.scenario != "" {
		return t.load(ctx, env, m, now)
	}
	if err := t.records(ctx, env, "diff", m.Add); err != nil {
		return nil, err
	}
	return m.Moves(), nil
}

// load puts the load of a scenario through both.
func (t *diffTrace) load(ctx context.Context, env *Env, m *study.Mover, now *config.Config) (*study.TraceMoves, error) {
	s, err := readScenario(env, t.scenario, now)
	if err != nil {
		return nil, err
	}
	if s.Load == nil {
		return nil, usage("%s has no load block that would make requests; trace learn writes one from a trace", t.scenario)
	}
	if err := m.AddLoad(ctx, s.Load, s.Seed); err != nil {
		return nil, unusable(fmt.Errorf("%s: %w", t.scenario, err))
	}
	if ctx.Err() != nil {
		return nil, &exitError{interrupted, errors.New("interrupted; a part of a load says nothing of the rest")}
	}
	return m.Moves(), nil
}
