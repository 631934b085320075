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
		for range 8 {
			wg.Go(func() {
				for range 100 {
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
		for i := range 200 {
			time.Sleep(20 * time.Millisecond)
			require.NoError(t, w.proxy.Apply(parse(t, others[i%len(others)])))
		}
		wg.Wait()
		synctest.Wait()
		assert.Len(t, w.log(), 800)
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
