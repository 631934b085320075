package proxy

import (
	"bufio"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"net/http"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kestrix/internal/core/config"
)

// busyClients ask by kept connections, one request after the other, until stop is set: by
// HTTP/1.1 as plain text, and by HTTP/2. They count what was answered, and what was sent on
// a connection that had been accepted and had no answer.
type busyClients struct {
	stop           atomic.Bool
	answered, lost atomic.Int64
	wg             sync.WaitGroup
}

func (b *busyClients) start(w *world, n int) {
	for i := range n {
		b.wg.Go(func() { b.one(w, rand.New(rand.NewPCG(7, uint64(i)))) })
		b.wg.Go(func() { b.two(w, rand.New(rand.NewPCG(8, uint64(i)))) })
	}
}

// one is a client of HTTP/1.1.
func (b *busyClients) one(w *world, r *rand.Rand) {
	for !b.stop.Load() {
		c, err := w.net.dial(w.t.Context(), "tcp", "127.0.0.1:8080")
		if err != nil {
			time.Sleep(10 * time.Millisecond) // the listener is closed
			continue
		}
		l := &line{w.t, c, bufio.NewReader(c)}
		for kept := true; kept && !b.stop.Load(); {
			body := strings.Repeat("x", r.IntN(2000))
			if _, err := fmt.Fprintf(l, "POST /%d HTTP/1.1\r\nHost: a\r\nContent-Length: %d\r\n\r\n%s", len(body), len(body), body); err != nil {
				w.t.Logf("HTTP/1.1: sending: %v", err)
				b.lost.Add(1)
				break
			}
			res, err := http.ReadResponse(l.r, nil)
			if err != nil {
				w.t.Logf("HTTP/1.1: reading: %v", err)
				b.lost.Add(1)
				break
			}
			_, err = io.Copy(io.Discard, res.Body)
			if err != nil || res.StatusCode != 200 {
				w.t.Logf("HTTP/1.1: %v, status %d", err, res.StatusCode)
				b.lost.Add(1)
				break
			}
			b.answered.Add(1)
			kept = !res.Close
			time.Sleep(time.Duration(r.IntN(30)) * time.Millisecond)
		}
		l.Close()
	}
}

// two is a client of HTTP/2.
func (b *busyClients) two(w *world, r *rand.Rand) {
	speaks := new(http.Protocols)
	speaks.SetUnencryptedHTTP2(true)
	t := &http.Transport{DialContext: w.net.dial, Protocols: speaks}
	defer t.CloseIdleConnections()
	for !b.stop.Load() {
		res, err := (&http.Client{Transport: t}).Post(base+"/", "text/plain", strings.NewReader("sent again where a GOAWAY says that nobody has looked at it"))
		switch {
		case errors.Is(err, syscall.ECONNREFUSED):
			time.Sleep(10 * time.Millisecond)
			continue
		case err != nil:
			w.t.Logf("HTTP/2: %v", err)
			b.lost.Add(1)
			continue
		}
		_, err = io.Copy(io.Discard, res.Body)
		res.Body.Close()
		if err != nil || res.StatusCode != 200 {
			w.t.Logf("HTTP/2: %v, status %d", err, res.StatusCode)
			b.lost.Add(1)
			continue
		}
		b.answered.Add(1)
		time.Sleep(time.Duration(r.IntN(30)) * time.Millisecond)
	}
}

// TestNoRequestIsLostWhenAListenerCloses: by a reload that has it no longer, and by a stop.
func TestNoRequestIsLostWhenAListenerCloses(t *testing.T) {
	other := strings.NewReplacer("web", "other", ":8080", ":8081", "upstream.app", "upstream.rest").Replace(front)
	rest := strings.NewReplacer("app", "rest").Replace(one)
	web := in("clear_http2 = true", front) + one
	work := func(out http.ResponseWriter, r *http.Request) {
		_, _ = io.Copy(io.Discard, r.Body)
		time.Sleep(time.Duration(rand.IntN(20)) * time.Millisecond)
		_, _ = io.WriteString(out, "done")
	}
	reloads, stopped, clients := 50, 20, 20
	if testing.Short() || underRace { // the detector breaks down over many goroutines in virtual time
		reloads, stopped, clients = 5, 3, 6
	}
	for _, stops := range []bool{false, true} {
		rounds, seeds := reloads, 1
		if stops {
			rounds, seeds = 1, stopped
		}
		for seed := range seeds {
			synctest.Test(t, func(t *testing.T) {
				w := newWorld(t, web+other+rest)
				w.start(here, work)
				var b busyClients
				b.start(w, clients)
				for i := range rounds {
					time.Sleep(time.Duration(500+7*seed+i) * time.Millisecond)
					if stops {
						assert.NoError(t, w.proxy.Stop())
						break
					}
					require.NoError(t, w.proxy.Apply(parse(t, other+rest)))
					time.Sleep(4 * time.Second)
					news := w.news("127.0.0.1:8080")
					assert.Equal(t, "closed every received request was answered", string(news[len(news)-1].Kind)+" "+news[len(news)-1].Text)
					require.NoError(t, w.proxy.Apply(parse(t, web+other+rest)))
				}
				b.stop.Store(true)
				b.wg.Wait()
				assert.Zero(t, b.lost.Load(), "of %d", b.answered.Load())
				assert.Positive(t, b.answered.Load())
				w.close()
			})
		}
	}
}

// TestAListenerThatIsLeftCanBeTakenAgainAtOnce: by the reload after, while the one before is
// still closing it.
func TestAListenerThatIsLeftCanBeTakenAgainAtOnce(t *testing.T) {
	var at [2]string
	for i := range at {
		l, err := net.Listen("tcp", "127.0.0.1:0")
		require.NoError(t, err)
		at[i] = l.Addr().String()
		l.Close()
	}
	p := New(Options{Seed: 7, Grace: 5 * time.Second})
	on := func(address string) *config.Config {
		return parse(t, strings.Replace(front, "127.0.0.1:8080", address, 1)+one)
	}
	require.NoError(t, p.Apply(on(at[0])))
	<-p.Ready()
	for range 3 {
		require.NoError(t, p.Apply(on(at[1])))
		require.NoError(t, p.Apply(on(at[0])))
	}
	require.NoError(t, p.Stop())
}

// TestOnlyWhatIsAskedIsCutOff: a kept connection that is quiet is no request.
func TestOnlyWhatIsAskedIsCutOff(t *testing.T) {
	for path, wrong := range map[string]string{"/": "", "/slow": "some requests were still in flight after 500 ms and were closed"} {
		synctest.Test(t, func(t *testing.T) {
			w := newWorldWith(t, front+one, func(o *Options) { o.Grace = 500 * time.Millisecond })
			w.start(here, func(out http.ResponseWriter, r *http.Request) {
				if r.URL.Path == "/slow" {
					time.Sleep(5 * time.Second)
				}
			})
			l := w.call()
			l.say("GET " + path + " HTTP/1.1\r\nHost: a\r\n\r\n")
			time.Sleep(100 * time.Millisecond) // until it is answered, or the backend has it
			err := w.proxy.Stop()
			if wrong == "" {
				assert.NoError(t, err, "it has been answered, and is quiet")
			} else {
				assert.EqualError(t, err, wrong)
			}
			l.Close()
			time.Sleep(10 * time.Second)
			w.close()
		})
	}
}
