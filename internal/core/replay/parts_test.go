package replay

import (
	"context"
	"fmt"
	"testing"
	"time"
	"unsafe"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"kestrix/internal/core/draw"
	"kestrix/internal/core/scenario"
	"kestrix/internal/core/tick"
	"kestrix/internal/core/upstream"
)

func TestTheInternerGivesEachHashOneNumber(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		var in interner
		seen := map[uint64]uint32{}
		for _, k := range rapid.SliceOfN(rapid.Uint64Range(0, 3000), 1, 4000).Draw(t, "keys") {
			hash := draw.Bits(1, k, 0, draw.Who)
			want, known := seen[hash]
			if !known {
				want = uint32(len(seen))
				seen[hash] = want
			}
			if got, fresh := in.number(hash); got != want || fresh == known {
				t.Fatalf("%d is number %d, want %d", k, got, want)
			}
		}
	})
	var zero interner
	n, fresh := zero.number(0)
	assert.True(t, fresh)
	again, fresh := zero.number(0)
	assert.False(t, fresh)
	assert.Equal(t, n, again, "a hash of 0 is a hash like any other")
}

// TestTheTimelineCountsEverythingOnce holds it to plain counting, over doublings.
func TestTheTimelineCountsEverythingOnce(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		tl := newTimeline(2)
		open := make([]int32, 2)
		var answered, failed, requests int64
		now := tick.Time(0)
		for range rapid.IntRange(1, 60).Draw(t, "steps") {
			now += tick.Time(rapid.Int64Range(0, int64(20*time.Minute)).Draw(t, "wait"))
			r := tl.grow(now, open)
			r.requests[0]++
			requests++
			open[0]++
			if rapid.Bool().Draw(t, "answered") {
				tl.grow(now, open).answer(int64(time.Millisecond))
				answered++
				open[0]--
			} else {
				tl.grow(now, open).failed++
				failed++
			}
		}
		if len(tl.rows) > maxRows {
			t.Fatalf("%d rows", len(tl.rows))
		}
		var a, f, n int64
		for i := range tl.rows {
			a += tl.rows[i].answered
			f += tl.rows[i].failed
			n += int64(tl.rows[i].requests[0])
		}
		if a != answered || f != failed || n != requests {
			t.Fatalf("%d %d %d, want %d %d %d", a, f, n, answered, failed, requests)
		}
		if last := int64(now / tl.width); int(last) != len(tl.rows)-1 {
			t.Fatalf("the last row is %d, the last moment belongs to %d", len(tl.rows)-1, last)
		}
	})
}

func TestLanesAndHeapTogetherKeepTheOrder(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		var l lane
		now := tick.Time(0)
		in, out := 0, 0
		for range rapid.IntRange(1, 5000).Draw(t, "steps") {
			if in == out || rapid.Bool().Draw(t, "push") {
				now += tick.Time(rapid.Int64Range(0, 3).Draw(t, "wait"))
				l.push(now, event{req: int32(in)})
				in++
				continue
			}
			if e := l.pop(); e.req != int32(out) {
				t.Fatalf("%d came out, want %d", e.req, out)
			}
			out++
		}
		if (l.at() == tick.Never) != (in == out) {
			t.Fatal("an empty lane has nothing due")
		}
	})
}

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
	assert.EqualValues(t, 30, r.Errors.Refused+r.Errors.Reset, "refused until the second has ended too")
	assert.EqualValues(t, 20, r.Faults[0].Lost)
	assert.EqualValues(t, 20, r.Faults[1].Lost, "what met both counts for both")

	both := f("hang", "hang", "10s", "30s", "") + f("errors", "errors", "20s", "40s", "status = 500")
	r = run(t, pool(t, 1, "round-robin", "timeouts {\n answer = \"500ms\"\n}\n"), both, even(50, time.Second, 1), Options{})
	assert.EqualValues(t, 20, r.Errors.AnswerTimeout)
	assert.EqualValues(t, 10, r.Errors.Status5xx)
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

// A large configuration costs memory for what answers, not for all it names, and
// no more for every phase.
func TestCountsTakeRoomWhenThereAreAny(t *testing.T) {
	e, err := newEngine(context.Background(), pool(t, 500, "first-fit", ""), scenario.None(), Options{Seed: 1})
	require.NoError(t, err)
	for range 10 {
		e.phases[len(e.phases)-1].requests++
		e.newPhase()
	}
	assert.Empty(t, e.tally.counts)
	s, u := &e.servers[7].latency, &e.ups[0].latency[3]
	e.tally.gather(s, 40e6, bucket(40e3))
	e.tally.one(u, 40e6)
	for range 20 {
		e.tally.gather(s, 20e6, bucket(20e3))
	}
	e.tally.settle(s)
	assert.Len(t, e.tally.counts, 2*spreadSize)
	l := e.tally.latency(&s.spread)
	assert.InDelta(t, 0.44/21, l.Mean, 1e-9)
	assert.InDelta(t, 0.02, l.P95, 3e-4)
	assert.InDelta(t, 0.04, l.P99, 3e-4)
	assert.InDelta(t, 0.04, e.tally.latency(u, &e.servers[8].latency.spread).P50, 3e-4)
	assert.Equal(t, Latency{}, e.tally.latency(&e.servers[8].latency.spread))
}

// What frequent things look at is laid out by lines of a processor's cache.
func TestFrequentThingsLookAtFewLines(t *testing.T) {
	assert.EqualValues(t, 64, unsafe.Offsetof(server{}.latency), "of a server")
	assert.Zero(t, unsafe.Sizeof(server{})%64)
	assert.EqualValues(t, 64, unsafe.Offsetof(request{}.a)+unsafe.Offsetof(upstream.Attempt{}.Began)+8, "of a request at its end")
	assert.Zero(t, unsafe.Sizeof(request{})%64)
}
