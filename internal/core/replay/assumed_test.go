package replay

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"kestrix/internal/core/result"
)

// logged makes a Combined log of n requests, the same time apart; more writes what stands
// behind the user agent of each, and its status.
func logged(n int, every time.Duration, more func(i int) (status int, field string)) string {
	var b strings.Builder
	for i := range n {
		at := time.Unix(1_790_000_000, 0).Add(time.Duration(i) * every).UTC()
		status, field := more(i)
		fmt.Fprintf(&b, "192.0.2.%d - - [%s] \"GET /seats HTTP/1.1\" %d 100 \"-\" \"x\"%s\n", i%20+1, at.Format("02/Jan/2006:15:04:05.000000 -0700"), status, field)
	}
	return b.String()
}

// TestWhatIsAssumedIsSaid tells for several logs what of the result is not from them.
func TestWhatIsAssumedIsSaid(t *testing.T) {
	took := func(field string) func(int) (int, string) {
		return func(int) (int, string) { return 200, field }
	}
	failing := func(i int) (int, string) {
		if i%3 == 1 {
			return 504, " 30.000000"
		}
		return 200, " 0.500000"
	}
	half := func(i int) (int, string) {
		if i%2 == 1 {
			return 200, ` -`
		}
		return 200, " 0.500000"
	}
	const fixed = "behaviour \"*\" {\n service = fixed(\"70ms\")\n workers = 8\n backlog = 8\n connect = \"1ms\"\n sharing {\n  cores = 8\n }\n cold {\n  for = \"1s\"\n }\n}\ndependency \"db\" {\n backend = \"app.*\"\n path = \"/none\"\n service = \"1ms\"\n}\nclients {\n patience = fixed(\"1m\")\n}\n"
	const ofPath = "behaviour \"app.*\" {\n path = \"/seats\"\n service = fixed(\"70ms\")\n}\n"
	const two = "behaviour \"*\" {\n workers = 2\n}\n"
	for name, c := range map[string]struct {
		log, scenario string
		o             Options
		what          string   // of each assumption
		times         bool     // marked
		p50           float64  // seconds
		words         []string // somewhere in them
	}{
		"no durations":           {logged(300, 50*time.Millisecond, took("")), "", Options{}, "service times, backends, sharing, dependencies, patience", true, 0.036, []string{"lognormal, mean 40 ms, CV 0.6", "the trace has no durations"}},
		"recorded":               {logged(300, 50*time.Millisecond, took(" 0.500000")), "", Options{}, "backends, sharing, dependencies, patience", false, 0.5, []string{"16 workers, a backlog of 64, 1 ms to connect for each backend"}},
		"by the scenario":        {logged(300, 50*time.Millisecond, took("")), fixed, Options{}, "", false, 0.07, nil},
		"by it for all paths":    {logged(300, 50*time.Millisecond, took("")), ofPath + "behaviour \"app.*\" {\n path = \"/other\"\n service = from_trace()\n}\n", Options{}, "backends, dependencies, patience", false, 0.071, nil},
		"for paths of one":       {logged(300, 50*time.Millisecond, took("")), strings.Replace(ofPath, "app.*", "app.b1", 1), Options{}, "service times, backends, sharing, dependencies, patience", true, 0, nil},
		"microseconds, unnamed":  {logged(300, 50*time.Millisecond, took(" 500000")), "", Options{}, "service times, last field, backends, sharing, dependencies, patience", true, 0.036, []string{"as 500000", "-fields duration/us"}},
		"second of two unnamed":  {logged(300, 50*time.Millisecond, took(` "h" 500000`)), "", Options{}, "service times, last field, backends, sharing, dependencies, patience", true, 0.036, []string{"-fields -,duration/us"}},
		"a third failed":         {logged(300, 50*time.Millisecond, failing), "", Options{}, "service times, waiting, backends, sharing, dependencies, patience", true, 0.5, []string{"100 of 300 requests take as long as the last answered one", "100 failed in the trace"}},
		"failures happen again":  {logged(300, 50*time.Millisecond, failing), "", Options{Recorded: true}, "waiting, backends, sharing, dependencies, patience, repeats", true, 0.5, []string{"app: up to "}},
		"half have none":         {logged(300, 50*time.Millisecond, half), "", Options{}, "service times, backends, sharing, dependencies, patience", true, 0.5, []string{"150 have no duration"}},
		"more than workers bear": {logged(300, 50*time.Millisecond, took(" 0.500000")), two, Options{}, "waiting, backends, sharing, dependencies, patience", true, 0, []string{"app: up to 10 requests in flight in the trace, 6 workers in the replay; 294 requests wait"}},
	} {
		r := run(t, pool(t, 3, "round-robin", ""), c.scenario, c.log, c.o)
		var what, words []string
		for _, a := range r.Assumed {
			what = append(what, a.What)
			words = append(words, a.Value, a.Because, a.Instead)
			assert.NotEmpty(t, a.Value+a.Because+a.Instead, name)
		}
		assert.Equal(t, c.what, strings.Join(what, ", "), name)
		assert.Equal(t, c.times, r.Assumed.OfTimes(), name)
		for _, w := range c.words {
			assert.Contains(t, strings.Join(words, "\n"), w, name)
		}
		if c.p50 > 0 {
			assert.InEpsilon(t, c.p50, r.Latency.P50, 0.05, name)
		}
		if c.o.Recorded {
			assert.Equal(t, int64(100), r.Failed, "%s: as they were recorded", name)
		} else if c.scenario != two {
			assert.Zero(t, r.Failed, name)
		}
	}
}

// TestFewAssumedDurationsMarkNothing: one request of many moves no percentile.
func TestFewAssumedDurationsMarkNothing(t *testing.T) {
	r := run(t, pool(t, 3, "round-robin", ""), "", logged(300, 50*time.Millisecond, func(i int) (int, string) {
		if i == 7 {
			return 200, ""
		}
		return 200, " 0.500000"
	}), Options{})
	assert.Equal(t, result.ServiceTimes, r.Assumed[0].What)
	assert.False(t, r.Assumed.OfTimes())
	assert.Equal(t, result.Durations{Recorded: 299, Missing: 1}, r.Trace.Durations)
}
