package proxy

import (
	"fmt"
	"io"
	"net/http"
	"regexp"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kestrix/internal/core/cause"
	"kestrix/internal/core/status"
)

const get = "GET / HTTP/1.1\r\nHost: a\r\n\r\n"

var firstLine = regexp.MustCompile(`HTTP/1\.1 (\d{3}) `)

// statuses returns those of the answers in what a client got.
func statuses(got string) string {
	var out []string
	for _, m := range firstLine.FindAllStringSubmatch(got, -1) {
		out = append(out, m[1])
	}
	return strings.Join(out, " ")
}

// TestWhatComesBehindARequestDoesNotLoseItsAnswer: bytes and the end of the
// client's direction behind a whole request, at once and later, while the backend
// takes its time.
func TestWhatComesBehindARequestDoesNotLoseItsAnswer(t *testing.T) {
	const post = "POST / HTTP/1.1\r\nHost: a\r\nContent-Length: 5\r\n\r\nhello"
	for _, c := range []struct {
		sent, later string
		ends        bool
		want        string
		reached     int
	}{
		{sent: post + "\r\n", ends: true, want: "200", reached: 1},
		{sent: post + "\r\n\r\n" + get + "\r\n" + get, ends: true, want: "200 200 200", reached: 3},
		{sent: post, later: "\r\n", want: "200", reached: 1},
		{sent: post, later: "\r\n" + get, ends: true, want: "200 200", reached: 2},
		{sent: "\r\n\r\n" + get, ends: true, want: "200", reached: 1},
		{sent: get, ends: true, want: "200", reached: 1},
		{sent: get + get + get, ends: true, want: "200 200 200", reached: 3},
		{sent: get + "GET / b HTTP/1.1\r\nHost: a\r\n\r\n", want: "200 400", reached: 1},
		{sent: post, later: "nonsense\r\n\r\n", want: "200 400", reached: 1},
		{sent: post + "\r\nnonsense\r\n\r\n", ends: true, want: "200 400", reached: 1},
		{sent: get + "GET / HT", ends: true, want: "200", reached: 1},
		{sent: get + strings.Repeat("\r\n", 9), want: "200 400", reached: 1},
		{sent: "\n" + get, want: "400"},
		{sent: "\r" + get, want: "400"},
		{sent: get + "PRI * HTTP/2.0\r\n\r\nSM\r\n\r\n", want: "200 400", reached: 1},
	} {
		bubble(t, in("clear_http2 = true", front)+one, func(w *world) {
			reached := 0
			w.start(here, func(out http.ResponseWriter, r *http.Request) {
				_, err := io.Copy(io.Discard, r.Body)
				assert.NoError(t, err)
				reached++
				time.Sleep(500 * time.Millisecond)
			})
			l := w.call()
			l.say(c.sent)
			if c.later != "" {
				time.Sleep(100 * time.Millisecond)
				l.say(c.later)
			}
			if c.ends {
				_ = l.Conn.(*pipeEnd).CloseWrite()
			}
			_ = l.SetReadDeadline(time.Now().Add(5 * time.Second))
			assert.Equal(t, c.want, statuses(l.rest()), "%q then %q, end %v", c.sent, c.later, c.ends)
			assert.Equal(t, c.reached, reached, "%q", c.sent)
			for i, a := range w.log() {
				assert.NotEqual(t, cause.ClientLeft, a.Cause, "%q, %d", c.sent, i)
			}
			l.Close()
			synctest.Wait()
		})
	}
}

