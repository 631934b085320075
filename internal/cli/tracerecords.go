package cli

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"slices"
	"strings"

	"kestrix/internal/core/trace"
)

// recordedFlags name a trace that is put through a configuration without a replay, and say how it is
// read.
type recordedFlags struct {
	file, frontend, host string
	read                 readFlags
}

// idle returns an error where a flag says how a trace is read, and there is none.
func (t *recordedFlags) idle(fs *flag.FlagSet) error {
	if t.file != "" {
		return nil
	}
	var idle []string
	fs.Visit(func(f *flag.Flag) {
		if slices.Contains([]string{"frontend", "host", "fields", "bad", "map", "line"}, f.Name) {
			idle = append(idle, "-"+f.Name)
		}
	})
	if len(idle) > 0 {
		return usage("%s says how a trace is read; name it with -trace", strings.Join(idle, ", "))
	}
	return nil
}

// records hands each record of the trace to take. An error of take is told with the record's place.
func (t *recordedFlags) records(ctx context.Context, env *Env, what string, take func(*trace.Record) error) error {
	read, err := t.read.records(ctx, env, what, []string{t.file}, func(r *trace.Record) error {
		if err := take(r); err != nil {
			return fmt.Errorf("%s:%d: %w", t.file, r.Line, err)
		}
		return nil
	})
	if err != nil {
		return err
	}
	if ctx.Err() != nil {
		return &exitError{interrupted, errors.New("interrupted; a part of a trace says nothing of the rest")}
	}
	if read.badLines > 0 {
		fmt.Fprintf(env.Stderr, "kestrix %s: %s of %s could not be read and passed over\n", what, plural(int(read.badLines), "line"), t.file)
	}
	return nil
}
