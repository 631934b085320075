package upstream

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kestrix/internal/core/tick"
)

// share returns how many of n requests in a row go to a backend, each ended at
// once. Requests are numbered anew each time, so that random draws differ.
func share(u *Upstream, now tick.Time, name string, n int) float64 {
	hits := 0
	for i := range n {
		q, a := get(uint64(now)+uint64(i)), &Attempt{}
		v := u.Choose(now, q, a)
		if u.Backend(v.Backend).Name == name {
			hits++
		}
		u.Settle(now, q, a, Outcome{Kind: Answered, Status: 200})
	}
	return float64(hits) / float64(n)
}

func TestASlowStartScalesFromATenthToAll(t *testing.T) {
	for _, algorithm := range []string{"round-robin", "random", "least-connections"} {
		u := New(0, parse(t, "algorithm = \""+algorithm+"\"\nslow_start = \"20s\""), 1)
		assert.InDelta(t, 1.0/3, share(u, 0, "auk", 3000), 0.03, "%s: nobody starts slowly at the beginning", algorithm)
		auk := id(t, u, "auk")
		u.Operate(second, auk, Park, 0)
		u.Operate(10*second, auk, Return, 0)
		assert.Equal(t, "10.0 auk parked-up: returned by hand; slow start for 20 s", story(u)[1])
		for _, c := range []struct {
			after float64 // seconds
			want  float64 // weight
		}{{0, 0.1}, {5, 0.325}, {10, 0.55}, {19, 0.955}, {25, 1}} {
			now := 10*second + tick.Time(c.after*1e9)
			for u.Next() <= now {
				u.Advance(u.Next(), nil)
			}
			assert.InDelta(t, c.want/(c.want+2), share(u, now, "auk", 3000), 0.035, "%s, %v s after", algorithm, c.after)
		}
		assert.Equal(t, tick.Never, u.Next(), "then nothing is due any more")
	}
}

func TestHashStartsAtOnce(t *testing.T) {
	u := New(0, parse(t, "algorithm = \"hash\"\nslow_start = \"20s\""), 1)
	before := share(u, 0, "auk", 3000)
	u.Operate(second, id(t, u, "auk"), Park, 0)
	u.Operate(2*second, id(t, u, "auk"), Return, 0)
	assert.InDelta(t, before, share(u, 2*second, "auk", 3000), 0.05)
	assert.Equal(t, tick.Never, u.Next())
}

func TestABackendThatFailsInItsSlowStartBeginsAnew(t *testing.T) {
	u := New(0, parse(t, "slow_start = \"20s\""), 1)
	auk := id(t, u, "auk")
	for _, at := range []tick.Time{0, 15 * second} {
		u.Operate(at+second, auk, Park, 0)
		u.Operate(at+2*second, auk, Return, 0)
		assert.InDelta(t, 0.1/2.1, share(u, at+2*second, "auk", 3000), 0.02)
		for u.Next() <= at+14*second {
			u.Advance(u.Next(), nil)
		}
	}
}

func TestWhenAllAreDown(t *testing.T) {
	more := "probe \"http\" {\n every = \"1s\"\n timeout = \"1s\"\n}\nsticky {\n by = \"cookie\"\n}\n"
	down := func(u *Upstream, names ...string) {
		u.Advance(2*second, nil)
		for _, n := range names {
			u.ProbeSeen(2*second, id(t, u, n), Probe{Passed: false, Why: "x"})
		}
	}
	refuse := NewUnprobed(0, parse(t, more), 1)
	down(refuse, "auk", "gannet", "petrel")
	assert.Equal(t, NoBackend, refuse.Choose(3*second, get(1), &Attempt{}).Reason)

	u := NewUnprobed(0, parse(t, more+"when_all_down = \"try-anyway\""), 1)
	down(u, "auk", "gannet")
	assert.Equal(t, "petrel petrel petrel", picks(u, 3*second, 3), "while one is up nobody else is tried")
	down(u, "petrel")
	u.Operate(3*second, id(t, u, "auk"), Park, 0)
	u.Operate(3*second, id(t, u, "gannet"), Weigh, 3)
	got := picks(u, 3*second, 8)
	assert.NotContains(t, got, "auk", "never the operator's")
	assert.Equal(t, 6, strings.Count(got, "gannet"), "by the algorithm and its weights: %s", got)
	v := u.Choose(3*second, get(9), &Attempt{})
	assert.Equal(t, TriedAnyway, v.Reason)
	assert.Equal(t, None, v.Seat, "an emergency settles nobody's seat")
	u.Operate(4*second, id(t, u, "gannet"), Park, 0)
	u.Operate(4*second, id(t, u, "petrel"), Drain, 0)
	assert.Equal(t, NoBackend, u.Choose(5*second, get(9), &Attempt{}).Reason)
}

func TestProbesWhileDownAndTheirJitter(t *testing.T) {
	times := func(more string, passes func(n int) bool) []tick.Time {
		u := New(0, parseMembers(t, "a = \"127.0.0.1:1\"", "probe \"http\" {\n every = \"10s\"\n timeout = \"1s\"\n"+more+"\n}"), 1)
		var out []tick.Time
		for len(out) < 12 {
			now := u.Next()
			if len(u.Advance(now, nil)) > 0 {
				u.ProbeSeen(now, 0, Probe{Passed: passes(len(out)), Why: "x"})
				out = append(out, now)
			}
		}
		return out
	}
	gaps := func(at []tick.Time) (out []time.Duration) {
		for i := range at[1:] {
			out = append(out, at[i+1].Sub(at[i]))
		}
		return out
	}
	always := func(int) bool { return true }
	for _, g := range gaps(times("", always)) {
		assert.Equal(t, 10*time.Second, g)
	}
	// Down from the third probe on, up again after the seventh.
	got := gaps(times("every_while_down = \"2s\"\ndown_after = 2\nup_after = 2", func(n int) bool { return n < 1 || n > 4 }))
	s := time.Second
	assert.Equal(t, []time.Duration{10 * s, 10 * s, 2 * s, 2 * s, 2 * s, 2 * s, 10 * s, 10 * s, 10 * s, 10 * s, 10 * s}, got)

	plain, late := times("", always), times("jitter = \"20%\"", always)
	different := map[time.Duration]bool{}
	for i := range late {
		d := late[i].Sub(plain[i])
		assert.GreaterOrEqual(t, d, time.Duration(0))
		assert.Less(t, d, 2*time.Second, "a fifth of the interval at most, and it does not add up")
		different[d] = true
	}
	assert.Greater(t, len(different), 6)
	assert.Equal(t, late, times("jitter = \"20%\"", always), "the same each time")
}

func TestAReloadGoesOnWithASlowStart(t *testing.T) {
	u := New(0, parse(t, "slow_start = \"20s\""), 1)
	auk := id(t, u, "auk")
	u.Operate(0, auk, Park, 0)
	u.Operate(second, auk, Return, 0)
	u.Reload(11*second, parse(t, "slow_start = \"20s\"\nretry {\n}"))
	for u.Next() <= 11*second {
		u.Advance(u.Next(), nil)
	}
	assert.InDelta(t, 0.55/2.55, share(u, 11*second, "auk", 3000), 0.02)
	u.Reload(12*second, parse(t, ""))
	assert.InDelta(t, 1.0/3, share(u, 12*second, "auk", 3000), 0.02, "and without one it ends")
	require.Equal(t, tick.Never, u.Next())
}