// TestAClientThatEndsItsDirection: the answer has half_closed to begin, and then
// all the time it takes; an event stream may pause for as long.
func TestAClientThatEndsItsDirection(t *testing.T) {
	for path, c := range map[string]struct {
		cause string
		took  time.Duration
		body  string
	}{
		"/soon":   {"", 2900 * time.Millisecond, "all"},
		"/late":   {"client_left", 0, ""},
		"/slowly": {"", 10 * time.Second, "0123456789"},
		"/events": {"", 10 * time.Second, "0123456789"},
		"/quiet":  {"", 0, "0"},
	} {
		bubble(t, in("timeouts {\n half_closed = \"3s\"\n}", front)+one, func(w *world) {
			w.start(here, func(out http.ResponseWriter, r *http.Request) {
				pause, pieces := time.Second, 10
				switch r.URL.Path {
				case "/soon":
					time.Sleep(2900 * time.Millisecond)
					_, _ = io.WriteString(out, "all")
					return
				case "/late":
					<-r.Context().Done()
					return
				case "/quiet":
					pause = time.Minute
					fallthrough
				case "/events":
					out.Header().Set("Content-Type", "text/event-stream")
				}
				for i := range pieces {
					_, _ = fmt.Fprint(out, i)
					_ = http.NewResponseController(out).Flush()
					select {
					case <-time.After(pause):
					case <-r.Context().Done():
						return
					}
				}
			})
			l := w.call()
			l.say("GET " + path + " HTTP/1.0\r\nHost: a\r\n\r\n")
			_ = l.Conn.(*pipeEnd).CloseWrite()
			l.head()
			body := l.rest()
			synctest.Wait()
			require.Len(t, w.log(), 1)
			a := w.log()[0]
			assert.Equal(t, c.cause, a.Cause.String(), path)
			assert.Equal(t, c.took, a.Duration, path)
			assert.Equal(t, c.body, strings.TrimSuffix(body, "unexpected EOF"), path)
		})
	}
}

// TestRefusalsAreTheProxysOwn: what the library would refuse by itself has our
// form, a line in the log and a cause.
func TestRefusalsAreTheProxysOwn(t *testing.T) {
	for text, want := range map[string]string{
		"GET / HTTP/1.1\r\nHost: a b\r\n\r\n":                                        "400",
		"GET / HTTP/1.1\r\nHost: u@a\r\n\r\n":                                        "400",
		"GET / HTTP/1.1\r\nHost: \"a\"\r\n\r\n":                                      "400",
		"GET / HTTP/1.1\r\nHost: a/b\r\n\r\n":                                        "400",
		"GET / HTTP/1.1\r\nHost: [::1\r\n\r\n":                                       "400",
		"GET / HTTP/1.1\r\nHost: *\r\n\r\n":                                          "400",
		"GET / HTTP/1.1\r\nHost: a:65536\r\n\r\n":                                    "400",
		"GET / HTTP/1.1\r\nHost: a:0\r\n\r\n":                                        "400",
		"GET / HTTP/1.1\r\nHost: a:b\r\n\r\n":                                        "400",
		"GET / HTTP/1.1\r\nHost: a:1:2\r\n\r\n":                                      "400",
		"POST / HTTP/1.1\r\nHost: a\r\nExpect: a-pony\r\nContent-Length: 1\r\n\r\nx": "417",
		"POST / HTTP/1.1\r\nHost: a\r\nTransfer-Encoding: chunked\r\nTrailer: A, content-length\r\n\r\n0\r\n\r\n":    "400",
		"POST / HTTP/1.1\r\nHost: a\r\nTransfer-Encoding: chunked\r\n\r\n5\r\nhello\r\n0\r\nB\x01: 1\r\n\r\n":        "400",
		"POST /at-once HTTP/1.1\r\nHost: a\r\nTransfer-Encoding: chunked\r\n\r\n5\r\nhello\r\n0\r\nB\x01: 1\r\n\r\n": "400",
		"POST / HTTP/1.1\r\nHost: a\r\nTransfer-Encoding: chunked\r\n\r\n5\r\nhelloX":                                "400",
		"GET * HTTP/1.1\r\nHost: a\r\n\r\n":           "400",
		"GET a HTTP/1.1\r\nHost: a\r\n\r\n":           "400",
		"GET ftp://a/ HTTP/1.1\r\nHost: a\r\n\r\n":    "421",
		"GET https://a/ HTTP/1.1\r\nHost: a\r\n\r\n":  "421",
		"GET http://u@a/ HTTP/1.1\r\nHost: a\r\n\r\n": "400",
		"GET http:///x HTTP/1.1\r\nHost: a\r\n\r\n":   "400",
		"CONNECT /x HTTP/1.1\r\nHost: a\r\n\r\n":      "400",
		"CONNECT a:443 HTTP/1.1\r\nHost: a\r\n\r\n":   "501",
		"TRACE / HTTP/1.1\r\nHost: a\r\n\r\n":         "501",
		"PRI * HTTP/2.0\r\n\r\nXX\r\n\r\n":            "400",
		"PRI * HTTP/2.0\r\nHost: a\r\n\r\n":           "400",
		"PRI / HTTP/1.1\r\nHost: a\r\n\r\n":           "400",
		"\r\nPRI * HTTP/2.0\r\n\r\nSM\r\n\r\nGET / HTTP/1.1\nHost: a\nContent-Length: 1\nTransfer-Encoding: chunked\n\n": "400",
		"GET / HTTP/1.1\nHost: a\n\n": "400",
		"POST / HTTP/1.1\r\nHost: a\r\nContent-Length: 1\r\nTransfer-Encoding: chunked\r\n\r\n0\r\n\r\n": "400",
	} {
		bubble(t, strings.Replace(in("clear_http2 = true", front), "  route", "  route \"at-once\" {\n when {\n path = \"/at-once\"\n }\n stream_requests = true\n send_to = upstream.app\n }\n  route", 1)+one, func(w *world) {
			whole := 0
			w.start(here, func(_ http.ResponseWriter, r *http.Request) {
				if _, err := io.Copy(io.Discard, r.Body); err == nil {
					whole++
				}
			})
			l := w.call()
			l.say(text)
			head := l.head()
			assert.Contains(t, head, "HTTP/1.1 "+want+" ", "%q", text)
			assert.Contains(t, head, "Via: 1.1 kestrix\r\n", "our own answer to %q", text)
			l.Close()
			synctest.Wait()
			assert.Zero(t, whole, "%q", text)
			require.Len(t, w.log(), 1, "%q", text)
			assert.Equal(t, want, fmt.Sprint(w.log()[0].Status), "%q", text)
			assert.Contains(t, []cause.Cause{cause.Malformed, cause.NotImplemented}, w.log()[0].Cause)
			if a := w.log()[0]; a.Upstream == "" {
				assert.Equal(t, []status.Refused{{Frontend: "web", Cause: a.Cause.String(), Requests: 1}}, w.proxy.Status().Refused)
			}
		})
	}
}

