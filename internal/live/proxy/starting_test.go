package proxy

import (
	"fmt"
	"io"
	"net/http"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kestrix/internal/core/status"
)

// TestReadyOnceFirstProbesHaveEnded: until then nothing is accepted, /ready says so,
// and a reload is taken.
func TestReadyOnceFirstProbesHaveEnded(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		text := "control {\n listen = \"127.0.0.1:9900\"\n}\n" + front + "upstream \"app\" {\n backends = { a = \"192.0.2.1:80\" }\n probe \"http\" {\n path = \"/ready\"\n every = \"5s\"\n timeout = \"4s\"\n }\n}\n"
		w := newWorld(t, text)
		defer w.close()
		var mu sync.Mutex
		var probed []string
		w.start("192.0.2.1:80", func(out http.ResponseWriter, r *http.Request) {
			mu.Lock()
			probed = append(probed, r.URL.Path)
			mu.Unlock()
			if strings.HasPrefix(r.URL.Path, "/ready") {
				time.Sleep(2 * time.Second)
			}
		})
		answered := make(chan time.Duration)
		go func() {
			status, _ := w.get(base + "/")
			assert.Equal(t, 200, status, "a client that connects early waits")
			answered <- time.Since(w.began)
		}()
		time.Sleep(time.Second)
		ready := func() int {
			status, _ := w.get("http://127.0.0.1:9900/ready")
			return status
		}
		assert.Equal(t, 503, ready())
		status, _ := w.get("http://127.0.0.1:9900/alive")
		assert.Equal(t, 200, status)
		require.NoError(t, w.proxy.Apply(parse(t, strings.Replace(text, "\"/ready\"", "\"/ready/deep\"", 1))), "a reload does not wait")
		assert.Equal(t, 503, ready())
		assert.Equal(t, 3*time.Second, <-answered, "of the probe that the reload sent")
		assert.Equal(t, 200, ready())
		mu.Lock()
		defer mu.Unlock()
		assert.Equal(t, []string{"/ready", "/ready/deep", "/"}, probed)
	})
}

// TestALeavingBackendMayBeDrainedAndKeepASession: it serves until those that follow have
// been probed, whatever an operator has said of its name.
func TestALeavingBackendMayBeDrainedAndKeepASession(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		text := front + "upstream \"app\" {\n backends = { a = \"192.0.2.1:80\", b = \"192.0.2.2:80\" }\n sticky {\n by = \"cookie\"\n }\n probe \"http\" {\n path = \"/ready\"\n every = \"5s\"\n timeout = \"4s\"\n }\n}\n"
		w := newWorld(t, text)
		defer time.Sleep(3 * time.Second) // for a probe under way
		defer w.close()
		for _, a := range []string{"192.0.2.1:80", "192.0.2.2:80", "192.0.2.11:80", "192.0.2.12:80"} {
			w.start(a, func(out http.ResponseWriter, r *http.Request) {
				if r.URL.Path == "/ready" && len(a) == len("192.0.2.11:80") {
					time.Sleep(3 * time.Second) // those that follow take a while to be probed
				}
				_, _ = io.WriteString(out, a)
			})
		}
		res, err := w.client.Get(base + "/")
		require.NoError(t, err)
		body, _ := io.ReadAll(res.Body)
		res.Body.Close()
		seated, cookie := map[string]string{"192.0.2.1:80": "a", "192.0.2.2:80": "b"}[string(body)], res.Cookies()[0]
		_, err = w.proxy.Operate(status.Order{Backend: "app." + seated, Do: "drain"}, "mary")
		require.NoError(t, err)
		again := func() string {
			r, err := http.NewRequest("GET", base+"/", nil)
			require.NoError(t, err)
			r.AddCookie(cookie)
			res, err := w.client.Do(r)
			require.NoError(t, err)
			defer res.Body.Close()
			b, _ := io.ReadAll(res.Body)
			return string(b)
		}
		require.NoError(t, w.proxy.Apply(parse(t, strings.NewReplacer("192.0.2.1:", "192.0.2.11:", "192.0.2.2:", "192.0.2.12:").Replace(text))))
		assert.Equal(t, string(body), again(), "the session stays with the server that serves")
		time.Sleep(5 * time.Second)
		assert.Contains(t, []string{"192.0.2.11:80", "192.0.2.12:80"}, again())
	})
}

