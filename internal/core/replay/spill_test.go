package replay

import (
	"context"
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kestrix/internal/core/config"
	"kestrix/internal/core/result"
)

// TestSpillingFollowsTheLoad loses backends of the own zone by night and by noon: the share of
// health sends away as much at any hour, the load what the zone cannot carry.
func TestSpillingFollowsTheLoad(t *testing.T) {
	get := func(spill string, room, out int, rate float64) (away float64, r *result.Replay) {
		text := "zone = \"north\"\nfrontend \"web\" {\n listen = \"127.0.0.1:8080\"\n route \"all\" {\n send_to = upstream.app\n }\n}\nupstream \"app\" {\n algorithm = \"least-connections\"\n backends = {\n"
		for i := range 6 {
			text += fmt.Sprintf("b%d = { address = \"127.0.0.1:%d\", zone = %q, max_in_flight = %d }\n", i, 9000+i, map[bool]string{true: "north", false: "south"}[i < 3], room)
		}
		c, found, err := config.Read([]config.File{{Name: "a.hcl", Source: []byte(text + "}\nqueue {\n}\nfailover {\n prefer = \"zone\"\n " + spill + "\n}\n}\n")}})
		require.NoError(t, err)
		require.Empty(t, found)
		faults := ""
		for i := range out {
			faults += fmt.Sprintf("fault \"f%d\" {\n backend = \"app.b%d\"\n kind = \"park\"\n at = \"0s\"\n}\n", i, i)
		}
		s := scenarioOf(t, c, fmt.Sprintf("load {\n rate = \"%g/s\"\n for = \"100s\"\n}\nbehaviour \"*\" {\n service = lognormal(\"50ms\", 0.6)\n workers = 10\n backlog = 100000\n}\n%s", rate, faults))
		r, err = Run(context.Background(), c, s, nil, Options{Seed: 1})
		require.NoError(t, err)
		conserved(t, r)
		require.Zero(t, r.Failed)
		for i := 3; i < 6; i++ {
			away += r.Upstreams["app"].Backends[fmt.Sprintf("b%d", i)].Share
		}
		return away, r
	}
	const health, load = "spill_below = \"80%\"", "spill_at = \"80%\""
	const night, noon = 30.0, 500.0 // a backend does 200 a second

	byHealth, _ := get(health, 10, 2, night)
	byLoad, r := get(load, 10, 2, night)
	assert.InDelta(t, 1-1/3.0/0.8, byHealth, 0.02, "two of three are lost")
	assert.Less(t, byLoad, 0.01, "and the third carries the night")
	assert.Equal(t, []any{false, "b2"}, []any{r.Upstreams["app"].Spill.Reached, r.Upstreams["app"].Spill.Backend})

	byHealth, _ = get(health, 1000, 1, noon)
	byLoad, r = get(load, 10, 1, noon)
	assert.InDelta(t, 1-2/3.0/0.8, byHealth, 0.02)
	assert.Greater(t, byLoad, byHealth+0.02, "two cannot carry the noon")
	assert.Less(t, r.Latency.P99, 0.3)

	// Room far above what a backend works on is never reached, and requests wait.
	byLoad, r = get(load, 1000, 1, 410)
	assert.Zero(t, byLoad)
	assert.Greater(t, r.Latency.P99, 1.0)
	x := r.Upstreams["app"].Spill
	assert.Equal(t, []any{false, 1000, []string{}}, []any{x.Reached, x.Of, x.BelowWorkers})
	_, r = get(load, 4, 0, night)
	assert.Len(t, r.Upstreams["app"].Spill.BelowWorkers, 6)
	_, r = get(health, 4, 0, night)
	assert.Nil(t, r.Upstreams["app"].Spill)
}