// TestAnswersCutShort: what a backend breaks off before anything went to the
// client is a failure, and is tried again where a reset may be.
func TestAnswersCutShort(t *testing.T) {
	retry := strings.Replace(one, "}\n}\n", "}\n}\n", 1)
	retry = strings.Replace(retry, "backends = {", "retry {\n attempts = 3\n on = [\"reset\"]\n }\n backends = {", 1)
	for _, c := range []struct{ upstream, method, answer, want string }{
		{one, "GET", "Content-Length: 1000\r\n\r\nfour", "502"},
		{one, "GET", "Content-Length: 100000\r\n\r\nfour", "502"},
		{one, "GET", "Transfer-Encoding: chunked\r\n\r\n4\r\nfour\r\n", "200"}, // it had gone on at once
		{one, "GET", "Transfer-Encoding: chunked\r\n\r\n4\r\nfour\r\nx", "502"},
		{retry, "GET", "Content-Length: 1000\r\n\r\nfour", "200"},
		{retry, "POST", "Content-Length: 1000\r\n\r\nfour", "502"},
	} {
		bubble(t, front+c.upstream, func(w *world) {
			attempts := 0
			w.raw(here, func(l *line) {
				for l.head() != "" {
					if attempts++; attempts < 3 {
						l.say("HTTP/1.1 200 OK\r\n" + c.answer)
						return
					}
					l.say("HTTP/1.1 200 OK\r\nContent-Length: 2\r\n\r\nok")
				}
			})
			l := w.call()
			l.say(c.method + " / HTTP/1.1\r\nHost: a\r\nContent-Length: 0\r\n\r\n")
			assert.Contains(t, l.head(), "HTTP/1.1 "+c.want+" ", "%+v", c)
			l.Close()
			synctest.Wait()
			require.Len(t, w.log(), 1)
			assert.Equal(t, c.want, fmt.Sprint(w.log()[0].Status))
		})
	}
}

