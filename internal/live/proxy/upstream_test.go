package proxy

import (
	"context"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/netip"
	"strings"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kestrix/internal/core/status"
	"kestrix/internal/live/names"
)

func TestTheQueueLetsRequestsWait(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		w := newWorld(t, in("timeouts {\n half_closed = \"0s\"\n}", front)+"upstream \"app\" {\n backends = { a = { address = \"192.0.2.1:80\", max_in_flight = 1 } }\n queue {\n limit = 3\n timeout = \"2500ms\"\n }\n}\n")
		defer w.close()
		w.start("192.0.2.1:80", func(out http.ResponseWriter, r *http.Request) { time.Sleep(time.Second) })
		var wg sync.WaitGroup
		var mu sync.Mutex
		var got []string
		began := time.Now()
		for i := range 6 {
			wg.Go(func() {
				time.Sleep(time.Duration(i) * time.Millisecond)
				if i == 2 { // a client that loses patience leaves its place
					impatient := &http.Client{Transport: w.client.Transport, Timeout: 100 * time.Millisecond}
					_, err := impatient.Get(base + "/")
					assert.Error(t, err)
					return
				}
				if i == 5 {
					time.Sleep(200 * time.Millisecond) // after that
				}
				status, _ := w.get(base + "/")
				mu.Lock()
				defer mu.Unlock()
				got = append(got, fmt.Sprintf("%d: %d after %s", i, status, time.Since(began).Round(100*time.Millisecond)))
			})
		}
		wg.Wait()
		assert.ElementsMatch(t, []string{
			"0: 200 after 1s", "1: 200 after 2s", "3: 200 after 3s", "4: 503 after 0s", "5: 503 after 2.7s",
		}, got, "4 finds the queue full, 5 waits too long")
		synctest.Wait()
		causes := map[string]int{}
		for _, a := range w.log() {
			causes[a.Cause.String()]++
		}
		assert.Equal(t, map[string]int{"": 3, "queue_full": 1, "queue_timeout": 1, "client_left": 1}, causes)
	})
}

func TestSeatsWithoutACookieOfOurs(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		w := newWorld(t, app("sticky {\n by = \"existing-cookie\"\n name = \"app\"\n}"))
		defer w.close()
		for _, a := range addresses() {
			w.start(a, func(out http.ResponseWriter, r *http.Request) {
				if r.URL.Path == "/login" {
					http.SetCookie(out, &http.Cookie{Name: "app", Value: "s" + a})
				}
				_, _ = io.WriteString(out, a)
			})
		}
		with := func(name, value string) string {
			req, _ := http.NewRequest("GET", base+"/", nil)
			req.Header.Set(name, value)
			res, err := w.client.Do(req)
			require.NoError(t, err)
			defer res.Body.Close()
			b, _ := io.ReadAll(res.Body)
			return string(b)
		}
		for range 3 {
			_, at := w.get(base + "/login")
			for range 4 {
				assert.Equal(t, at, with("Cookie", "app=s"+at), "where the application gave the cookie")
			}
		}
		seen := map[string]bool{}
		for range 3 {
			_, at := w.get(base + "/")
			seen[at] = true
		}
		assert.Len(t, seen, 3, "who brings none is not held anywhere")

		require.NoError(t, w.proxy.Apply(parse(t, app("sticky {\n by = \"header\"\n name = \"X-Till\"\n}"))))
		first := map[string]string{}
		for i := range 30 {
			till := fmt.Sprint(i % 5)
			at := with("X-Till", till)
			if i < 5 {
				first[till] = at
			}
			assert.Equal(t, first[till], at)
		}
	})
}

