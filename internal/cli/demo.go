package cli

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"flag"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"kestrix/examples/harbour"
	"kestrix/internal/core/result"
	"kestrix/internal/report"
)

func demoCommand() *command {
	return &command{
		name: "demo", group: "the program", summary: "show the main job on sample data, in under 30 seconds",
		help: `
Writes the booking site of Tern Line, a made-up ferry company, to a folder. Its steps are
one backend, a pool, another algorithm, sticky sessions, a backend that hangs, and a
backend that is killed under traffic. Each command is printed, so that it
can be run again by hand. On a terminal the demo pauses after each step.

examples:
  kestrix demo
  kestrix demo -dir harbour
  kestrix demo -no-pause`,
		setup: func(fs *flag.FlagSet) func(context.Context, *Env, []string) error {
			dir := fs.String("dir", "", "`FOLDER` to write to; a temporary one when not given")
			live := fs.Bool("live", true, "also start stand-ins and the proxy on loopback ports")
			noPause := fs.Bool("no-pause", false, "do not wait for Enter after each step")
			return func(ctx context.Context, env *Env, args []string) error {
				if len(args) > 0 {
					return usage("demo takes no operand %q; -dir names the folder", args[0])
				}
				d := &demo{env: env, style: env.style(env.Stdout, false)}
				if in, ok := env.Stdin.(*os.File); ok && terminal(in) && terminal(env.Stdout) && !*noPause {
					d.keys = typed(env.Stdin)
				}
				return d.run(ctx, *dir, *live)
			}
		},
	}
}

// chapter is a step of the story: what it shows, a command, and the parts of its result that matter.
type chapter struct {
	title string
	text  string
	args  []string
	code  int // the exit code that belongs to the story
	show  func(report.Style, []byte) (string, error)
}

// story goes from one backend to a pool that takes a failure.
var story = []chapter{
	{"The log", "A morning of Tern Line's booking site.",
		[]string{"trace", "describe", "morning.log"}, 0, report.Style.DemoTrace},
	{"One backend", "One backend that works on four requests at a time is over capacity as the morning gets busier.",
		[]string{"replay", "steps/1-one.hcl", "morning.log", "-scenario", "quiet.scenario.hcl"}, 0, report.Style.DemoReplay},
	{"Three backends", "Every request is answered. But sessions are not kept: see the misses in the summary at the end.",
		[]string{"replay", "steps/2-pool.hcl", "morning.log", "-scenario", "quiet.scenario.hcl"}, 0, report.Style.DemoReplay},
	{"Another algorithm", "least-connections prefers idle backends. Requests still miss their session.",
		[]string{"replay", "steps/3-method.hcl", "morning.log", "-scenario", "quiet.scenario.hcl"}, 0, report.Style.DemoVerdict},
	{"Sticky sessions", "A cookie keeps each client at one backend: no request misses its session.",
		[]string{"replay", "steps/4-sticky.hcl", "morning.log", "-scenario", "quiet.scenario.hcl"}, 0, report.Style.DemoReplay},
	{"A backend hangs", "auk accepts connections and never answers. Without a probe a third of all requests fail after 10 s.",
		[]string{"replay", "steps/5-no-probe.hcl", "morning.log", "-scenario", "auk-hangs.scenario.hcl"}, 1, report.Style.DemoReplay},
	{"A probe of the port", "A probe that only connects does not detect it: an open port is not a working application.",
		[]string{"replay", "steps/6-port-probe.hcl", "morning.log", "-scenario", "auk-hangs.scenario.hcl"}, 1, report.Style.DemoVerdict},
	{"check finds both mistakes", "",
		[]string{"check", "steps/5-no-probe.hcl", "steps/6-port-probe.hcl"}, 0, report.Style.DemoFindings},
	{"A probe of the application", "auk is out of rotation within seconds; only the first few requests fail.",
		[]string{"replay", "steps/7-app-probe.hcl", "morning.log", "-scenario", "auk-hangs.scenario.hcl"}, 0, report.Style.DemoReplay},
	{"A backend is killed, with retries", "Another backend answers the requests that met the dead one.",
		[]string{"replay", "steps/8-retry.hcl", "morning.log", "-scenario", "auk-fails.scenario.hcl"}, 0, report.Style.DemoReplay},
	{"Which algorithm", "All algorithms get the same requests and the same work, with one slow machine in the pool.",
		[]string{"compare", "steps/3-method.hcl", "-scenario", "crowd.scenario.hcl"}, 0, report.Style.DemoCompare},
	{"The worst case", "Each backend fails in each of three ways, at the worst moment.",
		[]string{"sweep", "steps/8-retry.hcl", "morning.log", "-kinds", "refuse,hang,slow"}, 0, report.Style.DemoSweep},
	{"The whole site", "Three upstreams with routes, sessions, probes and retries, when auk is killed.",
		[]string{"replay", "harbour.hcl", "morning.log", "-scenario", "auk-fails.scenario.hcl"}, 0, report.Style.DemoReplay},
}

