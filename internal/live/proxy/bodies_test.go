package proxy

import (
	"bytes"
	"crypto/sha256"
	"fmt"
	"io"
	"math/rand/v2"
	"net/http"
	"strings"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kestrix/internal/core/cause"
)

const retrying = "upstream \"app\" {\n backends = { a = \"192.0.2.1:80\", b = \"192.0.2.2:80\" }\n algorithm = \"first-fit\"\n retry {\n attempts = 3\n on = [\"connect\", \"reset\", \"503\"]\n }\n}\n"

// TestABodyThatStillComesIsSentAgainWhole: the first backend refuses it while its
// end is not there yet, and what comes meanwhile is more than is kept.
func TestABodyThatStillComesIsSentAgainWhole(t *testing.T) {
	bubble(t, front+retrying, func(w *world) {
		w.raw(here, func(l *line) {
			l.head()
			_, _ = io.CopyN(io.Discard, l.r, 1000)
			l.say("HTTP/1.1 503 Not now\r\nContent-Length: 0\r\n\r\n")
			_, _ = io.Copy(io.Discard, l.r)
		})
		got := make(chan int64, 1)
		w.start("192.0.2.2:80", func(out http.ResponseWriter, r *http.Request) {
			n, err := io.Copy(io.Discard, r.Body)
			assert.NoError(t, err)
			got <- n
		})
		c := w.call()
		piece := func(n int) string { return fmt.Sprintf("%x\r\n%s\r\n", n, strings.Repeat("x", n)) }
		c.say("PUT / HTTP/1.1\r\nHost: a\r\nTransfer-Encoding: chunked\r\n\r\n" + piece(60_000))
		synctest.Wait() // it was refused, and is to be sent again
		c.say(piece(100_000) + piece(100_000) + "0\r\n\r\n")
		assert.Contains(t, c.head(), "HTTP/1.1 200 OK\r\n")
		assert.EqualValues(t, 260_000, <-got)
		assert.Equal(t, 2, w.log()[0].Attempts)
		c.Close()
	})
}

// TestNothingIsMixedUp has clients send bodies of all sizes to backends that take
// them, refuse them half-way, or break off, over connections that are kept: each
// request that is answered is answered for itself, and none is lost for what
// became of the one before it. Over HTTP/2 a backend that refuses ends the
// connection as well, which others are under way on.
func TestNothingIsMixedUp(t *testing.T) {
	t.Run("HTTP/1.1", func(t *testing.T) { mixed(t, "1.1") })
	t.Run("HTTP/2", func(t *testing.T) { mixed(t, "2") })
}

