package scenario

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kestrix/internal/core/config"
)

// TestHowFarAResultIsFromABound holds a result against conditions of every form.
func TestHowFarAResultIsFromABound(t *testing.T) {
	const result = `{"error_rate": 0.02, "failed": 0, "latency": {"p99": 0.5}, "faults": [{"detected_after": null}], "upstreams": {"booking": {"backends": {"auk": {"share": 0.25}}}}}`
	for that, want := range map[string]Score{
		`result.error_rate <= 0.04`:                           {false, -0.5},
		`result.error_rate <= 0.01`:                           {true, 0.5},
		`result.error_rate <= 0.02`:                           {false, 0},
		`result.error_rate < 0.02`:                            {true, 0},
		`0.04 >= result.error_rate`:                           {false, -0.5},
		`result.latency.p99 > 1`:                              {true, 0.5},
		`!(result.latency.p99 > 1)`:                           {false, -0.5},
		`result.failed == 0`:                                  {false, -1},
		`result.failed == 3`:                                  {true, 1},
		`result.failed <= 0`:                                  {false, 0},
		`result.faults[0].detected_after <= 10`:               {true, 1}, // never is infinite
		`result.faults[3].detected_after <= 10`:               {true, 1}, // there is no such fault
		`share("auk") >= 0.5`:                                 {true, 0.5},
		`result.error_rate <= 0.04 && result.latency.p99 < 1`: {false, -0.5},
		`result.error_rate <= 0.01 && result.latency.p99 < 1`: {true, 0.5},
		`result.error_rate <= 0.01 || result.latency.p99 < 1`: {false, -0.5},
		`result.error_rate <= 0.01 ? true : false`:            {true, 1},
	} {
		s, found := read(t, "expect \"it\" {\n  that = "+that+"\n}\n")
		require.Empty(t, found, that)
		got := s.Scores([]byte(result))
		assert.Equal(t, want.Broken, got[0].Broken, that)
		assert.InDelta(t, want.Past, got[0].Past, 1e-9, that)
	}
}

// TestExpectationsThatCannotFail finds them, and no other.
func TestExpectationsThatCannotFail(t *testing.T) {
	for that, can := range map[string]bool{
		`true`: false, `1 < 2`: false, `2 < 1`: true, `result.error_rate <= 1`: false, `1 >= result.error_rate`: false, `result.error_rate < 1`: true, `result.failed >= 0`: false,
		`0 <= result.failed`: false, `result.failed > 0`: true, `result.failed == 0`: true, `result.failed != -1`: false, `!(result.error_rate > 1)`: false, `share("auk") <= 1`: true, // what a function returns is not known here
		`result.failed >= 0 && result.error_rate <= 1`: false, `result.failed >= 0 && result.error_rate <= 0.5`: true, `result.failed >= 0 || result.error_rate <= 0.5`: false, `result.failed <= 1000000000`: true,
	} {
		s, found := read(t, "expect \"it\" {\n  that = "+that+"\n}\n")
		require.Empty(t, found, that)
		assert.Equal(t, !can, len(s.CannotFail()) == 1, that)
	}
}

// TestAScenarioIsWrittenWithFaults: what is written is read as it was meant, and everything else
// stays.
func TestAScenarioIsWrittenWithFaults(t *testing.T) {
	dependency := "dependency \"db\" {\n  backend = \"booking.*\"\n  service = \"5ms\"\n}\n"
	for _, source := range []string{"# a comment\nseed = 7\ninstances = 2\n" + dependency, "load_factor = 2 # as it was\ninstances = 2\n" + dependency, "\xef\xbb\xbfinstances = 2\r\n" + dependency + "// the end"} {
		s, found := read(t, source)
		require.Empty(t, found)
		var faults []Fault
		for _, k := range FaultKinds {
			f := Named("of "+k.Name, k.Name, 1500*time.Millisecond, 61*time.Second)
			f.Rate, f.Factor, f.FailsFor, f.After, f.Weight = 0.125, 3.5, 250*time.Millisecond, 20*time.Millisecond, 3
			if f.Backends = []config.Placed[string]{{Value: "booking.auk"}, {Value: "sailings.skua"}}; k.Proxy {
				f.Backends, f.Proxy, f.GivenMoves, f.MovesAfter = nil, 2, true, 3*time.Second
			}
			faults = append(faults, f)
		}
		of := Named("of db", "slow", 0, -1)
		of.Dependencies = []string{"db"}
		other := *s
		other.LoadFactor, other.Instances, other.Seed = 1.25, 3, 99
		text := string(s.With(&other, append(faults, of)))
		again, found := read(t, text)
		require.Empty(t, found, text)
		assert.Equal(t, []any{1.25, 3, uint64(99)}, []any{again.LoadFactor, again.Instances, again.Seed})
		require.Len(t, again.Faults, len(faults)+1)
		for i, f := range faults {
			g, keys := again.Faults[i], f.Of().Keys
			assert.Equal(t, []any{f.Name, f.Kind, f.At, f.Until, f.Proxy, len(f.Backends)}, []any{g.Name, g.Kind, g.At, g.Until, g.Proxy, len(g.Backends)})
			for _, key := range keys {
				of := map[string][2]any{
					"status": {f.Status, g.Status}, "rate": {f.Rate, g.Rate}, "after": {f.After, g.After}, "factor": {f.Factor, g.Factor}, "fails_for": {f.FailsFor, g.FailsFor}, "works_for": {f.WorksFor, g.WorksFor},
					"weight": {f.Weight, g.Weight}, "proxy": {f.Proxy, g.Proxy}, "moves_after": {f.MovesAfter, g.MovesAfter},
				}
				require.Contains(t, of, key, "a new key of %s is written as well", f.Kind)
				assert.Equal(t, of[key][0], of[key][1], "%s of %s", key, f.Kind)
			}
		}
		assert.Equal(t, []string{"db"}, again.Faults[len(faults)].Dependencies)
		assert.Negative(t, again.Faults[len(faults)].Until)
		same, found := read(t, string(s.With(s, nil)))
		require.Empty(t, found)
		assert.Equal(t, []any{s.LoadFactor, s.Instances, s.Seed}, []any{same.LoadFactor, same.Instances, same.Seed})
		for _, kept := range []string{"comment", "as it was", "the end"} {
			assert.Equal(t, strings.Contains(source, kept), strings.Contains(text, kept), kept)
		}
	}
}