// TestAHungTCPBackendIsSuspended though connections that it answered before stay open,
// which go on.
func TestAHungTCPBackendIsSuspended(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		w := newWorld(t, strings.Replace(gate, "  timeouts {", "  suspend {\n    after = 2\n    rest = \"1m\"\n    silent_after = \"5s\"\n      }\n  timeouts {\n    answer = \"1m\"", 1))
		defer w.close()
		var hangs atomic.Bool
		shag := w.raw("192.0.2.2:7", func(l *line) {
			if hangs.Load() {
				_, _ = io.Copy(io.Discard, l)
				return
			}
			_, _ = io.Copy(l, l.r)
		})
		defer shag.Close()
		defer w.echo("192.0.2.3:7", "").Close()
		state := func() string { return w.proxy.Status().Upstreams[1].Backends[0].State }
		echoes := func(c io.ReadWriter) {
			t.Helper()
			_, err := io.WriteString(c, "tide")
			require.NoError(t, err)
			got := make([]byte, 4)
			_, err = io.ReadFull(c, got)
			require.NoError(t, err)
			assert.Equal(t, "tide", string(got))
		}
		began := time.Now()
		var open []io.ReadWriteCloser
		for range 4 { // two of them to shag, and so below
			c := w.connect()
			defer c.Close()
			echoes(c)
			open = append(open, c)
		}
		assert.Zero(t, time.Since(began), "four bytes are enough to see that it is no TLS")
		for range 3 { // longer than silent_after: answered connections are no silence
			time.Sleep(4 * time.Second)
			for _, c := range open {
				echoes(c)
			}
		}
		assert.Equal(t, "up", state())
		hangs.Store(true)
		for range 4 {
			c := w.connect()
			defer c.Close()
			_, err := io.WriteString(c, "tide")
			require.NoError(t, err)
		}
		time.Sleep(6 * time.Second)
		assert.Equal(t, "suspended", state())
		for _, c := range open {
			echoes(c)
		}
	})
}

// TestNoRequestMeetsABackendThatNeverWorked: neither one of which no process is there when
// the proxy starts, nor one that answers 500 to everything and joins by a reload.
func TestNoRequestMeetsABackendThatNeverWorked(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		probe := "probe \"http\" {\n path = \"/ready\"\n every = \"1s\"\n timeout = \"500ms\"\n }\n}\n"
		text := front + "upstream \"app\" {\n backends = { a = \"192.0.2.1:80\", gone = \"192.0.2.2:80\" }\n" + probe
		w := newWorld(t, text)
		defer w.close()
		var answered, met atomic.Int64
		w.start("192.0.2.1:80", func(out http.ResponseWriter, r *http.Request) { _, _ = io.WriteString(out, "a") })
		w.start("192.0.2.3:80", func(out http.ResponseWriter, r *http.Request) {
			if r.URL.Path != "/ready" {
				met.Add(1)
			}
			out.WriteHeader(500)
		})
		var stop atomic.Bool
		var wg sync.WaitGroup
		for range 10 {
			wg.Go(func() {
				for !stop.Load() {
					status, body := w.get(base + "/")
					assert.Equal(t, "200 a", fmt.Sprint(status, " ", body))
					answered.Add(1)
					time.Sleep(7 * time.Millisecond)
				}
			})
		}
		for i := range 10 {
			time.Sleep(time.Duration(1000+37*i) * time.Millisecond)
			backends := "{ a = \"192.0.2.1:80\", gone = \"192.0.2.2:80\", broken = \"192.0.2.3:80\" }"
			if i%2 == 1 {
				backends = "{ a = \"192.0.2.1:80\" }"
			}
			require.NoError(t, w.proxy.Apply(parse(t, front+"upstream \"app\" {\n backends = "+backends+"\n"+probe)))
		}
		time.Sleep(5 * time.Second)
		stop.Store(true)
		wg.Wait()
		assert.Zero(t, met.Load(), "of %d", answered.Load())
		for _, l := range w.log() {
			require.Equal(t, []any{"a", 1}, []any{l.Backend, l.Attempts})
		}
	})
}
