// Command bench holds the live proxy against a plain pass-through, on loopback,
// all in one run: what is told are ratios, since machines and moments differ.
//
//	go run ./bench
package main

import (
	"context"
	"flag"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"os/exec"
	"os/signal"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"
)

func main() {
	if len(os.Args) > 2 && os.Args[1] == "backend" {
		backend(os.Args[2:])
		return
	}
	seconds := flag.Int("seconds", 3, "`SECONDS` that each load lasts")
	rounds := flag.Int("rounds", 5, "how `OFTEN` each is measured, in turn")
	only := flag.String("only", "", "the one `LOAD` to measure")
	flag.Parse()
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt)
	defer stop()
	if err := run(ctx, time.Duration(*seconds)*time.Second, *rounds, *only); err != nil {
		fmt.Fprintln(os.Stderr, "bench:", err)
		os.Exit(1)
	}
}

// backend answers on addresses until it is killed.
func backend(addresses []string) {
	small, big := make([]byte, 1<<10), make([]byte, 1<<20)
	h := http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Path == "/events" {
			tell(w, r)
			return
		}
		body := small
		if r.URL.Path == "/big" {
			body = big
		}
		w.Header()["Content-Type"] = []string{"application/octet-stream"}
		w.Header()["Content-Length"] = []string{strconv.Itoa(len(body))}
		_, _ = w.Write(body) // a proxy that left
	})
	for _, a := range addresses[1:] {
		go func() { _ = http.ListenAndServe(a, h) }()
	}
	_ = http.ListenAndServe(addresses[0], h)
}

// tell sends an event, with the time it is sent at, a hundred times a second.
func tell(w http.ResponseWriter, r *http.Request) {
	w.Header().Set("Content-Type", "text/event-stream")
	out := http.NewResponseController(w)
	t := time.NewTicker(10 * time.Millisecond)
	defer t.Stop()
	for {
		if _, err := fmt.Fprintf(w, "data: %d\n\n", time.Now().UnixNano()); err != nil || out.Flush() != nil {
			return
		}
		select {
		case <-t.C:
		case <-r.Context().Done():
			return
		}
	}
}

// world is what is measured, as processes.
type world struct {
	dir      string
	backends []string
	running  []*exec.Cmd
}

// start starts a program and waits until an address answers.
func (w *world) start(ctx context.Context, wait, name string, args ...string) (*exec.Cmd, error) {
	c := exec.CommandContext(ctx, filepath.Join(w.dir, name), args...)
	c.Stderr = io.Discard
	c.Env = append(os.Environ(), "GOMAXPROCS=2")
	if err := c.Start(); err != nil {
		return nil, err
	}
	w.running = append(w.running, c)
	for range 200 {
		if conn, err := net.Dial("tcp", wait); err == nil {
			conn.Close()
			return c, nil
		}
		time.Sleep(20 * time.Millisecond)
	}
	return nil, fmt.Errorf("%s does not answer on %s", name, wait)
}

func (w *world) stop() {
	for _, c := range w.running {
		_ = c.Process.Kill()
		_ = c.Wait()
	}
	os.RemoveAll(w.dir)
}

// free returns addresses that nobody listens on.
func free(n int) ([]string, error) {
	var out []string
	for range n {
		l, err := net.Listen("tcp", "127.0.0.1:0")
		if err != nil {
			return nil, err
		}
		defer l.Close()
		out = append(out, l.Addr().String())
	}
	return out, nil
}

func run(ctx context.Context, d time.Duration, rounds int, only string) error {
	dir, err := os.MkdirTemp("", "kestrix-bench")
	if err != nil {
		return err
	}
	w := &world{dir: dir}
	defer w.stop()
	for name, pkg := range map[string]string{"kestrix": "./cmd/kestrix", "plain": "./bench/plain", "bench": "./bench"} {
		c := exec.CommandContext(ctx, "go", "build", "-o", filepath.Join(dir, name), pkg)
		c.Env = append(os.Environ(), "CGO_ENABLED=0")
		if out, err := c.CombinedOutput(); err != nil {
			return fmt.Errorf("%s: %w: %s", pkg, err, out)
		}
	}
	at, err := free(7)
	if err != nil {
		return err
	}
	w.backends = at[:3]
	if _, err := w.start(ctx, at[0], "bench", append([]string{"backend"}, w.backends...)...); err != nil {
		return err
	}
	config := filepath.Join(dir, "bench.hcl")
	if err := os.WriteFile(config, w.config(at[4], at[5]), 0o600); err != nil {
		return err
	}
	if err := w.certificate(); err != nil {
		return err
	}
	plain, err := w.start(ctx, at[3], "plain", append([]string{at[3], at[6], filepath.Join(dir, "bench.pem"), filepath.Join(dir, "bench.key")}, w.backends...)...)
	if err != nil {
		return err
	}
	kestrix, err := w.start(ctx, at[4], "kestrix", "serve", config)
	if err != nil {
		return err
	}
	p := &page{d: d, rounds: rounds}
	var names []string
	for _, m := range []struct {
		name   string
		load   load
		secure bool
	}{
		{"keep-alive", load{connections: 64, path: "/"}, false},
		{"close", load{connections: 64, path: "/", close: true}, false},
		{"large", load{connections: 8, path: "/big"}, false},
		{"events", load{connections: 100, path: "/events", events: true}, false},
		{"tls", load{connections: 64, path: "/", tls: true}, true},
		{"http2-clear", load{connections: 8, path: "/", http2: true}, false},
		{"http2-tls", load{connections: 8, path: "/", http2: true, tls: true}, true},
	} {
		if names = append(names, m.name); only != "" && only != m.name {
			continue
		}
		ours, theirs := at[4], at[3]
		if m.secure {
			ours, theirs = at[5], at[6]
		}
		sides := []side{{"kestrix", ours, kestrix, nil}, {"plain", theirs, plain, nil}, {"direct", at[0], nil, nil}}
		if m.secure || m.load.http2 {
			sides = sides[:2] // backends speak neither
		}
		if err := p.measure(ctx, m.name, m.load, sides); err != nil {
			return err
		}
	}
	if only == "" || only == "idle" {
		return idle(at[4], kestrix)
	}
	if !slices.Contains(names, only) {
		return fmt.Errorf("there is no load %q; there are %s and idle", only, strings.Join(names, ", "))
	}
	return nil
}

