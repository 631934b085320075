package study

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestWaysToSpillAreHeldSideBySide makes a variant of each, which replace what is configured.
func TestWaysToSpillAreHeldSideBySide(t *testing.T) {
	const site = "frontend \"web\" {\n listen = \"127.0.0.1:80\"\n route \"all\" {\n send_to = upstream.a\n }\n}\nupstream \"a\" {\n backends = {\n auk = { address = \"127.0.0.1:1\", max_in_flight = 4 }\n gannet = { address = \"127.0.0.1:2\", tier = 2, max_in_flight = 4 }\n }\n failover {\n spill_at = \"75%\"\n }\n}\n"
	s := subject(t, "a.hcl", site, "load {\n rate = \"1/s\"\n}\n")
	variants, left, err := Variants([]Subject{s}, Axes{Spill: []string{"below:80%", "at:75%", "at:90%"}})
	require.NoError(t, err)
	assert.Empty(t, left)
	var got []any
	for _, v := range variants {
		f := v.Config.Upstreams[0].Failover
		got = append(got, v.Name, v.Configured, f.SpillAt, f.SpillBelow)
	}
	assert.Equal(t, []any{"spill below 80%", false, 0.0, 0.8, "spill at 75%", true, 0.75, 0.8, "spill at 90%", false, 0.9, 0.8}, got)
	assert.InDelta(t, 0.75, s.Config.Upstreams[0].Failover.SpillAt, 1e-9, "the configuration stays as it is")
	_, _, err = Variants([]Subject{s}, Axes{Spill: []string{"at:75%", "at:75%"}})
	assert.ErrorContains(t, err, "named twice")
	variants, _, err = Variants([]Subject{s}, Axes{Spill: []string{"below:50%"}})
	require.NoError(t, err)
	assert.Equal(t, "as configured", variants[0].Name, "beside what is asked for")
}