func TestABackendReportsOnItself(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		w := newWorld(t, front+"upstream \"app\" {\n backends = { a = \"192.0.2.1:80\", b = \"192.0.2.2:80\" }\n probe \"self-report\" {\n port = 9100\n every = \"1s\"\n timeout = \"500ms\"\n down_after = 1\n }\n}\n")
		defer w.close()
		w.start("192.0.2.1:80", nil)
		w.start("192.0.2.2:80", nil)
		var mu sync.Mutex
		line := "state=up\n"
		say := func(s string) {
			mu.Lock()
			defer mu.Unlock()
			line = s
		}
		for _, a := range []string{"192.0.2.1:9100", "192.0.2.2:9100"} {
			l, err := w.net.listen("tcp", a)
			require.NoError(t, err)
			defer l.Close()
			go func() {
				for {
					c, err := l.Accept()
					if err != nil {
						return
					}
					mu.Lock()
					text := line
					mu.Unlock()
					if strings.HasPrefix(a, "192.0.2.2") {
						text = "state=up share=100\n"
					}
					_, _ = io.WriteString(c, text)
					if text != "" {
						c.Close()
					}
				}
			}()
		}
		for _, s := range []struct{ line, state, text string }{
			{"state=draining share=0\n", "draining", "it says so itself: draining"},
			{"state=up", "up", "it says so itself: up"}, // the end of the connection ends the line
			{"state=down\n", "down", "it says that it is down"},
			{"state=up\n", "recovering", "a probe passed"},
			{"", "down", "no answer within 500 ms"},
		} {
			say(s.line)
			time.Sleep(1600 * time.Millisecond)
			synctest.Wait()
			news := w.news("app.a")
			require.NotEmpty(t, news)
			found := false
			for _, n := range news {
				found = found || string(n.Kind) == s.state && strings.Contains(n.Text, s.text)
			}
			assert.True(t, found, "%q: %v", s.line, news)
		}
		say("state=up share=40\n")
		time.Sleep(5 * time.Second)
		b := w.proxy.Status().Upstreams[0].Backends
		require.NotNil(t, b[0].ReportedShare)
		assert.Equal(t, []any{0.4, (*float64)(nil)}, []any{*b[0].ReportedShare, b[1].ReportedShare})
		say("state=up\n")
		time.Sleep(2 * time.Second) // no probe may be under way at the end
	})
}

func TestEachAddressOfANameIsABackend(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		var mu sync.Mutex
		answer, fails := []string{"192.0.2.1", "192.0.2.2"}, false
		w := newWorldWith(t, "", func(o *Options) {
			o.Names = names.Func(func(_ context.Context, host string) ([]netip.Addr, error) {
				mu.Lock()
				defer mu.Unlock()
				if fails || host != "birds.example" {
					return nil, &net.DNSError{Err: "no such host", Name: host, IsNotFound: true}
				}
				var out []netip.Addr
				for _, a := range answer {
					out = append(out, netip.MustParseAddr(a))
				}
				return out, nil
			})
		})
		defer w.close()
		for _, a := range addresses() {
			w.start(a, nil)
		}
		text := front + "upstream \"app\" {\n resolve = \"each\"\n resolve_every = \"10s\"\n backends = { b = \"birds.example:80\", gone = \"gone.example:80\" }\n}\n"
		require.NoError(t, w.proxy.Apply(parse(t, text)), "a name that does not resolve stops nobody")
		counts := func() map[string]int {
			out := map[string]int{}
			for range 12 {
				status, body := w.get(base + "/")
				require.Equal(t, 200, status)
				out[body]++
			}
			return out
		}
		assert.Equal(t, map[string]int{"192.0.2.1:80": 6, "192.0.2.2:80": 6}, counts())
		mu.Lock()
		answer = []string{"192.0.2.3", "192.0.2.2", "::ffff:192.0.2.2"}
		mu.Unlock()
		time.Sleep(11 * time.Second)
		assert.Equal(t, map[string]int{"192.0.2.2:80": 6, "192.0.2.3:80": 6}, counts(), "one has left, one has joined")
		mu.Lock()
		fails = true
		mu.Unlock()
		time.Sleep(time.Minute)
		assert.Len(t, counts(), 2, "what was known stays while the name server is away")
		synctest.Wait()
		told := 0
		for _, n := range w.news("app") {
			if n.Kind == status.EventUnresolved {
				told++
			}
		}
		assert.Equal(t, 2, told, "once for each name")
		assert.Equal(t, "b-192.0.2.1", w.log()[0].Backend[:11])
		require.NoError(t, w.proxy.Apply(parse(t, strings.Replace(text, "\"each\"", "\"once\"", 1))))
		status, _ := w.get(base + "/")
		assert.Equal(t, 502, status, "as one backend, which nobody in this network is")
	})
}

