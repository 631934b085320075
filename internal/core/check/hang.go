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

// hung is what becomes of ten requests a second when the first backend of an upstream hangs.
type hung struct {
	requests int64    // begun after it hung
	failed   int64    // of them
	noticed  *float64 // seconds after it hung; nil: not before the end
	slowest  float64  // seconds from a request to its answer
}

// hang replays one minute of ten requests a second through one upstream, and as many seconds more in which its
// first backend hangs, so that what is claimed is what happens.
func hang(u *config.Upstream, tcp bool, seconds int) (hung, bool) {
	const rate, before = 10, 60
	protocol := "http"
	if tcp {
		protocol = "tcp"
	}
	only := &config.Config{
		Frontends: []*config.Frontend{{Name: "f", Protocol: protocol, Routes: []*config.Route{{Name: "r", SendTo: config.Placed[string]{Value: u.Name}}}}},
		Upstreams: []*config.Upstream{u},
	}
	sc := scenario.None()
	target := u.Name + "." + u.Backends[0].Name
	sc.Faults = []scenario.Fault{{Name: "hang", Kind: "hang", Backends: []config.Placed[string]{{Value: target}}, At: before * 1e9, Until: -1}}
	var log strings.Builder
	for i := range (before + seconds) * rate {
		fmt.Fprintf(&log, "{\"time\":%d.%d,\"client\":\"192.0.2.%d\",\"method\":\"GET\",\"path\":\"/\"}\n", 1_790_000_000+i/rate, i%rate, i%50+1)
	}
	open := func() (io.ReadCloser, error) { return io.NopCloser(strings.NewReader(log.String())), nil }
	r, err := replay.Run(context.Background(), only, sc, []ingest.Source{{Name: "witness", Open: open}}, replay.Options{Seed: 1})
	if err != nil || len(r.Faults) == 0 {
		return hung{}, false
	}
	return hung{int64(seconds * rate), r.Failed, r.Faults[0].DetectedAfter, r.Elapsed.Max}, true
}

// hangWitness words what becomes of a minute of requests when the first backend of an upstream hangs.
func hangWitness(u *config.Upstream, tcp bool) string {
	h, ok := hang(u, tcp, 60)
	if !ok {
		return ""
	}
	noticed := "nothing notices"
	if h.noticed != nil {
		noticed = fmt.Sprintf("it is noticed after %.1f s", *h.noticed)
	}
	if h.failed == 0 {
		return fmt.Sprintf("of ten requests a second with %q hung, none of %d in a minute fails, the slowest takes %.1f s, and %s", u.Backends[0].Name, h.requests, h.slowest, noticed)
	}
	return fmt.Sprintf("of ten requests a second with %q hung, %d of %d in a minute fail, and %s", u.Backends[0].Name, h.failed, h.requests, noticed)
}
