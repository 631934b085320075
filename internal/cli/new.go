package cli

import (
	"context"
	"crypto/rand"
	"flag"
	"fmt"
	"io"
	"net/netip"
	"strconv"
	"strings"

	"kestrix/internal/core/config"
)

func newCommand() *command {
	return &command{
		name: "new", args: "ADDRESS...", summary: "a sound first configuration for these backends",
		help: `
An ADDRESS is host:port, [v6]:port or unix:/path; NAME=ADDRESS names the backend.

  kestrix new 127.0.0.1:9001 127.0.0.1:9002 -o first.hcl
  kestrix new -sticky cookie -host tickets.tern.example 127.0.0.1:9001 127.0.0.1:9002
  kestrix new auk=192.0.2.11:8080 gannet=192.0.2.12:8080 -listen 0.0.0.0:8443 -tls tickets.pem,tickets.key
  kestrix new -tcp 127.0.0.1:7001 127.0.0.1:7002 -listen 0.0.0.0:7000`,
		setup: func(fs *flag.FlagSet) func(context.Context, *Env, []string) error {
			file := fs.String("o", "", "write to `FILE` instead of stdout; an existing one is not replaced")
			listen := fs.String("listen", "127.0.0.1:8080", "`ADDRESS` to listen on")
			name := fs.String("name", "app", "`NAME` of the upstream")
			sticky := fs.String("sticky", "", "keep each client on one backend `BY` cookie or address")
			tcp := fs.Bool("tcp", false, "carry bytes without looking into them, instead of http")
			tls := fs.String("tls", "", "end TLS with these files: `CERTIFICATE,KEY`")
			var hosts list
			fs.Var(&hosts, "host", "serve only this `HOST`; may be repeated, * is one label; with -tcp the name in the TLS handshake")
			return func(_ context.Context, env *Env, args []string) error {
				text, err := firstConfig(args, wishes{*listen, *name, *sticky, *tls, *tcp, hosts})
				if err != nil {
					return err
				}
				if *file != "" && exists(*file) {
					return usage("%s exists and is not replaced; name another file", *file)
				}
				o := output{file: *file}
				if *sticky == "cookie" {
					o.mode = 0o600 // it holds a secret
				}
				if err := o.write(env, func(w io.Writer) error {
					_, err := io.WriteString(w, text)
					return err
				}); err != nil {
					return err
				}
				if *file != "" {
					fmt.Fprintf(env.Stderr, "wrote %s; try: kestrix check %s\n", *file, *file)
				}
				return nil
			}
		},
	}
}

// wishes are what the flags of new say.
type wishes struct {
	listen, name, sticky, tls string
	tcp                       bool
	hosts                     []string
}

// route writes the route of a first configuration.
func (w *wishes) route() string {
	if len(w.hosts) == 0 {
		return fmt.Sprintf(`  # Routes are tried in order and the first that fits decides. One without
  # "when" takes everything, so it stands last.
  route "all" {
    send_to = upstream.%s
  }
`, w.name)
	}
	var quoted []string
	for _, h := range w.hosts {
		quoted = append(quoted, strconv.Quote(h))
	}
	what, other := "host", "answered with 404"
	if w.tcp {
		what, other = "sni", "closed"
	}
	return fmt.Sprintf(`  # Routes are tried in order and the first that fits decides. What asks for
  # another host fits none and is %s.
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
  # Bytes are carried both ways without looking into them.
  protocol = "tcp"
`)
	}
	if w.tls != "" {
		certificate, key, ok := strings.Cut(w.tls, ",")
		if !ok || certificate == "" || key == "" {
			return "", usage("-tls wants two files, as in -tls tickets.pem,tickets.key")
		}
		fmt.Fprintf(&b, `
  # TLS ends here. A certificate holds its chain, the site's own first; the key
  # is readable by the proxy only. Paths are relative to this file.
  tls {
    certificate = %q
    key         = %q
  }
`, certificate, key)
	}
	return b.String(), nil
}

// probe writes the health check.
func (w *wishes) probe() string {
	if w.tcp {
		return `
  # Passes as long as the port is open. If the backends can say how they are, let
  # them: probe "self-report" reads a line such as state=up share=100.
  probe "tcp" {
    every      = "3s" # a failed backend is found after two of these
    timeout    = "1s" # shorter than every, so that no probe is left out
    down_after = 2    # one failure may be chance
    up_after   = 3    # come back slower than leave
  }
`
	}
	return `
  # Asks the application itself. A probe of kind "tcp" would pass as long as the
  # port is open, even while nothing is answered. Let the path touch what a
  # request needs (its database, say), but not be a page that visitors use.
  probe "http" {
    path       = "/ready"
    every      = "3s" # a failed backend is found after two of these
    timeout    = "1s" # shorter than every, so that no probe is left out
    down_after = 2    # one failure may be chance
    up_after   = 3    # come back slower than leave
  }
`
}

