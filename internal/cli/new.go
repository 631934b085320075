package cli

import (
	"context"
	"crypto/rand"
	"flag"
	"fmt"
	"io"
	"net/netip"
	"slices"
	"strconv"
	"strings"

	"kestrix/internal/core/check"
	"kestrix/internal/core/config"
)

func newCommand() *command {
	return &command{
		name: "new", group: "write and check", args: "ADDRESS... | -scenario CONFIG",
		summary: "write a first configuration for these backends, or a first scenario",
		help: `
An ADDRESS is host:port, [v6]:port or unix:/path; NAME=ADDRESS names the backend.

new tries a probe at the backends: GET of /ready, /health, /healthz and /, and writes the
first that all of them pass. It prints the results. -probe sets the probe. Port 443 of
all backends stands for TLS. With -tls and port 443 or 8443 a second frontend redirects
http to https.

-scenario writes a scenario for CONFIG: a load, a backend that fails, and expectations.

examples:
  kestrix new 127.0.0.1:9001 127.0.0.1:9002 -o first.hcl
  kestrix new -scenario first.hcl -o first.scenario.hcl
  kestrix new -sticky cookie -host tickets.tern.example 127.0.0.1:9001 127.0.0.1:9002
  kestrix new auk=192.0.2.11:8080 gannet=192.0.2.12:8080 -listen 0.0.0.0:443 -tls tickets.pem,tickets.key
  kestrix new -tcp 127.0.0.1:7001 127.0.0.1:7002 -listen 0.0.0.0:7000`,
		setup: func(fs *flag.FlagSet) func(context.Context, *Env, []string) error {
			file := fs.String("o", "", "write to `FILE` instead of stdout; an existing file is not replaced")
			var w wishes
			fs.StringVar(&w.listen, "listen", "127.0.0.1:8080", "`ADDRESS` to listen on; 0.0.0.0 is every address, of IPv6 too")
			fs.StringVar(&w.name, "name", "app", "`NAME` of the upstream")
			fs.StringVar(&w.sticky, "sticky", "", "`METHOD` of stickiness:\ncookie   a cookie of the proxy\naddress  the address of the client")
			fs.BoolVar(&w.tcp, "tcp", false, "forward TCP connections instead of HTTP requests")
			fs.StringVar(&w.tls, "tls", "", "terminate TLS with the PEM files `CERTIFICATE,KEY`")
			fs.StringVar(&w.probe, "probe", "", "`PATH` of the probe, or tcp for a probe that only connects; found by trial when not given")
			fs.Var((*list)(&w.hosts), "host", "`HOST` to serve, * is one label; with -tcp the server name (SNI); may be repeated")
			of := fs.String("scenario", "", "`CONFIG` for which a scenario is written, instead of a configuration")
			return func(ctx context.Context, env *Env, args []string) error {
				if *file != "" && exists(*file) {
					return usage("%s exists and is not replaced; name another file", *file)
				}
				if *of != "" {
					var other string
					fs.Visit(func(x *flag.Flag) {
						if x.Name != "o" && x.Name != "scenario" {
							other = x.Name
						}
					})
					if other != "" {
						return usage("-%s is of a configuration, and -scenario writes a scenario; leave one out", other)
					}
					return newScenario(env, *of, *file, args)
				}
				text, tried, err := firstConfig(ctx, args, &w)
				if err != nil {
					return err
				}
				o := output{file: *file}
				if w.sticky == "cookie" {
					o.mode = 0o600 // it holds a secret
				}
				if err := o.writeText(env, text); err != nil {
					return err
				}
				for _, l := range tried {
					fmt.Fprintln(env.Stderr, l)
				}
				if *file != "" {
					fmt.Fprintf(env.Stderr, "wrote %s; try: kestrix check %s, kestrix serve %s, kestrix new -scenario %s\n", *file, *file, *file, *file)
				}
				return nil
			}
		},
	}
}

// writeText writes a text to the place of the output.
func (o *output) writeText(env *Env, text string) error {
	return o.write(env, func(w io.Writer) error {
		_, err := io.WriteString(w, text)
		return err
	})
}

// wishes are the flags of new.
type wishes struct {
	listen, name, sticky, tls, probe string
	tcp                              bool
	hosts                            []string
	secret                           string // of the cookie, made once
}

// firstBackend is one of the backends that new is given.
type firstBackend struct {
	name    string
	address config.Address
}

// firstConfig returns a first configuration, and what came of trying the probe, in lines.
func firstConfig(ctx context.Context, args []string, w *wishes) (text string, tried []string, err error) {
	l, backends, err := w.read(args)
	if err != nil {
		return "", nil, err
	}
	write := func(p trialProbe) (string, error) { return w.text(l, backends, p) }
	p, tried, err := w.findProbe(ctx, write)
	if err != nil {
		return "", nil, err
	}
	text, err = write(p)
	return text, tried, err
}

