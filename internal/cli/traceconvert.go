package cli

import (
	"context"
	"crypto/rand"
	"errors"
	"flag"
	"fmt"
	"io"
	"io/fs"
	"os"
	"slices"
	"strings"

	"kestrix/internal/core/config"
	"kestrix/internal/core/trace"
	"kestrix/internal/report"
)

func traceConvertCommand() *command {
	return &command{
		name: "trace convert", args: "TRACE... -as FORMAT",
		summary: "write traces, or a part of them, in another format",
		help: readable + `-from and -until are times since the first record, as in 5m, or RFC 3339 times. -sample
keeps whole clients: all requests of a session are kept or skipped together.

-anonymise replaces addresses, sessions and cookies, each always by the same value.
Neighbouring addresses stay neighbours. Paths, queries, referers and user agents do not
change. Files with the same key match; a holder of the key can recover the addresses.

A file whose name ends in .gz or .zst is compressed.

examples:
  kestrix trace convert morning.log -as jsonl -o morning.jsonl.zst
  kestrix trace convert old.log.gz -as csv -from 2h -until 3h -o hour.csv
  kestrix trace convert day.log -as combined -sample 10% -anonymise day.key -o shared.log.gz`,
		setup: func(fs *flag.FlagSet) func(context.Context, *Env, []string) error {
			var c convertFlags
			c.read.define(fs)
			fs.StringVar(&c.file, "o", "", "write the trace to `FILE` instead of stdout")
			fs.StringVar(&c.as, "as", "", "`FORMAT` to write:\n"+strings.Join(trace.WrittenAs(), "\n"))
			fs.StringVar(&c.from, "from", "", "skip records before this `MOMENT`")
			fs.StringVar(&c.until, "until", "", "skip records from this `MOMENT` on")
			fs.StringVar(&c.sample, "sample", "", "`SHARE` of clients whose requests are kept, as in 10%")
			fs.Float64Var(&c.speed, "speed", 1, "`FACTOR` that divides the gaps between requests; durations do not change")
			fs.StringVar(&c.key, "anonymise", "", "key `FILE` for replacing client addresses, sessions and cookies; it is created when missing")
			return func(ctx context.Context, env *Env, args []string) error {
				if len(args) == 0 {
					return usage("no trace is named: kestrix trace convert TRACE -as FORMAT")
				}
				return c.run(ctx, env, args)
			}
		},
	}
}

type convertFlags struct {
	read          readFlags
	as, file, key string
	from, until   string
	sample        string
	speed         float64
}

// changes makes what is to become of each record.
func (c *convertFlags) changes() (*trace.Change, error) {
	if c.as == "" {
		return nil, usage("-as says in which format to write: %s", strings.Join(trace.WrittenAs(), ", "))
	}
	if err := writable(c.as); err != nil {
		return nil, err
	}
	ch := &trace.Change{Speed: c.speed, Sample: 1}
	var err error
	if ch.Part, err = span(c.from, c.until); err != nil {
		return nil, err
	}
	if !(c.speed >= 1e-6 && c.speed <= 1e6) {
		return nil, usage("-speed cannot be %g; it lies from 0.000001 to 1,000,000", c.speed)
	}
	if c.sample != "" {
		if ch.Sample, err = config.ParsePercent(c.sample); err != nil || ch.Sample == 0 {
			return nil, usage("-sample cannot be %q; it is a percentage above 0, as in 10%%", c.sample)
		}
	}
	if c.key != "" {
		key, err := anonymiseKey(c.key)
		if err != nil {
			return nil, err
		}
		ch.Anonymise = trace.NewAnonymiser(key)
	}
	return ch, nil
}

// span reads -from and -until.
func span(from, until string) (trace.Span, error) {
	var s trace.Span
	var err error
	if s.From, err = trace.ParseMoment(from); err != nil {
		return s, usage("-from: %v", err)
	}
	if s.Until, err = trace.ParseMoment(until); err != nil {
		return s, usage("-until: %v", err)
	}
	if err := s.Check(); err != nil {
		return s, usage("-from %s -until %s: %v", from, until, err)
	}
	return s, nil
}

// anonymiseKey reads a key, or makes one.
func anonymiseKey(name string) ([]byte, error) {
	key, err := os.ReadFile(name)
	if errors.Is(err, fs.ErrNotExist) {
		key = []byte(rand.Text() + "\n")
		return key, replaceFileMode(name, 0o600, func(w io.Writer) error { _, err := w.Write(key); return err })
	}
	if err != nil {
		return nil, unusable(fmt.Errorf("-anonymise: %s: %w", name, reason(err)))
	}
	if len(strings.TrimSpace(string(key))) < 16 {
		return nil, unusable(fmt.Errorf("-anonymise: the key in %s has fewer than 16 characters, too few to keep a secret; a file that does not exist is made with a good one", name))
	}
	return key, nil
}

func (c *convertFlags) run(ctx context.Context, env *Env, names []string) error {
	ch, err := c.changes()
	if err != nil {
		return err
	}
	for _, n := range names {
		// Written beside and renamed, a trace could replace itself; but what is
		// left of it would be gone for good.
		if c.file != "" && sameFile(n, c.file) {
			return usage("-o %s is one of the traces that are read; name another file", c.file)
		}
	}
	var lost map[string]int64
	var kept int64
	var read *reading
	err = writeTrace(ctx, env, c.as, c.file, func(w *trace.Writer) error {
		var err error
		read, err = c.read.records(ctx, env, "trace convert", names, func(r *trace.Record) error {
			keep, err := ch.Apply(r)
			if err != nil || !keep {
				return err
			}
			kept++
			return w.Write(r)
		})
		if err == nil && kept == 0 && ctx.Err() == nil {
			return unusable(fmt.Errorf("none of the %s is kept by what was asked; nothing was written", report.Plural(read.records, "record")))
		}
		lost = w.Lost()
		return err
	})
	if err != nil {
		return err
	}
	if read.badLines > 0 {
		fmt.Fprintf(env.Stderr, "kestrix trace convert: %s could not be read and passed over\n", report.Plural(read.badLines, "line"))
	}
	if len(lost) > 0 {
		var parts []string
		for what, n := range lost {
			parts = append(parts, fmt.Sprintf("%s (%s)", what, report.Count(n)))
		}
		slices.Sort(parts)
		fmt.Fprintf(env.Stderr, "kestrix trace convert: %s have no place for: %s\n", trace.TitleOf(c.as), strings.Join(parts, ", "))
	}
	return nil
}

// sameFile reports whether two names are of one file.
func sameFile(a, b string) bool {
	x, err := os.Stat(a)
	if err != nil {
		return false
	}
	y, err := os.Stat(b)
	return err == nil && os.SameFile(x, y)
}
