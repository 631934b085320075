package replay

import (
	"context"
	"fmt"
	"math"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kestrix/internal/core/result"
)

// paced replays a scenario on one backend with one client that always asks.
func paced(t *testing.T, behaviour, faults string) *result.Replay {
	c := pool(t, 1, "round-robin", "timeouts {\n answer = \"1h\"\n}")
	text := fmt.Sprintf("load {\n requests = 8000\n concurrency = 1\n}\nbehaviour \"*\" {\n service = \"10ms\"\n workers = 100\n connect = \"0s\"\n %s\n}\n%s", behaviour, faults)
	r, err := Run(context.Background(), c, scenarioOf(t, c, text), nil, Options{Seed: 1})
	require.NoError(t, err)
	conserved(t, r)
	return r
}

// TestARestartedBackendIsColdForAsLongAsSaid: work that takes s·g(t), with g falling evenly from
// f to 1 over a time T, is done T·ln(f)/(s·(f-1)) times in that time; less than one is lost to
// what is begun before its end.
func TestARestartedBackendIsColdForAsLongAsSaid(t *testing.T) {
	const ends = 12
	dies := "fault \"dies\" {\n backend = \"*\"\n kind = %q\n at = \"10s\"\n until = \"12s\"\n}\n"
	for _, c := range []struct {
		name, behaviour, kind string
		cold                  float64 // seconds
		factor                float64
		assumed               bool
	}{
		{"cold", "cold {\n for = \"20s\"\n factor = 4\n}", "refuse", 20, 4, false},
		{"very cold", "cold {\n for = \"5s\"\n factor = 50\n}", "refuse", 5, 50, false},
		{"as ever", "", "refuse", 0, 1, true},
		{"silent, but alive", "cold {\n for = \"20s\"\n factor = 4\n}", "blackhole", 0, 1, false},
	} {
		t.Run(c.name, func(t *testing.T) {
			r := paced(t, c.behaviour, fmt.Sprintf(dies, c.kind))
			answered := func(from, to float64) (n float64) {
				for _, row := range r.Timeline.Rows {
					if row.At >= from && row.At < to {
						n += float64(row.Answered)
					}
				}
				return n
			}
			until := ends + c.cold + 5
			want := (until - ends - c.cold) / 0.01
			if c.factor > 1 {
				want += c.cold * math.Log(c.factor) / (0.01 * (c.factor - 1))
			}
			if c.kind == "refuse" { // the one client of the others waits until it is given up
				assert.InDelta(t, want, answered(ends, until), 2+0.01*want)
			}
			said := false
			for _, a := range r.Assumed {
				said = said || a.What == result.ColdStarts
			}
			assert.Equal(t, c.assumed, said)
			b := r.Model.Backends["app.b0"]
			if c.cold > 0 {
				assert.Equal(t, []float64{c.cold, c.factor}, []float64{b.ColdFor, b.ColdFactor})
			}
		})
	}
}

// TestFaultsStrikeSharedWork: what is in progress on shared cores breaks with its process, is
// stuck when it hangs, and takes longer when it is slow.
func TestFaultsStrikeSharedWork(t *testing.T) {
	c := pool(t, 1, "round-robin", "timeouts {\n answer = \"4s\"\n}")
	for kind, want := range map[string]struct {
		failed int64
		last   float64 // seconds until the last has ended
	}{
		"":          {0, 10},
		"refuse":    {10, 5},
		"hang":      {10, 10}, // each is done at 10 s and stuck; its client is told after 4 s
		"errors":    {10, 10},
		"reset":     {10, 10},
		"blackhole": {10, 10},
	} {
		text := "load {\n requests = 10\n concurrency = 10\n}\nbehaviour \"*\" {\n service = \"2s\"\n workers = 10\n connect = \"0s\"\n sharing {\n  cores = 2\n }\n}\n"
		if kind != "" {
			text += fmt.Sprintf("fault \"f\" {\n backend = \"*\"\n kind = %q\n at = \"5s\"\n}\n", kind)
		}
		for _, answer := range []time.Duration{time.Hour, 4 * time.Second} {
			c.Upstreams[0].Timeouts.Answer = answer
			r, err := Run(context.Background(), c, scenarioOf(t, c, text), nil, Options{Seed: 1})
			require.NoError(t, err)
			conserved(t, r)
			if answer == 4*time.Second {
				assert.EqualValues(t, 10, r.Failed, "%s: none is done in time", kind)
				continue
			}
			last := want.last
			if kind == "hang" || kind == "blackhole" {
				last = 3600 // told of by the timeout
			}
			assert.Equal(t, want.failed, r.Failed, kind)
			assert.InDelta(t, last, r.Elapsed.Max, 0.01*last, kind)
		}
	}
	r := paced(t, "sharing {\n cores = 0.5\n}", "fault \"slow\" {\n backend = \"*\"\n kind = \"slow\"\n factor = 3\n at = \"0s\"\n}\n")
	assert.InDelta(t, 0.06, r.Latency.Mean, 1e-6, "half a core, a third of its speed")
	assert.InDelta(t, 1, r.Upstreams["app"].Backends["b0"].Busy, 0.001, "of its core")
}

// TestSlowStartHelpsColdBackendsOnly: what a backend gets that begins slowly waits, unless it
// gets little at first; one that is as fast as ever needs no such care.
func TestSlowStartHelpsColdBackendsOnly(t *testing.T) {
	p99 := func(options, cold string) float64 {
		c := pool(t, 4, "round-robin", "probe \"http\" {\n path = \"/ready\"\n every = \"1s\"\n timeout = \"500ms\"\n}\nretry {\n attempts = 2\n}\n"+options)
		s := scenarioOf(t, c, "load {\n rate = \"800/s\"\n for = \"120s\"\n}\nbehaviour \"*\" {\n service = lognormal(\"40ms\", 0.6)\n workers = 16\n"+cold+"}\nfault \"restart\" {\n backend = \"app.b1\"\n kind = \"refuse\"\n at = \"40s\"\n until = \"50s\"\n}\n")
		r, err := Run(context.Background(), c, s, nil, Options{Seed: 1})
		require.NoError(t, err)
		return r.Faults[0].After.Elapsed.P99
	}
	const cold, slowly = "cold {\n for = \"30s\"\n factor = 5\n}\n", "slow_start = \"30s\"\n"
	assert.Greater(t, p99("", cold), 3*p99(slowly, cold))
	assert.InEpsilon(t, p99("", ""), p99(slowly, ""), 0.05)
}
