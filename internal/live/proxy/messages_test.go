package proxy

import (
	"bufio"
	"crypto/tls"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kestrix/internal/core/cause"
	"kestrix/internal/core/config"
)

// line is a client's connection to the proxy, or the proxy's to a backend, as
// plain text.
type line struct {
	t *testing.T
	net.Conn
	r *bufio.Reader
}

// call connects to the proxy.
func (w *world) call() *line {
	c, err := w.net.dial(w.t.Context(), "tcp", "127.0.0.1:8080")
	require.NoError(w.t, err)
	return &line{w.t, c, bufio.NewReader(c)}
}

func (l *line) say(text string) {
	_, err := io.WriteString(l, text)
	require.NoError(l.t, err)
}

// head reads up to an empty line.
func (l *line) head() string {
	var b strings.Builder
	for {
		s, err := l.r.ReadString('\n')
		b.WriteString(s)
		if err != nil || s == "\r\n" {
			return b.String()
		}
	}
}

// rest reads to the end.
func (l *line) rest() string {
	b, err := io.ReadAll(l.r)
	if err != nil {
		return string(b) + err.Error()
	}
	return string(b)
}

// raw runs a backend that is handed its connections, one after the other.
func (w *world) raw(address string, serve func(*line)) net.Listener {
	l, err := w.net.listen("tcp", address)
	require.NoError(w.t, err)
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			go func() {
				defer c.Close()
				serve(&line{w.t, c, bufio.NewReader(c)})
			}()
		}
	}()
	w.t.Cleanup(func() { l.Close() })
	return l
}

// bubble runs a test in virtual time with a world and its only backend's
// address.
func bubble(t *testing.T, text string, f func(w *world)) {
	synctest.Test(t, func(t *testing.T) {
		w := newWorld(t, text)
		f(w)
		w.close()
		time.Sleep(2 * time.Second) // what is left of bodies nobody wanted is thrown away for a while
		w.net.mu.Lock()
		for _, l := range w.net.listeners {
			defer l.Close()
		}
		w.net.mu.Unlock()
	})
}

const here = "192.0.2.1:80"

// streaming is front with a route that forwards bodies at once.
var streaming = strings.Replace(front, "    send_to", "    stream_requests = true\n    send_to", 1)

func TestWhatCanBeReadInTwoWaysIsRefused(t *testing.T) {
	bubble(t, in("limits {\n header_size = \"2KiB\"\n}", front)+one, func(w *world) {
		asked := 0
		w.start(here, func(out http.ResponseWriter, r *http.Request) {
			asked++
			_, _ = io.Copy(io.Discard, r.Body)
		})
		for text, status := range map[string]string{
			"POST /pay HTTP/1.1\r\nHost: a\r\nContent-Length: 5\r\nTransfer-Encoding: chunked\r\n\r\n0\r\n\r\n": "400",
			"POST /pay HTTP/1.1\r\nHost: a\r\nContent-Length: 5\r\nContent-Length: 5\r\n\r\nhello":              "400",
			"GET /pay HTTP/1.1\nHost: a\n\n":                                               "400",
			"GET /pay HTTP/1.1\r\nHost: a\r\nX: " + strings.Repeat("x", 3000) + "\r\n\r\n": "431",
		} {
			c := w.call()
			c.say(text)
			assert.Contains(t, c.head(), "HTTP/1.1 "+status+" ", "%.60q", text)
			assert.NotContains(t, c.rest(), "HTTP/1.1", "nothing behind it is answered")
		}
		assert.Zero(t, asked)
		synctest.Wait()
		require.Len(t, w.log(), 4)
		for _, a := range w.log() {
			assert.Equal(t, cause.Malformed, a.Cause)
			assert.Equal(t, "/pay", a.Path)
		}
		// A body that goes wrong is noticed on its way: the backend gets no end.
		c := w.call()
		c.say("POST / HTTP/1.1\r\nHost: a\r\nTransfer-Encoding: chunked\r\n\r\n5\r\nhello\r\nxyz")
		assert.Contains(t, c.head(), "HTTP/1.1 400 ")
	})
}

