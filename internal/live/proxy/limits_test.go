package proxy

import (
	"fmt"
	"io"
	"net/http"
	"strings"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/net/http2"

	"kestrix/internal/core/cause"
)

// TestConnectionsInAllAreBounded: idle ones go first, the longest idle before
// others, then the newest of whoever has most; control and other clients are
// served all the while.
func TestConnectionsInAllAreBounded(t *testing.T) {
	bubble(t, "control {\n listen = \"127.0.0.1:9900\"\n}\nlimits {\n connections_total = 10\n}\n"+front+one, func(w *world) {
		w.start(here, nil)
		ask := func(l *line) string {
			if _, err := io.WriteString(l, get); err != nil {
				return "closed"
			}
			_ = l.SetReadDeadline(time.Now().Add(time.Second))
			if l.head() == "" {
				return "closed"
			}
			_, _ = l.r.Discard(len(here))
			return "answered"
		}
		var kept []*line
		for range 10 {
			l := w.call()
			require.Equal(t, "answered", ask(l))
			kept = append(kept, l)
			time.Sleep(time.Second)
		}
		require.Equal(t, "answered", ask(kept[0])) // the second is the longest idle now
		time.Sleep(time.Second)
		require.Equal(t, "answered", ask(w.call()))
		assert.Equal(t, "closed", ask(kept[1]))
		assert.Equal(t, "answered", ask(kept[0]))
		// From one address, requests that are never whole.
		for range 250 {
			_, _ = io.WriteString(w.call(), "GET / HTTP/1.1\r\n")
			time.Sleep(time.Millisecond)
		}
		status, _ := w.get("http://127.0.0.1:9900/alive")
		assert.Equal(t, 200, status)
		assert.LessOrEqual(t, w.proxy.conns.Len(), 10)
		time.Sleep(time.Minute)
		news := w.news("127.0.0.1:8080")
		assert.Less(t, len(news), 10, "it is told, and summed up")
		assert.Contains(t, news[len(news)-1].Text, " more connections closed for others in the last minute")
	})
	bubble(t, "", func(w *world) {
		w.proxy.o.Files = 256
		require.NoError(t, w.proxy.Apply(parse(t, "limits {\n connections_total = 1000\n}\n"+front+one)))
		assert.Equal(t, 168, w.proxy.conns.Limit())
		assert.Contains(t, w.news("kestrix")[0].Text, "connections_total is 1,000, and the 256 files")
	})
}

// TestBackendsHaveTheirShare: a connection to a backend that would be one too
// many is made in place of one that waits, or not at all.
func TestBackendsHaveTheirShare(t *testing.T) {
	bubble(t, front+one, func(w *world) {
		w.start(here, func(_ http.ResponseWriter, r *http.Request) { time.Sleep(time.Second) })
		w.proxy.pools.SetLimit(3)
		var wg sync.WaitGroup
		got := make([]int, 5)
		for i := range got {
			wg.Go(func() {
				time.Sleep(time.Duration(i) * time.Millisecond)
				got[i], _ = w.get(base + "/")
			})
		}
		wg.Wait()
		assert.Equal(t, []int{200, 200, 200, 503, 503}, got)
		assert.Equal(t, cause.Overloaded, w.log()[0].Cause)
		status, _ := w.get(base + "/")
		assert.Equal(t, 200, status)
		assert.Equal(t, "up 0", fmt.Sprint(w.proxy.Status().Upstreams[0].Backends[0].State, " ", w.proxy.Status().Upstreams[0].Backends[0].InFlight))
	})
}

