package cli

import (
	"bufio"
	"context"
	"crypto/tls"
	"encoding/json"
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"net/http"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kestrix/internal/core/config"
	"kestrix/internal/core/status"
	"kestrix/internal/live/control"
	"kestrix/internal/live/standin"
)

// books are what the clients of a proxy know of their requests. Each has a number of its
// own in its path.
type books struct {
	*site
	lasts, think time.Duration // think is what a client waits at most between two requests
	tell         *control.Client
	standIns     []*ward

	number atomic.Int64
	mu     sync.Mutex
	whole  map[int64]int  // the status of an answer that came whole
	sent   map[int64]bool // requests of clients that waited for an answer, however it ended
	gates  int            // connections of tcp that a backend answered
}

// ward is the process of a stand-in, that is killed, stopped and started again.
type ward struct {
	args    []string
	orders  string
	process *exec.Cmd // nil: it is killed
	stopped bool
}

// TestTheBooksBalance has clients of all kinds, some of which break off or read slowly, work
// through the built program while its configuration, its backends' processes, their faults
// and orders change at random. At the end each request of a client that waited for its
// answer has one access line, with the status that it saw; metrics, status and access lines
// agree; the journal verifies; and the process holds what it held before. KESTRIX_BOOKS
// says for how long, 3 s if it does not.
func TestTheBooksBalance(t *testing.T) {
	s := &books{lasts: 3 * time.Second, whole: map[int64]int{}, sent: map[int64]bool{}}
	if text := os.Getenv("KESTRIX_BOOKS"); text != "" {
		var err error
		s.lasts, err = time.ParseDuration(text)
		require.NoError(t, err)
		s.think = 100 * time.Millisecond
	}
	s.site = &site{t: t, dir: t.TempDir(), host: fmt.Sprintf("127.%d.%d.%d", 1+rand.IntN(250), rand.IntN(250), 1+rand.IntN(250))}
	certificate, key := issue(t, []string{"localhost"}, time.Now().Add(-time.Hour), time.Now().Add(24*time.Hour))
	s.write("localhost.pem", string(certificate))
	s.write("localhost.key", string(key))
	s.write("it.scenario.hcl", "behaviour \"*\" {\n  service = lognormal(\"5ms\", 0.5)\n  workers = 50\n}\n")
	still := rand.New(rand.NewPCG(1, 1)) // the configuration before and after
	s.write("site.hcl", s.configuration(still, false))

	// At first no backend is there, as at the end.
	complaints, err := os.Create(filepath.Join(s.dir, "stderr"))
	require.NoError(t, err)
	defer complaints.Close()
	s.proxy = s.command("serve", "site.hcl", "-seed", "7", "-journal", "it.journal", "-journal-size", "0B", "-grace", "5s", "-ready", "ready")
	s.proxy.Stderr = complaints
	require.NoError(t, s.proxy.Start())
	t.Cleanup(func() { stop(s.proxy) })
	s.eventually("it serves", func() bool { _, err := os.Stat(filepath.Join(s.dir, "ready")); return err == nil })
	s.tell = control.NewClient(config.Address{Host: s.host, Port: 9900}, false, nil)
	before := s.metrics()

	for _, name := range []string{"a", "b", "c"} {
		orders := filepath.Join(s.dir, "orders-"+name)
		w := &ward{orders: orders, args: []string{"standin", "site.hcl", "-scenario", "it.scenario.hcl", "-only", "app." + name, "-control", orders}}
		s.standIns = append(s.standIns, w)
		s.raise(w)
		t.Cleanup(func() { s.kill(w) })
	}
	ctx, end := context.WithTimeout(t.Context(), s.lasts)
	defer end()
	var clients sync.WaitGroup
	s.clients(ctx, &clients)
	memory := s.memory(ctx)
	s.change(ctx, rand.New(rand.NewPCG(7, 7)))
	clients.Wait()

	for _, w := range s.standIns {
		s.kill(w)
	}
	s.write("site.hcl", s.configuration(still, false))
	_, err = s.tell.Reload(t.Context())
	require.NoError(t, err)
	var stands status.Status
	s.eventually("nothing is in flight", func() bool {
		stands = s.status()
		open := 0
		for _, u := range stands.Upstreams {
			for _, b := range u.Backends {
				open += b.InFlight
			}
		}
		return open == 0
	})
	var after map[string]float64
	level := func(name string, more float64) bool { return after[name] <= before[name]+more }
	s.eventually("goroutines and descriptors are as before", func() bool {
		after = s.metrics()
		return level("go_goroutines", 3) && level("process_open_fds", 3)
	})
	if quarters := memory(); assert.NotEmpty(t, quarters) {
		assert.LessOrEqual(t, quarters[3], quarters[1]*1.25+2e6, "live memory in the second and the last quarter, of %v", quarters)
	}
	stop(s.proxy)
	assert.Equal(t, 0, s.proxy.ProcessState.ExitCode())
	said, err := os.ReadFile(complaints.Name())
	require.NoError(t, err)
	assert.NotContains(t, string(said), "DATA RACE")
	assert.NotContains(t, string(said), "panic")
	s.balance(&stands, after)
	out, err := s.command("why", "-journal", "it.journal", "-verify").CombinedOutput()
	assert.NoError(t, err, "%s", out)
	t.Logf("%s", out)
}