// TestABackendThatLies: its answers are read as strictly as requests. Nothing of
// what is ambiguous reaches a client, and nothing of one answer the next client.
func TestABackendThatLies(t *testing.T) {
	for answer, want := range map[string]string{
		"HTTP/1.1 200 OK\r\nA: " + strings.Repeat("a", 300<<10):                                                   "502",
		strings.Repeat("HTTP/1.1 103 Early Hints\r\nLink: </a>\r\n\r\n", 10_000) + "HTTP/1.1 200 OK\r\n\r\n":      "502",
		"HTTP/1.1 200 OK\r\nContent-Length: 2\r\nContent-Length: 3\r\n\r\nokk":                                    "502",
		"HTTP/1.1 200 OK\r\nContent-Length: 2, 2\r\n\r\nok":                                                       "502",
		"HTTP/1.1 200 OK\r\nContent-Length: 0x2\r\n\r\nok":                                                        "502",
		"HTTP/1.1 200 OK\r\nContent-Length: 2\r\nTransfer-Encoding: chunked\r\n\r\n0\r\n\r\n":                     "502",
		"HTTP/1.1 200 OK\r\nTransfer-Encoding: gzip, chunked\r\n\r\n0\r\n\r\n":                                    "502",
		"HTTP/1.0 200 OK\r\nTransfer-Encoding: chunked\r\n\r\n0\r\n\r\n":                                          "502",
		"HTTP/1.1 101 Switching Protocols\r\nConnection: Upgrade\r\nUpgrade: x\r\n\r\n":                           "502",
		"HTTP/1.1 204 No Content\r\nContent-Length: 5\r\n\r\nhello":                                               "204",
		"HTTP/1.1 304 Not Modified\r\nContent-Length: 5\r\n\r\nhello":                                             "304",
		"HTTP/1.1 204 No Content\r\nTransfer-Encoding: chunked\r\n\r\n5\r\nhello\r\n0\r\n\r\n":                    "204",
		"HTTP/1.1 200 OK\r\nContent-Length: 2\r\n\r\nokHTTP/1.1 200 OK\r\nContent-Length: 6\r\n\r\npoison":        "200",
		"HTTP/1.1 200 OK\r\nTransfer-Encoding: chunked\r\n\r\n2\r\nok\r\n0\r\n\r\nHTTP/1.1 404 Not Found\r\n\r\n": "200",
		"HTTP/1.1 200 OK\nContent-Length: 2\n\nok":                                                                "502",
		"HTTP/1.1 20 OK\r\n\r\n": "502", "HTTP/2 200 OK\r\n\r\n": "502", "ICY 200 OK\r\n\r\n": "502",
		"HTTP/1.1 200 OK\r\nA : b\r\n\r\n": "502", "HTTP/1.1 200 OK\r\nA: b\r\n c\r\n\r\n": "502", "HTTP/1.1 200 OK\r\nA: \x00\r\n\r\n": "502",
	} {
		bubble(t, front+one, func(w *world) {
			w.raw(here, func(l *line) {
				for head := l.head(); head != ""; head = l.head() {
					if strings.HasPrefix(head, "GET /next") {
						l.say("HTTP/1.1 200 OK\r\nContent-Length: 4\r\n\r\nnext")
						continue
					}
					l.say(answer)
				}
			})
			l := w.call()
			l.say(get)
			head := l.head()
			for strings.HasPrefix(head, "HTTP/1.1 103 ") {
				head = l.head()
			}
			assert.Contains(t, head, "HTTP/1.1 "+want+" ", "%.80q", answer)
			if want[0] != '2' && want[0] != '3' {
				assert.NotContains(t, head, "A: ")
			}
			status, body := w.get(base + "/next")
			assert.Equal(t, "200 next", fmt.Sprint(status, " ", body), "after %.80q", answer)
			l.Close()
		})
	}
}

