package cli

import (
	"context"
	"flag"
	"fmt"
	"io"
	"net"
	"net/url"
	"slices"
	"strconv"
	"strings"

	"kestrix/internal/core/request"
	"kestrix/internal/core/study"
)

func whyCommand() *command {
	return &command{
		name: "why", group: "write and check", args: "CONFIG METHOD URL | CONFIG -matches ROUTE | [CONFIG] -request ID | -journal FILE",
		summary: "explain one request: its route, its backend, and why no other",
		help: `
Without -journal and -request, why needs no running proxy: every backend is up. A client
of several requests keeps its cookies.

-matches describes the requests that a route gets, without those of earlier routes, with
up to three examples.

-request asks a running proxy about a request that failed or was slow: its attempts, and
why each failed. ID is its request_id, or the id at the end of its line in the access log.

-journal explains any past request, and each decision, from a journal of serve -journal.

examples:
  kestrix why harbour.hcl GET http://tickets.tern.example:8080/seats -client 203.0.113.9 -n 6
  kestrix why harbour.hcl GET http://tickets.tern.example:8080/seats -down auk -n 6
  kestrix why gate.hcl tls://gate.tern.example:7000 -client 203.0.113.9
  kestrix why harbour.hcl -matches rest
  kestrix why harbour.hcl -request 5f3a9c21d07be846-1042
  kestrix why -journal site.journal -request 1882
  kestrix why -journal site.journal -verify`,
		setup: func(fs *flag.FlagSet) func(context.Context, *Env, []string) error {
			var o output
			o.define(fs)
			q := study.Question{}
			var headers, cookies list
			with := withFlag(fs)
			fs.StringVar(&q.Client, "client", "203.0.113.1", "`ADDRESS` of the client")
			fs.StringVar(&q.Frontend, "frontend", "", "`NAME` of the frontend, needed when the port does not decide it")
			fs.IntVar(&q.Times, "n", 1, "`NUMBER` of requests in a row, up to 10000")
			fs.Uint64Var(&q.Seed, "seed", 1, "`NUMBER` that seeds ties and random choices")
			fs.Var((*list)(&q.Down), "down", "`BACKEND` to treat as down; may be repeated")
			fs.StringVar(&q.Zone, "zone", "", "`ZONE` to treat as the zone of the proxy")
			fs.Var(&headers, "header", "`NAME:VALUE` of a header of the request; may be repeated")
			fs.Var(&cookies, "cookie", "`NAME=VALUE` of a cookie of the request; may be repeated")
			matches := fs.String("matches", "", "`ROUTE`, or FRONTEND/ROUTE, whose requests are described")
			var past pastFlags
			past.define(fs)
			past.live.define(fs)
			return func(ctx context.Context, env *Env, args []string) error {
				if err := o.check(); err != nil {
					return err
				}
				if past.given() {
					return past.run(ctx, env, &o, fs, args)
				}
				if len(past.live.at) > 0 || past.live.ca != "" || past.live.user != "" {
					return usage("-at, -ca and -user are of a running proxy, which -request ID asks")
				}
				if *matches != "" {
					var idle []string
					fs.Visit(func(f *flag.Flag) {
						if !slices.Contains([]string{"matches", "with", "format", "o", "plain"}, f.Name) {
							idle = append(idle, "-"+f.Name)
						}
					})
					if idle != nil {
						return usage("%s asks about one request, and -matches about all that a route takes; leave one out", strings.Join(idle, ", "))
					}
					return matching(env, &o, args, *with, *matches)
				}
				if len(args) == 2 && strings.Contains(args[1], "://") { // a connection has no method
					args = []string{args[0], "", args[1]}
				}
				if len(args) != 3 {
					return usage("three operands are required: CONFIG METHOD URL, as in kestrix why harbour.hcl GET http://tickets.tern.example:8080/seats")
				}
				if q.Times < 1 || q.Times > 10000 {
					return usage("-n cannot be %d; from 1 to 10000", q.Times)
				}
				if err := ask(&q, args[1], args[2], headers, cookies); err != nil {
					return err
				}
				s, err := usable(env, args[0], *with)
				if err != nil {
					return err
				}
				a, err := study.Why(s.config, q)
				if err != nil {
					return usage("%v", err)
				}
				return o.write(env, func(w io.Writer) error {
					if o.format == "json" {
						return writeJSON(w, a)
					}
					style := o.style(env)
					_, err := io.WriteString(w, style.Why(strings.TrimSpace(fmt.Sprintf("%s %s from %s", q.Method, args[2], q.Client)), a))
					return err
				})
			}
		},
	}
}

// matching says which requests a route takes.
func matching(env *Env, o *output, args, with []string, name string) error {
	if len(args) != 1 {
		return usage("one operand is required with -matches: CONFIG, as in kestrix why harbour.hcl -matches rest")
	}
	s, err := usable(env, args[0], with)
	if err != nil {
		return err
	}
	m, err := study.MatchesOf(s.config, name)
	if err != nil {
		return usage("-matches: %v", err)
	}
	return o.write(env, func(w io.Writer) error {
		if o.format == "json" {
			return writeJSON(w, m)
		}
		_, err := io.WriteString(w, o.style(env).Matches(m))
		return err
	})
}

// askConnection fills a question from the address of a tcp connection.
func askConnection(q *study.Question, target string, secure bool) error {
	host, port, err := net.SplitHostPort(target)
	if err != nil {
		return usage("%q is not an address like tls://gate.tern.example:7000", target)
	}
	if q.Port, err = strconv.Atoi(port); err != nil {
		return usage("%q is not a port", port)
	}
	if q.Secure = secure; secure {
		q.SNI = host
	}
	return nil
}

// ask fills a question from a method, a URL and header fields.
func ask(q *study.Question, method, target string, headers, cookies []string) error {
	if rest, ok := strings.CutPrefix(target, "tls://"); ok && method == "" {
		return askConnection(q, rest, true)
	}
	if rest, ok := strings.CutPrefix(target, "tcp://"); ok && method == "" {
		return askConnection(q, rest, false)
	}
	if method == "" {
		return usage("a method is required before the URL: kestrix why CONFIG GET %s", target)
	}
	if strings.ToUpper(method) != method {
		return usage("%q is not a method; they are written in capitals, like GET", method)
	}
	u, err := url.Parse(target)
	if err != nil || u.Host == "" || u.Scheme != "http" && u.Scheme != "https" {
		return usage("%q is not a URL like http://tickets.tern.example/seats", target)
	}
	q.Method, q.Host = method, u.Host        // with the port, as a client sends it
	q.Path, q.Query = request.Target(target) // as they are written
	q.Port = 80
	if u.Scheme == "https" {
		q.Port, q.SNI, q.Secure = 443, u.Hostname(), true
	}
	if p := u.Port(); p != "" {
		q.Port, _ = strconv.Atoi(p) // url.Parse takes digits only
	}
	q.Headers = map[string][]string{}
	for _, c := range cookies {
		if name, _, ok := strings.Cut(c, "="); !ok || name == "" {
			return usage("-cookie %q is not NAME=VALUE", c)
		}
		q.Headers["cookie"] = append(q.Headers["cookie"], c)
	}
	for _, h := range headers {
		name, value, ok := strings.Cut(h, ":")
		if !ok {
			return usage("-header %q is not NAME:VALUE", h)
		}
		name, value = strings.ToLower(strings.TrimSpace(name)), strings.TrimSpace(value)
		if name == "host" {
			q.Host = value
			continue
		}
		q.Headers[name] = append(q.Headers[name], value)
	}
	return nil
}