func mixed(t *testing.T, version string) {
	bubble(t, front+strings.Replace(retrying, "algorithm = \"first-fit\"", "http_version = \""+version+"\"", 1), func(w *world) {
		for k, a := range []string{"192.0.2.1:80", "192.0.2.2:80"} {
			var mu sync.Mutex
			chance := rand.New(rand.NewPCG(1, uint64(k)))
			w.start(a, func(out http.ResponseWriter, r *http.Request) {
				mu.Lock()
				refuses, reads := chance.IntN(2) == 0, chance.Int64N(100_000)
				mu.Unlock()
				id := r.Header.Get("X-Id")
				does := r.Header.Get("X-Does")
				if does == "sometimes" && refuses {
					_ = http.NewResponseController(out).EnableFullDuplex()
					_, _ = io.CopyN(io.Discard, r.Body, reads)
					out.Header().Set("Connection", "close")
					out.WriteHeader(503)
					return
				}
				switch does {
				case "refuse":
					out.WriteHeader(413)
					_, _ = io.WriteString(out, id)
					return
				case "break":
					if version == "2" {
						panic(http.ErrAbortHandler)
					}
					c, _, err := http.NewResponseController(out).Hijack()
					if assert.NoError(t, err) {
						c.Close()
					}
					return
				}
				sum := sha256.New()
				if _, err := io.Copy(sum, r.Body); err == nil {
					fmt.Fprintf(out, "%s %x %s", id, sum.Sum(nil), strings.Repeat("-", int(reads)))
				}
			})
		}
		var wg sync.WaitGroup
		for k := range 12 {
			wg.Go(func() {
				client := &http.Client{Transport: &http.Transport{DialContext: w.net.dial}}
				defer client.CloseIdleConnections()
				draw := rand.New(rand.NewPCG(2, uint64(k)))
				rounds := 40
				if underRace {
					rounds = 12 // see heavy
				}
				for i := range rounds {
					id := fmt.Sprintf("%d.%d", k, i)
					does := []string{"", "", "", "refuse", "break", "sometimes"}[draw.IntN(6)]
					size := []int{0, 10, wholeBody, wholeBody + 1, keptBody + 1, 300_000}[draw.IntN(6)]
					text := bytes.Repeat([]byte{byte('a' + i%26)}, size)
					var body io.Reader = bytes.NewReader(text)
					if draw.IntN(2) == 0 {
						body = io.MultiReader(body) // in chunks
					}
					req, err := http.NewRequest([]string{"POST", "PUT"}[draw.IntN(2)], base+"/", body)
					require.NoError(t, err)
					req.Header.Set("X-Id", id)
					req.Header.Set("X-Does", does)
					res, err := client.Do(req)
					if !assert.NoError(t, err, "%s, %d bytes, %q", id, size, does) {
						continue
					}
					got, err := io.ReadAll(res.Body)
					res.Body.Close()
					assert.NoError(t, err)
					lost := version == "2" && size > keptBody && res.StatusCode == 502 // what is not kept cannot be sent again
					switch {
					case lost:
					case does == "break":
						assert.Equal(t, 502, res.StatusCode)
					case does == "refuse":
						assert.Equal(t, fmt.Sprint("413 ", id), fmt.Sprint(res.StatusCode, " ", string(got)))
					case does == "" || res.StatusCode != 503 && res.StatusCode != 502:
						assert.Equal(t, 200, res.StatusCode)
						assert.True(t, bytes.HasPrefix(got, fmt.Appendf(nil, "%s %x ", id, sha256.Sum256(text))), "%s, %d bytes, %q: %.80q", id, size, does, got)
					}
				}
			})
		}
		wg.Wait()
	})
}

// TestAClientThatTakesNothingIsLetGo: writing to it fails after idle, by HTTP/1.1, as an
// event stream and over tcp, and its backend is free again.
func TestAClientThatTakesNothingIsLetGo(t *testing.T) {
	big := strings.Repeat("tide ", 200_000)
	for name, c := range map[string]struct {
		kind  string
		cause cause.Cause
	}{"an answer": {"text/plain", cause.ClientTimeout}, "an event stream": {"text/event-stream", cause.ClientTimeout}} {
		t.Run(name, func(t *testing.T) {
			bubble(t, front+"upstream \"app\" {\n backends = { a = \"192.0.2.1:80\" }\n timeouts {\n idle = \"3s\"\n }\n}\n", func(w *world) {
				w.net.room = 64 << 10
				w.start(here, func(out http.ResponseWriter, r *http.Request) {
					out.Header().Set("Content-Type", c.kind)
					_, _ = io.WriteString(out, big)
				})
				l := w.call()
				l.say("GET / HTTP/1.1\r\nHost: a\r\n\r\n")
				time.Sleep(2 * time.Second)
				require.Empty(t, w.log())
				assert.Equal(t, 1, w.proxy.Status().Upstreams[0].Backends[0].InFlight)
				time.Sleep(6 * time.Second)
				require.Len(t, w.log(), 1)
				assert.Equal(t, c.cause, w.log()[0].Cause)
				b := w.proxy.Status().Upstreams[0].Backends[0]
				assert.Equal(t, []any{0, uint64(0), "up"}, []any{b.InFlight, b.Failed, b.State}, "it is no failure of the backend")
				l.Close()

				// One that takes it slowly gets all of it.
				l = w.call()
				l.say("GET / HTTP/1.1\r\nHost: a\r\nConnection: close\r\n\r\n")
				got := 0
				for buf := make([]byte, 32<<10); ; time.Sleep(500 * time.Millisecond) {
					n, err := l.r.Read(buf)
					if got += n; err != nil {
						break
					}
				}
				assert.Greater(t, got, len(big))
				l.Close()
			})
		})
	}
}