// read reads the operands and the flags that hold names and addresses.
func (w *wishes) read(args []string) (l config.Address, backends []firstBackend, err error) {
	if len(args) == 0 {
		return l, nil, usage("no backend is named; kestrix new 127.0.0.1:9001 127.0.0.1:9002")
	}
	if l, err = config.ParseAddress(w.listen); err != nil {
		return l, nil, usage("-listen: %v", err)
	}
	if !config.ValidName(w.name) {
		return l, nil, usage("-name: %q cannot be the name of an upstream; letters, digits, - and _, beginning with a letter", w.name)
	}
	if w.probe != "" && w.probe != "tcp" && !strings.HasPrefix(w.probe, "/") {
		return l, nil, usage("-probe cannot be %q; it is a path that begins with /, or tcp", w.probe)
	}
	if w.tcp && strings.HasPrefix(w.probe, "/") {
		return l, nil, usage("-probe %s sends an HTTP request, and -tcp forwards connections; leave one out", w.probe)
	}
	seen := map[string]bool{}
	for i, a := range args {
		b := firstBackend{name: fmt.Sprintf("%s%d", w.name, i+1)}
		if before, after, ok := strings.Cut(a, "="); ok {
			b.name, a = before, after
		}
		if b.address, err = config.ParseAddress(a); err != nil {
			return l, nil, usage("%v", err)
		}
		address := b.address.String()
		switch {
		case !config.ValidName(b.name):
			return l, nil, usage("%q cannot be the name of a backend; letters, digits, - and _, beginning with a letter", b.name)
		case seen[b.name]:
			return l, nil, usage("two backends are called %q", b.name)
		case seen[address]:
			return l, nil, usage("the address %s is given twice", address)
		case reached([]firstBackend{b}, l):
			return l, nil, usage("%s is both a backend and the address to listen on; -listen names another", address)
		}
		seen[b.name], seen[address] = true, true
		backends = append(backends, b)
	}
	return l, backends, nil
}

// text writes the configuration with a probe. The error is that of a flag.
func (w *wishes) text(l config.Address, backends []firstBackend, p trialProbe) (string, error) {
	sticky, err := w.stickyBlock()
	if err != nil {
		return "", err
	}
	front, err := w.front()
	if err != nil {
		return "", err
	}
	var list strings.Builder
	for _, b := range backends {
		fmt.Fprintf(&list, "    %s = %q\n", b.name, b.address)
	}
	comment, listen := listeners(l)
	text, err := formatted(fmt.Sprintf(first, w.redirect(l, backends), comment, listen, front, w.route(), w.name, w.pairs(len(backends)), list.String(), w.backendTLS(backends), p.block(w.tcp), sticky, w.retry(len(backends)), controlPort(l, backends)))
	if err != nil {
		return "", err
	}
	// What is written must be what check takes.
	_, found, err := config.Read([]config.File{{Name: "new", Source: []byte(text)}})
	if err != nil {
		return "", unusable(err)
	}
	if len(found) > 0 {
		return "", usage("%s: %s", found[0].Message, found[0].Hint)
	}
	return text, nil
}

// redirect writes a frontend that redirects clients from http to https: for port 443 on port 80, for 8443 on 8080. It returns
// "" for other ports, and where a backend has that address.
func (w *wishes) redirect(l config.Address, backends []firstBackend) string {
	plain := map[int]int{443: 80, 8443: 8080}[l.Port]
	if w.tls == "" || w.tcp || plain == 0 || reached(backends, config.Address{Host: l.Host, Port: plain}) {
		return ""
	}
	to := "https://{host}{path}"
	if l.Port != 443 {
		to = fmt.Sprintf("https://{host}:%d{path}", l.Port)
	}
	_, listen := listeners(config.Address{Host: l.Host, Port: plain})
	return fmt.Sprintf(`# Redirects http to https.
frontend "plain" {
  listen = [%s]

  route "all" {
    redirect {
      to = %q
    }
  }
}

`, listen, to)
}

// backendTLS writes the block for TLS to backends, where all of them have port 443.
func (w *wishes) backendTLS(backends []firstBackend) string {
	for _, b := range backends {
		if b.address.Port != 443 || w.tcp {
			return ""
		}
	}
	return `
  # TLS to the backends, because their port is 443. Their certificates are verified
  # with the CA bundle of this machine; ca names another, name the name to verify.
  tls {
  }
`
}

// controlPort returns a port of loopback for control, from 9900 on, that neither the frontend nor a backend has.
func controlPort(l config.Address, backends []firstBackend) int {
	port := 9900
	for port == l.Port || reached(backends, config.Address{Host: "127.0.0.1", Port: port}) {
		port++
	}
	return port
}

// reached reports whether connecting to one of the backends ends at a listener.
func reached(backends []firstBackend, listener config.Address) bool {
	return slices.ContainsFunc(backends, func(b firstBackend) bool { return check.Reaches(b.address, listener) })
}

// route writes the route of a first configuration.
func (w *wishes) route() string {
	if len(w.hosts) == 0 {
		return fmt.Sprintf(`  # The first route that matches decides. A route without "when" matches every
  # request, so it must be the last.
  route "all" {
    send_to = upstream.%s
  }
`, w.name)
	}
	var quoted []string
	for _, h := range w.hosts {
		quoted = append(quoted, strconv.Quote(h))
	}
	what, other := "host", "404 is the answer to other hosts"
	if w.tcp {
		what, other = "sni", "connections with other names are closed"
	}
	return fmt.Sprintf(`  # The first route that matches decides; %s.
  route "site" {
    when {
      %s = [%s]
    }
    send_to = upstream.%s
  }
`, other, what, strings.Join(quoted, ", "), w.name)
}

