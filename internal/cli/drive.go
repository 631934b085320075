package cli

import (
	"cmp"
	"context"
	"crypto/x509"
	"flag"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/netip"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"kestrix/internal/core/result"
	"kestrix/internal/core/trace"
	"kestrix/internal/live/drive"
	"kestrix/internal/report"
)

func driveCommand() *command {
	return &command{
		name: "drive", group: "serve and rehearse", args: "[TRACE...] URL",
		summary: "send a trace as real requests to a running proxy",
		help: `
With a trace, drive sends each request at its own time. A late response does not delay
other requests, and latency counts from the moment at which a request was due. A proxy
that stalls cannot hide it. Each client has its own connections and cookies.

Without a trace, -n requests are sent by -c clients, each of which waits for its
response. -every sends one request after the other and prints each response.

URL is http://, https://, tcp:// or tls:// with an address of this machine or of a
private network. Any other host needs -i-may HOST.

examples:
  kestrix drive morning.log http://127.0.0.1:8080
  kestrix drive morning.log http://127.0.0.1:8080 -speed 10 -from 2m -until 5m
  kestrix drive http://127.0.0.1:8080/seats -n 4000 -c 100
  kestrix drive http://127.0.0.1:8080/seats -every 500ms -cookies off`,
		setup: func(fs *flag.FlagSet) func(context.Context, *Env, []string) error {
			var o output
			o.define(fs)
			var f driveFlags
			f.define(fs)
			return func(ctx context.Context, env *Env, args []string) error {
				if err := o.check(); err != nil {
					return err
				}
				given := map[string]bool{}
				fs.Visit(func(x *flag.Flag) { given[x.Name] = true })
				if err := f.check(args, given); err != nil {
					return err
				}
				return runDrive(ctx, env, &o, &f)
			}
		},
	}
}

// driveFlags say what is driven, and how.
type driveFlags struct {
	ordering
	target               drive.Target
	url, path            string
	speed                float64
	n, c                 int
	every                time.Duration
	cookies, reuse       string
	method, host, forced string
	headers              list
	http                 string
	ca                   string
	insecure, header     bool
	forward, names       string
	timeout, lasts       time.Duration
}

func (f *driveFlags) define(fs *flag.FlagSet) {
	fs.Float64Var(&f.speed, "speed", 1, "`FACTOR` by which the trace is sent faster")
	fs.IntVar(&f.n, "n", 0, "`NUMBER` of requests, when no trace is given")
	fs.IntVar(&f.c, "c", 1, "`NUMBER` of clients; each sends its next request after the response to the last")
	fs.DurationVar(&f.every, "every", 0, "`TIME` between requests of one client; prints each response")
	fs.StringVar(&f.cookies, "cookies", "on", "`SWITCH` for cookies:\non   clients keep and send the cookies that they receive\noff  clients ignore them")
	fs.StringVar(&f.reuse, "reuse", "on", "`SWITCH` for keep-alive:\non   clients reuse their connections\noff  each request has a connection of its own")
	fs.StringVar(&f.method, "method", "", "`METHOD` of every request, instead of the trace's")
	fs.Var(&f.headers, "header", "`NAME:VALUE` of a header of every request; may be repeated")
	fs.StringVar(&f.host, "host", "", "`NAME` of the host for requests without one; the URL's when not given")
	fs.StringVar(&f.http, "http", "1.1", "`VERSION` of HTTP:\n1.1\n2")
	fs.StringVar(&f.ca, "ca", "", "PEM `FILE` of the CA bundle for the proxy's certificate, instead of the system's")
	fs.BoolVar(&f.insecure, "insecure", false, "accept any certificate")
	fs.StringVar(&f.forward, "forward", "none", "header `FIELD` with the address of a request's client, such as X-Forwarded-For or Forwarded, for a proxy that trusts this machine; none sends none")
	fs.BoolVar(&f.header, "proxy-protocol", false, "begin each connection with a PROXY protocol header with the address of its client")
	fs.StringVar(&f.names, "names", "Stand-In", "header `FIELD` of responses that names the backend")
	fs.DurationVar(&f.timeout, "timeout", time.Minute, "timeout of a request, a `TIME`")
	fs.DurationVar(&f.lasts, "lasts", time.Minute, "`TIME` for which streams and connections stay open when their record has no duration")
	fs.StringVar(&f.forced, "i-may", "", "`HOST` of the URL; confirms that you may send load to a host that is neither this machine nor in a private network")
	f.ordering.define(fs, "drive")
}

// check takes operands and flags, and says what does not go together.
func (f *driveFlags) check(args []string, given map[string]bool) error {
	for _, a := range args {
		if !strings.Contains(a, "://") {
			f.traces = append(f.traces, a)
			continue
		}
		if f.url != "" {
			return usage("only one URL is allowed; there are %s and %s", f.url, a)
		}
		f.url = a
	}
	if f.url == "" {
		return usage("a URL is required: kestrix drive TRACE http://127.0.0.1:8080")
	}
	var err error
	if f.target, f.path, err = drive.ParseTarget(f.url); err != nil {
		return usage("%s cannot be driven: %v", f.url, err)
	}
	f.target.Header = f.header
	if err := f.may(); err != nil {
		return err
	}
	if err := cmp.Or(f.checkLoad(given), f.checkClients()); err != nil {
		return err
	}
	if err := f.ordering.check(); err != nil {
		return err
	}
	_, err = f.fields()
	return err
}

