package proxy

import (
	"context"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/netip"
	"slices"
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

// TestMetricsHaveTheirValues: each number is that of what happened.
func TestMetricsHaveTheirValues(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		w := newWorld(t, "control {\n listen = \"127.0.0.1:9900\"\n}\n"+front+"upstream \"app\" {\n backends = { a = { address = \"192.0.2.1:80\", max_in_flight = 2, weight = 3 } }\n queue {\n limit = 1\n timeout = \"30s\"\n }\n sticky {\n by = \"cookie\"\n }\n}\n")
		defer w.close()
		w.start(here, func(out http.ResponseWriter, r *http.Request) {
			switch r.URL.Path {
			case "/wait":
				time.Sleep(10 * time.Second)
			case "/301", "/404", "/503":
				code := 0
				_, _ = fmt.Sscanf(r.URL.Path, "/%d", &code)
				if code == 404 {
					time.Sleep(3 * time.Millisecond)
				}
				out.WriteHeader(code)
			}
			_, _ = io.WriteString(out, "12345")
		})
		w.client.CheckRedirect = func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }
		for _, path := range []string{"/", "/", "/301", "/404", "/503", "/a%zz", "/nothing%"} {
			w.get(base + path)
		}
		left, cancel := context.WithCancel(t.Context())
		var wg sync.WaitGroup
		for _, ctx := range []context.Context{left, t.Context(), t.Context(), t.Context()} {
			wg.Go(func() {
				r, err := http.NewRequestWithContext(ctx, "GET", base+"/wait", nil)
				assert.NoError(t, err)
				res, err := w.client.Do(r)
				if err == nil {
					res.Body.Close()
				}
			})
			time.Sleep(time.Millisecond)
		}
		cancel()
		time.Sleep(3 * time.Second) // half_closed is over: the third waits in the queue no more; the fourth was refused
		_, text := w.get("http://127.0.0.1:9900/metrics")
		value := func(name string) string {
			for line := range strings.SplitSeq(text, "\n") {
				if rest, ok := strings.CutPrefix(line, "kestrix_"+name+" "); ok {
					return rest
				}
			}
			return "none"
		}
		for name, want := range map[string]string{
			`backend_weight{backend="a",upstream="app"}`: "3", `backend_in_rotation{backend="a",upstream="app"}`: "1", `backend_in_flight_requests{backend="a",upstream="app"}`: "2",
			`backend_requests_total{backend="a",upstream="app"}`: "6", `backend_failed_requests_total{backend="a",upstream="app"}`: "1", `backend_client_left_total{backend="a",upstream="app"}`: "1",
			`backend_responses_total{backend="a",status="2xx",upstream="app"}`: "2", `backend_responses_total{backend="a",status="3xx",upstream="app"}`: "1",
			`backend_responses_total{backend="a",status="4xx",upstream="app"}`: "1", `backend_responses_total{backend="a",status="5xx",upstream="app"}`: "1",
			`backend_response_bytes_total{backend="a",upstream="app"}`: "25", `backend_seats_total{backend="a",upstream="app"}`: "8",
			`upstream_waiting_requests{upstream="app"}`: "0", `upstream_queued_requests_total{upstream="app"}`: "1", `upstream_retries_total{upstream="app"}`: "0", `upstream_retry_budget{upstream="app"}`: "none", `upstream_refused_requests_total{upstream="app"}`: "1",
			`route_requests_total{frontend="web",route="all",status="2xx"}`: "2", `route_requests_total{frontend="web",route="all",status="3xx"}`: "1", `route_requests_total{frontend="web",route="all",status="4xx"}`: "1",
			`route_requests_total{frontend="web",route="all",status="5xx"}`: "2", `route_requests_total{frontend="web",route="all",status="none"}`: "1", `route_client_left_total{frontend="web",route="all"}`: "1",
			`route_failed_requests_total{cause="status_5xx",frontend="web",route="all"}`: "1", `route_failed_requests_total{cause="queue_full",frontend="web",route="all"}`: "1",
			`route_redirected_requests_total{frontend="web",route="all"}`: "0", `route_elapsed_seconds_count{frontend="web",route="all"}`: "7",
			`route_first_byte_seconds_bucket{frontend="web",route="all",le="0.0025"}`: "4", `route_first_byte_seconds_bucket{frontend="web",route="all",le="0.005"}`: "5",
			`listener_accepted_connections_total{address="127.0.0.1:8080",frontend="web"}`: "4", `listener_connections{address="127.0.0.1:8080",frontend="web"}`: "2",
		} {
			assert.Equal(t, want, value(name), "%s\n%s", name, text)
		}
		wg.Wait()
	})
}

