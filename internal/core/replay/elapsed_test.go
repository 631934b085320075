package replay

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
)

// TestWaitingForAFailureIsTold: where a third of the requests wait 10 s for a 504, whatever
// tells of times says so, beside the latency of those that were answered.
func TestWaitingForAFailureIsTold(t *testing.T) {
	r := run(t, pool(t, 3, "round-robin", "timeouts {\n answer = \"10s\"\n}"),
		"behaviour \"*\" {\n service = fixed(\"40ms\")\n workers = 200\n}\nfault \"it\" {\n backend = \"app.b1\"\n kind = \"hang\"\n at = \"20s\"\n until = \"60s\"\n}\n",
		even(3000, 30*time.Millisecond, 50), Options{})
	f := r.Faults[0]
	assert.InDelta(t, 1.0/3, f.During.ErrorRate, 0.01)
	assert.Less(t, f.During.Latency.P99, 0.1)
	assert.InDelta(t, 10, f.During.Elapsed.P99, 0.1)
	assert.Less(t, f.During.Elapsed.P50, 0.1)
	assert.Less(t, f.Before.Elapsed.P99, 0.1)
	u := r.Upstreams["app"]
	assert.Less(t, u.Latency.P99, 0.1)
	assert.InDelta(t, 10, u.Elapsed.P99, 0.1)
	assert.Equal(t, r.Elapsed, u.Elapsed, "there is no other")
	assert.InDelta(t, 10, u.Backends["b1"].Elapsed.P95, 0.1, "the hung one is not the best of its pool")
	assert.Less(t, u.Backends["b1"].Latency.P95, 0.1)
	assert.Equal(t, u.Backends["b0"].Latency, u.Backends["b0"].Elapsed)
	rows := 0
	for _, x := range r.Timeline.Rows {
		if x.Failed > 0 {
			rows++
			assert.InDelta(t, 10, x.Elapsed.P99, 0.5)
			assert.Less(t, x.P99, 0.1)
		} else if x.Answered > 0 {
			assert.InDelta(t, x.P99, x.Elapsed.P99, 1e-9)
		}
	}
	assert.Greater(t, rows, 30)
}

// TestSessionsAreCountedOnce: one that moves again and again has moved, as it was seen,
// once; upstream and result count alike.
func TestSessionsAreCountedOnce(t *testing.T) {
	var sc strings.Builder
	for i := range 6 {
		fmt.Fprintf(&sc, "fault \"%d\" {\n backend = \"app.b%d\"\n kind = \"park\"\n at = \"%ds\"\n until = \"%ds\"\n}\n", i, i%3, 5+i*5, 10+i*5)
	}
	r := run(t, pool(t, 3, "round-robin", "sticky {\n by = \"cookie\"\n}"), sc.String(), even(3000, 20*time.Millisecond, 20), Options{})
	assert.Equal(t, int64(20), r.Sessions.Seen)
	assert.Equal(t, int64(20), r.Sessions.Moved)
	assert.Equal(t, r.Sessions.Moved, r.Upstreams["app"].Sessions.Moved)
	assert.Greater(t, r.Sessions.Misses, int64(20), "each move is a request that its session is not held for")
}

// TestErrorsTakeTheirTime: 2 % of the service time, or as long as after says.
func TestErrorsTakeTheirTime(t *testing.T) {
	for after, want := range map[string]float64{"": 0.009, " after = \"70ms\"\n": 0.071} {
		r := run(t, pool(t, 1, "round-robin", ""), "behaviour \"*\" {\n service = fixed(\"400ms\")\n workers = 50\n}\nfault \"it\" {\n backend = \"app.b0\"\n kind = \"errors\"\n at = \"0s\"\n"+after+"}\n", even(100, 50*time.Millisecond, 5), Options{})
		assert.Equal(t, int64(100), r.Failed)
		assert.InDelta(t, want, r.Elapsed.P50, 0.001, after)
	}
}
