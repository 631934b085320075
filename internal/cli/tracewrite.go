package cli

import (
	"context"
	"errors"
	"io"
	"slices"
	"strings"

	"github.com/klauspost/compress/gzip"
	"github.com/klauspost/compress/zstd"

	"kestrix/internal/core/config"
	"kestrix/internal/core/trace"
)

// writable returns an error if a trace cannot be written in a format.
func writable(as string) error {
	if slices.Contains(trace.WrittenAs(), as) {
		return nil
	}
	hint := strings.Join(trace.WrittenAs(), ", ")
	if s := config.Suggest(as, trace.WrittenAs()); s != "" {
		hint = s + "? There are " + hint
	} else if as == "json" {
		hint = "jsonl, one object a line? There are " + hint
	}
	return usage("-as cannot be %q; do you mean one of these: %s", as, hint)
}

// writeTrace has records written to a file, or stdout, compressed as the end
// of its name says. A file is written whole or not at all.
func writeTrace(ctx context.Context, env *Env, as, file string, fill func(*trace.Writer) error) error {
	o := output{format: "text", file: file}
	err := o.write(env, func(out io.Writer) error {
		packed, err := compress(out, file)
		if err != nil {
			return err
		}
		w, err := trace.NewWriter(packed, as)
		if err != nil {
			return err
		}
		if err := fill(w); err != nil {
			return err
		}
		if ctx.Err() != nil && file != "" {
			return &exitError{interrupted, errors.New("stopped; nothing was written to the file")}
		}
		if err := w.Close(); err != nil {
			return err
		}
		return packed.Close()
	})
	if err == nil && ctx.Err() != nil {
		return &exitError{interrupted, errors.New("stopped early; the trace is partial")}
	}
	return err
}

// compress compresses for names that end in .gz or .zst.
func compress(out io.Writer, name string) (io.WriteCloser, error) {
	switch {
	case strings.HasSuffix(name, ".gz"):
		return gzip.NewWriter(out), nil
	case strings.HasSuffix(name, ".zst"):
		return zstd.NewWriter(out)
	}
	return unpacked{out}, nil
}

// unpacked is a writer that needs no closing.
type unpacked struct{ io.Writer }

func (unpacked) Close() error { return nil }