func (s *books) write(name, text string) {
	require.NoError(s.t, os.WriteFile(filepath.Join(s.dir, name), []byte(text), 0o600))
}

func (s *books) eventually(what string, is func() bool) {
	s.t.Helper()
	require.Eventually(s.t, is, time.Minute, 50*time.Millisecond, what)
}

// configuration is one of many that the proxy may be told to read. With probes its
// backends may be probed.
func (s *books) configuration(r *rand.Rand, probes bool) string {
	pick := func(all ...string) string { return all[r.IntN(len(all))] }
	probe := ""
	if probes {
		probe = pick("", "probe \"http\" {\n path = \"/ready\"\n every = \"100ms\"\n timeout = \"90ms\"\n}\n")
	}
	front := func(name, port, upstream, more string) string {
		return "frontend \"" + name + "\" {\n listen = \"HOST:" + port + "\"\n " + more + "\n route \"all\" {\n send_to = upstream." + upstream + "\n}\n}\n"
	}
	text := "control {\n listen = \"HOST:9900\"\n}\naccess_log {\n to = \"access.jsonl\"\n format = \"json\"\n}\n" +
		front("clear", "8080", "app", "clear_http2 = true\n limits {\n header_size = \""+pick("16KiB", "64KiB")+"\"\n}") +
		front("secure", "8443", "app", "tls {\n certificate = \"localhost.pem\"\n key = \"localhost.key\"\n}") +
		front("gate", "8081", "gate", "protocol = \"tcp\"") +
		"upstream \"app\" {\n algorithm = \"" + pick("round-robin", "least-connections", "two-choices", "random", "least-latency") + "\"\n" +
		"backends = {\n a = { address = \"HOST:9101\", max_in_flight = " + pick("20", "200") + " }\n b = \"HOST:9102\"\n c = \"HOST:9103\"\n}\n" +
		"timeouts {\n answer = \"2s\"\n idle = \"2s\"\n kept = \"2s\"\n}\n" + probe + pick("", "suspend {\n after = 3\n rest = \"100ms\"\n}\n") + pick("", "retry {\n}\n") +
		pick("", "queue {\n limit = 50\n timeout = \"200ms\"\n}\n") + pick("", "on_down = \"close\"\n") + "}\n" +
		"upstream \"gate\" {\n timeouts {\n kept = \"2s\"\n}\n backends = {\n a = \"HOST:9101\"\n b = \"HOST:9102\"\n c = \"HOST:9103\"\n}\n}\n"
	return strings.ReplaceAll(text, "HOST", s.host)
}

// raise starts the process of a stand-in that is killed.
func (s *books) raise(w *ward) {
	if w.process == nil {
		w.process = s.command(w.args...)
		require.NoError(s.t, w.process.Start())
	}
}

func (s *books) kill(w *ward) {
	if w.process != nil {
		_ = w.process.Process.Kill()
		_ = w.process.Wait()
		w.process, w.stopped = nil, false
	}
}