// TestBodiesHaveALeastRate: over any 30 s in which they are waited for. None
// reaches a backend before 16 KiB of it have come, over HTTP/1.1 in chunks or not
// and over HTTP/2, with Expect or without.
func TestBodiesHaveALeastRate(t *testing.T) {
	drip := func(w *world, l io.Writer, frame func(n int) string, n int, pause time.Duration) {
		for range 200 {
			if _, err := io.WriteString(l, frame(n)); err != nil {
				return
			}
			time.Sleep(pause)
		}
	}
	chunk := func(n int) string { return fmt.Sprintf("%x\r\n%s\r\n", n, strings.Repeat("x", n)) }
	plain := func(n int) string { return strings.Repeat("x", n) }
	const post = "POST / HTTP/1.1\r\nHost: a\r\n"
	for _, c := range []struct {
		name, head string
		frame      func(int) string
		n          int
		pause      time.Duration
		after      time.Duration // the answer 408 comes; 0: it does not
		reached    int
	}{
		{"a byte every two seconds", post + "Content-Length: 100\r\n\r\n", plain, 1, 2 * time.Second, 30 * time.Second, 0},
		{"the same of a large one", post + "Content-Length: 100000\r\n\r\n", plain, 1, 2 * time.Second, 30 * time.Second, 0},
		{"the same in chunks", post + "Transfer-Encoding: chunked\r\n\r\n", chunk, 1, 2 * time.Second, 30 * time.Second, 0},
		{"the same held back", post + "Expect: 100-continue\r\nContent-Length: 100000\r\n\r\n", plain, 1, 2 * time.Second, 30 * time.Second, 0},
		{"at half the rate", post + "Content-Length: 1000000\r\n\r\n", plain, 512, time.Second, 30 * time.Second, 0},
		{"fast, and then too slow", post + "Content-Length: 1000000\r\n\r\n" + plain(20_000), plain, 1, 2 * time.Second, 30 * time.Second, 1},
		{"without a rate", post + "Content-Length: 100\r\n\r\n", plain, 1, 2 * time.Second, 0, 1},
		{"just fast enough", post + "Content-Length: 150000\r\n\r\n", plain, 1100, time.Second, 0, 1},
	} {
		text := front
		if c.name == "without a rate" {
			text = in("limits {\n body_rate = \"0B/s\"\n}", front)
		}
		bubble(t, text+one, func(w *world) {
			reached := 0
			w.start(here, func(_ http.ResponseWriter, r *http.Request) {
				reached++
				_, _ = io.Copy(io.Discard, r.Body)
			})
			l := w.call()
			began := time.Now()
			l.say(c.head)
			go drip(w, l, c.frame, c.n, c.pause)
			head := l.head()
			if strings.HasPrefix(head, "HTTP/1.1 100 ") {
				head = l.head()
			}
			want := "HTTP/1.1 408 "
			if c.after == 0 {
				want = "HTTP/1.1 200 "
			} else {
				assert.InDelta(t, c.after.Seconds(), time.Since(began).Seconds(), 5, c.name)
			}
			assert.Contains(t, head, want, c.name)
			assert.Equal(t, c.reached, reached, c.name)
			l.Close()
			time.Sleep(10 * time.Minute)
		})
	}
	for kind, reached := range map[string]int{"application/json": 0, "application/grpc": 1} {
		bubble(t, in("clear_http2 = true", front)+strings.Replace(one, "{\n", "{\n http_version = \"2\"\n", 1), func(w *world) {
			got := 0
			w.start(here, func(_ http.ResponseWriter, r *http.Request) {
				got++
				_, _ = io.Copy(io.Discard, r.Body)
			})
			f := w.speak()
			fields := plainly("content-type: " + kind)
			fields[0] = ":method: POST"
			began := time.Now()
			stream := f.ask(true, fields...)
			go func() {
				for range 40 {
					time.Sleep(2 * time.Second)
					if f.WriteData(stream, false, []byte("x")) != nil {
						return
					}
				}
				_ = f.WriteData(stream, true, nil)
			}()
			for {
				x, err := f.ReadFrame()
				require.NoError(t, err)
				if h, ok := x.(*http2.MetaHeadersFrame); ok {
					if reached == 0 {
						assert.Equal(t, "408", h.PseudoValue("status"))
						assert.InDelta(t, 30, time.Since(began).Seconds(), 5)
					} else {
						assert.Equal(t, "200", h.PseudoValue("status"))
					}
					break
				}
			}
			assert.Equal(t, reached, got, kind)
			time.Sleep(2 * time.Minute)
			f.Close()
		})
	}
}