// retry writes what is repeated, and the timeouts.
func (w *wishes) retry(backends int) string {
	keep := "another backend is there for what one cannot take"
	if backends == 1 {
		keep = "with one backend a retry helps only against a temporary failure"
	}
	if w.tcp {
		return fmt.Sprintf(`
  # Connects once more where connecting failed;
  # %s.
  retry {
    attempts = 2
    on       = ["connect"]
  }

  timeouts {
    connect = "1s"  # a backend in the same house answers in milliseconds
    idle    = "10m" # on which nothing moves; above what clients keep quiet for
  }
`, keep)
	}
	return fmt.Sprintf(`
  # Repeats what failed, where that is safe: connecting for every request, the
  # rest only for those that may be sent twice (GET, PUT, DELETE ...);
  # %s.
  retry {
    attempts = 2
    on       = ["connect", "reset", "502", "503"]
  }

  timeouts {
    connect = "1s"  # a backend in the same house answers in milliseconds
    answer  = "30s" # as long as your slowest page may take
  }
`, keep)
}

// stickyBlock writes the session setting, empty for none.
func (w *wishes) stickyBlock() (string, error) {
	switch w.sticky {
	case "":
		return "", nil
	case "address":
		return `
  # A client keeps its backend as long as its address stays the same. Clients
  # behind one gateway share an address, and so a backend.
  sticky {
    by = "address"
  }
`, nil
	case "cookie":
		if w.tcp {
			return "", usage("-sticky cookie needs http: tcp has no cookies; -sticky address goes by the client's address")
		}
		return fmt.Sprintf(`
  # A client keeps its backend, by a cookie that tells nothing of it. The secret
  # was made for this file: keep it to the proxies, the same on each.
  sticky {
    by     = "cookie"
    secret = %q
  }
`, rand.Text()), nil
	}
	return "", usage("-sticky cannot be %q; it is cookie or address", w.sticky)
}

func firstConfig(args []string, w wishes) (string, error) {
	listen, name := w.listen, w.name
	if len(args) == 0 {
		return "", usage("no backend is named; kestrix new 127.0.0.1:9001 127.0.0.1:9002")
	}
	l, err := config.ParseAddress(listen)
	if err != nil {
		return "", usage("-listen: %v", err)
	}
	if !config.ValidName(name) {
		return "", usage("-name: %q cannot be the name of an upstream; letters, digits, - and _, beginning with a letter", name)
	}
	var backends strings.Builder
	seen := map[string]bool{}
	for i, a := range args {
		backend := fmt.Sprintf("%s%d", name, i+1)
		if before, after, ok := strings.Cut(a, "="); ok {
			backend, a = before, after
		}
		addr, err := config.ParseAddress(a)
		if err != nil {
			return "", usage("%v", err)
		}
		if !config.ValidName(backend) {
			return "", usage("%q cannot be the name of a backend; letters, digits, - and _, beginning with a letter", backend)
		}
		if seen[backend] {
			return "", usage("two backends are called %q", backend)
		}
		if seen[addr.String()] {
			return "", usage("the address %s is given twice", addr)
		}
		if addr == l {
			return "", usage("%s is both a backend and the address to listen on; -listen names another", addr)
		}
		seen[backend], seen[addr.String()] = true, true
		fmt.Fprintf(&backends, "    %s = %q\n", backend, addr)
	}
	sticky, err := w.stickyBlock()
	if err != nil {
		return "", err
	}
	front, err := w.front()
	if err != nil {
		return "", err
	}
	text := fmt.Sprintf(first, listenComment(l), l, front, w.route(), name, w.pairs(len(args)), backends.String(), w.probe(), sticky, w.retry(len(args)))
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

// pairs says of two backends why they may be given their turns.
func (w *wishes) pairs(backends int) string {
	if backends != 2 || w.tcp || w.sticky != "" {
		return ""
	}
	return "  # kestrix: allow KX307 because requests of several clients overlap here\n"
}

// listenComment says who can reach an address.
func listenComment(a config.Address) string {
	if ip, err := netip.ParseAddr(a.Host); err == nil {
		if ip.IsLoopback() {
			return fmt.Sprintf("Only this machine reaches a loopback address; for others write \"0.0.0.0:%d\".", a.Port)
		}
		if ip.IsUnspecified() {
			return "Every address of this machine, of this family."
		}
	}
	return "Where traffic enters."
}

// first is the configuration that new writes.
const first = `# A first configuration. Every line says why it is there; change what you know
# better, then: kestrix check FILE

frontend "web" {
  # %s
  listen = ["%s"]
%s
%s}

upstream "%s" {
  # Fewest open requests per weight: a slow backend is given less by itself.
%s  algorithm = "least-connections"

  backends = {
%s  }
%s%s%s}

# One line per request on stdout; kestrix replay reads it again as a trace.
access_log {
  to = "stdout"
}
`
