package cli

import (
	"context"
	"flag"
	"fmt"
	"io"
	"strings"

	"kestrix/internal/core/status"
	"kestrix/internal/live/control"
)

// keptFlags select requests that a running proxy keeps.
type keptFlags struct {
	route        string
	failed, slow bool
	most         int
}

func (k *keptFlags) define(fs *flag.FlagSet) {
	fs.StringVar(&k.route, "route", "", "`ROUTE`, or FRONTEND/ROUTE, whose failed and slow requests are listed with their attempts")
	fs.BoolVar(&k.failed, "failed", false, "list failed requests with their attempts, of -route or of all routes")
	fs.BoolVar(&k.slow, "slow", false, "list slow requests with their attempts, of -route or of all routes; slow_requests of control says from which duration")
	fs.IntVar(&k.most, "n", 0, "with -route, -failed or -slow: maximum `NUMBER` of requests, the latest; 0 is all")
}

// given reports whether requests are asked for.
func (k *keptFlags) given() bool { return k.route != "" || k.failed || k.slow }

// check refuses what does not go together.
func (k *keptFlags) check(format string) error {
	switch {
	case k.most < 0:
		return usage("-n cannot be %d; 0 is all", k.most)
	case k.most > 0 && !k.given():
		return usage("-n is the number of requests of -route, -failed or -slow")
	case k.given() && format == "csv":
		return usage("-format csv is of backends; requests are text or json")
	}
	return nil
}

func (k *keptFlags) query() status.RequestQuery {
	q := status.RequestQuery{Failed: k.failed, Slow: k.slow, Most: k.most}
	if frontend, route, both := strings.Cut(k.route, "/"); both {
		q.Frontend, q.Route = frontend, route
	} else {
		q.Route = k.route
	}
	return q
}

// run lists the requests.
func (k *keptFlags) run(ctx context.Context, env *Env, c *control.Client, o *output) error {
	found, err := c.Requests(ctx, k.query())
	if err != nil {
		return unusable(err)
	}
	return o.write(env, func(w io.Writer) error {
		if o.format == "json" {
			return writeJSON(w, found)
		}
		_, err := io.WriteString(w, o.style(env).Requests(found))
		return err
	})
}

// liveRequest asks a running proxy for one request.
func liveRequest(ctx context.Context, env *Env, f *operatorFlags, o *output, file, id string) error {
	c, err := f.client(env, file)
	if err != nil {
		return err
	}
	found, err := c.Requests(ctx, status.RequestQuery{ID: id})
	if err != nil {
		return unusable(err)
	}
	if len(found.Requests) == 0 {
		fmt.Fprintf(env.Stderr, "kestrix why: the proxy at %s keeps no request %s: it keeps the latest %d of each route that failed, and as many that lasted at least %gs; -journal FILE explains the others\n", c.Where, id, found.Most, found.SlowFrom)
		return &exitError{exitFound, nil}
	}
	return o.write(env, func(w io.Writer) error {
		if o.format == "json" {
			return writeJSON(w, found)
		}
		for i := range found.Requests {
			if _, err := io.WriteString(w, o.style(env).Request(&found.Requests[i])); err != nil {
				return err
			}
		}
		return nil
	})
}