// change changes something at random, again and again until ctx ends.
func (s *books) change(ctx context.Context, chance *rand.Rand) {
	one := func(of ...string) string { return of[chance.IntN(len(of))] }
	did := map[string]int{}
	for ctx.Err() == nil {
		w := s.standIns[chance.IntN(len(s.standIns))]
		what := one("reload", "reload", "kill", "raise", "raise", "stop", "go on", "go on", "fail", "mend", "order", "order", "order")
		did[what]++
		switch what {
		case "reload":
			s.write("site.hcl.new", s.configuration(chance, true))
			require.NoError(s.t, os.Rename(filepath.Join(s.dir, "site.hcl.new"), filepath.Join(s.dir, "site.hcl")))
			require.NoError(s.t, s.proxy.Process.Signal(syscall.SIGHUP))
		case "kill":
			s.kill(w)
		case "raise":
			s.raise(w)
		case "stop", "go on":
			if w.process != nil {
				w.stopped = what == "stop"
				_ = w.process.Process.Signal(map[bool]os.Signal{true: syscall.SIGSTOP, false: syscall.SIGCONT}[w.stopped])
			}
		case "fail", "mend":
			if w.process != nil && !w.stopped {
				o := standin.Order{Backend: "*", Fault: standin.Fixed}
				if what == "fail" {
					o.Fault = standin.Faults[chance.IntN(len(standin.Faults))]
				}
				told, done := context.WithTimeout(ctx, time.Second)
				_, _ = standin.Tell(told, w.orders, o) // it may not take orders yet
				done()
			}
		case "order":
			o := status.Order{Backend: one("app", "gate") + "." + one("a", "b", "c"), Do: one("drain", "park", "return", "return", "close", "forget"), Insist: true}
			_, err := s.tell.Operate(ctx, o)
			if ctx.Err() == nil {
				require.NoError(s.t, err)
			}
		}
		time.Sleep(time.Duration(10+chance.IntN(60)) * time.Millisecond)
	}
	s.t.Logf("changes: %v", did)
}

// status is that of the proxy.
func (s *books) status() status.Status {
	x, err := s.tell.Status(s.t.Context())
	require.NoError(s.t, err)
	return *x
}

// metrics returns the sums of the proxy's metrics by name, and by name and outcome.
func (s *books) metrics() map[string]float64 {
	res, err := http.Get("http://" + s.host + ":9900/metrics")
	require.NoError(s.t, err)
	defer res.Body.Close()
	sums := map[string]float64{}
	for lines := bufio.NewScanner(res.Body); lines.Scan(); {
		name, value, _ := strings.Cut(lines.Text(), " ")
		n, err := strconv.ParseFloat(value, 64)
		if err != nil || strings.HasPrefix(name, "#") {
			continue
		}
		bare, labels, _ := strings.Cut(name, "{")
		sums[bare] += n
		if _, outcome, ok := strings.Cut(labels, "outcome=\""); ok {
			sums[bare+" "+strings.TrimSuffix(outcome, "\"}")] += n
		}
	}
	return sums
}

// memory looks every second at the live memory of the proxy, and returns its mean in each
// quarter of the time, in bytes; none before there are 40 looks.
func (s *books) memory(ctx context.Context) func() []float64 {
	looks, over := make([]float64, 0, 4000), make(chan struct{})
	go func() {
		defer close(over)
		for every := time.NewTicker(s.lasts/200 + time.Millisecond); ctx.Err() == nil; {
			select {
			case <-every.C:
				looks = append(looks, s.metrics()["go_gc_heap_live_bytes"])
			case <-ctx.Done():
			}
		}
	}()
	return func() []float64 {
		<-over
		quarters := make([]float64, 4)
		for i, x := range looks {
			quarters[i*4/len(looks)] += x
		}
		for i := range quarters {
			quarters[i] /= float64(len(looks)) / 4
		}
		s.t.Logf("live memory by quarters: %.0f", quarters)
		return quarters
	}
}

