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

// TestAProxyThatEnds takes what is open through it along; its clients reach another one, in time,
// and come back when it accepts connections again.
func TestAProxyThatEnds(t *testing.T) {
	const base = "load {\n rate = \"100/s\"\n for = \"40s\"\n arrivals = \"even\"\n clients = 4000\n popularity = 0\n}\nbehaviour \"*\" {\n service = \"200ms\"\n workers = 1000\n connect = \"0s\"\n}\n"
	gone := func(proxy int, more string) string {
		return fmt.Sprintf("fault \"gone\" {\n kind = \"gone\"\n proxy = %d\n at = \"10s\"\n until = \"20s\"\n %s\n}\n", proxy, more)
	}
	const probed = "probe \"http\" {\n every = \"4s\"\n timeout = \"1500ms\"\n}"
	for _, c := range []struct {
		name      string
		instances int
		more      string
		failed    float64 // of 100 requests a second, a fraction of whose clients is at the proxy
		give      float64
		recovered float64 // seconds
		assumed   bool
	}{
		{"the only one", 1, gone(1, ""), 20 + 1000, 1, 0.001, false},
		{"one of two", 2, gone(2, ""), 10, 10, 0.001, true},
		{"one of four", 4, gone(2, ""), 5, 8, 0.001, true},
		{"noticed late", 4, gone(3, "moves_after = \"4s\""), 5 + 100, 50, 0.001, false},
		{"both", 2, gone(2, "") + "fault \"other\" {\n kind = \"gone\"\n proxy = 1\n at = \"15s\"\n until = \"16s\"\n}\n", 10 + 20 + 100, 20, 0.001, true},
		{"first probes hang", 2, gone(1, "") + "fault \"hangs\" {\n kind = \"hang\"\n backend = \"app.b0\"\n at = \"19s\"\n until = \"30s\"\n}\n", 10, 40, 1.5, true},
	} {
		t.Run(c.name, func(t *testing.T) {
			cfg := pool(t, 2, "round-robin", probed+"\nretry {\n attempts = 2\n}\n")
			cfg.Upstreams[0].Timeouts.Answer = 60e9
			s := scenarioOf(t, cfg, fmt.Sprintf("instances = %d\n", c.instances)+base+c.more)
			r, err := Run(context.Background(), cfg, s, nil, Options{Seed: 1})
			require.NoError(t, err)
			conserved(t, r)
			f := r.Faults[0]
			assert.InDelta(t, c.failed, r.Errors[cause.Closing], c.give)
			if len(r.Faults) == 1 {
				assert.Equal(t, r.Errors[cause.Closing], r.Failed)
				assert.Equal(t, r.Failed, f.ExposedFailed)
			}
			require.NotNil(t, f.RecoveredAfter)
			assert.InDelta(t, c.recovered, *f.RecoveredAfter, 0.01)
			assert.Nil(t, f.DetectedAfter)
			assert.Equal(t, c.assumed, says(r, result.Proxies))
		})
	}
}

// TestAProxyForgetsSeatsThatItHolds: a table of addresses is lost with the process, and cookies
// are not, which clients hold; the orders of operators are kept.
func TestAProxyForgetsSeatsThatItHolds(t *testing.T) {
	for by, moves := range map[string]bool{"cookie": false, "address": true} {
		cfg := pool(t, 8, "random", "sticky {\n by = \""+by+"\"\n}\n")
		s := scenarioOf(t, cfg, "load {\n rate = \"200/s\"\n for = \"60s\"\n clients = 100\n popularity = 0\n}\nclients {\n sessions = true\n}\nfault \"parked\" {\n backend = \"app.b3\"\n kind = \"park\"\n at = \"1s\"\n}\nfault \"gone\" {\n kind = \"gone\"\n at = \"30s\"\n until = \"31s\"\n}\n")
		r, err := Run(context.Background(), cfg, s, nil, Options{Seed: 1})
		require.NoError(t, err)
		conserved(t, r)
		if lost := r.Sessions.Misses; moves {
			assert.InDelta(t, 100*6/7.0, lost-20, 25, by) // some had moved from the parked one before
		} else {
			assert.Less(t, lost, int64(25), by)
		}
		for _, row := range r.Timeline.Rows {
			if row.At > 2 {
				assert.Zero(t, row.Upstreams["app"]["b3"].Requests, "parked at %v", row.At)
			}
		}
	}
}
