package cli

import (
	"bytes"
	"context"
	"encoding/json"
	"flag"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"kestrix/examples/harbour"
	"kestrix/internal/core/result"
	"kestrix/internal/report"
)

func demoCommand() *command {
	return &command{
		name: "demo", args: "", summary: "the whole story on the demo data, in under 30 seconds",
		help: `
Writes the booking site of Tern Line, a made-up ferry company, into a folder and
goes through it as an engineer would: one backend, a pool, another method, a
session that sticks, a backend that hangs, and one that is killed under traffic.
Every command is printed before its output, so that it can be repeated by hand.

  kestrix demo
  kestrix demo -dir harbour`,
		setup: func(fs *flag.FlagSet) func(context.Context, *Env, []string) error {
			dir := fs.String("dir", "", "`FOLDER` to write into; otherwise a temporary one")
			live := fs.Bool("live", true, "also start stand-ins and the proxy on loopback ports")
			return func(ctx context.Context, env *Env, args []string) error {
				if len(args) > 0 {
					return usage("demo takes no operand %q; -dir names the folder", args[0])
				}
				return runDemo(ctx, env, *dir, *live)
			}
		},
	}
}

// chapter is a step of the story: what it shows, a command, and in the table at
// the end how it came out.
type chapter struct {
	title string
	text  string
	args  []string
	code  int // the exit code that belongs to the story
}

// story goes from one backend to a pool that takes a failure.
var story = []chapter{
	{"What is in the log", "A morning of Tern Line's booking site, 5,876 requests in seven minutes.",
		[]string{"trace", "describe", "morning.log"}, 0},
	{"One backend", "The log through one backend that works on four requests at a time: as the morning gets busier it is overrun, and even its probe no longer gets an answer.",
		[]string{"replay", "steps/1-one.hcl", "morning.log", "-scenario", "quiet.scenario.hcl"}, 0},
	{"A pool of three", "Two more backends, taken in turn: everything is answered.",
		[]string{"replay", "steps/2-pool.hcl", "morning.log", "-scenario", "quiet.scenario.hcl"}, 0},
	{"Another method", "least-connections gives a busy backend less. But seats are held in a session: look at how many requests reached a backend that does not hold theirs.",
		[]string{"replay", "steps/3-method.hcl", "morning.log", "-scenario", "quiet.scenario.hcl"}, 0},
	{"A session that sticks", "A cookie keeps each client on one backend; not one session is lost.",
		[]string{"replay", "steps/4-sticky.hcl", "morning.log", "-scenario", "quiet.scenario.hcl"}, 0},
	{"A backend hangs, and no probe detects it", "auk accepts connections and never answers. Without a probe a third of all requests wait ten seconds for nothing.",
		[]string{"replay", "steps/5-no-probe.hcl", "morning.log", "-scenario", "auk-hangs.scenario.hcl"}, 1},
	{"A probe that only looks at the port", "Still failing: an open port is not a working application.",
		[]string{"replay", "steps/6-port-probe.hcl", "morning.log", "-scenario", "auk-hangs.scenario.hcl"}, 1},
	{"check would have said so", "",
		[]string{"check", "steps/5-no-probe.hcl", "steps/6-port-probe.hcl"}, 0},
	{"A probe of the application", "Fixed: auk is out within seconds, and all but the first few requests are answered.",
		[]string{"replay", "steps/7-app-probe.hcl", "morning.log", "-scenario", "auk-hangs.scenario.hcl"}, 0},
	{"A backend is killed under traffic, and comes back", "With retries no client notices: requests that met the dead backend are answered by another.",
		[]string{"replay", "steps/8-retry.hcl", "morning.log", "-scenario", "auk-fails.scenario.hcl"}, 0},
	{"Which way of balancing copes with a crowd", "The same requests and the same work in each: what looks at open requests copes with an old machine in the pool, what does not overruns it.",
		[]string{"compare", "steps/3-method.hcl", "-scenario", "crowd.scenario.hcl"}, 0},
	{"The worst that can happen", "Each backend fails in each of three ways at the busiest moment, and how much more they bear is searched.",
		[]string{"sweep", "steps/8-retry.hcl", "morning.log", "-kinds", "refuse,hang,slow"}, 0},
	{"The whole site", "Three upstreams, routes, sessions, probes, retries: check it, ask it, and replay the failure.",
		[]string{"check", "harbour.hcl"}, 0},
	{"", "", []string{"why", "harbour.hcl", "GET", "http://tickets.tern.example/seats", "-client", "203.0.113.9", "-n", "3"}, 0},
	{"", "", []string{"replay", "harbour.hcl", "morning.log", "-scenario", "auk-fails.scenario.hcl"}, 0},
}

