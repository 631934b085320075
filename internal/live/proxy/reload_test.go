package proxy

import (
	"io"
	"net/http"
	"strings"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kestrix/internal/core/status"
)

func TestReloadLosesNoRequest(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		w := newWorld(t, app("algorithm = \"least-connections\""))
		defer w.close()
		for _, a := range append(addresses(), "192.0.2.4:80") {
			w.start(a, func(out http.ResponseWriter, r *http.Request) {
				time.Sleep(50 * time.Millisecond)
				_, _ = io.WriteString(out, "ok")
			})
		}
		var wg sync.WaitGroup
		each, reloads := 100, 200
		if underRace {
			each, reloads = 20, 40 // see underRace
		}
		for range 8 {
			wg.Go(func() {
				for range each {
					status, body := w.get(base + "/")
					assert.Equal(t, 200, status, body)
				}
			})
		}
		others := []string{
			in("timeouts {\n idle = \"30s\"\n}", app("")), in("limits {\n header_size = \"8KiB\"\n connections = 100\n}", app("")),
			app("algorithm = \"random\"\nretry {\n}"),
			strings.Replace(app("sticky {\n by = \"cookie\"\n}"), "b = \"192.0.2.2:80\"", "d = \"192.0.2.4:80\"", 1),
			app("probe \"http\" {\n}\ntimeouts {\n answer = \"9s\"\n}"),
			strings.Replace(app(""), "\"127.0.0.1:8080\"", "[\"127.0.0.1:8080\", \"127.0.0.1:8081\"]", 1),
		}
		for i := range reloads {
			time.Sleep(20 * time.Millisecond)
			require.NoError(t, w.proxy.Apply(parse(t, others[i%len(others)])))
		}
		wg.Wait()
		synctest.Wait()
		assert.Len(t, w.log(), 8*each)
	})
}

func TestAReloadThatCannotListenChangesNothing(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		w := newWorld(t, app(""))
		defer w.close()
		for _, a := range addresses() {
			w.start(a, nil)
		}
		taken, err := w.net.listen("tcp", "127.0.0.1:9999")
		require.NoError(t, err)
		defer taken.Close()
		bad := strings.Replace(app(""), "\"127.0.0.1:8080\"", "[\"127.0.0.1:8081\", \"127.0.0.1:9999\"]", 1)
		err = w.proxy.Apply(parse(t, bad))
		require.ErrorContains(t, err, "t.hcl:2:31: 127.0.0.1:9999 cannot be listened on: the address is in use by another process")
		status, _ := w.get(base + "/")
		assert.Equal(t, 200, status, "the old listener is still there")
		again, err := w.net.listen("tcp", "127.0.0.1:8081")
		require.NoError(t, err, "what was opened in vain is closed again")
		again.Close()
	})
}

func TestAListenerThatGoesLetsItsRequestsEnd(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		w := newWorld(t, app(""))
		defer w.close()
		for _, a := range addresses() {
			w.start(a, func(out http.ResponseWriter, r *http.Request) {
				time.Sleep(2 * time.Second)
				_, _ = io.WriteString(out, "late")
			})
		}
		done := make(chan string)
		go func() { _, body := w.get(base + "/"); done <- body }()
		time.Sleep(time.Second)
		require.NoError(t, w.proxy.Apply(parse(t, strings.ReplaceAll(app(""), "8080", "8081"))))
		assert.Equal(t, "late", <-done)
		_, body := w.get(base + "/")
		assert.Contains(t, body, "refused")
		_, body = w.get("http://127.0.0.1:8081/")
		assert.Equal(t, "late", body)
	})
}

func TestStopWaitsForOpenRequestsUpToTheGraceTime(t *testing.T) {
	for _, c := range []struct {
		takes time.Duration
		want  string
	}{{3 * time.Second, "answered"}, {time.Minute, "EOF"}} {
		synctest.Test(t, func(t *testing.T) {
			w := newWorld(t, app(""))
			defer w.close()
			for _, a := range addresses() {
				w.start(a, func(out http.ResponseWriter, r *http.Request) {
					select {
					case <-time.After(c.takes):
						_, _ = io.WriteString(out, "answered")
					case <-r.Context().Done():
					}
				})
			}
			done := make(chan string)
			go func() { _, body := w.get(base + "/"); done <- body }()
			time.Sleep(time.Second)
			err := w.proxy.Stop()
			assert.Contains(t, <-done, c.want)
			assert.Equal(t, c.takes > 5*time.Second, err != nil)
			assert.Error(t, w.proxy.Apply(parse(t, app(""))), "it does not begin again")
		})
	}
}

