package study

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kestrix/internal/core/result"
)

// timelineOf makes a timeline of attempts begun in each bucket.
func timelineOf(bucket float64, begun ...int64) *result.Replay {
	r := &result.Replay{Duration: bucket * float64(len(begun)), Timeline: result.Timeline{Bucket: bucket}}
	for i, n := range begun {
		r.Timeline.Rows = append(r.Timeline.Rows, result.TimelineRow{At: float64(i) * bucket, Upstreams: map[string]map[string]result.TimelineBox{"a": {"auk": {Requests: n / 2}, "gannet": {Requests: n - n/2}}}})
	}
	return r
}

func TestPartsOfTheLoad(t *testing.T) {
	for title, c := range map[string]struct {
		r          *result.Replay
		length     time.Duration
		at, lasted time.Duration
	}{
		"one high bucket":                 {timelineOf(1, 1, 1, 9, 1, 1, 1, 1, 1), time.Second, 2 * time.Second, time.Second},
		"a broad hill beats a high peak":  {timelineOf(1, 9, 0, 0, 6, 6, 6, 0, 0), 3 * time.Second, 3 * time.Second, 3 * time.Second},
		"at the very end":                 {timelineOf(10, 1, 2, 3, 4), 20 * time.Second, 20 * time.Second, 20 * time.Second},
		"the first of several":            {timelineOf(1, 5, 5, 5, 5), time.Second, 0, time.Second},
		"a quarter where nothing is said": {timelineOf(10, 1, 1, 1, 1, 9, 9, 1, 1), 0, 40 * time.Second, 20 * time.Second},
		"a minute of a long one":          {timelineOf(60, 1, 1, 7, 1, 1, 1), 0, 120 * time.Second, time.Minute},
		"longer than all of it":           {timelineOf(1, 1, 2, 3, 4), time.Hour, 0, time.Hour},
	} {
		o := SweepOptions{For: c.length}
		lasted := o.length(c.r)
		assert.Equal(t, c.lasted, lasted, title)
		assert.Equal(t, c.at, o.at(c.r, begun(c.r, nil), lasted, peak), title)
	}
	hill := []int64{1, 1, 1, 5, 9, 9, 9, 6, 1, 1, 1}
	assert.Equal(t, []int{4, 1, 6}, []int{windowOf(hill, 4, peak), windowOf(hill, 4, rise), windowOf(hill, 4, fall)})
	r := timelineOf(1, 4, 4)
	assert.Equal(t, []int64{4, 4}, begun(r, &target{backends: []string{"a.auk"}}), "of the whole upstream, whose requests the others get")
	assert.Equal(t, []int64{0, 0}, begun(r, &target{backends: []string{"ab.auk"}}))
}

// TestBackendsThatAreEqualByDesign: what tells one from the other keeps them separate.
func TestBackendsThatAreEqualByDesign(t *testing.T) {
	targets := func(change, to, sc string) (out []string) {
		s := subject(t, "a.hcl", strings.Replace(three, change, to, 1), "instances = 1\n"+sc)
		o := SweepOptions{}
		all, err := o.targets(s.Config, s.Scenario)
		require.NoError(t, err)
		for _, x := range all {
			out = append(out, fmt.Sprint(x.of(0), x.of(1), x.of(2)))
		}
		return out
	}
	assert.Equal(t, []string{"[a.auk] [a.gannet] [a.auk-2]"}, targets("", "", ""), "with each seed another one fails")
	for title, x := range map[string][3]string{
		"weight": {`"127.0.0.1:2"`, `{ address = "127.0.0.1:2", weight = 2 }`, ""}, "limit": {`"127.0.0.1:2"`, `{ address = "127.0.0.1:2", max_in_flight = 2 }`, ""},
		"behaviour": {"", "", "behaviour \"a.gannet\" {\n workers = 1\n}\n"}, "fault": {"", "", "fault \"f\" {\n backend = \"a.gannet\"\n kind = \"hang\"\n at = \"1s\"\n}\n"},
	} {
		assert.Equal(t, []string{"[a.auk] [a.auk-2] [a.auk]", "[a.gannet] [a.gannet] [a.gannet]"}, targets(x[0], x[1], x[2]), title)
	}
	assert.Len(t, targets(`"least-connections"`, `"hash"`, ""), 3, "a hash knows them by name")
	assert.Len(t, targets("algorithm", "sticky {\n by = \"address\"\n}\nalgorithm", ""), 3)
}

// TestTheSearch lets backends bear just so much, and looks what is found.
func TestTheSearch(t *testing.T) {
	for _, bears := range []float64{0.1, 0.3, 0.99, 1.7, 13, 100} {
		p := searchedPart{next: leastLoad}
		tries := 0
		for p.next > 0 {
			tries++
			during := result.Phase{Requests: int64(10_000 * p.next)}
			during.Latency.P99 = 0.1
			if p.next > bears {
				during.Failed = during.Requests / 5
				during.ErrorRate = 0.2
			}
			after := 4.2
			p.step(&result.Replay{Faults: []result.Fault{{DetectedAfter: &after}, {During: during}}}, 0.01, 10*time.Second)
			require.Less(t, tries, 20)
		}
		assert.Equal(t, 6*time.Second, p.settle, "until it is out, and a moment more, in whole seconds")
		l := p.limit
		switch {
		case bears < leastLoad:
			assert.InDelta(t, 0.2, l.Undisturbed.Failed, 1e-9, "what fails with a quarter of the load fails anyway")
			assert.Nil(t, l.TooMuch)
		case bears > mostLoad:
			assert.Nil(t, l.TooMuch)
			assert.InDelta(t, mostLoad, l.Load, 1e-9)
		default:
			require.NotNil(t, l.TooMuch)
			assert.LessOrEqual(t, l.Load, bears)
			assert.Greater(t, *l.TooMuch, bears)
			assert.LessOrEqual(t, *l.TooMuch/l.Load, nearEnough+1e-9)
			assert.InDelta(t, 1000*l.Load, l.Rate, 1, "requests a second at what it holds")
			assert.InDelta(t, 0.2, l.Failed, 1e-9)
		}
	}
	// Slower is too much as well, and two failures are chance.
	p := searchedPart{next: leastLoad, known: true}
	p.step(&result.Replay{Faults: []result.Fault{{}, {During: result.Phase{Requests: 100, Elapsed: result.Latency{P99: 0.1}}}}}, 0.01, time.Second)
	p.step(&result.Replay{Faults: []result.Fault{{}, {During: result.Phase{Requests: 100, Failed: 3, Elapsed: result.Latency{P99: 0.29}}}}}, 0.01, time.Second)
	assert.InDelta(t, 0.5, p.limit.Load, 1e-9)
	p.step(&result.Replay{Faults: []result.Fault{{}, {During: result.Phase{Requests: 100, Elapsed: result.Latency{P99: 0.31}}}}}, 0.01, time.Second)
	assert.InDelta(t, 1, p.high, 1e-9)
}

func TestShares(t *testing.T) {
	seen := map[int]int{}
	for n := 1; n <= 3; n++ {
		o := SweepOptions{Shard: &Shard{n, 3}}
		for _, i := range o.share(7, 0) {
			seen[i]++
		}
		for _, i := range o.share(2, 7) {
			seen[100+i]++
		}
	}
	assert.Len(t, seen, 9)
	for i, n := range seen {
		assert.Equal(t, 1, n, "%d falls to one part", i)
	}
	whole := SweepOptions{}
	assert.Equal(t, []int{0, 1, 2}, whole.share(3, 5))
}