func TestAConnectionBecomesWhatBothWant(t *testing.T) {
	bubble(t, front+"upstream \"app\" {\n backends = { a = \""+here+"\" }\n timeouts {\n answer = \"1s\"\n idle = \"30s\"\n stream = \"2m\"\n}\n}\n", func(w *world) {
		w.raw(here, func(l *line) {
			head := l.head()
			assert.Contains(t, head, "Connection: Upgrade\r\nUpgrade: websocket\r\n")
			assert.Contains(t, head, "Sec-Websocket-Key: k\r\n")
			if strings.Contains(head, "/no ") {
				l.say("HTTP/1.1 426 No\r\nContent-Length: 0\r\n\r\n")
				return
			}
			l.say("HTTP/1.1 101 Switching Protocols\r\nUpgrade: websocket\r\nConnection: Upgrade\r\nSec-WebSocket-Accept: x\r\n\r\nhi")
			_, _ = io.Copy(l, l.r)
		})
		ask := func(path string) *line {
			c := w.call()
			c.say("GET " + path + " HTTP/1.1\r\nHost: a\r\nUpgrade: websocket\r\nConnection: keep-alive, Upgrade\r\nSec-WebSocket-Key: k\r\n\r\n")
			return c
		}
		assert.Contains(t, ask("/no").head(), "HTTP/1.1 426 ")
		c := ask("/ws")
		head := c.head()
		assert.Contains(t, head, "HTTP/1.1 101 Switching Protocols\r\nConnection: Upgrade\r\nUpgrade: websocket\r\n")
		assert.Contains(t, head, "Sec-Websocket-Accept: x\r\n")
		b := make([]byte, 2)
		_, err := io.ReadFull(c.r, b)
		require.NoError(t, err)
		assert.Equal(t, "hi", string(b), "what the backend says at once is not lost")
		for range 3 {
			time.Sleep(20 * time.Second) // longer than an answer may take, and than idle only if nothing moves
			c.say("\x00\n")
			_, err = io.ReadFull(c.r, b)
			require.NoError(t, err)
			assert.Equal(t, "\x00\n", string(b))
		}
		began := time.Now()
		assert.Empty(t, c.rest())
		assert.Equal(t, 30*time.Second, time.Since(began), "then it was idle")
		synctest.Wait()
		last := w.log()[len(w.log())-1]
		assert.Equal(t, "101 idle_timeout stream 8", fmt.Sprint(last.Status, " ", last.Cause, " ", last.Kind, " ", last.Bytes))
		// Stopping does not wait for ever, and says that it cut something off.
		c = ask("/ws")
		c.head()
		began = time.Now()
		require.Error(t, w.proxy.Stop())
		assert.Equal(t, 5*time.Second, time.Since(began))
		w.client.CloseIdleConnections()
	})
}

func TestTrailersInterimAnswersAndHeldBackBodies(t *testing.T) {
	bubble(t, streaming+one, func(w *world) {
		w.start(here, func(out http.ResponseWriter, r *http.Request) {
			switch r.URL.Path {
			case "/refuse":
				out.WriteHeader(http.StatusForbidden)
				return
			case "/early":
				out.Header().Set("Link", "</a.css>; rel=preload")
				out.WriteHeader(http.StatusEarlyHints)
				out.Header().Del("Link")
			}
			b, err := io.ReadAll(r.Body)
			assert.NoError(t, err)
			out.Header().Set("Trailer", "Sum")
			_, _ = out.Write(b)
			out.Header().Set("Sum", r.Trailer.Get("Sum")+r.Header.Get("Te"))
			out.Header().Set(http.TrailerPrefix+"Late", "1")
		})
		c := w.call()
		c.say("POST /early HTTP/1.1\r\nHost: a\r\nTE: trailers\r\nConnection: TE\r\nTrailer: Sum\r\nTransfer-Encoding: chunked\r\n\r\n5\r\nhello\r\n0\r\nSum: 7\r\n\r\n")
		assert.Contains(t, c.head(), "HTTP/1.1 103 Early Hints\r\nLink: </a.css>; rel=preload\r\n")
		head := c.head()
		assert.Contains(t, head, "HTTP/1.1 200 OK\r\n")
		assert.NotContains(t, head, "Link")
		assert.Contains(t, head, "Trailer: Sum\r\n")
		body := c.head()
		assert.Contains(t, body, "5\r\nhello\r\n0\r\n")
		assert.Contains(t, body, "Sum: 7trailers\r\n")
		assert.Contains(t, body, "Late: 1\r\n")

		held := "POST %s HTTP/1.1\r\nHost: a\r\nExpect: 100-continue\r\nContent-Length: 5\r\n\r\n"
		c.say(fmt.Sprintf(held, "/take"))
		assert.Equal(t, "HTTP/1.1 100 Continue\r\n\r\n", c.head())
		c.say("hello")
		assert.Contains(t, c.head(), "HTTP/1.1 200 OK\r\n")
		c = w.call()
		c.say(fmt.Sprintf(held, "/refuse"))
		assert.Contains(t, c.head(), "HTTP/1.1 403 Forbidden\r\n", "the body is never asked for")
	})
}