// TestOnlyNamesAreLookedUp, each once.
func TestOnlyNamesAreLookedUp(t *testing.T) {
	var mu sync.Mutex
	var asked []string
	synctest.Test(t, func(t *testing.T) {
		w := newWorldWith(t, front+"upstream \"app\" {\n resolve = \"each\"\n backends = {\n a = \"quay.tern.example:80\"\n b = \"quay.tern.example:81\"\n c = \"192.0.2.3:80\"\n d = \"unix:/run/app.sock\"\n e = \"[2001:db8::1]:80\"\n }\n}\n", func(o *Options) {
			o.Names = names.Func(func(_ context.Context, host string) ([]netip.Addr, error) {
				mu.Lock()
				defer mu.Unlock()
				asked = append(asked, host)
				return []netip.Addr{netip.MustParseAddr("192.0.2.9")}, nil
			})
		})
		w.close()
	})
	mu.Lock()
	defer mu.Unlock()
	assert.NotEmpty(t, asked)
	assert.Equal(t, []string{"quay.tern.example"}, slices.Compact(asked))
}

// TestRefusedConnectionsAreCounted by frontend and cause, and certificates are told of.
func TestRefusedConnectionsAreCounted(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		has := files(t, "tickets.tern.example")
		front := func(name, port, more string) string {
			return "frontend \"" + name + "\" {\n listen = \"127.0.0.1:" + port + "\"\n " + more + "\n route \"all\" {\n send_to = upstream.app\n}\n}\n"
		}
		text := front("plain", "8083", "") + front("few", "8080", "limits {\n connections = 1\n}") + front("named", "8081", "proxy_protocol = true") + front("secure", "8082", "tls {\n certificate = \"tickets.tern.example.pem\"\n key = \"tickets.tern.example.key\"\n}") +
			"limits {\n connections_total = 2\n}\n" + one
		w := withFiles(t, has, text)
		defer w.close()
		open := func(port, say string) net.Conn {
			c, err := w.net.dial(t.Context(), "tcp", "127.0.0.1:"+port)
			require.NoError(t, err)
			_, _ = io.WriteString(c, say)
			time.Sleep(time.Second)
			return c
		}
		first := open("8080", "")
		open("8080", "").Close()
		open("8081", "GET / HTTP/1.1\r\n\r\n").Close()
		for range 2 {
			open("8082", "this is no TLS at all").Close()
		}
		second := open("8080", "")
		third := open("8083", "") // more than there may be in all
		fourth := open("8083", "")
		s := w.proxy.Status()
		assert.Equal(t, []status.RefusedConnections{
			{Frontend: "few", Cause: "connections", Connections: 2}, {Frontend: "named", Cause: "proxy_protocol", Connections: 1}, {Frontend: "plain", Cause: "connections_total", Connections: 1}, {Frontend: "secure", Cause: "tls_failed", Connections: 2},
		}, s.Connections)
		require.Len(t, s.Certificates, 1)
		assert.Equal(t, "tickets.tern.example.pem", s.Certificates[0].File)
		assert.True(t, s.Certificates[0].Until.After(time.Now()))
		for _, c := range []net.Conn{first, second, third, fourth} {
			c.Close()
		}
		w.proxy.Zero()
		assert.Empty(t, w.proxy.Status().Connections)
		time.Sleep(time.Minute)
	})
}

// TestTheRateIsOfTheSecondsThatWere counts the present second, and no time before the
// proxy began.
func TestTheRateIsOfTheSecondsThatWere(t *testing.T) {
	bubble(t, front+one, func(w *world) {
		w.start(here, nil)
		for range 20 {
			w.get(base + "/")
		}
		synctest.Wait()
		at := 0.0
		for _, c := range []struct{ at, rate float64 }{{0.3, 20}, {1.5, 20 / 1.5}, {9.5, 20 / 9.5}, {10.5, 0}} {
			time.Sleep(time.Duration((c.at - at) * 1e9))
			at = c.at
			assert.InDelta(t, c.rate, w.proxy.Status().Upstreams[0].Backends[0].Rate, 0.01, "after %v s", c.at)
		}
	})
}

