package proxy

import (
	"io"
	"net/http"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
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
			said = append(said, e.What+": "+e.Text)
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
