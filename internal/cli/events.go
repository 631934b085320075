package cli

import (
	"cmp"
	"context"
	"flag"
	"io"
	"slices"
	"strings"
	"time"

	"kestrix/internal/core/config"
	"kestrix/internal/core/health"
	"kestrix/internal/core/status"
	"kestrix/internal/live/control"
	"kestrix/internal/live/events"
)

func eventsCommand() *command {
	return &command{
		name: "events", group: "operate", args: "[CONFIG]", summary: "list the events of a running proxy, by time, object, kind and severity",
		help: `
Asks the control of a running proxy, as kestrix status does, and prints the selected
events in the order in which they happened. The proxy keeps the latest 2,048; with
event_log { file } also those of the processes before it.

exit code:
  0  there are such events
  1  there are none
  2  wrong usage
  3  the proxy cannot be reached, or does not answer within 3 s

examples:
  kestrix events
  kestrix events harbour.hcl -since 1h -severity warning
  kestrix events -object auk -kind down,up
  kestrix events -since 2026-11-23T02:00:00Z -until 2026-11-23T03:00:00Z -format json`,
		setup: func(fs *flag.FlagSet) func(context.Context, *Env, []string) error {
			var f operatorFlags
			f.define(fs)
			var o output
			o.define(fs)
			var q eventQuery
			q.define(fs)
			return func(ctx context.Context, env *Env, args []string) error {
				if err := formOf("events", o.format); err != nil {
					return err
				}
				if err := places(o.file); err != nil {
					return err
				}
				if len(args) > 1 {
					return usage("at most one configuration is allowed: kestrix events [CONFIG]")
				}
				if len(f.at) > 1 {
					return usage("-at names one proxy here")
				}
				query, err := q.query(time.Now())
				if err != nil {
					return err
				}
				c, err := f.client(env, append(args, "")[0])
				if err != nil {
					return err
				}
				found, err := c.Events(ctx, query)
				if err != nil {
					return unusable(err)
				}
				slices.Reverse(found)
				err = o.write(env, func(w io.Writer) error {
					if o.format == "json" {
						return writeJSON(w, control.Events{Events: found})
					}
					style := o.style(env)
					for _, e := range found {
						if _, err := io.WriteString(w, style.Event(e)); err != nil {
							return err
						}
					}
					return nil
				})
				if err == nil && len(found) == 0 {
					return &exitError{exitFound, nil}
				}
				return err
			}
		},
	}
}

// eventQuery is the flags that select events.
type eventQuery struct {
	since, until, severity string
	objects, kinds         list
	most                   int
}

func (q *eventQuery) define(fs *flag.FlagSet) {
	fs.StringVar(&q.since, "since", "", "only events since `TIME`: a duration before now, like 1h, or a time like 2026-11-23T02:00:00Z")
	fs.StringVar(&q.until, "until", "", "only events until `TIME`, likewise")
	fs.StringVar(&q.severity, "severity", "info", "lowest `SEVERITY`:\nerror    requests fail, or the proxy does not do what it was asked\nwarning  something failed, and requests go on\ninfo     everything (default)")
	fs.IntVar(&q.most, "n", 0, "maximum `NUMBER` of events, the latest; 0 is all")
	fs.Var(&q.objects, "object", "only events of `OBJECT`: an upstream, a backend, a listener, control or kestrix; a pattern with *; several with commas or repeated")
	fs.Var(&q.kinds, "kind", "only events of `KIND`; docs/events.md lists them; several with commas or repeated")
}

// query returns what the flags select. The error says what is wrong with them.
func (q *eventQuery) query(now time.Time) (events.Query, error) {
	out := events.Query{Severity: status.Severity(q.severity), Most: q.most}
	var err error
	if out.Since, err = before(now, "since", q.since); err != nil {
		return out, err
	}
	if out.Until, err = before(now, "until", q.until); err != nil {
		return out, err
	}
	if q.most < 0 {
		return out, usage("-n cannot be %d; 0 is all", q.most)
	}
	if !slices.Contains(status.Severities, out.Severity) {
		return out, usage("-severity has no value %q; known: error, warning, info", q.severity)
	}
	for _, o := range q.objects {
		out.Objects = append(out.Objects, strings.Split(o, ",")...)
	}
	for _, kinds := range q.kinds {
		for k := range strings.SplitSeq(kinds, ",") {
			if !status.EventKind(k).Known() {
				return out, usage("-kind has no value %q; %s", k, cmp.Or(config.DidYouMean(k, kindNames()), "docs/events.md lists them"))
			}
			out.Kinds = append(out.Kinds, status.EventKind(k))
		}
	}
	return out, nil
}

// kindNames returns the names of all kinds of events.
func kindNames() []string {
	var names []string
	for _, s := range health.States {
		names = append(names, s.State.String())
	}
	for _, k := range status.EventKinds {
		names = append(names, string(k.Kind))
	}
	return names
}

// before reads a time, or a duration before now; empty is the zero time.
func before(now time.Time, flag, text string) (time.Time, error) {
	if text == "" {
		return time.Time{}, nil
	}
	if d, err := time.ParseDuration(text); err == nil && d >= 0 {
		return now.Add(-d), nil
	}
	at, err := time.Parse(time.RFC3339Nano, text)
	if err != nil {
		return at, usage("-%s cannot be %q; it is a duration before now, like 1h, or a time like 2026-11-23T06:55:08Z", flag, text)
	}
	return at, nil
}