// clients begins clients of all kinds, until ctx ends.
func (s *books) clients(ctx context.Context, wg *sync.WaitGroup) {
	behaved := func(c *http.Client, base string) {
		defer c.CloseIdleConnections()
		for ctx.Err() == nil {
			n := s.number.Add(1)
			path := fmt.Sprintf("/%s?id=%d", []string{"small", "body/200000", "answer/503"}[rand.IntN(3)], n)
			res, err := c.Post(base+path, "text/plain", strings.NewReader(strings.Repeat("x", rand.IntN(3000))))
			code := 0
			if err == nil {
				_, err = io.Copy(io.Discard, res.Body)
				res.Body.Close()
				code = res.StatusCode
			}
			s.mu.Lock()
			s.sent[n] = true
			if err == nil {
				s.whole[n] = code
			}
			s.mu.Unlock()
			time.Sleep(rand.N(s.think + 1))
		}
	}
	clear, secure := s.host+":8080", s.host+":8443"
	prior := new(http.Protocols)
	prior.SetUnencryptedHTTP2(true)
	for i := range 4 {
		wg.Go(func() { behaved(&http.Client{Transport: &http.Transport{}}, "http://"+clear) })
		wg.Go(func() { behaved(&http.Client{Transport: &http.Transport{Protocols: prior}}, "http://"+clear) })
		wg.Go(func() {
			behaved(&http.Client{Transport: &http.Transport{TLSClientConfig: &tls.Config{InsecureSkipVerify: true}, ForceAttemptHTTP2: i%2 == 0}}, "https://"+secure)
		})
	}
	raw := func(at, say string, then func(c net.Conn)) {
		for ctx.Err() == nil {
			c, err := net.Dial("tcp", at)
			if err != nil {
				continue
			}
			_ = c.SetDeadline(time.Now().Add(5 * time.Second))
			_, _ = fmt.Fprintf(c, say, s.number.Add(1))
			then(c)
			c.Close()
			time.Sleep(rand.N(s.think + 1))
		}
	}
	pause := func() { time.Sleep(time.Duration(rand.IntN(30)) * time.Millisecond) }
	get := func(path, more string) string {
		return "GET /" + path + "?id=%d HTTP/1.1\r\nHost: a\r\n" + more + "\r\n"
	}
	wg.Go(func() { raw(clear, get("gone", ""), func(net.Conn) { pause() }) })
	wg.Go(func() {
		raw(clear, "POST /half?id=%d HTTP/1.1\r\nHost: a\r\nContent-Length: 100\r\n\r\nhalf", func(net.Conn) { pause() })
	})
	wg.Go(func() {
		raw(clear, get("body/200000", ""), func(c net.Conn) {
			for range 5 { // slowly, and not all
				_, _ = io.CopyN(io.Discard, c, 10_000)
				pause()
			}
		})
	})
	wg.Go(func() {
		raw(clear, get("events", ""), func(c net.Conn) { _, _ = io.CopyN(io.Discard, c, 100); pause() })
	})
	wg.Go(func() {
		raw(clear, get("websocket", "Connection: Upgrade\r\nUpgrade: websocket\r\nSec-WebSocket-Version: 13\r\nSec-WebSocket-Key: dGhlIHNhbXBsZSBub25jZQ==\r\n"), func(c net.Conn) {
			_, _ = c.Write([]byte{0x81, 0x82, 0, 0, 0, 0, 'h', 'i'}) // a text frame, masked with nothing (RFC 6455, section 5.2)
			_, _ = io.CopyN(io.Discard, c, 140)
			pause()
		})
	})
	wg.Go(func() {
		raw(clear, get("small", ""), func(c net.Conn) { // it leaves at once, with a reset
			pause()
			_ = c.(*net.TCPConn).SetLinger(0)
		})
	})
	wg.Go(func() { raw(clear, "nonsense %d\r\n\r\n", func(c net.Conn) { _, _ = io.Copy(io.Discard, c); pause() }) })
	wg.Go(func() {
		raw(s.host+":8081", "echo %d\r\n", func(c net.Conn) {
			if text, _ := bufio.NewReader(c).ReadString('\n'); strings.HasPrefix(text, "echo ") {
				s.mu.Lock()
				s.gates++
				s.mu.Unlock()
			}
			pause()
		})
	})
}