func TestSlowBodiesHoldNoBackend(t *testing.T) {
	bubble(t, in("timeouts {\n request_body = \"3s\"\n}", front)+one, func(w *world) {
		asked := 0
		w.start(here, func(out http.ResponseWriter, r *http.Request) {
			asked++
			_, _ = io.Copy(io.Discard, r.Body)
		})
		for _, length := range []int{100, 100_000} {
			c := w.call()
			c.say(fmt.Sprintf("POST / HTTP/1.1\r\nHost: a\r\nContent-Length: %d\r\n\r\n", length))
			began := time.Now()
			for range 3 {
				time.Sleep(2 * time.Second)
				c.say("x")
			}
			assert.Contains(t, c.head(), "HTTP/1.1 408 ")
			assert.Equal(t, 9*time.Second, time.Since(began))
			synctest.Wait()
			assert.Zero(t, asked, "none reaches a backend")
			assert.Equal(t, cause.ClientTimeout, w.log()[len(w.log())-1].Cause)
		}
		status := w.proxy.Status().Upstreams[0].Backends[0]
		assert.Equal(t, "up 0", fmt.Sprint(status.State, " ", status.InFlight))
	})
}

// TestAnAnswerBeforeTheBodyIsWhole: the backend answers while the client still
// sends. Whatever comes after that on the connection belongs to the body, also
// where it looks like a request.
func TestAnAnswerBeforeTheBodyIsWhole(t *testing.T) {
	const inside = "GET /inside HTTP/1.1\r\nHost: a\r\n\r\n"
	for _, framing := range []string{"Content-Length: 1000000", "Content-Length: 20000", "Transfer-Encoding: chunked"} {
		for _, hangsUp := range []bool{true, false} {
			bubble(t, streaming+one, func(w *world) {
				heads := ""
				w.raw(here, func(l *line) {
					for head := l.head(); head != ""; head = l.head() {
						heads += head
						_, _ = io.WriteString(l, "HTTP/1.1 413 Too much\r\nContent-Length: 2\r\n\r\nno")
						if hangsUp {
							return
						}
					}
				})
				c := w.call()
				c.say("POST / HTTP/1.1\r\nHost: a\r\n" + framing + "\r\n\r\n5\r\nhello\r\n")
				head := c.head()
				assert.Contains(t, head, "HTTP/1.1 413 ")
				assert.Contains(t, head, "Connection: close\r\n", "what is left of the body will not be read")
				synctest.Wait()
				c.say(inside + inside)
				assert.Equal(t, "no", c.rest())
				c.Close()
				synctest.Wait()
				assert.NotContains(t, heads, "inside")
				assert.Len(t, w.log(), 1)
			})
		}
	}
}

// TestOddTargetsGoOnAsTheRouteSawThem: HTTP/2 lets through what HTTP/1.1 has no
// way to write.
func TestOddTargetsGoOnAsTheRouteSawThem(t *testing.T) {
	for target, want := range map[string]string{"/a b#c": "/a%20b%23c", "/a%2Fb?x=%20": "/a%2Fb?x=%20", "*": "*", "http://a/x?y": "/x?y"} {
		u, err := url.Parse(target)
		require.NoError(t, err)
		if target == "/a b#c" {
			u = &url.URL{Path: target}
		}
		x := &exchange{conn: &clientConn{}, entry: &entry{identity: &config.Identity{}}, route: &config.Route{}, r: &http.Request{Method: "GET", RequestURI: target, URL: u, Host: "a"}}
		q := x.wireRequest()
		assert.Equal(t, want, q.Target)
		assert.NoError(t, q.Check())
		x.r.Host = "a b"
		assert.Error(t, x.wireRequest().Check(), "and is not laid to the backend")
	}
}

// TestOptionsOfTheServerGoThroughTheRoutes: the library would answer by itself.
func TestOptionsOfTheServerGoThroughTheRoutes(t *testing.T) {
	bubble(t, front+one, func(w *world) {
		w.raw(here, func(l *line) {
			assert.Contains(t, l.head(), "OPTIONS * HTTP/1.1\r\n")
			l.say("HTTP/1.1 204 No content\r\nAllow: GET\r\n\r\n")
		})
		c := w.call()
		c.say("OPTIONS * HTTP/1.1\r\nHost: a\r\nConnection: close\r\n\r\n")
		assert.Contains(t, c.head(), "Allow: GET\r\n")
		c.Close()
		synctest.Wait()
		require.Len(t, w.log(), 1)
		assert.Equal(t, "app.a", w.log()[0].Upstream+"."+w.log()[0].Backend)
	})
}