// TestWhatWasSetByHandOutlivesAReload, and is told; streams of a backend that is
// gone go on to their end.
func TestWhatWasSetByHandOutlivesAReload(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		w := newWorld(t, app("probe \"http\" {\n every = \"1s\"\n}"))
		defer w.close()
		for _, a := range addresses() {
			w.start(a, func(out http.ResponseWriter, r *http.Request) {
				out.Header().Set("Content-Type", "text/event-stream")
				for range 10 {
					_, _ = io.WriteString(out, "data: tide\n\n")
					_ = http.NewResponseController(out).Flush()
					if r.URL.Path == "/ready" || r.URL.Path == "/" {
						return
					}
					time.Sleep(time.Second)
				}
			})
		}
		weight := 2
		tell := func(o status.Order) {
			_, err := w.proxy.Operate(o, "mary")
			require.NoError(t, err)
		}
		tell(status.Order{Backend: "app.a", Do: "weight", Weight: &weight})
		tell(status.Order{Backend: "app.b", Do: "park"})
		w.get(base + "/")
		streams := make(chan string, 3)
		for range 3 {
			go func() {
				_, body := w.get(base + "/events")
				streams <- body
			}()
		}
		time.Sleep(2500 * time.Millisecond)
		before := w.proxy.Status().Upstreams[0].Backends
		require.NoError(t, w.proxy.Apply(parse(t, strings.Replace(app("algorithm = \"random\""), "c = \"192.0.2.3:80\"", "d = \"192.0.2.3:80\"", 1))))
		after := w.proxy.Status().Upstreams[0].Backends
		assert.Equal(t, []string{"weight 2 where the file says 1", "parked", ""}, []string{after[0].ByHand, after[1].ByHand, after[2].ByHand})
		assert.Equal(t, []any{2, "parked", before[0].Requests, before[0].InFlight}, []any{after[0].Weight, after[1].State, after[0].Requests, after[0].InFlight})
		assert.Positive(t, before[0].InFlight)
		assert.Positive(t, before[2].InFlight)
		told := w.news("app.a")
		assert.Equal(t, "kept weight 2 where the file says 1", string(told[len(told)-1].Kind)+" "+told[len(told)-1].Text)
		for range 3 {
			assert.Equal(t, 10, strings.Count(<-streams, "tide"), "of a backend that is gone, too")
		}
	})
}

// TestAReloadKeepsWhatIsKnown: counts, since when a backend is in its state, and until
// when a request waits in the queue. What a reload does to the state of a backend is told.
func TestAReloadKeepsWhatIsKnown(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		probe := "probe \"http\" {\n path = \"/ready\"\n every = \"1s\"\n timeout = \"500ms\"\n}\n"
		text := func(more string) string {
			return front + "upstream \"app\" {\n backends = {\n a = { address = \"192.0.2.1:80\", max_in_flight = 1 }\n b = \"192.0.2.2:80\"\n}\n queue {\n timeout = \"5s\"\n}\n" + more + "}\n"
		}
		w := newWorld(t, text(probe))
		defer w.close()
		w.start("192.0.2.1:80", func(out http.ResponseWriter, r *http.Request) {
			if r.URL.Path == "/long" {
				time.Sleep(10 * time.Second)
			}
		})
		for range 3 {
			w.get(base + "/")
		}
		done := make(chan time.Duration, 2)
		go func() { w.get(base + "/long"); done <- 0 }()
		time.Sleep(100 * time.Millisecond)
		began := time.Now()
		go func() {
			status, _ := w.get(base + "/")
			assert.Equal(t, 503, status)
			done <- time.Since(began)
		}()
		time.Sleep(2 * time.Second)
		before := w.proxy.Status().Upstreams[0]
		require.Equal(t, 1, before.Waiting)
		require.Equal(t, []string{"up", "down"}, []string{before.Backends[0].State, before.Backends[1].State})
		for _, more := range []string{probe, "algorithm = \"least-connections\"\nretry {\n}\n" + probe} {
			require.NoError(t, w.proxy.Apply(parse(t, text(more))))
			after := w.proxy.Status().Upstreams[0]
			after.Algorithm = before.Algorithm
			assert.Equal(t, before, after)
			time.Sleep(time.Second)
			before = w.proxy.Status().Upstreams[0]
		}
		assert.Equal(t, 5*time.Second, <-done, "the wait ends as if nothing had been reloaded")
		require.NoError(t, w.proxy.Apply(parse(t, text(""))))
		told := w.news("app.b")
		assert.Equal(t, "up no probe is configured any more", string(told[len(told)-1].Kind)+" "+told[len(told)-1].Text)
		b := w.proxy.Status().Upstreams[0].Backends[1]
		assert.Equal(t, time.Now().Round(time.Millisecond), b.Since)
		assert.Nil(t, b.Probe, "there is none any more")
		<-done
	})
}