func runDemo(ctx context.Context, env *Env, dir string, live bool) error {
	dir, err := writeHarbour(dir)
	if err != nil {
		return err
	}
	style := env.style(env.Stdout, false)
	before, err := os.Getwd()
	if err != nil {
		return unusable(err)
	}
	if err := os.Chdir(dir); err != nil {
		return unusable(err)
	}
	defer os.Chdir(before)
	fmt.Fprintf(env.Stdout, "The files are in %s. To repeat a command by hand:\n\n  cd %s\n", dir, dir)
	var rows []report.DemoRow
	n := 0
	for _, c := range story {
		if ctx.Err() != nil {
			return &exitError{interrupted, nil}
		}
		if c.title != "" {
			n++
			fmt.Fprint(env.Stdout, style.Chapter(n, c.title, c.text))
		}
		fmt.Fprint(env.Stdout, style.Command(c.args))
		if code := Main(ctx, env, c.args); code != c.code {
			return unusable(fmt.Errorf("the step above ended with exit code %d instead of %d", code, c.code))
		}
		if c.args[0] == "replay" {
			row, err := demoRow(ctx, env, c.args)
			if err != nil {
				return err
			}
			rows = append(rows, row)
		}
	}
	if live {
		n++
		fmt.Fprint(env.Stdout, style.Chapter(n, "The same, live", "Stand-ins and the proxy on loopback: answers name their backend; auk is killed and started again."))
		if err := demoLive(ctx, env, style); err != nil {
			return err
		}
	}
	fmt.Fprint(env.Stdout, style.Chapter(n+1, "What it came to", ""))
	fmt.Fprint(env.Stdout, style.DemoTable(rows))
	fmt.Fprintf(env.Stdout, "\nnow with your own: kestrix new ADDRESS..., kestrix check FILE, kestrix replay FILE ACCESS_LOG\n")
	return nil
}

// demoRow replays once more, as JSON, for the table at the end.
func demoRow(ctx context.Context, env *Env, args []string) (report.DemoRow, error) {
	var out bytes.Buffer
	quiet := &Env{Stdin: env.Stdin, Stdout: &out, Stderr: io.Discard, Getenv: env.Getenv}
	Main(ctx, quiet, append(append([]string{}, args...), "-format", "json"))
	row := report.DemoRow{Config: args[1], Scenario: strings.TrimSuffix(args[4], ".scenario.hcl")}
	row.Result = new(result.Replay)
	if err := json.Unmarshal(out.Bytes(), row.Result); err != nil {
		return row, unusable(err)
	}
	return row, nil
}

// writeHarbour writes the demo's files. A file that is there with other contents
// is not replaced.
func writeHarbour(dir string) (string, error) {
	var err error
	if dir == "" {
		if dir, err = os.MkdirTemp("", "kestrix-demo-"); err != nil {
			return "", unusable(err)
		}
	}
	dir, err = filepath.Abs(dir)
	if err != nil {
		return "", unusable(err)
	}
	err = fs.WalkDir(harbour.Files, ".", func(name string, e fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		to := filepath.Join(dir, name)
		if e.IsDir() {
			return os.MkdirAll(to, 0o755)
		}
		text, err := harbour.Files.ReadFile(name)
		if err != nil {
			return err
		}
		if old, err := os.ReadFile(to); err == nil {
			if bytes.Equal(old, text) {
				return nil
			}
			return fmt.Errorf("%s is there with other contents and is not replaced; -dir names another folder", to)
		}
		return replaceFile(to, func(w io.Writer) error { _, err := w.Write(text); return err })
	})
	if err != nil {
		return "", unusable(err)
	}
	return dir, nil
}