// TestFieldsOfTheProxyAreItsOwn: what applications believe their proxy for is
// taken from peers that are not trusted, however it is spelt, unless it may pass.
// The seat is the client's and the proxy's.
func TestFieldsOfTheProxyAreItsOwn(t *testing.T) {
	all := "X-Real-IP: 1\r\nx_real_ip: 2\r\nTrue-Client-Ip: 3\r\nX-Original-URL: /4\r\nX_Original-Host: 5\r\nX-Rewrite-Url: /6\r\nProxy: 7\r\nX_Forwarded_For: 8\r\nX_Other: 9\r\nTrue_Colours: 10\r\n"
	for _, c := range []struct{ more, want string }{
		{"", "9 10"},
		{"pass_fields = [\"X-Real-IP\", \"proxy\"]", "1 2 7 9 10"},
		{"trusted", "1 2 3 /4 5 /6 7 8 9 10"},
	} {
		text := in(c.more, front) + one
		if c.more == "trusted" {
			text = "trusted_proxies = [\"203.0.113.9\"]\n" + front + one
		}
		bubble(t, text, func(w *world) {
			w.raw(here, func(l *line) {
				for head := l.head(); head != ""; head = l.head() {
					var got []string
					for _, name := range []string{"X-Real-Ip", "X_real_ip", "True-Client-Ip", "X-Original-Url", "X_original-Host", "X-Rewrite-Url", "Proxy", "X_forwarded_for", "X_other", "True_colours"} {
						if _, v, ok := strings.Cut(head, "\r\n"+name+": "); ok {
							v, _, _ = strings.Cut(v, "\r\n")
							got = append(got, v)
						}
					}
					said := strings.Join(got, " ")
					l.say(fmt.Sprintf("HTTP/1.1 200 OK\r\nContent-Length: %d\r\n\r\n%s", len(said), said))
				}
			})
			l := w.call()
			l.say("GET / HTTP/1.0\r\nHost: a\r\n" + all + "\r\n")
			l.head()
			assert.Equal(t, c.want, l.rest(), c.more)
		})
	}
	for _, pass := range []bool{false, true} {
		bubble(t, front+strings.Replace(one, "{\n", fmt.Sprintf("{\n sticky {\n by = \"cookie\"\n name = \"seat\"\n pass_cookie = %v\n}\n", pass), 1), func(w *world) {
			cookies := ""
			w.start(here, func(_ http.ResponseWriter, r *http.Request) { cookies = strings.Join(r.Header["Cookie"], " | ") })
			ask := func(cookie string) (set string) {
				req, _ := http.NewRequest("GET", base+"/", nil)
				if cookie != "" {
					req.Header.Set("Cookie", cookie)
				}
				res, err := w.client.Do(req)
				require.NoError(t, err)
				res.Body.Close()
				set, _, _ = strings.Cut(res.Header.Get("Set-Cookie"), ";")
				return set
			}
			seat := ask("")
			require.NotEmpty(t, seat)
			for given, left := range map[string]string{seat: "", "a=1; " + seat + "; b=\"2\"": "a=1; b=\"2\"", "seat=false; " + seat: "", "seated=1; a=seat=2": "seated=1; a=seat=2"} {
				set := ask(given)
				if strings.Contains(given, seat) {
					assert.Empty(t, set, "the seat is found in %q", given)
				}
				if pass {
					left = given
				}
				assert.Equal(t, left, cookies, "of %q", given)
			}
		})
	}
}

// TestStrangersCannotFillTheLog: what they cause is told some times, and then
// summed up.
func TestStrangersCannotFillTheLog(t *testing.T) {
	bubble(t, in("proxy_protocol = true", front)+one, func(w *world) {
		for range 1245 {
			l := w.call()
			assert.Empty(t, l.rest())
			l.Close()
		}
		time.Sleep(time.Minute)
		synctest.Wait()
		news := w.news("127.0.0.1:8080")
		require.Len(t, news, 7)
		assert.Contains(t, news[1].Text, "it is not one of trusted_proxies")
		assert.Equal(t, "1,240 more refused PROXY headers in the last minute", news[6].Text)
	})
}