// balance holds what clients saw, the access lines, the status and the metrics to each
// other.
func (s *books) balance(stands *status.Status, metrics map[string]float64) {
	f, err := os.Open(filepath.Join(s.dir, "access.jsonl"))
	require.NoError(s.t, err)
	defer f.Close()
	var lines, attempts, gates int
	outcomes := map[string]status.Frontend{}
	routes := map[string]map[string]*status.Route{}
	refused := map[status.Refused]uint64{}
	codes := map[int64][]int{}
	for in := bufio.NewScanner(f); in.Scan(); lines++ {
		var l struct {
			Path, Frontend, Route, Upstream, Cause string
			Status, Attempts                       int
		}
		require.NoError(s.t, json.Unmarshal(in.Bytes(), &l), "%s", in.Text())
		o := outcomes[l.Frontend]
		o.Name = l.Frontend
		if routes[l.Frontend] == nil {
			routes[l.Frontend] = map[string]*status.Route{}
		}
		r := routes[l.Frontend][l.Route]
		if r == nil {
			r = &status.Route{Name: l.Route, Errors: map[string]uint64{}}
			routes[l.Frontend][l.Route] = r
		}
		if l.Status > 0 {
			r.Statuses[l.Status/100-1]++
		}
		switch l.Cause {
		case "":
			o.Answered++
			r.Answered++
		case "client_left":
			o.ClientLeft++
			r.ClientLeft++
		default:
			o.Failed++
			r.Failed++
			r.Errors[l.Cause]++
		}
		outcomes[l.Frontend] = o
		if attempts += l.Attempts; l.Upstream == "" && l.Cause != "" {
			refused[status.Refused{Frontend: l.Frontend, Cause: l.Cause}]++
		}
		if l.Frontend == "gate" {
			gates++
		}
		if at, err := url.ParseRequestURI(l.Path); err == nil && at.Query().Has("id") {
			n, err := strconv.ParseInt(at.Query().Get("id"), 10, 64)
			require.NoError(s.t, err)
			codes[n] = append(codes[n], l.Status)
		}
	}
	require.NotEmpty(s.t, s.whole)
	odd := 0
	wrong := func(form string, args ...any) {
		if odd++; odd <= 10 {
			s.t.Errorf(form, args...)
		}
	}
	for n := range s.sent {
		if code, whole := s.whole[n]; len(codes[n]) != 1 || whole && codes[n][0] != code {
			wrong("request %d: its client saw %d (whole: %v), the access lines %d", n, code, whole, codes[n])
		}
	}
	for n, c := range codes {
		if len(c) != 1 || n > s.number.Load() {
			wrong("request %d has the lines %d", n, c)
		}
	}
	assert.GreaterOrEqual(s.t, gates, s.gates, "connections of tcp")
	var ended uint64
	for _, x := range stands.Frontends {
		for _, r := range x.Routes {
			r.Elapsed = status.Elapsed{}
			if want := routes[x.Name][r.Name]; assert.NotNil(s.t, want, "%s/%s", x.Name, r.Name) {
				assert.Equal(s.t, *want, r, "%s/%s", x.Name, r.Name)
			}
		}
		assert.Len(s.t, x.Routes, len(routes[x.Name]))
		x.Routes = nil
		assert.Equal(s.t, outcomes[x.Name], x)
		ended += x.Answered + x.Failed + x.ClientLeft
	}
	assert.EqualValues(s.t, lines, ended, "access lines, and answered, failed and client_left of the status")
	assert.EqualValues(s.t, lines, metrics["kestrix_frontend_requests_total"], "and of the metrics")
	assert.EqualValues(s.t, lines, metrics["kestrix_route_requests_total"], "by route")
	sum := 0.0
	for _, outcome := range []string{"answered", "failed", "client_left"} {
		sum += metrics["kestrix_frontend_requests_total "+outcome]
	}
	assert.EqualValues(s.t, lines, sum)
	for _, r := range stands.Refused {
		assert.Equal(s.t, refused[status.Refused{Frontend: r.Frontend, Cause: r.Cause}], r.Requests, "%+v", r)
	}
	assert.EqualValues(s.t, attempts, metrics["kestrix_backend_requests_total"], "attempts")
	assert.Zero(s.t, stands.LostLines)
	s.t.Logf("%d lines %v, %d requests with %d whole answers, %d attempts, reloads %+v", lines, outcomes, len(s.sent), len(s.whole), attempts, stands.Reloads)
}