// zone is a resolver whose answers and their time to live a test changes.
type zone struct {
	mu       sync.Mutex
	hosts    map[string][]string
	services map[string][]names.Service
	ttl      time.Duration
	asked    int
}

func (z *zone) Addresses(_ context.Context, host string) (names.Addresses, error) {
	z.mu.Lock()
	defer z.mu.Unlock()
	z.asked++
	out := names.Addresses{TTL: z.ttl}
	for _, a := range z.hosts[host] {
		out.All = append(out.All, netip.MustParseAddr(a))
	}
	return out, nil
}

func (z *zone) Services(_ context.Context, name string) (names.Services, error) {
	z.mu.Lock()
	defer z.mu.Unlock()
	return names.Services{All: z.services[name], TTL: z.ttl}, nil
}

func (z *zone) set(ttl time.Duration, host string, addresses ...string) {
	z.mu.Lock()
	defer z.mu.Unlock()
	z.ttl, z.hosts[host] = ttl, addresses
}

// TestNamesAreFollowedForTheirTime: the time to live counts within its bounds, and a backend
// that cannot be connected to is looked up again.
func TestNamesAreFollowedForTheirTime(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		z := &zone{hosts: map[string][]string{"birds.example": {"192.0.2.1"}}, ttl: 4 * time.Second}
		w := newWorldWith(t, "", func(o *Options) { o.Names = z })
		defer w.close()
		for _, a := range addresses() {
			w.start(a, nil)
		}
		require.NoError(t, w.proxy.Apply(parse(t, front+"upstream \"app\" {\n resolve = \"each\"\n resolve_every = \"20s\"\n resolve_floor = \"2s\"\n backends = { b = \"birds.example:80\" }\n}\n")))
		stands := func() (out []string) {
			for _, b := range w.proxy.Status().Upstreams[0].Backends {
				out = append(out, strings.TrimPrefix(b.Name, "b-192.0.2."))
			}
			return out
		}
		for _, x := range []struct {
			ttl, early, late time.Duration // of the answer that is there now, and when the next is not and is known
		}{
			{4 * time.Second, 3 * time.Second, 2 * time.Second},
			{time.Nanosecond, time.Second, 2 * time.Second}, // not more often than the floor
			{time.Hour, 19 * time.Second, 2 * time.Second},  // not more seldom than resolve_every
			{0, 18 * time.Second, 3 * time.Second},          // of the hosts file
		} {
			z.set(x.ttl, "birds.example", "192.0.2.1")
			time.Sleep(21 * time.Second) // it is known for sure
			synctest.Wait()
			require.Equal(t, []string{"1"}, stands())
			z.mu.Lock()
			before := z.asked
			z.mu.Unlock()
			for { // from the moment of a lookup on
				time.Sleep(10 * time.Millisecond)
				z.mu.Lock()
				now := z.asked
				z.mu.Unlock()
				if now != before {
					break
				}
			}
			z.set(x.ttl, "birds.example", "192.0.2.2", "192.0.2.3")
			time.Sleep(x.early)
			synctest.Wait()
			assert.Equal(t, []string{"1"}, stands(), "%v", x)
			time.Sleep(x.late)
			synctest.Wait()
			assert.Equal(t, []string{"2", "3"}, stands(), "%v", x)
		}
		found := false
		for _, n := range w.news("app") {
			found = found || n.Kind == status.EventResolved && n.Text == "2 backends were 1; joined: b-192.0.2.2, b-192.0.2.3; left: b-192.0.2.1"
		}
		assert.True(t, found, "%v", w.news("app"))

		z.set(time.Hour, "birds.example", "192.0.2.9") // where nobody is
		time.Sleep(21 * time.Second)
		z.set(time.Hour, "birds.example", "192.0.2.1")
		time.Sleep(3 * time.Second)
		status, _ := w.get(base + "/")
		assert.Equal(t, 502, status)
		synctest.Wait()
		assert.Equal(t, []string{"1"}, stands(), "it has been looked up at once")
	})
}

