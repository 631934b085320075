package replay

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"kestrix/internal/core/cause"
)

// TestClientsLeave: a client that waits longer than its patience is counted as gone, with
// the time that it waited; the backend's worker goes on working for it.
func TestClientsLeave(t *testing.T) {
	sc := "behaviour \"*\" {\n service = \"3s\"\n workers = 1\n connect = \"0s\"\n}\nclients {\n patience = \"4s\"\n}\n"
	r := run(t, pool(t, 1, "round-robin", ""), sc, even(4, time.Second, 1), Options{})
	// The first takes 3 s, the second would have taken 5 s, the third 7 s, the fourth 9 s.
	assert.Equal(t, []int64{1, 0, 3}, []int64{r.Answered, r.Failed, r.ClientLeft})
	assert.InDelta(t, 3, r.Latency.Max, 1e-9)
	assert.InDelta(t, 4, r.Elapsed.Max, 1e-9)
	assert.InDelta(t, (3+4+4+4)/4.0, r.Elapsed.Mean, 1e-9)
	assert.EqualValues(t, 3, r.Upstreams["app"].ClientLeft)
	assert.EqualValues(t, 3, r.Upstreams["app"].Backends["b0"].ClientLeft)
	conserved(t, r)

	// One that waits in the queue of the proxy leaves it.
	queued := pool(t, 1, "round-robin", "queue {\n timeout = \"20s\"\n}")
	queued.Upstreams[0].Backends[0].MaxInFlight = 1
	r = run(t, queued, strings.Replace(sc, "4s", "1500ms", 1), even(2, time.Second, 1), Options{})
	assert.Equal(t, []int64{0, 2}, []int64{r.Answered, r.ClientLeft})
	assert.Zero(t, r.Errors[cause.QueueTimeout])
	assert.EqualValues(t, 2, r.Upstreams["app"].Backends["b0"].Requests, "the worker is still at the first when the second is let through")

	// A failure counts with the time that it took, a refusal of the proxy with none.
	r = run(t, pool(t, 1, "round-robin", "timeouts {\n answer = \"2s\"\n}"), "fault \"f\" {\n backend = \"app.b0\"\n kind = \"hang\"\n at = \"0s\"\n}\n", even(2, 10*time.Second, 1), Options{})
	assert.Zero(t, r.Latency.Max)
	assert.InDelta(t, 2.001, r.Elapsed.P99, 0.02)
	assert.EqualValues(t, []int64{2, 2, 0}, []int64{r.Faults[0].Exposed, r.Faults[0].ExposedFailed, r.Faults[0].ExposedLeft})
}

// TestStreamsThatTheProxyCuts: its own limits are no failures of a backend.
func TestStreamsThatTheProxyCuts(t *testing.T) {
	streams := func(quiet string) string {
		return "streams {\n path = \"/**\"\n lasts = \"1m\"\n quiet = \"" + quiet + "\"\n}\n"
	}
	more := "suspend {\n after = 1\n on = [\"connect\", \"timeout\", \"reset\"]\n}\ntimeouts {\n idle = \"5s\"\n stream = \"20s\"\n}"
	r := run(t, pool(t, 2, "round-robin", more), streams("10s"), even(3, time.Second, 1), Options{})
	assert.EqualValues(t, 3, r.Errors[cause.IdleTimeout])
	assert.Zero(t, r.Upstreams["app"].Backends["b0"].Failed+r.Upstreams["app"].Backends["b1"].Failed)
	assert.Empty(t, r.Health)
}

// TestStreamsOfABackendThatGoes: they are closed where on_down says so, when the backend is
// parked or down, and it is no failure of the backend.
func TestStreamsOfABackendThatGoes(t *testing.T) {
	for onDown, closed := range map[string]bool{"": false, "on_down = \"keep\"\n": false, "on_down = \"close\"\n": true} {
		for _, kind := range []string{"park", "probe-fails", "drain"} {
			more := onDown + "probe \"http\" {\n every = \"1s\"\n timeout = \"500ms\"\n}\nsuspend {\n after = 1\n}"
			r := run(t, pool(t, 2, "round-robin", more), "streams {\n path = \"/**\"\n lasts = \"1m\"\n}\nfault \"f\" {\n backend = \"app.b0\"\n kind = \""+kind+"\"\n at = \"10s\"\n until = \"20s\"\n}\n", even(8, time.Second, 1), Options{})
			want := 0
			if closed && kind != "drain" {
				want = 4 // those with b0
			}
			assert.EqualValues(t, want, r.Errors[cause.BackendOut], "%q %s", onDown, kind)
			assert.EqualValues(t, []int64{8 - int64(want), int64(want)}, []int64{r.Answered, r.Failed})
			assert.Zero(t, r.Upstreams["app"].Backends["b0"].Failed)
			if want > 0 {
				assert.EqualValues(t, want, r.Faults[0].ExposedFailed)
			}
		}
	}
}
