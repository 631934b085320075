package proxy

import (
	"io"
	"net"
	"net/http"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestALengthIsSaidWhereThereIsABody, and where a client said that it has none.
func TestALengthIsSaidWhereThereIsABody(t *testing.T) {
	for request, want := range map[string]string{
		"GET / HTTP/1.1\r\nHost: a\r\n\r\n":                                                    "",
		"POST / HTTP/1.1\r\nHost: a\r\n\r\n":                                                   "",
		"POST / HTTP/1.1\r\nHost: a\r\nContent-Length: 0\r\n\r\n":                              "Content-Length: 0",
		"POST / HTTP/1.1\r\nHost: a\r\nContent-Length: 2\r\n\r\nhi":                            "Content-Length: 2",
		"POST / HTTP/1.1\r\nHost: a\r\nTransfer-Encoding: chunked\r\n\r\n0\r\n\r\n":            "Content-Length: 0",
		"POST / HTTP/1.1\r\nHost: a\r\nTransfer-Encoding: chunked\r\n\r\n2\r\nhi\r\n0\r\n\r\n": "Content-Length: 2",
	} {
		bubble(t, front+one, func(w *world) {
			said := make(chan string, 1)
			w.raw(here, func(l *line) {
				for text := range strings.SplitSeq(l.head(), "\r\n") {
					if strings.HasPrefix(text, "Content-Length") || strings.HasPrefix(text, "Transfer-Encoding") {
						said <- text
					}
				}
				close(said)
				_, _ = io.WriteString(l, "HTTP/1.1 204 No Content\r\nConnection: close\r\n\r\n")
			})
			l := w.call()
			_, err := io.WriteString(l, request)
			require.NoError(t, err)
			assert.Contains(t, l.head(), "204")
			assert.Equal(t, want, <-said, "%q", request)
			l.Close()
		})
	}
}

// TestAConnectionThatNobodyTakesIsClosed: its listener is going, or has become one of tcp.
func TestAConnectionThatNobodyTakesIsClosed(t *testing.T) {
	here, there := net.Pipe()
	new(server).hand(here)
	_ = there.SetReadDeadline(time.Now().Add(time.Second)) // an end that does not come
	_, err := there.Read(make([]byte, 1))
	assert.ErrorIs(t, err, io.EOF)
}

// TestGivenListenersAreUsed, and others are opened.
func TestGivenListenersAreUsed(t *testing.T) {
	var asked []string
	w := newWorldWith(t, "", func(o *Options) {
		listen := o.Listen
		o.Given = func(network, address string) net.Listener {
			if address != "127.0.0.1:8080" {
				return nil
			}
			l, err := listen(network, address)
			assert.NoError(t, err)
			return l
		}
		o.Listen = func(network, address string) (net.Listener, error) {
			asked = append(asked, address)
			return listen(network, address)
		}
	})
	defer w.close()
	w.start(here, nil)
	require.NoError(t, w.proxy.Apply(parse(t, "control {\n listen = \"127.0.0.1:9900\"\n}\n"+front+one)))
	status, _ := w.get(base + "/")
	assert.Equal(t, 200, status)
	assert.Equal(t, []string{"127.0.0.1:9900"}, asked)
}

// TestALengthOfHTTP2Stays, and makes room for a trailer only where there is one.
func TestALengthOfHTTP2Stays(t *testing.T) {
	for trailer, want := range map[bool]string{false: "Content-Length: 100000", true: "Transfer-Encoding: chunked"} {
		bubble(t, front+strings.Replace(one, "backends", "http_version = \"2\"\n backends", 1), func(w *world) {
			w.start(here, func(out http.ResponseWriter, _ *http.Request) {
				if trailer {
					out.Header().Set("Trailer", "Sum")
				}
				out.Header().Set("Content-Length", "100000")
				_, _ = out.Write(make([]byte, 100_000))
				if trailer {
					out.Header().Set("Sum", "15")
				}
			})
			l := w.call()
			l.say("GET / HTTP/1.1\r\nHost: a\r\nTE: trailers\r\n\r\n")
			assert.Contains(t, l.head(), want)
			l.Close()
		})
	}
}

// TestAnAnswerThatIsNotRepeatedHasBegun: its backend is not silent, however long the rest
// takes, and whether or not its status is one of those that are tried again.
func TestAnAnswerThatIsNotRepeatedHasBegun(t *testing.T) {
	two := strings.Replace(one, "192.0.2.1:80\"", "192.0.2.1:80\"\n b = \"192.0.2.2:80\"", 1)
	bubble(t, front+strings.Replace(two, "backends", "algorithm = \"first-fit\"\nsuspend {\n after = 1\n keep = \"0%\"\n silent_after = \"3s\"\n on = [\"502\"]\n}\nretry {\n on = [\"503\"]\n}\nbackends", 1), func(w *world) {
		w.start(here, func(out http.ResponseWriter, _ *http.Request) {
			out.WriteHeader(http.StatusServiceUnavailable)
			_ = http.NewResponseController(out).Flush()
			time.Sleep(8 * time.Second)
		})
		res, err := w.client.Post(base+"/", "text/plain", strings.NewReader("x"))
		require.NoError(t, err)
		_, _ = io.Copy(io.Discard, res.Body)
		res.Body.Close()
		assert.Equal(t, 503, res.StatusCode)
		assert.Equal(t, "up", w.proxy.Status().Upstreams[0].Backends[0].State, "%+v", w.news("app.a"))
	})
}
