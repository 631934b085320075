package study

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"kestrix/internal/core/cause"
	"kestrix/internal/core/config"
	"kestrix/internal/core/result"
)

// prediction makes a result of one upstream with two backends.
func prediction(failed int64, share, p50 float64, detected *float64) *result.Replay {
	r := &result.Replay{Requests: 1000, Answered: 1000 - failed, Failed: failed, Errors: cause.Counts{cause.Reset: failed}}
	r.Latency = result.Latency{P50: p50, P95: 2 * p50, P99: 3 * p50}
	r.Upstreams = map[string]*result.Upstream{"app": {Requests: 1000, Backends: map[string]*result.Backend{"a": {Share: share}, "b": {Share: 1 - share}}}}
	r.Faults = []result.Fault{{Name: "it", Began: true, Backends: []string{"app.a"}, DetectedAfter: detected}}
	return r
}

// TestAPredictionIsHeldAgainstARehearsal tries what holds by its goal, what holds by
// chance alone, and what is off.
func TestAPredictionIsHeldAgainstARehearsal(t *testing.T) {
	c := &config.Config{Upstreams: []*config.Upstream{{Name: "app", Backends: []config.Backend{{Name: "a"}, {Name: "b"}}, Probe: &config.Probe{Every: time.Second}}}}
	at := func(v float64) *float64 { return &v }
	calm := []*result.Replay{prediction(100, 0.5, 0.1, at(1)), prediction(100, 0.5, 0.1, at(1)), prediction(100, 0.5, 0.1, at(1))}
	wild := []*result.Replay{prediction(40, 0.3, 0.05, at(1)), prediction(160, 0.7, 0.15, at(1)), prediction(100, 0.5, 0.1, at(1))}
	for name, x := range map[string]struct {
		rehearsed *result.Replay
		others    []*result.Replay
		off       []string
	}{
		"the same":               {prediction(100, 0.5, 0.1, at(1)), calm, nil},
		"within the goals":       {prediction(119, 0.519, 0.114, at(1.9)), calm, nil},
		"beyond them":            {prediction(131, 0.53, 0.12, at(2.5)), calm, []string{"failed", "errors.reset", "latency.p50", "latency.p95", "share", "share", "detected_after"}},
		"but within chance":      {prediction(131, 0.53, 0.12, at(1)), wild, nil},
		"what never came is off": {prediction(100, 0.5, 0.1, nil), calm, []string{"detected_after"}},
	} {
		f := HoldAgainst(c, prediction(100, 0.5, 0.1, at(1)), x.rehearsed, x.others)
		var off []string
		for _, r := range f.Rows {
			if !r.WithinGoal {
				off = append(off, r.What)
			}
		}
		assert.Equal(t, x.off, off, name)
		assert.Equal(t, len(x.off), f.Off, name)
		assert.Equal(t, 4, f.Seeds)
	}
	f := HoldAgainst(c, prediction(100, 0.5, 0.1, at(1)), prediction(100, 0.5, 0.1, at(1)), calm)
	assert.Equal(t, "the prediction holds: all 14 figures are as predicted, or within the range of chance", f.Verdict())
	// Of four draws with a deviation of 1 a fifth lies within 3.18 times that and the
	// root of 2, in 95 of 100 cases.
	spread := []*result.Replay{prediction(99, 0.5, 0.1, nil), prediction(101, 0.5, 0.1, nil)}
	f = HoldAgainst(c, prediction(100, 0.5, 0.1, nil), prediction(100, 0.5, 0.1, nil), spread)
	assert.InDelta(t, 4.30*1.41421, *f.Rows[1].Chance, 0.01, "two degrees of freedom")
}
