package check

import (
	"context"
	"fmt"
	"io"
	"strings"

	"kestrix/internal/core/config"
	"kestrix/internal/core/ingest"
	"kestrix/internal/core/replay"
	"kestrix/internal/core/scenario"
)

// maxReplays is for how many findings of a configuration a replay is run; the
// others of the kind would say the same.
const maxReplays = 20

// hangWitness replays two minutes of ten requests a second through one upstream
// and has its first backend hang in the second of them, so that what is claimed
// is what happens.
func hangWitness(u *config.Upstream) string {
	const seconds, rate = 120, 10
	only := &config.Config{
		Frontends: []*config.Frontend{{Name: "f", Protocol: "http", Routes: []*config.Route{{Name: "r", SendTo: config.Placed[string]{Value: u.Name}}}}},
		Upstreams: []*config.Upstream{u},
	}
	sc := scenario.None()
	target := u.Name + "." + u.Backends[0].Name
	sc.Faults = []scenario.Fault{{Name: "hang", Kind: "hang", Backends: []config.Placed[string]{{Value: target}}, At: 60e9, Until: -1}}
	var log strings.Builder
	for i := range seconds * rate {
		fmt.Fprintf(&log, "{\"time\":%d.%d,\"client\":\"192.0.2.%d\",\"method\":\"GET\",\"path\":\"/\"}\n", 1_790_000_000+i/rate, i%rate, i%50+1)
	}
	open := func() (io.ReadCloser, error) { return io.NopCloser(strings.NewReader(log.String())), nil }
	r, err := replay.Run(context.Background(), only, sc, []ingest.Source{{Name: "witness", Open: open}}, replay.Options{Seed: 1})
	if err != nil || len(r.Faults) == 0 {
		return ""
	}
	noticed := "nothing notices"
	if d := r.Faults[0].DetectedAfter; d != nil {
		noticed = fmt.Sprintf("it is noticed after %.1f s", *d)
	}
	return fmt.Sprintf("with %q hung from 60.0 s on, %d of %d requests fail, and %s", u.Backends[0].Name, r.Failed, seconds*rate/2, noticed)
}
