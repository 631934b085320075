package proxy

import (
	"bufio"
	"fmt"
	"io"
	"net"
	"net/http"
	"strings"
	"sync/atomic"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kestrix/internal/core/cause"
)

// opened are a connection and streams through the proxy, and a request that takes six
// seconds; it knows when each of them ended.
type opened struct {
	w     *world
	began time.Time
	ends  map[string]chan string
}

// goesOn is what a stream, a WebSocket and a connection do at a backend: a line each second,
// for 20 seconds.
func goesOn(out io.Writer, flush func() error) {
	for range 20 {
		if _, err := io.WriteString(out, "data: tide\n\n"); err != nil || flush() != nil {
			return
		}
		time.Sleep(time.Second)
	}
}

// serveOpen is a backend whose probes pass as long as it is well.
func (w *world) serveOpen(address string, well *atomic.Bool) {
	w.start(address, func(out http.ResponseWriter, r *http.Request) {
		flush := http.NewResponseController(out).Flush
		switch r.URL.Path {
		case "/ready":
			if !well.Load() {
				out.WriteHeader(500)
			}
		case "/slow":
			time.Sleep(6 * time.Second)
			_, _ = io.WriteString(out, "at last")
		case "/events":
			out.Header().Set("Content-Type", "text/event-stream")
			goesOn(out, flush)
		case "/ws":
			c, rw, err := http.NewResponseController(out).Hijack()
			if err != nil {
				return
			}
			defer c.Close()
			_, _ = io.WriteString(rw, "HTTP/1.1 101 Switching Protocols\r\nUpgrade: websocket\r\nConnection: Upgrade\r\n\r\n")
			goesOn(rw, rw.Flush)
		}
	})
}

// open opens them.
func (w *world) open(gate string) *opened {
	o := &opened{w, time.Now(), map[string]chan string{}}
	end := func(what string, c net.Conn, err error, ask string) {
		require.NoError(w.t, err)
		_, err = io.WriteString(c, ask)
		require.NoError(w.t, err)
		ch := make(chan string, 1)
		o.ends[what] = ch
		go func() {
			text, _ := io.ReadAll(c)
			c.Close()
			ch <- fmt.Sprint(time.Since(o.began).Round(time.Second), " ", strings.Count(string(text), "tide")+strings.Count(string(text), "at last"))
		}()
	}
	for what, ask := range map[string]string{
		"events":    "GET /events HTTP/1.0\r\nHost: a\r\n\r\n",
		"websocket": "GET /ws HTTP/1.1\r\nHost: a\r\nConnection: Upgrade\r\nUpgrade: websocket\r\n\r\n",
		"request":   "GET /slow HTTP/1.0\r\nHost: a\r\n\r\n",
	} {
		c, err := w.net.dial(w.t.Context(), "tcp", "127.0.0.1:8080")
		end(what, c, err, ask)
	}
	c, err := w.net.dial(w.t.Context(), "tcp", gate)
	end("tcp", c, err, "GET /events HTTP/1.0\r\nHost: a\r\n\r\n")
	return o
}

