// Package cli is the command line: flags, files and exit codes, with one file for each
// command and one value for each in commands.
//
// cmd/kestrix calls Main. It must never compute a result or word a report: packages
// study, replay and report do. Only cmd/kestrix exits the process.
package cli

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"io"
	"os"
	"strings"

	"golang.org/x/term"

	"kestrix/internal/core/config"
	"kestrix/internal/report"
)

// Exit codes.
const (
	exitFine    = 0
	exitFound   = 1 // check found errors, or an expectation failed
	exitUsage   = 2
	exitInput   = 3 // input that cannot be used
	interrupted = 130
)

// Env is what a command has to do with the world.
type Env struct {
	Stdin          io.Reader
	Stdout, Stderr io.Writer
	Getenv         func(string) string
}

// command is one of kestrix's. Its data is what help prints.
type command struct {
	name    string
	args    string
	group   string // of the overview, one of groups
	summary string // begins with a verb
	help    string // further text, and examples
	// setup defines flags and returns what runs with the operands; nil where subs
	// do the work.
	setup func(*flag.FlagSet) func(context.Context, *Env, []string) error
	// subs are commands within the command, named "trace make".
	subs []*command
}

// flat lists the commands that do something: those within others by themselves.
func flat() []*command {
	var out []*command
	for _, c := range commands() {
		if len(c.subs) > 0 {
			out = append(out, c.subs...)
			continue
		}
		out = append(out, c)
	}
	return out
}

// sub finds the command within a command that the arguments name, and what
// remains of them; flags may stand before its name.
func (c *command) sub(args []string) (*command, []string) {
	for i, a := range args {
		for _, s := range c.subs {
			if s.name == c.name+" "+a {
				return s, append(append([]string{}, args[:i]...), args[i+1:]...)
			}
		}
		if i == 0 && !strings.HasPrefix(a, "-") || a == "--" {
			break
		}
	}
	return nil, nil
}

// unknownSub is the error for arguments that name no command within.
func (c *command) unknownSub(args []string) error {
	var known []string
	for _, s := range c.subs {
		known = append(known, strings.TrimPrefix(s.name, c.name+" "))
	}
	list := strings.Join(known[:len(known)-1], ", ") + " or " + known[len(known)-1]
	if len(args) == 0 || strings.HasPrefix(args[0], "-") {
		return usage("%s must follow; kestrix help %s describes them", list, c.name)
	}
	hint := list
	if s := config.Suggest(args[0], known); s != "" {
		hint = "did you mean " + s + "?"
	}
	return usage("there is no kestrix %s %q; %s", c.name, args[0], hint)
}

// commands in the order in which people work.
func commands() []*command {
	return []*command{
		newCommand(), checkCommand(), fmtCommand(), mapCommand(), whyCommand(), diffCommand(), traceCommand(), replayCommand(), compareCommand(), sweepCommand(), huntCommand(),
		standinCommand(), serveCommand(), driveCommand(), rehearseCommand(), statusCommand(), watchCommand(), eventsCommand(), tellCommand(), passwordCommand(), demoCommand(), installFilesCommand(), completionCommand(), versionCommand(),
	}
}

// exitError is an error that says with what code to exit. An empty message
// prints nothing: what there was to say has been said.
type exitError struct {
	code int
	err  error
}

func (e *exitError) Error() string {
	if e.err == nil {
		return ""
	}
	return e.err.Error()
}

func (e *exitError) Unwrap() error { return e.err }

func usage(format string, args ...any) error {
	return &exitError{exitUsage, fmt.Errorf(format, args...)}
}

func unusable(err error) error { return &exitError{exitInput, err} }

// Main runs one command and returns the exit code.
func Main(ctx context.Context, env *Env, args []string) int {
	name := ""
	if len(args) > 0 {
		name = args[0]
	}
	switch name {
	case "":
		fmt.Fprint(env.Stderr, overview())
		return exitUsage
	case "help", "-h", "-help", "--help":
		return help(env, args[1:])
	case "-version", "--version":
		name = "version"
	}
	var known []string
	for _, c := range commands() {
		if c.name == name {
			return run(ctx, env, c, args[1:])
		}
		known = append(known, c.name)
	}
	hint := "kestrix help lists the commands"
	if s := within(name); s != "" {
		hint = "did you mean kestrix " + s + "?"
	} else if s := config.Suggest(name, known); s != "" {
		hint = "did you mean kestrix " + s + "?"
	}
	fmt.Fprintf(env.Stderr, "kestrix: there is no command %q; %s\n", name, hint)
	return exitUsage
}

