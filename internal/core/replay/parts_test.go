package replay

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kestrix/internal/core/cause"
	"kestrix/internal/core/result"
)

// TestFaultsMayOverlap puts one fault into another and looks at what is left
// when each ends.
func TestFaultsMayOverlap(t *testing.T) {
	f := func(name, kind, at, until, more string) string {
		return fmt.Sprintf("fault %q {\n backend = \"app.b0\"\n kind = %q\n at = %q\n until = %q\n%s\n}\n", name, kind, at, until, more)
	}
	slow := f("one", "slow", "10s", "40s", "factor = 2") + f("two", "slow", "20s", "30s", "factor = 5")
	c := pool(t, 1, "round-robin", "")
	r := run(t, c, "behaviour \"*\" {\n service = \"10ms\"\n connect = \"0s\"\n}\n"+slow, even(50, time.Second, 1), Options{})
	assert.InDelta(t, 0.1, r.Latency.Max, 1e-9, "both together: ten times as long")
	assert.InDelta(t, (20*0.010+20*0.020+10*0.100)/50, r.Latency.Mean, 1e-9)

	down := f("one", "refuse", "10s", "30s", "") + f("two", "refuse", "20s", "40s", "")
	r = run(t, c, down, even(50, time.Second, 1), Options{})
	assert.EqualValues(t, 30, r.Errors[cause.Refused]+r.Errors[cause.Reset], "refused until the second has ended too")
	assert.EqualValues(t, 20, r.Faults[0].ExposedFailed)
	assert.EqualValues(t, 20, r.Faults[1].ExposedFailed, "what met both counts for both")

	both := f("hang", "hang", "10s", "30s", "") + f("errors", "errors", "20s", "40s", "status = 500")
	r = run(t, pool(t, 1, "round-robin", "timeouts {\n answer = \"500ms\"\n}\n"), both, even(50, time.Second, 1), Options{})
	assert.EqualValues(t, 20, r.Errors[cause.AnswerTimeout])
	assert.EqualValues(t, 10, r.Errors[cause.Status5xx])
}

func TestAFaultThatNeverBegan(t *testing.T) {
	r := run(t, pool(t, 1, "round-robin", ""), "fault \"late\" {\n backend = \"*\"\n kind = \"park\"\n at = \"1h\"\n}\n", even(5, time.Second, 1), Options{})
	require.Len(t, r.Faults, 1)
	assert.False(t, r.Faults[0].Began)
	assert.Nil(t, r.Faults[0].DetectedAfter)
	assert.EqualValues(t, 5, r.Answered)
}

func TestTheEmptyResultHasEveryKey(t *testing.T) {
	c := pool(t, 2, "hash", "")
	r, err := Empty(c, scenarioOf(t, c, struck("hang", "")), Options{})
	require.NoError(t, err)
	assert.Contains(t, r.Upstreams["app"].Backends, "b1")
	assert.Contains(t, r.Routes, "web/all")
	assert.Len(t, r.Faults, 1)
	_, err = Empty(c, scenarioOf(t, c, ""), Options{Frontend: "x"})
	assert.Error(t, err)
}

// TestTheLastStretchIsRepeated: after the last arrival those of the last stretch come again, of
// the same clients, from a trace as from a load, and the trace is said to be what it is.
func TestTheLastStretchIsRepeated(t *testing.T) {
	once := func(o Options) *result.Replay {
		return run(t, pool(t, 1, "round-robin", ""), "behaviour \"*\" {\n service = \"10ms\"\n}\n", even(100, time.Second, 50), o)
	}
	plain, more := once(Options{Seed: 1}), once(Options{Seed: 1, Repeat: 35 * time.Second, Stretch: 20 * time.Second})
	assert.EqualValues(t, []int64{100, 135}, []int64{plain.Requests, more.Requests})
	assert.InDelta(t, 35, more.Duration-plain.Duration, 0.1)
	assert.Equal(t, []int64{plain.Trace.Records, plain.Trace.Clients}, []int64{more.Trace.Records, more.Trace.Clients})
	assert.Equal(t, plain.Sessions.Seen, more.Sessions.Seen)
	for i, row := range more.Timeline.Rows {
		assert.EqualValues(t, 1, row.Answered, "second %d", i)
	}
	assert.EqualValues(t, 300, once(Options{Seed: 1, Repeat: 200 * time.Second, Stretch: time.Hour}).Requests, "all of it, over and over")
}
