package replay

import (
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"gonum.org/v1/gonum/stat"
)

// TestPathsTakeAsLongAsTheirBehaviourSays asks for paths one after the other, of two backends in
// turn: the last behaviour that fits backend and path holds, one without paths where none does.
func TestPathsTakeAsLongAsTheirBehaviourSays(t *testing.T) {
	const sc = `behaviour "app.*" {
  path = "/search/**"
  service = "300ms"
}
behaviour "app.b1" {
  path = "/search/**"
  service = "700ms"
}
behaviour "app.*" {
  path = ["/search/deep/*", "/learned/*"]
  service = from_trace()
}
behaviour "*" {
  service = "10ms"
  connect = "0s"
}
`
	var log strings.Builder
	want := map[string][]float64{}
	for i, x := range []struct {
		path string
		b0   float64
		b1   float64
	}{
		{"/", 0.01, 0.01}, {"/search", 0.3, 0.7}, {"/%73earch/a?q=/learned/1", 0.3, 0.7}, {"/x/../search/a/b", 0.3, 0.7}, {"/searching", 0.01, 0.01},
		{"/search/deep/1", 0.05, 0.05}, {"/learned/7?x", 0.05, 0.05}, {"/learned", 0.01, 0.01}, {"/search", 0.3, 0.7},
	} {
		for range 2 { // the second one finds its route remembered
			for k, takes := range []float64{x.b0, x.b1} {
				fmt.Fprintf(&log, "192.0.2.7 - - [%s] \"GET %s HTTP/1.1\" 200 1 \"-\" \"x\" 0.050\n", time.Unix(1_790_000_000+int64(len(want["b0"])*2+k+i), 0).UTC().Format("02/Jan/2006:15:04:05 -0700"), x.path)
				want[fmt.Sprintf("b%d", k)] = append(want[fmt.Sprintf("b%d", k)], takes)
			}
		}
	}
	r := run(t, pool(t, 2, "round-robin", ""), sc, log.String(), Options{Spread: "none"})
	for name, takes := range want {
		b := r.Upstreams["app"].Backends[name]
		assert.EqualValues(t, len(takes), b.Answered)
		assert.InDelta(t, stat.Mean(takes, nil), b.Latency.Mean, 0.002, name)
		assert.InEpsilon(t, slices.Max(takes), b.Latency.Max, 0.01, name)
	}
	assert.Equal(t, `fixed("10ms"); for /search/deep/*, /learned/* from_trace(); for /search/** fixed("700ms"); for /search/** fixed("300ms")`, r.Model.Backends["app.b1"].Service)
}