// checkLoad checks the flags that say what is sent: a trace, or a load of its own.
func (f *driveFlags) checkLoad(given map[string]bool) error {
	many := len(f.traces) > 0
	switch {
	case !many && f.n == 0 && f.every == 0:
		return usage("%s needs a trace, or -n and -c, or -every", f.url)
	case many && (given["n"] || given["c"] || given["every"]):
		return usage("-n, -c and -every are for driving without a trace; leave them out, or %s", f.traces[0])
	case given["every"] && f.every <= 0:
		return usage("-every is more than 0s; it is %s", f.every)
	case f.every > 0 && given["c"]:
		return usage("-every sends one request after the other; -c has no meaning beside it")
	case f.n < 0 || f.n > 100_000_000 || f.c < 1 || f.c > 100_000:
		return usage("-n lies from 1 to 100,000,000 and -c from 1 to 100,000")
	}
	if !many {
		for _, name := range []string{"speed", "from", "until", "window", "spread", "stamp", "bad", "fields", "map", "line"} {
			if given[name] {
				return usage("-%s is of a trace, and there is none here", name)
			}
		}
	}
	return nil
}

// checkClients checks the flags that say how clients behave.
func (f *driveFlags) checkClients() error {
	switch {
	case !(f.speed > 0) || f.speed > 1e6:
		return usage("-speed is more than 0 and at most 1,000,000; it is %g", f.speed)
	case f.cookies != "on" && f.cookies != "off":
		return usage("-cookies cannot be %q; it is on or off", f.cookies)
	case f.reuse != "on" && f.reuse != "off":
		return usage("-reuse cannot be %q; it is on or off", f.reuse)
	case f.http != "1.1" && f.http != "2":
		return usage("-http cannot be %q; it is 1.1 or 2", f.http)
	case f.timeout <= 0 || f.lasts <= 0:
		return usage("-timeout and -lasts are more than 0s")
	}
	return nil
}

// may returns an error if the target is not one that anybody may drive.
func (f *driveFlags) may() error {
	host, _, _ := net.SplitHostPort(f.target.Address)
	if f.forced == host {
		return nil
	}
	if f.forced != "" {
		return usage("-i-may names %s, and the URL %s", f.forced, host)
	}
	var all []netip.Addr
	if ip, err := netip.ParseAddr(host); err == nil {
		all = []netip.Addr{ip}
	} else {
		found, err := net.DefaultResolver.LookupNetIP(context.Background(), "ip", host)
		if err != nil {
			return unusable(fmt.Errorf("the name %s cannot be looked up: %w", host, reason(err)))
		}
		all = found
	}
	for _, ip := range all {
		if !drive.Private(ip) {
			who := host
			if ip.String() != host {
				who = fmt.Sprintf("%s (%s)", host, ip)
			}
			return usage("%s is neither this machine nor in a private network; if you may send it this load, say so with -i-may %s", who, host)
		}
	}
	return nil
}

// fields reads -header.
func (f *driveFlags) fields() (http.Header, error) {
	h := http.Header{}
	for _, x := range f.headers {
		name, value, ok := strings.Cut(x, ":")
		if name = strings.TrimSpace(name); !ok || name == "" || strings.ContainsAny(name, " \t\r\n") || strings.ContainsAny(value, "\r\n") {
			return nil, usage("-header needs NAME: VALUE; it is %q", x)
		}
		h.Add(name, strings.TrimSpace(value))
	}
	return h, nil
}

// options puts the flags together.
func (f *driveFlags) options() (drive.Options, error) {
	headers, err := f.fields()
	o := drive.Options{
		Speed: f.speed, HTTP2: f.http == "2", Insecure: f.insecure, Cookies: f.cookies == "on", Reuse: f.reuse == "on", Method: f.method, Headers: headers, Names: f.names,
		Timeout: f.timeout, Lasts: f.lasts,
	}
	if f.forward != "none" {
		o.Forward = http.CanonicalHeaderKey(f.forward)
	}
	t := f.target
	t.Host = cmp.Or(f.host, t.Host)
	o.Targets = map[string]drive.Target{"": t}
	if f.ca != "" {
		text, e := os.ReadFile(f.ca)
		if e != nil {
			return o, unusable(fmt.Errorf("%s cannot be read: %w", f.ca, reason(e)))
		}
		if o.Roots = x509.NewCertPool(); !o.Roots.AppendCertsFromPEM(text) {
			return o, unusable(fmt.Errorf("%s holds no certificate in PEM form", f.ca))
		}
	}
	return o, err
}