// demo is one run of it.
type demo struct {
	env   *Env
	style report.Style
	keys  <-chan string // lines typed at the terminal; nil where the demo does not pause
	step  int
}

func (d *demo) run(ctx context.Context, dir string, live bool) error {
	dir, err := writeHarbour(dir)
	if err != nil {
		return err
	}
	before, err := os.Getwd()
	if err != nil {
		return unusable(err)
	}
	if err := os.Chdir(dir); err != nil {
		return unusable(err)
	}
	defer os.Chdir(before)
	fmt.Fprintf(d.env.Stdout, "The files are in %s. Each step shows a part of a report;\nto see all of it, run the command there: cd %s\n", dir, dir)
	var rows []report.DemoRow
	for _, c := range story {
		if ctx.Err() != nil {
			return &exitError{interrupted, nil}
		}
		d.chapter(c.title, c.text)
		fmt.Fprint(d.env.Stdout, d.style.Command(c.args))
		text, err := d.command(ctx, &c)
		if err != nil {
			return err
		}
		if c.args[0] == "replay" {
			row := report.DemoRow{Config: c.args[1], Scenario: strings.TrimSuffix(c.args[4], ".scenario.hcl"), Result: new(result.Replay)}
			if err := json.Unmarshal(text, row.Result); err != nil {
				return unusable(err)
			}
			rows = append(rows, row)
		}
		shown, err := c.show(d.style, text)
		if err != nil {
			return unusable(err)
		}
		fmt.Fprint(d.env.Stdout, shown)
		if !d.pause(ctx) {
			return nil
		}
	}
	if live {
		d.chapter("Live traffic", "Stand-ins and the proxy serve on loopback ports; auk is killed and started again.")
		if err := d.live(ctx); err != nil {
			return err
		}
		if !d.pause(ctx) {
			return nil
		}
	}
	d.chapter("Summary", "")
	fmt.Fprint(d.env.Stdout, d.style.DemoTable(rows))
	fmt.Fprintf(d.env.Stdout, "\nNow with your own site:\n  kestrix new ADDRESS... -o site.hcl\n  kestrix check site.hcl\n  kestrix replay site.hcl ACCESS_LOG\n")
	return nil
}

func (d *demo) chapter(title, text string) {
	d.step++
	fmt.Fprint(d.env.Stdout, d.style.Chapter(d.step, title, text))
}

// command runs the command of a chapter and returns its result as JSON.
func (d *demo) command(ctx context.Context, c *chapter) ([]byte, error) {
	var out, wrong bytes.Buffer
	quiet := &Env{Stdin: d.env.Stdin, Stdout: &out, Stderr: &wrong, Getenv: d.env.Getenv}
	args := append(slices.Clone(c.args), "-format", "json")
	switch code := Main(ctx, quiet, args); code {
	case c.code:
		return out.Bytes(), nil
	case interrupted:
		return nil, &exitError{interrupted, nil}
	default:
		return nil, unusable(fmt.Errorf("kestrix %s ended with exit code %d instead of %d: %s", strings.Join(c.args, " "), code, c.code, strings.TrimSpace(wrong.String())))
	}
}

// pause waits for Enter, where the demo pauses, and reports whether it goes on.
func (d *demo) pause(ctx context.Context) bool {
	if d.keys == nil {
		return ctx.Err() == nil
	}
	fmt.Fprint(d.env.Stderr, "[Enter: next step, q: quit] ")
	select {
	case line, ok := <-d.keys:
		return ok && !strings.HasPrefix(strings.TrimSpace(line), "q")
	case <-ctx.Done():
		fmt.Fprintln(d.env.Stderr)
		return false
	}
}

// typed returns the lines of a reader as they come; the channel is closed at its end.
func typed(r io.Reader) <-chan string {
	out := make(chan string)
	go func() {
		defer close(out)
		for in := bufio.NewScanner(r); in.Scan(); {
			out <- in.Text()
		}
	}()
	return out
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
			return fmt.Errorf("%s exists with other contents and is not replaced; -dir names another folder", to)
		}
		return replaceFile(to, func(w io.Writer) error { _, err := w.Write(text); return err })
	})
	if err != nil {
		return "", unusable(err)
	}
	return dir, nil
}