// TestBothWaysAtOnce: what a client sends is answered before all of it is there.
func TestBothWaysAtOnce(t *testing.T) {
	for _, version := range []string{"1.1", "2"} {
		bubble(t, streaming+strings.Replace(one, "{\n", "{\n http_version = \""+version+"\"\n", 1), func(w *world) {
			w.start(here, func(out http.ResponseWriter, r *http.Request) {
				both := http.NewResponseController(out)
				_ = both.EnableFullDuplex()
				assert.NoError(t, both.Flush())
				var word [10]byte
				for {
					n, err := r.Body.Read(word[:])
					_, _ = out.Write(word[:n])
					if both.Flush() != nil || err != nil {
						return
					}
				}
			})
			c := w.call()
			chunk := func(word string) string {
				if word == "" {
					return "0\r\n\r\n"
				}
				return fmt.Sprintf("%d\r\n%s\r\n", len(word), word)
			}
			c.say("POST / HTTP/1.1\r\nHost: a\r\nTransfer-Encoding: chunked\r\n\r\n")
			assert.Contains(t, c.head(), "HTTP/1.1 200 OK\r\n", version)
			for _, word := range []string{"ebb", "tide", "flood", ""} {
				c.say(chunk(word))
				b := make([]byte, len(chunk(word)))
				_, err := io.ReadFull(c.r, b)
				require.NoError(t, err)
				assert.Equal(t, chunk(word), string(b), version)
			}
			c.Close()
		})
	}
}

// TestABackendThatClosesBetweenRequests loses none: its end is found when the
// connection is used, and another is taken.
func TestABackendThatClosesBetweenRequests(t *testing.T) {
	bubble(t, front+one, func(w *world) {
		connections := 0
		w.raw(here, func(l *line) {
			connections++
			l.head()
			l.say("HTTP/1.1 200 OK\r\nContent-Length: 2\r\n\r\nhi")
			l.head() // the second is read and never answered
		})
		for i := range 5 {
			status, body := w.get(base + "/")
			assert.Equal(t, "200 hi", fmt.Sprint(status, " ", body))
			assert.Equal(t, i+1, connections)
		}
		for _, a := range w.log() {
			assert.Equal(t, 1, a.Attempts)
		}
	})
}

func TestAnswersThatCannotBeUnderstood(t *testing.T) {
	bubble(t, front+one, func(w *world) {
		say := ""
		w.raw(here, func(l *line) {
			l.head()
			l.say(say)
		})
		for text, want := range map[string]string{
			"garbage\r\n\r\n": "502", "HTTP/1.1 200 OK\r\nA: b\r\n c\r\n\r\n": "502", "HTTP/1.1 200 OK\r\nContent-Length: 1\r\nTransfer-Encoding: chunked\r\n\r\n": "502",
			strings.Repeat("HTTP/1.1 100 On\r\n\r\n", 20000): "502", "HTTP/1.1 200 OK\r\n" + strings.Repeat("A: b\r\n", 100000): "502",
			"HTTP/1.1 101 Go\r\nUpgrade: x\r\n\r\n": "502", "HTTP/1.1 200 OK\r\nContent-Length: 5\r\n\r\nhel": "502", "HTTP/1.1 200 OK\r\n\r\nall": "200 all",
		} {
			say = text
			status, body := w.get(base + "/")
			if status != 200 {
				body = "" // an answer of half a length is none
			}
			assert.Equal(t, want, strings.TrimSpace(fmt.Sprint(status, " ", body)), "%.40q", text)
		}
	})
}