func TestNoRouteAndNoBackend(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		text := strings.Replace(app("probe \"http\" {\n every = \"1s\"\n timeout = \"1s\"\n}"), "    send_to", "    when {\n path = \"/seats/**\"\n }\n    send_to", 1)
		w := newWorld(t, text)
		defer w.close()
		code, _ := w.get(base + "/other")
		assert.Equal(t, 404, code)
		time.Sleep(1500 * time.Millisecond) // virtual: every backend has been probed and refuses
		res, err := w.client.Get(base + "/seats")
		require.NoError(t, err)
		res.Body.Close()
		assert.Equal(t, 503, res.StatusCode)
		assert.Equal(t, "5", res.Header.Get("Retry-After"))
		assert.Len(t, w.news("app"), 1, "that nothing is left is told once")
		synctest.Wait()
		for _, a := range w.log() {
			assert.Zero(t, a.Attempts, "nobody was asked: %s", a.Cause)
		}
		f := w.proxy.Status().Frontends[0]
		assert.Equal(t, []uint64{0, 2, 0}, []uint64{f.Answered, f.Failed, f.ClientLeft})
	})
}

// TestHistogramsOfBackendsCanBeTurnedOff; those of routes stay.
func TestHistogramsOfBackendsCanBeTurnedOff(t *testing.T) {
	for _, on := range []bool{true, false} {
		synctest.Test(t, func(t *testing.T) {
			w := newWorld(t, fmt.Sprintf("control {\n listen = \"127.0.0.1:9900\"\n backend_histograms = %v\n}\n%s%s", on, front, one))
			defer w.close()
			w.start(here, func(out http.ResponseWriter, r *http.Request) { _, _ = io.WriteString(out, "12345") })
			w.get(base + "/")
			_, text := w.get("http://127.0.0.1:9900/metrics")
			assert.Equal(t, on, strings.Contains(text, "kestrix_backend_first_byte_seconds_count{"))
			assert.Contains(t, text, "kestrix_route_first_byte_seconds_count{frontend=\"web\",route=\"all\"}")
		})
	}
}

// TestRoutesAreCounted: redirects, limited requests, requests without a route, and retries
// that spend the budget, until the counters are reset.
func TestRoutesAreCounted(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		w := newWorld(t, "frontend \"web\" {\n listen = \"127.0.0.1:8080\"\n"+
			" route \"old\" {\n when {\n path = \"/old\"\n }\n redirect {\n to = \"/new\"\n }\n }\n"+
			" route \"few\" {\n when {\n path = \"/few\"\n }\n limits {\n rate = \"1/s\"\n burst = 1\n }\n send_to = upstream.app\n }\n"+
			" route \"rest\" {\n when {\n path = \"/rest\"\n }\n send_to = upstream.app\n }\n}\n"+
			"upstream \"app\" {\n backends = {\n a = \"192.0.2.1:80\"\n b = \"192.0.2.2:80\"\n }\n retry {\n on = [\"503\"]\n budget = \"10%\"\n }\n}\n")
		defer w.close()
		w.start("192.0.2.1:80", func(out http.ResponseWriter, r *http.Request) { out.WriteHeader(http.StatusServiceUnavailable) })
		w.start("192.0.2.2:80", func(out http.ResponseWriter, r *http.Request) { _, _ = io.WriteString(out, "b") })
		w.client.CheckRedirect = func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }
		for _, path := range []string{"/old", "/few", "/few", "/few", "/rest", "/rest", "/nowhere"} {
			w.get(base + path)
		}
		synctest.Wait()
		s := w.proxy.Status()
		require.Len(t, s.Frontends, 1)
		f := s.Frontends[0]
		assert.Equal(t, []uint64{4, 3, 0}, []uint64{f.Answered, f.Failed, f.ClientLeft})
		require.Len(t, f.Routes, 4)
		for i, want := range []status.Route{
			{Name: "", Failed: 1, Statuses: [5]uint64{0, 0, 0, 1, 0}, Errors: map[string]uint64{"no_route": 1}},
			{Name: "few", Answered: 1, Failed: 2, Statuses: [5]uint64{0, 1, 0, 2, 0}, Errors: map[string]uint64{"rate_limited": 2}},
			{Name: "old", Answered: 1, Redirected: 1, Statuses: [5]uint64{0, 0, 1, 0, 0}, Errors: map[string]uint64{}},
			{Name: "rest", Answered: 2, Statuses: [5]uint64{0, 2, 0, 0, 0}, Errors: map[string]uint64{}},
		} {
			got := f.Routes[i]
			assert.Positive(t, got.Elapsed.P99, "an estimate within the lowest bucket")
			got.Elapsed = status.Elapsed{}
			assert.Equal(t, want, got)
		}
		u := s.Upstreams[0]
		require.NotNil(t, u.RetryBudget)
		assert.Positive(t, u.Retries)
		assert.InDelta(t, 10-float64(u.Retries), *u.RetryBudget, 0.31, "each request adds a tenth, up to ten")
		w.proxy.Zero()
		s = w.proxy.Status()
		assert.Empty(t, s.Frontends[0].Routes)
		assert.Zero(t, s.Upstreams[0].Retries)
		assert.Zero(t, s.Listeners[0].Accepted)
	})
}

