package proxy

import (
	"context"
	"io"
	"net"
	"net/http"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kestrix/internal/core/cause"
)

// TestLimitsOfAFrontend are for all its routes.
func TestLimitsOfAFrontend(t *testing.T) {
	bubble(t, in("limits {\n rate = \"1/s\"\n burst = 4\n body_size = \"1KiB\"\n connections = 2\n}", front)+one, func(w *world) {
		w.start(here, nil)
		var statuses []int
		for range 6 {
			status, _ := w.get(base + "/")
			statuses = append(statuses, status)
		}
		assert.Equal(t, []int{200, 200, 200, 200, 429, 429}, statuses)
		time.Sleep(10 * time.Second)
		res, err := w.client.Post(base+"/", "text/plain", strings.NewReader(strings.Repeat("x", 1025)))
		require.NoError(t, err)
		res.Body.Close()
		assert.Equal(t, 413, res.StatusCode)
		w.client.CloseIdleConnections()
		time.Sleep(10 * time.Second)
		var open []*line
		for i := range 3 {
			l := w.call()
			_, _ = io.WriteString(l, "GET / HTTP/1.1\r\nHost: a\r\n\r\n") // the third is closed at once
			head := l.head()
			assert.Equal(t, i < 2, strings.HasPrefix(head, "HTTP/1.1 200"), "connection %d: %q", i+1, head)
			open = append(open, l)
		}
		for _, l := range open {
			l.Close()
		}
	})
}

// TestRoutesByClient, and header fields that a route adds to answers.
func TestRoutesByClient(t *testing.T) {
	for network, want := range map[string]string{"203.0.113.0/24": "inside [ebb]", "198.51.100.0/24": "outside []"} {
		text := strings.Replace(front, "  route", "  route \"near\" {\n    when {\n      client = \""+network+"\"\n    }\n    headers {\n      answer {\n        add = { X-Tide = \"ebb\" }\n      }\n    }\n    reply {\n      status = 200\n      body   = \"inside\"\n    }\n  }\n  route", 1)
		bubble(t, text+one, func(w *world) {
			w.start(here, func(out http.ResponseWriter, _ *http.Request) { _, _ = io.WriteString(out, "outside") })
			res, err := w.client.Get(base + "/")
			require.NoError(t, err)
			defer res.Body.Close()
			body, err := io.ReadAll(res.Body)
			require.NoError(t, err)
			assert.Equal(t, want, string(body)+" ["+strings.Join(res.Header.Values("X-Tide"), ",")+"]")
		})
	}
}

// TestThresholdsOfProbes: by none of the defaults.
func TestThresholdsOfProbes(t *testing.T) {
	bubble(t, front+"upstream \"app\" {\n backends = { a = \"192.0.2.1:80\" }\n probe \"tcp\" {\n every = \"1s\"\n timeout = \"1s\"\n down_after = 4\n up_after = 5\n }\n}\n", func(w *world) {
		w.start(here, nil)
		time.Sleep(5 * time.Second)
		w.kill(here)
		time.Sleep(10 * time.Second)
		w.start(here, nil)
		time.Sleep(10 * time.Second)
		var said []string
		for _, e := range w.news("app.a") {
			said = append(said, string(e.Kind)+": "+e.Text)
		}
		assert.Equal(t, []string{
			"up: a probe passed", "failing: a probe failed: connection refused", "down: 4 probes failed: connection refused",
			"recovering: a probe passed", "up: 5 probes passed",
		}, said)
	})
}

// TestRetriesOnWhatIsListed: a status that the defaults do not have.
func TestRetriesOnWhatIsListed(t *testing.T) {
	bubble(t, front+"upstream \"app\" {\n backends = { a = \"192.0.2.1:80\", b = \"192.0.2.2:80\" }\n retry {\n attempts = 2\n on = [\"507\"]\n }\n}\n", func(w *world) {
		w.start("192.0.2.1:80", func(out http.ResponseWriter, _ *http.Request) { out.WriteHeader(507) })
		w.start("192.0.2.2:80", nil)
		for range 4 {
			status, _ := w.get(base + "/")
			assert.Equal(t, 200, status)
		}
	})
}

// TestWhenTheNextTierIsAsked: below the share of healthy capacity, with one of two gone.
func TestWhenTheNextTierIsAsked(t *testing.T) {
	for below, asked := range map[string]bool{"": true, " spill_below = \"40%\"\n": false} {
		bubble(t, front+"upstream \"app\" {\n backends = {\n a = \"192.0.2.1:80\"\n b = \"192.0.2.2:80\"\n c = { address = \"192.0.2.3:80\", tier = 2 }\n }\n probe \"tcp\" {\n every = \"1s\"\n }\n failover {\n"+below+"}\n}\n", func(w *world) {
			for _, a := range addresses() {
				w.start(a, nil)
			}
			time.Sleep(2 * time.Second)
			w.kill(here)
			time.Sleep(10 * time.Second)
			bodies := map[string]int{}
			for range 40 {
				_, body := w.get(base + "/")
				bodies[body]++
			}
			assert.Equal(t, asked, bodies["192.0.2.3:80"] > 0, "%q: %v", below, bodies)
		})
	}
}

// TestTheNextTierIsAskedByLoad sends requests elsewhere once spill_at of what a backend works on at
// once is in flight.
func TestTheNextTierIsAskedByLoad(t *testing.T) {
	for at, want := range map[string]int{"50%": 4, "100%": 8} {
		bubble(t, front+"upstream \"app\" {\n backends = {\n a = { address = \"192.0.2.1:80\", max_in_flight = 8 }\n b = { address = \"192.0.2.2:80\", max_in_flight = 8, tier = 2 }\n }\n failover {\n spill_at = \""+at+"\"\n }\n}\n", func(w *world) {
			var open, most atomic.Int64
			w.start(here, func(out http.ResponseWriter, r *http.Request) {
				n := open.Add(1)
				most.Store(max(most.Load(), n))
				time.Sleep(time.Second)
				open.Add(-1)
			})
			w.start("192.0.2.2:80", func(out http.ResponseWriter, r *http.Request) { time.Sleep(time.Second) })
			var all sync.WaitGroup
			for range 8 {
				all.Go(func() {
					status, _ := w.get(base + "/")
					assert.Equal(t, 200, status)
				})
			}
			all.Wait()
			assert.EqualValues(t, want, most.Load(), at)
		})
	}
}

// TestConnectionsHaveTheirTime to come to stand, and no other.
func TestConnectionsHaveTheirTime(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		for limit, takes := range map[string]time.Duration{"": 2 * time.Second, "timeouts {\n connect = \"700ms\"\n}\n": 700 * time.Millisecond} {
			w := newWorldWith(t, strings.Replace(front+one, "backends", limit+"backends", 1), func(o *Options) {
				o.Dial = func(ctx context.Context, _, _ string) (net.Conn, error) { // as where packets are lost
					<-ctx.Done()
					return nil, ctx.Err()
				}
			})
			began := time.Now()
			status, _ := w.get(base + "/")
			assert.Equal(t, 504, status)
			assert.Equal(t, takes, time.Since(began), limit)
			assert.Equal(t, cause.ConnectTimeout, w.log()[0].Cause)
			w.close()
		}
	})
}
