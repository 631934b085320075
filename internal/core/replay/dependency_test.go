package replay

import (
	"context"
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kestrix/internal/core/cause"
	"kestrix/internal/core/result"
)

// onDatabase replays a load on backends that do nothing but call a dependency.
func onDatabase(t *testing.T, backends int, dependency, more string, seed uint64) *result.Replay {
	c := pool(t, backends, "round-robin", "timeouts {\n answer = \"1h\"\n}\nprobe \"http\" {\n path = \"/ready\"\n every = \"1s\"\n timeout = \"500ms\"\n}")
	s := scenarioOf(t, c, fmt.Sprintf("behaviour \"*\" {\n service = \"0s\"\n workers = 1000000\n connect = \"0s\"\n}\ndependency \"db\" {\n backend = \"app.*\"\n %s\n}\n%s", dependency, more))
	r, err := Run(context.Background(), c, s, nil, Options{Seed: seed})
	require.NoError(t, err)
	conserved(t, r)
	d := r.Dependencies["db"]
	assert.LessOrEqual(t, d.Failed+d.Queued, 2*d.Calls)
	return r
}

// TestADependencyIsAQueueBehindAllBackends: what several backends share has the times of one
// queue with all of its workers, M/M/c, and not those of a queue for each backend.
func TestADependencyIsAQueueBehindAllBackends(t *testing.T) {
	if testing.Short() {
		t.Skip("two million requests, which the race detector makes slow")
	}
	for _, c := range []struct {
		backends, workers int
		rate              float64
	}{{1, 4, 340}, {5, 4, 340}, {3, 16, 1440}} {
		var means, busy []float64
		for seed := range uint64(seeds) {
			r := onDatabase(t, c.backends, fmt.Sprintf("service = exponential(\"10ms\")\n workers = %d", c.workers), fmt.Sprintf("load {\n rate = \"%g/s\"\n for = \"200s\"\n}\n", c.rate), seed+1)
			require.Zero(t, r.Failed)
			means, busy = append(means, r.Latency.Mean), append(busy, r.Dependencies["db"].Busy)
		}
		offered := c.rate * 0.01
		want := 0.01 + erlangC(c.workers, offered)*0.01/(float64(c.workers)-offered)
		mean, half := interval(means)
		assert.InDelta(t, want, mean, half+0.005*want, "%+v", c)
		assert.Less(t, half, 0.1*want)
		mean, half = interval(busy)
		assert.InDelta(t, offered/float64(c.workers), mean, half+0.005, "%+v", c)
	}
}

// TestFaultsOfADependency: backends that work fail with it, or wait for it, and a probe that
// asks for it takes all of them out.
func TestFaultsOfADependency(t *testing.T) {
	const load = "load {\n rate = \"50/s\"\n for = \"60s\"\n arrivals = \"even\"\n paths = [\"/seats\", \"/other\"]\n}\n"
	fault := func(kind, more string) string {
		return fmt.Sprintf("fault \"f\" {\n dependency = \"db\"\n kind = %q\n at = \"20s\"\n until = \"40s\"\n %s\n}\n", kind, more)
	}
	const db = "service = \"10ms\"\n workers = 1000\n status = 503\n"
	for _, c := range []struct {
		name, dependency, fault string
		failed                  float64
		latest                  float64 // seconds, the longest time of any request
		out                     bool    // backends leave rotation
	}{
		{"refuse", db, fault("refuse", ""), 1000, 0.01, false},
		{"refuse, some paths", db + "path = \"/seats\"\n", fault("refuse", ""), 500, 0.01, false},
		{"refuse, probed", db + "probes = true\n", fault("refuse", ""), 1053, // until two probes have passed
			0.01, true},
		{"errors", db, fault("errors", "rate = \"25%\""), 250, 0.01, false},
		{"hang", db, fault("hang", ""), 1000, 20, false},
		{"hang, given up", db + "timeout = \"2s\"\n", fault("hang", ""), 1000, 2, false},
		{"blackhole, probed", db + "timeout = \"2s\"\n probes = true\n", fault("blackhole", ""), 1053, 2.02, true},
		{"reset", db, fault("reset", ""), 1000, 0.01, false},
		{"slow", db, fault("slow", "factor = 100"), 0, 1, false},
		{"slow, given up", db + "timeout = \"500ms\"\n", fault("slow", "factor = 100"), 1000, 0.5, false},
		{"flap", db, fault("flap", "fails_for = \"1s\"\n works_for = \"3s\""), 250, 0.01, false},
		{"no backlog", "service = \"10ms\"\n workers = 1\n backlog = 0\n", fault("slow", "factor = 100"), 980, 1, false},
	} {
		t.Run(c.name, func(t *testing.T) {
			r := onDatabase(t, 2, c.dependency, load+c.fault, 1)
			tolerance := 2.0
			if c.name == "errors" || c.name == "refuse, some paths" {
				tolerance = 70 // five standard deviations
			}
			assert.InDelta(t, c.failed, r.Failed, tolerance)
			assert.InDelta(t, c.latest, r.Elapsed.Max, 0.021*c.latest+0.002)
			assert.Equal(t, c.out, len(r.Health) > 0)
			f := r.Faults[0]
			assert.Equal(t, c.out, f.DetectedAfter != nil)
			assert.Equal(t, []string{"app.b0", "app.b1"}, f.Backends)
			if c.out {
				assert.Positive(t, r.Errors[cause.NoBackend])
			} else {
				assert.Equal(t, r.Failed, r.Errors[cause.Status5xx])
				assert.Equal(t, r.Failed, f.ExposedFailed)
			}
		})
	}
}

// TestABackendThatDiesWaitsForNothing: its calls go on, and their ends mean nothing to the process
// that comes after it.
func TestABackendThatDiesWaitsForNothing(t *testing.T) {
	const died = "load {\n rate = \"20/s\"\n for = \"30s\"\n}\nfault \"dies\" {\n backend = \"app.b0\"\n kind = \"refuse\"\n at = \"10s\"\n until = \"11s\"\n}\n"
	r := onDatabase(t, 2, "service = \"3s\"\n workers = 20\n", died, 1)
	d := r.Dependencies["db"]
	assert.LessOrEqual(t, d.Busy, 1.0)
	assert.Greater(t, d.Queued, int64(0))
	assert.Equal(t, r.Requests, r.Answered+r.Failed)
	for name, b := range r.Upstreams["app"].Backends {
		assert.LessOrEqual(t, b.Busy, 1.0, name)
	}
	assert.False(t, says(r, result.Dependencies))
}