// TestNoEligibleBackendIsSeen where all weights are 0 by hand, and where a name does not
// resolve: the series is there, and 0.
func TestNoEligibleBackendIsSeen(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		control := "control {\n listen = \"127.0.0.1:9900\"\n}\n"
		w := newWorldWith(t, control+front+"upstream \"app\" {\n backends = { a = \"192.0.2.1:80\", b = \"192.0.2.2:80\" }\n}\nupstream \"named\" {\n resolve = \"each\"\n backends = { n = \"quay.tern.example:80\" }\n}\n", func(o *Options) {
			o.Names = names.Func(func(context.Context, string) ([]netip.Addr, error) { return nil, fmt.Errorf("no such host") })
		})
		defer w.close()
		eligible := func(upstream string) string {
			_, text := w.get("http://127.0.0.1:9900/metrics")
			_, after, ok := strings.Cut(text, "kestrix_upstream_eligible_backends{upstream=\""+upstream+"\"} ")
			require.True(t, ok, text)
			value, _, _ := strings.Cut(after, "\n")
			return value
		}
		assert.Equal(t, []string{"2", "0"}, []string{eligible("app"), eligible("named")})
		none := 0
		_, err := w.proxy.Operate(status.Order{Backend: "app.*", Do: "weight", Weight: &none, Insist: true}, "mary")
		require.NoError(t, err)
		assert.Equal(t, "0", eligible("app"))
	})
}

// TestExemplarsHaveTraceIDs of requests that have one, in OpenMetrics; and so do access lines.
func TestExemplarsHaveTraceIDs(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		w := newWorld(t, "control {\n listen = \"127.0.0.1:9900\"\n}\n"+front+one)
		defer w.close()
		w.start(here, func(out http.ResponseWriter, r *http.Request) {
			time.Sleep(30 * time.Millisecond)
			_, _ = io.WriteString(out, r.Header.Get("Traceparent"))
		})
		const id = "4bf92f3577b34da6a3ce929d0e0e4736"
		ask := func(url string, header ...string) string {
			r, err := http.NewRequest("GET", url, nil)
			require.NoError(t, err)
			r.Header.Set(header[0], header[1])
			res, err := w.client.Do(r)
			require.NoError(t, err)
			defer res.Body.Close()
			text, err := io.ReadAll(res.Body)
			require.NoError(t, err)
			return string(text)
		}
		parent := "00-" + id + "-00f067aa0ba902b7-01"
		assert.Equal(t, parent, ask(base+"/", "Traceparent", parent), "the backend has it")
		ask(base+"/", "Traceparent", "nonsense")
		synctest.Wait()
		text := ask("http://127.0.0.1:9900/metrics", "Accept", "application/openmetrics-text; version=1.0.0")
		assert.Contains(t, text, "kestrix_route_elapsed_seconds_bucket{frontend=\"web\",route=\"all\",le=\"0.05\"} 2 # {trace_id=\""+id+"\"} 0.03")
		assert.Equal(t, 1, strings.Count(text, "# {"))
		assert.NotContains(t, ask("http://127.0.0.1:9900/metrics", "Accept", "text/plain"), "trace_id")
		l := w.log()
		require.Len(t, l, 2)
		assert.Contains(t, string(l[0].AppendJSON(nil)), `"trace_id":"`+id+`"`)
		assert.NotContains(t, string(l[1].AppendJSON(nil)), "trace_id")
	})
}
