package cli

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"io"
	"os"
	"strings"

	"kestrix/internal/core/trace"
)

// readFlags say how traces are read, in every command that reads some.
type readFlags struct {
	bad    string
	fields string
	line   string
	names  list
}

func (r *readFlags) define(fs *flag.FlagSet) {
	fs.StringVar(&r.bad, "bad", "stop", "`ACTION` at lines that cannot be read:\nstop  end with an error\nskip  count them and go on")
	fs.StringVar(&r.fields, "fields", "", "`NAMES` of further fields of log lines, as in duration,host; duration/ms is in milliseconds, - skips a field")
	fs.Var(&r.names, "map", "`KEY=COLUMN` for a column of JSON Lines, CSV or W3C Extended, as in duration/ms=took; may be repeated")
	fs.StringVar(&r.line, "line", "", "`TEMPLATE` of lines of another format, with fields in braces, as in '{client} [{time:02/Jan/2006:15:04:05 -0700}] \"{request}\" {status} {*}'")
}

// options returns what was said, once it was looked through.
func (r *readFlags) options() (trace.Options, error) {
	o := trace.Options{Fields: r.fields, Line: r.line, Skip: r.bad == "skip"}
	for i, m := range r.names {
		if i > 0 {
			o.Map += ","
		}
		o.Map += m
	}
	if r.bad != "stop" && r.bad != "skip" {
		return o, usage("-bad cannot be %q; it is stop or skip", r.bad)
	}
	if err := o.Check(); err != nil {
		return o, usage("%v", err)
	}
	return o, nil
}

// reading is what was found while traces were read.
type reading struct {
	format   string
	records  int64
	badLines int64
	bad      []trace.Bad
}

// records hands every record of the traces to take, one after the other, until
// that returns an error or ctx ends. A trace without any is an error.
func (r *readFlags) records(ctx context.Context, env *Env, what string, names []string, take func(*trace.Record) error) (*reading, error) {
	o, err := r.options()
	if err != nil {
		return nil, err
	}
	p := newProgress(env, what)
	defer p.clear()
	total, before := sizes(names), int64(0)
	out := &reading{}
	for _, name := range names {
		n, err := readOne(ctx, env, name, o, out, func(rec *trace.Record, at int64) error {
			p.show(out.records, before+at, total)
			return take(rec)
		})
		if err != nil {
			return nil, err
		}
		before += n
	}
	if out.records == 0 && ctx.Err() == nil {
		if out.badLines == 0 {
			return nil, unusable(fmt.Errorf("%s: there is no record in it", strings.Join(names, ", ")))
		}
		return nil, unusable(fmt.Errorf("%s: no readable record; %s could not be read", strings.Join(names, ", "), plural(int(out.badLines), "line")))
	}
	return out, nil
}

func readOne(ctx context.Context, env *Env, name string, o trace.Options, out *reading, take func(*trace.Record, int64) error) (int64, error) {
	src, err := openTrace(ctx, env, name)
	if err != nil {
		return 0, err
	}
	defer src.Close()
	r, err := trace.NewReader(name, src, o)
	if err != nil && ctx.Err() != nil {
		return 0, nil // whoever asked to stop says so
	}
	if err != nil {
		return 0, unusable(err)
	}
	defer r.Close()
	var rec trace.Record
	for ctx.Err() == nil {
		err := r.Next(&rec)
		if errors.Is(err, io.EOF) || err != nil && ctx.Err() != nil {
			break
		}
		if err != nil {
			return 0, unusable(err)
		}
		out.records++
		if err := take(&rec, r.Offset()); err != nil {
			var le *trace.LineError
			if errors.As(err, &le) && le.Name == "" {
				le.Name = name
			}
			var ee *exitError
			if !errors.As(err, &ee) {
				err = unusable(err)
			}
			return 0, err
		}
	}
	if r.Format != nil {
		switch out.format {
		case "", r.Format.Name:
			out.format = r.Format.Name
		default:
			out.format = "several"
		}
	}
	out.badLines += r.BadLines
	out.bad = append(out.bad, r.Bad...)
	return r.Offset(), nil
}

// sizes returns the size of all files together, 0 if one is not known.
func sizes(names []string) int64 {
	var total int64
	for _, n := range names {
		info, err := os.Stat(n)
		if err != nil || !info.Mode().IsRegular() {
			return 0
		}
		total += info.Size()
	}
	return total
}