// TestTrailersOfShortRequests: they are passed on, announced or not, though the
// body is collected.
func TestTrailersOfShortRequests(t *testing.T) {
	for _, announced := range []string{"", "Trailer: Sum\r\n"} {
		bubble(t, front+one, func(w *world) {
			got := ""
			w.raw(here, func(l *line) {
				got = l.head() + l.head()
				l.say("HTTP/1.1 204 No Content\r\n\r\n")
			})
			l := w.call()
			l.say("POST / HTTP/1.1\r\nHost: a\r\n" + announced + "Transfer-Encoding: chunked\r\n\r\n2\r\nok\r\n0\r\nSum: 7\r\n\r\n")
			assert.Contains(t, l.head(), " 204 ")
			assert.Contains(t, got, "Transfer-Encoding: chunked\r\n")
			assert.Contains(t, got, "2\r\nok\r\n0\r\nSum: 7\r\n\r\n")
			l.Close()
		})
	}
}

// TestTrailersOfShortAnswers: they are passed on, announced or not.
func TestTrailersOfShortAnswers(t *testing.T) {
	for _, announced := range []string{"", "Trailer: Sum\r\n"} {
		bubble(t, front+one, func(w *world) {
			w.raw(here, func(l *line) {
				for l.head() != "" {
					l.say("HTTP/1.1 200 OK\r\n" + announced + "Transfer-Encoding: chunked\r\n\r\n2\r\nok\r\n0\r\nSum: 7\r\n\r\n")
				}
			})
			l := w.call()
			l.say("GET / HTTP/1.1\r\nHost: a\r\nTE: trailers\r\nConnection: TE\r\n\r\n")
			assert.Contains(t, l.head(), "Transfer-Encoding: chunked\r\n")
			assert.Equal(t, "2\r\nok\r\n0\r\nSum: 7\r\n\r\n", l.head())
			l.Close()
		})
	}
}

// TestRewritingBeginsWithWhatRoutesMatched: no spelling of a path keeps a prefix that
// its route drops, or leads out of what is prepended.
func TestRewritingBeginsWithWhatRoutesMatched(t *testing.T) {
	inner := "    when {\n path = \"/api/**\"\n }\n    rewrite {\n %s\n }\n    send_to"
	for _, c := range []struct{ rewrite, target, want string }{
		{`drop_prefix = "/api"`, "/api/x?a=%61", "/x?a=%61"},
		{`drop_prefix = "/api"`, "/x/../api/secret", "/secret"},
		{`drop_prefix = "/api"`, "/%61pi/x", "/x"},
		{`drop_prefix = "/api"`, "/api/%2e%2e/api/y", "/y"},
		{`prepend = "/tenant-a"`, "/../api/../api/secret", "/tenant-a/api/secret"},
		{`prepend = "/tenant-a"`, "/api/%2E%2e/%2e./api", "/tenant-a/api"},
		{`substitute = { "/api/([a-z|]+)" = "/$1" }`, "/api/%61", "/a"},
		{`host = "inside.example"`, "/x/../api/%61", "/x/../api/%61"},
	} {
		bubble(t, strings.Replace(front, "    send_to", strings.Replace(inner, "%s", c.rewrite, 1), 1)+one, func(w *world) {
			got := ""
			w.raw(here, func(l *line) {
				_, rest, _ := strings.Cut(l.head(), " ")
				got, _, _ = strings.Cut(rest, " ")
				l.say("HTTP/1.1 204 No Content\r\n\r\n")
			})
			l := w.call()
			l.say("GET " + c.target + " HTTP/1.1\r\nHost: a\r\n\r\n")
			assert.Contains(t, l.head(), " 204 ", c.target)
			assert.Equal(t, c.want, got, "%s of %s", c.rewrite, c.target)
			l.Close()
		})
	}
}