func TestErrorsInTheFormThatIsWanted(t *testing.T) {
	page := "errors {\n pages = { \"500-599\" = \"sorry.html\", \"503\" = \"soon.html\" }\n}"
	for more, want := range map[string][3]string{
		page:                               {"text/html; charset=utf-8 <h1>503</h1> no backend is available", "application/problem+json", "text/plain; charset=utf-8 Not Found: "},
		"errors {\n form = \"problem\"\n}": {"application/problem+json", "application/problem+json", "application/problem+json"},
		"errors {\n form = \"text\"\n}":    {"text/plain; charset=utf-8 Service Unavailable: ", "text/plain", "text/plain; charset=utf-8 Not Found: "},
	} {
		bubble(t, "", func(w *world) {
			w.proxy.o.ReadFile = func(name string) ([]byte, error) {
				return map[string][]byte{"soon.html": []byte("<h1>{status}</h1> {reason}"), "sorry.html": []byte("sorry")}[name], nil
			}
			require.NoError(t, w.proxy.Apply(parse(t, strings.Replace(in(more, front), "send_to", "when {\n path = \"/seats\"\n}\nsend_to", 1)+"upstream \"app\" {\n backends = { a = { address = \""+here+"\", weight = 0 } }\n}\n")))
			for i, c := range [3][2]string{{"/seats", "text/html, */*"}, {"/seats", "application/json;q=0.5"}, {"/", ""}} {
				req, err := http.NewRequest("GET", base+c[0], nil)
				require.NoError(t, err)
				req.Header.Set("Accept", c[1])
				res, err := w.client.Do(req)
				require.NoError(t, err)
				b, _ := io.ReadAll(res.Body)
				res.Body.Close()
				assert.Contains(t, res.Header.Get("Content-Type")+" "+string(b), want[i], more)
				if strings.Contains(want[i], "problem") && i == 1 {
					synctest.Wait()
					assert.JSONEq(t, `{"type":"about:blank","title":"Service Unavailable","status":503,"detail":"no backend is available","cause":"no_backend","request_id":"`+w.log()[1].RequestID+`"}`, string(b))
				}
			}
		})
	}
}

func TestHTTP2OnBothSides(t *testing.T) {
	speaks := func(two, clear bool) *http.Protocols {
		p := new(http.Protocols)
		p.SetHTTP1(!two)
		p.SetHTTP2(two && !clear)
		p.SetUnencryptedHTTP2(two && clear)
		return p
	}
	for _, c := range []struct{ front, back, secure bool }{{true, false, false}, {false, true, false}, {true, true, false}, {false, true, true}} {
		bubble(t, "", func(w *world) {
			text := front + "upstream \"app\" {\n backends = { a = \"" + here + "\" }\n"
			if c.front {
				text = strings.Replace(text, "  route", "  clear_http2 = true\n  route", 1)
			}
			if c.back {
				text += " http_version = \"2\"\n probe \"http\" {\n path = \"/ready\"\n every = \"1s\"\n}\n"
			}
			if c.secure {
				text += "tls {\n verify = false\n}\n"
			}
			require.NoError(t, w.proxy.Apply(parse(t, text+"}\n")))
			l, err := w.net.listen("tcp", here)
			require.NoError(t, err)
			s := &http.Server{Protocols: speaks(c.back, !c.secure), Handler: http.HandlerFunc(func(out http.ResponseWriter, r *http.Request) {
				b, err := io.ReadAll(r.Body)
				assert.NoError(t, err)
				out.Header().Set("Trailer", "Sum")
				fmt.Fprintf(out, "%s %s %s %s", r.Proto, r.URL.RequestURI(), b, r.Header.Get("Via"))
				out.Header().Set("Sum", r.Trailer.Get("Sum"))
			})}
			w.backends[here] = s
			if c.secure {
				has := files(t, "a.example")
				pair, err := tls.X509KeyPair(has["a.example.pem"], has["a.example.key"])
				require.NoError(t, err)
				s.TLSConfig = &tls.Config{Certificates: []tls.Certificate{pair}}
				go func() { _ = s.ServeTLS(l, "", "") }()
			} else {
				go func() { _ = s.Serve(l) }()
			}
			w.client.Transport = &http.Transport{DialContext: w.net.dial, Protocols: speaks(c.front, true)}
			req, err := http.NewRequest("POST", base+"/a%2Fb?x=1", io.NopCloser(strings.NewReader("hello")))
			require.NoError(t, err)
			req.ContentLength = -1
			req.Trailer = http.Header{"Sum": {"7"}}
			res, err := w.client.Do(req)
			require.NoError(t, err)
			b, err := io.ReadAll(res.Body)
			require.NoError(t, err)
			proto, via := "HTTP/1.1", "1.1"
			if c.back {
				proto = "HTTP/2.0"
			}
			if c.front {
				via = "2"
			}
			assert.Equal(t, proto+" /a%2Fb?x=1 hello "+via+" kestrix", string(b))
			assert.Equal(t, "7", res.Trailer.Get("Sum"))
			time.Sleep(5 * time.Second)
			assert.Equal(t, "up", w.proxy.Status().Upstreams[0].Backends[0].State, "%+v", w.news("app.a"))
		})
	}
}