// front writes what stands between the listeners and the routes.
func (w *wishes) front() (string, error) {
	var b strings.Builder
	if w.tcp {
		b.WriteString(`
  # Forwards connections byte by byte.
  protocol = "tcp"
`)
	}
	if w.tls != "" {
		certificate, key, ok := strings.Cut(w.tls, ",")
		if !ok || certificate == "" || key == "" {
			return "", usage("-tls needs two files, as in -tls tickets.pem,tickets.key")
		}
		fmt.Fprintf(&b, `
  # Terminates TLS. The certificate file holds the chain, the site's certificate
  # first. The key must be readable by the proxy only. Paths are relative to this
  # file.
  tls {
    certificate = %q
    key         = %q
  }
`, certificate, key)
	}
	if !w.tcp {
		b.WriteString(`
  limits {
    body_size = "16MiB" # a larger request body is answered with 413
    # rate    = "50/s"  # of one client; more is answered with 429
  }
`)
	}
	return b.String(), nil
}

// retry writes suspension, which failures are repeated, and timeouts.
func (w *wishes) retry(backends int) string {
	where := "another backend"
	suspend := `
  # Takes a backend out of rotation after failures in a row, before a probe fails.
  suspend {
  }
`
	if backends == 1 {
		where, suspend = "the same backend, as there is no other", ""
	}
	if w.tcp {
		return suspend + fmt.Sprintf(`
  # Repeats a failed connect at %s.
  retry {
    attempts = 2
    on       = ["connect"]
    budget   = "20%%" # of the connections, so that retries do not overload backends
  }

  timeouts {
    connect = "1s"  # backends in the same network connect within milliseconds
    idle    = "10m" # longer than clients are silent
  }
`, where)
	}
	return suspend + fmt.Sprintf(`
  # Repeats a failed attempt at %s: a failed connect for
  # every method, other failures for methods that may be repeated (GET, PUT, ...).
  retry {
    attempts = 2
    on       = ["connect", "reset", "502", "503"]
    budget   = "20%%" # of the requests, so that retries do not overload backends
  }

  timeouts {
    connect = "1s"  # backends in the same network connect within milliseconds
    answer  = "30s" # as long as the slowest page may take
  }
`, where)
}

// stickyBlock writes the session setting, empty for none.
func (w *wishes) stickyBlock() (string, error) {
	switch w.sticky {
	case "":
		return "", nil
	case "address":
		return `
  # A client keeps its backend as long as its address is the same. Clients behind
  # one gateway share an address, and so a backend.
  sticky {
    by = "address"
  }
`, nil
	case "cookie":
		if w.tcp {
			return "", usage("-sticky cookie needs http: tcp has no cookies; -sticky address uses the client's address")
		}
		if w.secret == "" {
			w.secret = rand.Text()
		}
		return fmt.Sprintf(`
  # A client keeps its backend by an encrypted cookie. The secret was generated for
  # this file: use the same one on every proxy, and nowhere else.
  sticky {
    by     = "cookie"
    secret = %q
  }
`, w.secret), nil
	}
	return "", usage("-sticky cannot be %q; it is cookie or address", w.sticky)
}

// pairs allows the advice about two backends.
func (w *wishes) pairs(backends int) string {
	if backends != 2 || w.tcp || w.sticky != "" {
		return ""
	}
	return "  # kestrix: allow KX307 because requests of several clients overlap here\n"
}

// listeners returns a comment and the list of addresses for one to listen on: [::] beside 0.0.0.0.
func listeners(a config.Address) (comment, list string) {
	list = strconv.Quote(a.String())
	ip, err := netip.ParseAddr(a.Host)
	switch {
	case err == nil && ip.IsLoopback():
		return fmt.Sprintf("This machine only; [\"0.0.0.0:%d\", \"[::]:%d\"] is every address.", a.Port, a.Port), list
	case err == nil && ip == netip.IPv4Unspecified():
		return "Every address of this machine, IPv4 and IPv6.", fmt.Sprintf("%s, \"[::]:%d\"", list, a.Port)
	}
	return "The address for clients.", list
}

// first is the configuration that new writes.
const first = `# A first configuration. Comments give the reasons; check it after a change:
# kestrix check FILE

# Proxies in front of this one, whose X-Forwarded-For names the client:
# trusted_proxies = ["192.0.2.0/28"]

%sfrontend "web" {
  # %s
  listen = [%s]
%s
%s}

upstream "%s" {
  # The backend with the fewest requests in flight: a slow one gets less.
%s  algorithm = "least-connections"

  backends = {
%s  }
%s%s%s%s}

# kestrix status, watch and tell FILE use this address; only this machine reaches it.
control {
  listen = "127.0.0.1:%d"
}

# One line per request on stdout; kestrix replay reads it as a trace.
access_log {
  to = "stdout"
}
`