// TestAFailedProbeLooksNamesUp: a backend that is out gets no requests that could fail.
func TestAFailedProbeLooksNamesUp(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		z := &zone{hosts: map[string][]string{"birds.example": {"192.0.2.1"}}, ttl: time.Hour}
		w := newWorldWith(t, "", func(o *Options) { o.Names = z })
		defer w.close()
		for _, a := range addresses() {
			w.start(a, nil)
		}
		require.NoError(t, w.proxy.Apply(parse(t, front+"upstream \"app\" {\n resolve = \"each\"\n resolve_every = \"1h\"\n backends = { b = \"birds.example:80\" }\n probe \"tcp\" {\n every = \"1s\"\n }\n}\n")))
		time.Sleep(time.Minute)
		z.set(time.Hour, "birds.example", "192.0.2.2")
		time.Sleep(time.Minute)
		assert.Equal(t, "b-192.0.2.1", w.proxy.Status().Upstreams[0].Backends[0].Name, "for an hour, as long as it works")
		w.kill("192.0.2.1:80")
		time.Sleep(10 * time.Second)
		assert.Equal(t, "b-192.0.2.2", w.proxy.Status().Upstreams[0].Backends[0].Name)
		time.Sleep(500 * time.Millisecond) // no probe may be under way at the end
	})
}

// TestServersOfAServiceAreBackends with their ports, weights, and priorities as tiers.
func TestServersOfAServiceAreBackends(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		z := &zone{hosts: map[string][]string{"auk.example": {"192.0.2.1"}, "knot.example": {"192.0.2.2"}, "skua.example": {"192.0.2.3"}}, services: map[string][]names.Service{
			"_http._tcp.birds.example": {{Host: "auk.example", Port: 80, Priority: 5, Weight: 300}, {Host: "knot.example", Port: 80, Priority: 5, Weight: 100}, {Host: "skua.example", Port: 80, Priority: 9}},
		}}
		w := newWorldWith(t, "", func(o *Options) { o.Names = z })
		defer w.close()
		for _, a := range addresses() {
			w.start(a, nil)
		}
		require.NoError(t, w.proxy.Apply(parse(t, front+"upstream \"app\" {\n resolve = \"each\"\n backends = { b = \"srv:_http._tcp.birds.example\" }\n failover {\n }\n}\n")))
		got := map[string]int{}
		for range 40 {
			_, body := w.get(base + "/")
			got[body]++
		}
		assert.Equal(t, 40, got["192.0.2.1:80"]+got["192.0.2.2:80"], "the other priority waits: %v", got)
		assert.InDelta(t, 30, got["192.0.2.1:80"], 2)
		var all []string
		for _, b := range w.proxy.Status().Upstreams[0].Backends {
			all = append(all, fmt.Sprintf("%s %s %d %d", b.Name, b.Address, b.Weight, b.Tier))
		}
		assert.Equal(t, []string{"b-192.0.2.1-80 192.0.2.1:80 100 1", "b-192.0.2.2-80 192.0.2.2:80 33 1", "b-192.0.2.3-80 192.0.2.3:80 1 2"}, all)
		z.set(0, "knot.example") // its name has gone: nothing is known of it
		time.Sleep(time.Minute)
		assert.Len(t, w.proxy.Status().Upstreams[0].Backends, 3)
	})
}