func runDrive(ctx context.Context, env *Env, o *output, f *driveFlags) error {
	options, err := f.options()
	if err != nil {
		return err
	}
	d := drive.New(options)
	stop := func() {}
	if terminal(env.Stderr) && f.every == 0 { // which prints each answer
		stop = driveProgress(env, d)
	}
	samples, found, err := f.send(ctx, env, d, o)
	stop()
	if err != nil {
		return err
	}
	partial := ctx.Err() != nil && (f.every == 0 || f.n > 0)
	res := drive.Result(samples, partial)
	if found != nil {
		res.Trace.Records, res.Trace.BadLines, res.Trace.Bad, res.Trace.Spread = found.records, found.badLines, found.bad, f.spread
	}
	late := drive.LatenessOf(samples)
	about := report.Drive{Names: f.traces, URL: f.url, Speed: f.speed, Result: res, Late: report.Late{P50: late.P50, P99: late.P99, Max: late.Max}, KeptUp: late.KeptUp(&res.Latency), HTTP: f.http, By: f.names, Open: len(f.traces) > 0}
	for i := range samples {
		if w := samples[i].Why; w != "" {
			if strings.Contains(w, "x509: ") {
				w += "; -ca names the authority, -insecure takes any"
			}
			about.First = w
			break
		}
	}
	for i, name := range about.Names {
		about.Names[i] = filepath.Base(name)
	}
	err = o.write(env, func(w io.Writer) error {
		if o.format == "json" {
			return writeJSON(w, struct {
				*result.Replay
				Driver drive.Lateness `json:"driver"`
			}{res, late})
		}
		_, err := io.WriteString(w, o.style(env).Drive(&about))
		return err
	})
	if err == nil && partial {
		return &exitError{interrupted, nil}
	}
	return err
}

// send drives what the flags say.
func (f *driveFlags) send(ctx context.Context, env *Env, d *drive.Driver, o *output) ([]drive.Sample, *reading, error) {
	if len(f.traces) > 0 {
		return f.sendTrace(ctx, env, d)
	}
	n := 0
	ask := func(who int) *trace.Record {
		n++
		r := &trace.Record{Method: []byte("GET"), Path: []byte(f.path), Client: []byte("client-" + strconv.Itoa(who)), Duration: -1, Bytes: -1}
		return r
	}
	if f.every == 0 {
		return d.Closed(ctx, f.n, f.c, nil, func(who int) []*trace.Record { return []*trace.Record{ask(who)} }), nil, nil
	}
	style := env.style(env.Stdout, o.noColour)
	tell := func(s drive.Sample) {
		if o.format == "text" && o.file == "" {
			_, _ = io.WriteString(env.Stdout, style.DriveLine(time.Now(), s.Status, s.Backend, s.Fail.String(), s.Took)) // the end says what came of it
		}
	}
	return d.Every(ctx, f.every, f.n, func() *trace.Record { return ask(0) }, tell), nil, nil
}

// sendTrace reads ahead of what is sent.
func (f *driveFlags) sendTrace(ctx context.Context, env *Env, d *drive.Driver) ([]drive.Sample, *reading, error) {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	ready := make(chan *trace.Record, 4096)
	type ended struct {
		found *reading
		err   error
	}
	end := make(chan ended, 1)
	quiet := *env
	quiet.Stderr = io.Discard // the driver tells how far it is
	go func() {
		found, err := f.records(ctx, &quiet, func(r *trace.Record) error {
			select {
			case ready <- r:
				return nil
			case <-ctx.Done():
				return ctx.Err()
			}
		})
		close(ready)
		end <- ended{found, err}
	}()
	samples, err := d.Trace(ctx, func() (*trace.Record, error) {
		select {
		case r, ok := <-ready:
			if !ok {
				return nil, io.EOF
			}
			return r, nil
		case <-ctx.Done():
			return nil, ctx.Err()
		}
	})
	stopped := ctx.Err() != nil
	cancel()
	x := <-end
	if err == nil && !stopped {
		err = x.err
	}
	return samples, x.found, err
}

// driveProgress shows how far a drive has come.
func driveProgress(env *Env, d *drive.Driver) (stop func()) {
	done, gone := make(chan struct{}), make(chan struct{})
	go func() {
		defer close(gone)
		tick := time.NewTicker(500 * time.Millisecond)
		defer tick.Stop()
		for {
			select {
			case <-done:
				fmt.Fprint(env.Stderr, "\r\x1b[K")
				return
			case <-tick.C:
				p := d.Progress()
				late := ""
				if p.Late > 10*time.Millisecond {
					late = ", the driver is late by " + report.Span(p.Late.Seconds())
				}
				fmt.Fprintf(env.Stderr, "\r\x1b[Kdrive: %s requests in %s, %s failed, %s open%s", report.Count(p.Done), report.Span(p.For.Seconds()), report.Count(p.Failed), report.Count(p.Open), late)
			}
		}
	}()
	return func() { close(done); <-gone }
}
