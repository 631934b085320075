package cli

import (
	"bytes"
	"context"
	"flag"
	"fmt"
	"io"
	"os"

	"github.com/rogpeppe/go-internal/diff"

	"kestrix/internal/core/config"
)

func fmtCommand() *command {
	return &command{
		name: "fmt", group: "write and check", args: "CONFIG...", summary: "format files in the canonical layout",
		help: `
CONFIG is a file, a folder, or - for stdin. Scenarios are formatted when they are named.
Without flags one file is written to stdout.

exit code:
  0  fine
  1  with -diff: a file is not in the canonical layout
  2  wrong usage
  3  a file that cannot be read, or has a syntax error; it is not changed

examples:
  kestrix fmt harbour.hcl
  kestrix fmt -w /etc/kestrix
  kestrix fmt -diff harbour.hcl`,
		setup: func(fs *flag.FlagSet) func(context.Context, *Env, []string) error {
			var f fmtFlags
			fs.BoolVar(&f.write, "w", false, "write the result to the files themselves and list those that changed")
			fs.BoolVar(&f.diff, "diff", false, "show the changes instead of making them")
			return func(_ context.Context, env *Env, args []string) error {
				if len(args) == 0 {
					return usage("no configuration is named; kestrix fmt CONFIG...")
				}
				return f.run(env, args)
			}
		},
	}
}

type fmtFlags struct{ write, diff bool }

func (f *fmtFlags) run(env *Env, args []string) error {
	names, err := fmtFiles(args)
	if err != nil {
		return err
	}
	switch {
	case f.write && f.diff:
		return usage("-w and -diff exclude each other")
	case len(names) > 1 && !f.write && !f.diff:
		return usage("%d files would run together on stdout; -w writes them back, -diff shows what would change", len(names))
	}
	// All are laid out before the first is written, so that a broken one leaves
	// everything as it was.
	before, after := make([][]byte, len(names)), make([][]byte, len(names))
	for i, name := range names {
		if name == "-" {
			if f.write {
				return usage("-w cannot write to stdin")
			}
			before[i], err = io.ReadAll(io.LimitReader(env.Stdin, config.MaxSource+1))
		} else {
			before[i], err = readFile(name)
		}
		if err != nil {
			return unusable(err)
		}
		file := config.File{Name: name, Source: before[i]}
		text, found, err := config.Format(file)
		if err != nil {
			return unusable(err)
		}
		if err := refuse(env, found, []config.File{file}, name); err != nil {
			return err
		}
		after[i] = text
	}
	return f.put(env, names, before, after)
}

func (f *fmtFlags) put(env *Env, names []string, before, after [][]byte) error {
	changed := false
	for i, name := range names {
		same := bytes.Equal(before[i], after[i])
		changed = changed || !same
		switch {
		case f.diff:
			if !same {
				if _, err := env.Stdout.Write(diff.Diff(name, before[i], name+" formatted", after[i])); err != nil {
					return unusable(err)
				}
			}
		case f.write && !same:
			if err := replaceFile(name, func(w io.Writer) error { _, err := w.Write(after[i]); return err }); err != nil {
				return err
			}
			fmt.Fprintln(env.Stdout, name)
		case !f.write:
			if _, err := env.Stdout.Write(after[i]); err != nil {
				return unusable(err)
			}
		}
	}
	if f.diff && changed {
		return &exitError{exitFound, nil}
	}
	return nil
}

// fmtFiles lists the files that are named, those of a folder for the folder.
func fmtFiles(args []string) ([]string, error) {
	var names []string
	for _, a := range args {
		info, err := os.Stat(a)
		if a == "-" || err == nil && !info.IsDir() {
			names = append(names, a)
			continue
		}
		if err != nil {
			return nil, unusable(fmt.Errorf("%s cannot be read: %w", a, reason(err)))
		}
		inside, _, err := folder(a)
		if err != nil {
			return nil, err
		}
		names = append(names, inside...)
	}
	return names, nil
}