// TestConnectionsGrowOld: a name that has moved is followed under steady traffic.
func TestConnectionsGrowOld(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		for _, x := range []struct {
			version, age string
			want         int
		}{{"1.1", "0s", 1}, {"1.1", "3s", 4}, {"2", "0s", 1}, {"2", "3s", 4}} {
			w := newWorld(t, front+"upstream \"app\" {\n http_version = \""+x.version+"\"\n backends = { a = \"192.0.2.1:80\" }\n timeouts {\n connection_age = \""+x.age+"\"\n }\n}\n")
			var mu sync.Mutex
			from := map[string]bool{}
			w.start("192.0.2.1:80", func(out http.ResponseWriter, r *http.Request) {
				mu.Lock()
				defer mu.Unlock()
				from[r.RemoteAddr] = true
			})
			for range 20 {
				w.get(base + "/")
				time.Sleep(500 * time.Millisecond)
			}
			mu.Lock()
			assert.Len(t, from, x.want, x)
			mu.Unlock()
			w.close()
		}
	})
}

// Requests that fail together use the budget up between them; each is answered
// by a backend all the same.
func TestABudgetThatOthersUseUp(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		w := newWorld(t, app("retry {\n attempts = 3\n budget = \"1%\"\n}"))
		defer w.close()
		for _, a := range addresses() {
			w.start(a, func(out http.ResponseWriter, r *http.Request) {
				time.Sleep(10 * time.Millisecond)
				http.Error(out, "tide too low", http.StatusServiceUnavailable)
			})
		}
		var wg sync.WaitGroup
		for range 100 {
			wg.Go(func() {
				status, body := w.get(base + "/")
				assert.Equal(t, 503, status)
				assert.Contains(t, body, "tide too low", "as the backend said it")
			})
		}
		wg.Wait()
		synctest.Wait()
		attempts := 0
		for _, a := range w.log() {
			attempts += a.Attempts
		}
		assert.InDelta(t, 110, attempts, 1, "ten at once are repeated")
	})
}

// TestBackendsAreConnectedToFromAnAddress, over real sockets: requests and probes, and again
// from another one after a reload.
func TestBackendsAreConnectedToFromAnAddress(t *testing.T) {
	back, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	var probed sync.Map
	server := &http.Server{Handler: http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		from, _, _ := net.SplitHostPort(r.RemoteAddr)
		if r.URL.Path == "/ready" {
			probed.Store(from, true)
		}
		_, _ = io.WriteString(w, from)
	})}
	go func() { _ = server.Serve(back) }()
	defer server.Close()
	free, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	at := free.Addr().String()
	free.Close()
	p := New(Options{Seed: 7, Grace: 5 * time.Second})
	for _, from := range []string{"", "127.0.0.5", "127.0.0.6", ""} {
		key, want := "", "127.0.0.1"
		if from != "" {
			key, want = "connect_from = \""+from+"\"\n", from
		}
		text := strings.Replace(front, "127.0.0.1:8080", at, 1) + "upstream \"app\" {\n backends = { a = \"" + back.Addr().String() + "\" }\n " + key + "probe \"http\" {\n path = \"/ready\"\n every = \"50ms\"\n timeout = \"40ms\"\n}\n}\n"
		require.NoError(t, p.Apply(parse(t, text)))
		<-p.Ready()
		res, err := http.Get("http://" + at + "/")
		require.NoError(t, err)
		body, _ := io.ReadAll(res.Body)
		res.Body.Close()
		assert.Equal(t, want, string(body))
		require.Eventually(t, func() bool { _, ok := probed.Load(want); return ok }, 10*time.Second, 10*time.Millisecond)
	}
	text := strings.Replace(front, "127.0.0.1:8080", at, 1) + strings.Replace(one, "backends", "connect_from = \"192.0.2.5\"\n backends", 1)
	assert.ErrorContains(t, p.Apply(parse(t, text)), "192.0.2.5 cannot be connected from, as connect_from of \"app\" has it: this machine does not have that address")
	require.NoError(t, p.Stop())
}