func run(ctx context.Context, env *Env, c *command, args []string) int {
	if len(c.subs) > 0 {
		inner, rest := c.sub(args)
		if inner != nil {
			return run(ctx, env, inner, rest)
		}
		for _, a := range args {
			if a == "-h" || a == "-help" || a == "--help" {
				fmt.Fprint(env.Stdout, c.text())
				return exitFine
			}
		}
		fmt.Fprintf(env.Stderr, "kestrix %s: %v\n", c.name, c.unknownSub(args))
		return exitUsage
	}
	fs := flag.NewFlagSet(c.name, flag.ContinueOnError)
	fs.SetOutput(io.Discard)
	do := c.setup(fs)
	operands, err := parse(fs, args)
	if errors.Is(err, flag.ErrHelp) {
		fmt.Fprint(env.Stdout, c.text())
		return exitFine
	}
	if err == nil {
		err = do(ctx, env, operands)
	}
	if err == nil {
		return exitFine
	}
	code := exitInput
	var ee *exitError
	if errors.As(err, &ee) {
		code = ee.code
	}
	if msg := err.Error(); msg != "" {
		fmt.Fprintf(env.Stderr, "kestrix %s: %s\n", c.name, msg)
	}
	return code
}

// parse reads flags before, between and after operands; `--` ends them.
func parse(fs *flag.FlagSet, args []string) ([]string, error) {
	var operands []string
	for len(args) > 0 {
		a := args[0]
		if a == "--" {
			return append(operands, args[1:]...), nil
		}
		if len(a) < 2 || a[0] != '-' {
			operands = append(operands, a)
			args = args[1:]
			continue
		}
		name := strings.TrimLeft(a, "-")
		base, _, hasValue := strings.Cut(name, "=")
		f, err := lookup(fs, base)
		if err != nil {
			return nil, err
		}
		if f != nil && isSwitch(f) && !hasValue && len(args) > 1 {
			if err := noValue(base, args[1]); err != nil {
				return nil, err
			}
		}
		n := 1
		if f != nil && !isSwitch(f) && !hasValue {
			n = 2
		}
		if n > len(args) {
			return nil, usage("-%s needs a value: %s", base, valueOf(f))
		}
		if err := fs.Parse(args[:n]); err != nil {
			if errors.Is(err, flag.ErrHelp) {
				return nil, err
			}
			value := strings.TrimPrefix(name, base+"=")
			if n == 2 {
				value = args[1]
			}
			return nil, usage("-%s cannot be %q; expected: %s", base, value, valueOf(f))
		}
		args = args[n:]
	}
	return operands, nil
}

// lookup returns the flag of a name, nil for help.
func lookup(fs *flag.FlagSet, name string) (*flag.Flag, error) {
	f := fs.Lookup(name)
	if f != nil || name == "h" || name == "help" {
		return f, nil
	}
	var known []string
	fs.VisitAll(func(f *flag.Flag) { known = append(known, f.Name) })
	hint := fmt.Sprintf("kestrix help %s lists the flags", fs.Name())
	if s := config.Suggest(name, known); s != "" {
		hint = "did you mean -" + s + "?"
	}
	return nil, usage("there is no flag -%s; %s", name, hint)
}

// noValue refuses what looks like the value of a switch, and would be taken for an
// operand.
func noValue(name, next string) error {
	switch strings.ToLower(next) {
	case "true", "false", "yes", "no", "on", "off":
		return usage("-%s takes no value; write -%s alone, or -%s=%t", name, name, name, strings.ContainsAny(next[:1], "tTyY") || strings.EqualFold(next, "on"))
	}
	return nil
}

func isSwitch(f *flag.Flag) bool {
	b, ok := f.Value.(interface{ IsBoolFlag() bool })
	return ok && b.IsBoolFlag()
}

// style is how text for a stream is to look.
func (e *Env) style(w io.Writer, noColour bool) report.Style {
	s := report.Style{Width: 110, Unicode: e.unicode()}
	if f, ok := w.(*os.File); ok && term.IsTerminal(int(f.Fd())) {
		s.Terminal = true
		s.Colour = !noColour && e.Getenv("NO_COLOR") == "" && e.Getenv("TERM") != "dumb"
		if width, _, err := term.GetSize(int(f.Fd())); err == nil && width > 0 {
			s.Width = min(max(width, 40), 120)
		}
	}
	var columns int
	if n, err := fmt.Sscan(e.Getenv("COLUMNS"), &columns); n == 1 && err == nil && columns > 0 {
		s.Width = min(max(columns, 40), 120)
	}
	return s
}

// unicode reports whether the locale shows more than ASCII. Without any setting
// it is taken to, as systems do nowadays.
func (e *Env) unicode() bool {
	for _, name := range []string{"LC_ALL", "LC_CTYPE", "LANG"} {
		if v := e.Getenv(name); v != "" {
			v = strings.ToLower(v)
			return strings.Contains(v, "utf-8") || strings.Contains(v, "utf8")
		}
	}
	return true
}

// terminal reports whether a stream is one.
func terminal(w io.Writer) bool {
	f, ok := w.(*os.File)
	return ok && term.IsTerminal(int(f.Fd()))
}

// list is a flag that may be given several times.
type list []string

func (l *list) String() string     { return fmt.Sprint([]string(*l)) }
func (l *list) Set(s string) error { *l = append(*l, s); return nil }
