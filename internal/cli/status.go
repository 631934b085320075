package cli

import (
	"context"
	"flag"
	"fmt"
	"io"
	"sync"

	"kestrix/internal/core/status"
	"kestrix/internal/live/control"
	"kestrix/internal/report"
)

func statusCommand() *command {
	return &command{
		name: "status", group: "operate", args: "[CONFIG]", summary: "show the state of running proxies",
		help: `
Asks the control of a running proxy: the one of CONFIG, the one of -at, or the default
socket. Several -at ask several proxies. Rates cover the last 10 s, p50 and p99 the last
5m, and counters the time since the start or since tell -zero.

With -route, -failed or -slow it lists requests instead, with their attempts.

exit code:
  0  every upstream has a backend in rotation; or requests were listed
  1  an upstream has none
  2  wrong usage
  3  the proxy cannot be reached, or does not answer within 3 s

examples:
  kestrix status
  kestrix status harbour.hcl -all
  kestrix status harbour.hcl -format csv
  kestrix status harbour.hcl -route seats -failed
  kestrix status -at 127.0.0.1:9900
  kestrix status -at 192.0.2.1:9900 -at 192.0.2.2:9900 -user mary`,
		setup: func(fs *flag.FlagSet) func(context.Context, *Env, []string) error {
			var f operatorFlags
			f.define(fs)
			var o output
			o.define(fs)
			var kept keptFlags
			kept.define(fs)
			all := fs.Bool("all", false, "list every backend of long upstreams, with statuses, bytes, sessions and the last probe of each")
			return func(ctx context.Context, env *Env, args []string) error {
				if err := formOf("status", o.format); err != nil {
					return err
				}
				if err := places(o.file); err != nil {
					return err
				}
				if len(args) > 1 {
					return usage("at most one configuration is allowed: kestrix status [CONFIG]")
				}
				if err := kept.check(o.format); err != nil {
					return err
				}
				if len(f.at) > 1 && kept.given() {
					return usage("-at names one proxy with -route, -failed and -slow")
				}
				if len(f.at) > 1 {
					return statusOfSeveral(ctx, env, &f, &o, *all, args)
				}
				c, err := f.client(env, append(args, "")[0])
				if err != nil {
					return err
				}
				if kept.given() {
					return kept.run(ctx, env, c, &o)
				}
				s, err := c.Status(ctx)
				if err != nil {
					return unusable(err)
				}
				sayVersion(env, c.Where, s)
				err = o.write(env, func(out io.Writer) error {
					switch o.format {
					case "json":
						return writeJSON(out, s)
					case "csv":
						return report.StatusCSV(out, s)
					}
					style := o.style(env)
					style.All = *all
					_, err := io.WriteString(out, style.Status(s, c.Where))
					return err
				})
				if err == nil && s.Unserved() {
					return &exitError{exitFound, nil}
				}
				return err
			}
		},
	}
}

// sayVersion says on stderr if a proxy is of another version.
func sayVersion(env *Env, at string, s *status.Status) {
	if s.Version != Version {
		fmt.Fprintf(env.Stderr, "kestrix status: the proxy at %s is version %s, this is %s; what one of them does not know is left out\n", at, s.Version, Version)
	}
}

// proxyStatus is how one of several proxies stands.
type proxyStatus struct {
	At     string         `json:"at"`
	Status *status.Status `json:"status"` // null: it cannot be asked
	Error  string         `json:"error"`  // why not; empty if it can
}

// statusOfSeveral asks proxies side by side, and tells of all of them, those included that
// cannot be asked.
func statusOfSeveral(ctx context.Context, env *Env, f *operatorFlags, o *output, all bool, args []string) error {
	switch {
	case len(args) > 0:
		return usage("-at and a configuration both say where the proxy is asked; keep one")
	case o.format == "csv":
		return usage("-format csv is of one proxy; json is of several")
	}
	proxies := make([]proxyStatus, len(f.at))
	clients := make([]*control.Client, len(f.at))
	for i, at := range f.at {
		var err error
		if clients[i], err = f.clientOf(env, at, ""); err != nil {
			return err
		}
	}
	var wg sync.WaitGroup
	for i, c := range clients {
		wg.Go(func() {
			s, err := c.Status(ctx)
			if proxies[i] = (proxyStatus{At: c.Where, Status: s}); err != nil {
				proxies[i].Status, proxies[i].Error = nil, err.Error()
			}
		})
	}
	wg.Wait()
	code := 0
	for _, p := range proxies {
		switch {
		case p.Status == nil:
			code = exitInput
			continue
		case p.Status.Unserved():
			code = max(code, exitFound)
		}
		sayVersion(env, p.At, p.Status)
	}
	err := o.write(env, func(out io.Writer) error {
		if o.format == "json" {
			return writeJSON(out, struct {
				Proxies []proxyStatus `json:"proxies"`
			}{proxies})
		}
		style := o.style(env)
		style.All = all
		for i, p := range proxies {
			text := p.Error + "\n"
			if p.Status != nil {
				text = style.Status(p.Status, p.At)
			}
			if i > 0 {
				text = "\n" + text
			}
			if _, err := io.WriteString(out, text); err != nil {
				return err
			}
		}
		return nil
	})
	if err == nil && code != 0 {
		return &exitError{code, nil}
	}
	return err
}