// config is that of the proxy: everything on that the issue of a live site
// would have.
func (w *world) config(clear, secure string) []byte {
	text := `frontend "web" {
  listen      = "` + clear + `"
  clear_http2 = true
  route "all" {
    send_to = upstream.app
  }
}
frontend "secure" {
  listen = "` + secure + `"
  tls {
    certificate = "bench.pem"
    key         = "bench.key"
  }
  route "all" {
    send_to = upstream.app
  }
}
upstream "app" {
  backends = { a = "` + strings.Join(w.backends, `", b = "`) + `" }
  probe "http" {
    path  = "/ready"
    every = "1s"
  }
  retry {
  }
  suspend {
  }
}
access_log {
  to     = "` + filepath.Join(w.dir, "access.log") + `"
  format = "json"
}
`
	return []byte(strings.Replace(text, `", b = "`+w.backends[2], `", c = "`+w.backends[2], 1))
}

// side is one of those that are held against each other.
type side struct {
	name    string
	address string
	process *exec.Cmd // nil: its processor time is not told
	got     []sample
}

type sample struct {
	result
	cpu time.Duration // of the process, for each request
}

type page struct {
	d      time.Duration
	rounds int
}

// measure runs a load against all sides in turn and tells their medians.
func (p *page) measure(ctx context.Context, name string, l load, sides []side) error {
	for round := range p.rounds + 1 {
		for i := range sides {
			s := &sides[i]
			if ctx.Err() != nil {
				return ctx.Err()
			}
			before := processorTime(s.process)
			r, err := l.run(s.address, p.d)
			if err != nil {
				return fmt.Errorf("%s, %s: %w", name, s.name, err)
			}
			if round == 0 {
				continue // to warm up
			}
			used := processorTime(s.process) - before
			s.got = append(s.got, sample{r, time.Duration(float64(used) / (r.rate * p.d.Seconds()))})
		}
	}
	of := func(s side, f func(sample) float64) float64 {
		var v []float64
		for _, x := range s.got {
			v = append(v, f(x))
		}
		slices.Sort(v)
		return v[len(v)/2]
	}
	rate := func(x sample) float64 { return x.rate }
	cpu := func(x sample) float64 { return float64(x.cpu) }
	p99 := func(x sample) float64 { return float64(x.p99) }
	fmt.Printf("%s\n", name)
	for _, s := range sides {
		what := "requests"
		if l.events {
			what = "events"
		}
		fmt.Printf("  %-8s %9.0f "+what+"/s  p50 %8v  p99 %8v", s.name, of(s, rate), time.Duration(of(s, func(x sample) float64 { return float64(x.p50) })).Round(time.Microsecond), time.Duration(of(s, p99)).Round(time.Microsecond))
		if s.process != nil {
			fmt.Printf("  processor %v a request", time.Duration(of(s, cpu)).Round(100*time.Nanosecond))
		}
		if b := of(s, func(x sample) float64 { return x.bytes }); b > 100<<20 {
			fmt.Printf("  %.0f MB/s", b/1e6)
		}
		fmt.Println()
	}
	if len(sides) > 1 {
		// Pairs of one round met the same machine.
		ratio := func(f func(sample) float64, other side) float64 {
			var v []float64
			for i := range sides[0].got {
				v = append(v, f(sides[0].got[i])/f(other.got[i]))
			}
			slices.Sort(v)
			return v[len(v)/2]
		}
		fmt.Printf("  kestrix against plain: %.2f times as many, %.2f times the processor time, p99 %.2f times", ratio(rate, sides[1]), ratio(cpu, sides[1]), ratio(p99, sides[1]))
		if len(sides) > 2 {
			fmt.Printf("; against going direct %.2f times as many", ratio(rate, sides[2]))
		}
		fmt.Println()
	}
	return nil
}