// TestWhatIsOpenWithABackendThatGoes: where on_down says so it is closed, and its clients
// see that; a request is never broken by it.
func TestWhatIsOpenWithABackendThatGoes(t *testing.T) {
	for onDown, closes := range map[string]struct{ tcp, streams bool }{"": {true, false}, "on_down = \"keep\"\n": {false, false}, "on_down = \"close\"\n": {true, true}} {
		for _, how := range []string{"park", "down", "drain"} {
			synctest.Test(t, func(t *testing.T) {
				up := "upstream \"app\" {\n backends = { a = \"" + here + "\" }\n " + onDown + "probe \"http\" {\n path = \"/ready\"\n every = \"1s\"\n timeout = \"900ms\"\n down_after = 1\n}\n suspend {\n after = 1\n}\n}\n"
				w := newWorld(t, front+"frontend \"gate\" {\n listen = \"127.0.0.1:7000\"\n protocol = \"tcp\"\n route \"all\" {\n send_to = upstream.app\n}\n}\n"+up)
				defer w.close()
				var well atomic.Bool
				well.Store(true)
				w.serveOpen(here, &well)
				time.Sleep(500 * time.Millisecond)
				o := w.open("127.0.0.1:7000")
				time.Sleep(3100 * time.Millisecond)
				if how == "down" {
					well.Store(false)
					time.Sleep(1200 * time.Millisecond)
					require.Equal(t, "a down", w.stand())
				} else {
					_, err := w.proxy.Operate(order("app.a", how), "mary")
					require.NoError(t, err)
				}
				for what, ended := range o.ends {
					cut := how != "drain" && (what == "tcp" && closes.tcp || (what == "events" || what == "websocket") && closes.streams)
					got := <-ended
					switch {
					case what == "request":
						assert.Equal(t, "6s 1", got)
					case cut:
						assert.Contains(t, []string{"3s 4", "4s 4", "4s 5"}, got, "%s %s %s", onDown, how, what)
					default:
						assert.Equal(t, "20s 20", got, "%s %s %s", onDown, how, what)
					}
				}
				synctest.Wait()
				out, failed := 0, uint64(0)
				for _, l := range w.log() {
					if l.Cause == cause.BackendOut {
						out++
					} else {
						assert.Equal(t, cause.None, l.Cause, "%+v", l)
					}
				}
				want := 0
				if how != "drain" {
					want = map[bool]int{true: 1}[closes.tcp] + map[bool]int{true: 2}[closes.streams]
				}
				assert.Equal(t, want, out)
				failed = w.proxy.Status().Upstreams[0].Backends[0].Failed
				assert.Zero(t, failed, "that is no failure of the backend")
				time.Sleep(20 * time.Second) // until the backend notices
			})
		}
	}
}

// TestWhatIsOpenEndsByAnOrder: all of it, a request that hangs as well, over HTTP/1.1 and
// HTTP/2 with the backend.
func TestWhatIsOpenEndsByAnOrder(t *testing.T) {
	for _, version := range []string{"1.1", "2"} {
		synctest.Test(t, func(t *testing.T) {
			w := newWorld(t, front+"upstream \"app\" {\n backends = { a = \""+here+"\" }\n http_version = \""+version+"\"\n suspend {\n after = 1\n}\n retry {\n}\n}\n")
			defer w.close()
			w.start(here, func(out http.ResponseWriter, r *http.Request) {
				if r.URL.Path == "/events" {
					out.Header().Set("Content-Type", "text/event-stream")
					goesOn(out, http.NewResponseController(out).Flush)
					return
				}
				select { // it hangs
				case <-r.Context().Done():
				case <-time.After(25 * time.Second):
				}
			})
			hung := make(chan string, 1)
			began := time.Now()
			go func() {
				code, text := w.get(base + "/hangs")
				hung <- fmt.Sprint(code, " ", strings.Contains(text, "the backend was taken out"), " ", time.Since(began).Round(time.Second))
			}()
			res, err := w.client.Get(base + "/events")
			require.NoError(t, err)
			lines := bufio.NewScanner(res.Body)
			require.True(t, lines.Scan())
			time.Sleep(3 * time.Second)
			told, err := w.proxy.Operate(order("app.a", "close"), "mary")
			require.NoError(t, err)
			assert.Equal(t, 2, told.Orders[0].Ended)
			assert.Equal(t, "502 true 3s", <-hung)
			for lines.Scan() {
			}
			assert.Error(t, lines.Err(), "a stream is seen to be broken")
			res.Body.Close()
			synctest.Wait()
			assert.Equal(t, "a up", w.stand(), "and that is no failure of the backend")
			for _, l := range w.log() {
				assert.Equal(t, cause.BackendOut, l.Cause)
			}
			told, err = w.proxy.Operate(order("app.a", "close"), "mary")
			require.NoError(t, err)
			assert.Zero(t, told.Orders[0].Ended, "nothing is left")
			time.Sleep(25 * time.Second) // until the backend notices
		})
	}
}
