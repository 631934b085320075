package proxy

import (
	"fmt"
	"io"
	"net"
	"net/http"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kestrix/internal/core/config"
	"kestrix/internal/core/status"
)

// TestAListenerIsWidenedAndNarrowedByReload: from 127.0.0.1 to all addresses and back, over
// real sockets, as it is the system that decides what becomes of a queue. Clients that
// connect anew for each request and clients that keep their connection lose none.
func TestAListenerIsWidenedAndNarrowedByReload(t *testing.T) {
	back, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	server := &http.Server{Handler: http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) { _, _ = io.WriteString(w, r.Host) })}
	go func() { _ = server.Serve(back) }()
	defer server.Close()
	free, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	narrow := free.Addr().String()
	port := free.Addr().(*net.TCPAddr).Port
	free.Close()
	wide := fmt.Sprintf("0.0.0.0:%d", port)
	var mu sync.Mutex
	told := map[string]int{}
	p := New(Options{Seed: 7, Grace: 10 * time.Second, Event: func(e status.Event) {
		mu.Lock()
		defer mu.Unlock()
		told[e.Object+" "+string(e.Kind)+" "+e.Text]++
	}})
	on := func(address, control string) *config.Config {
		return parse(t, strings.Replace(front, "127.0.0.1:8080", address, 1)+strings.Replace(one, "192.0.2.1:80", back.Addr().String(), 1)+control)
	}
	require.NoError(t, p.Apply(on(narrow, "")))
	<-p.Ready()

	var stop atomic.Bool
	var answered, lost atomic.Int64
	var wg sync.WaitGroup
	for i := range 20 {
		wg.Go(func() {
			c := &http.Client{Transport: &http.Transport{DisableKeepAlives: i%2 == 0}, Timeout: 5 * time.Second}
			defer c.CloseIdleConnections()
			for !stop.Load() {
				res, err := c.Post("http://"+narrow+"/", "text/plain", strings.NewReader("a body, so that nothing is sent again"))
				if err == nil {
					_, err = io.Copy(io.Discard, res.Body)
					res.Body.Close()
				}
				if err != nil || res.StatusCode != 200 {
					t.Logf("lost: %v", err)
					lost.Add(1)
					continue
				}
				answered.Add(1)
			}
		})
	}
	rounds := 4
	if testing.Short() {
		rounds = 1
	}
	for range rounds {
		time.Sleep(50 * time.Millisecond)
		require.NoError(t, p.Apply(on(wide, "")))
		other, err := http.Get(fmt.Sprintf("http://127.0.0.2:%d/", port)) // what it was widened for
		require.NoError(t, err)
		other.Body.Close()
		_, err = net.Listen("tcp", wide)
		assert.Error(t, err, "the port is taken")
		require.NoError(t, p.Apply(on(wide, "")), "and again, while the narrow one is a part of it")
		time.Sleep(50 * time.Millisecond)
		require.NoError(t, p.Apply(on(narrow, "")))
	}
	stop.Store(true)
	wg.Wait()
	assert.Zero(t, lost.Load(), "of %d", answered.Load())
	assert.Greater(t, answered.Load(), int64(10))
	require.Eventually(t, func() bool {
		_, err := net.DialTimeout("tcp", fmt.Sprintf("127.0.0.2:%d", port), time.Second)
		return err != nil
	}, 10*time.Second, 20*time.Millisecond, "the wide one is closed")

	control := fmt.Sprintf("control {\n listen = %q\n}\n", free.Addr().String())
	assert.ErrorContains(t, p.Apply(on(wide, control)), "cannot be listened on: the address is in use by another process", "two of one configuration")
	require.NoError(t, p.Stop())
	mu.Lock()
	defer mu.Unlock()
	assert.Equal(t, rounds, told[narrow+" listening frontend web, as a part of another listener that contains it"])
	assert.Equal(t, rounds+1, told[narrow+" listening frontend web"], "%v", told)
	assert.Equal(t, rounds, told[wide+" closed every received request was answered"])
}
