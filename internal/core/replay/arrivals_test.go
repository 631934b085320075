package replay

import (
	"context"
	"encoding/json"
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kestrix/internal/core/ingest"
	"kestrix/internal/core/trace"
)

// TestArrivalsThatAreKept: replays of them have the results of replays that read the trace, or make
// the load, themselves; however many go on at a time.
func TestArrivalsThatAreKept(t *testing.T) {
	c := pool(t, 3, "least-connections", probe)
	text := ""
	for i := range 600 {
		text += fmt.Sprintf("203.0.113.%d - - [27/Jun/2026:08:00:%02d +0000] \"GET /seats/%d HTTP/1.1\" 200 10\n", i%200, i/30, i%7)
	}
	faults := "fault \"f\" {\n backend = \"app.b0\"\n kind = \"refuse\"\n at = \"5s\"\n until = \"9s\"\n}\n"
	for name, x := range map[string]struct {
		load    string
		sources []ingest.Source
	}{
		"trace": {"", source(text)}, "open load": {"load {\n rate = \"40/s\"\n for = \"20s\"\n}\n", nil}, "closed load": {"load {\n requests = 500\n concurrency = 7\n}\n", nil},
		"pages": {"load {\n rate = \"10/s\"\n for = \"20s\"\n paths = [\"/\"]\n page \"/\" {\n  fetches = [\"/a\", \"/b\"]\n }\n}\n", nil},
	} {
		o := Options{Seed: 3}
		if name == "open load" {
			o.Part.Until, _ = trace.ParseMoment("12s")
		}
		plain := scenarioOf(t, c, x.load)
		kept, err := Gather(context.Background(), Case{Config: c, Scenario: plain}, x.sources, o)
		require.NoError(t, err)
		var cases []Case
		var texts []string
		for _, more := range []string{"", faults} {
			for _, factor := range []string{"", "load_factor = 1.5\n"} {
				if name != "closed load" || factor == "" {
					cases = append(cases, Case{Config: c, Scenario: scenarioOf(t, c, factor+x.load+more)})
				}
			}
		}
		for _, k := range cases {
			whole, err := Run(context.Background(), k.Config, k.Scenario, x.sources, o)
			require.NoError(t, err)
			texts = append(texts, string(asJSON(t, whole)))
		}
		out := make([]string, len(cases))
		each(len(cases), func(i int) {
			res, err := kept.Run(context.Background(), Case{Config: cases[i].Config, Scenario: cases[i].Scenario, Seed: 3})
			if assert.NoError(t, err) {
				out[i] = string(asJSON(t, res))
			}
		})
		assert.Equal(t, texts, out, name)
	}
	_, err := Gather(context.Background(), Case{Config: c, Scenario: scenarioOf(t, c, "")}, source("\n"), Options{})
	assert.ErrorContains(t, err, "nothing to replay")
	over, stop := context.WithCancel(context.Background())
	stop()
	a, err := Gather(over, Case{Config: c, Scenario: scenarioOf(t, c, "load {\n rate = \"10/s\"\n}\n")}, nil, Options{})
	assert.True(t, a == nil && err == nil, "what was stopped is no error")
}

func asJSON(t *testing.T, v any) []byte {
	text, err := json.Marshal(v)
	require.NoError(t, err)
	return text
}
