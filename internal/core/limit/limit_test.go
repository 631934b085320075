package limit

import (
	"net/netip"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"

	"kestrix/internal/core/tick"
)

func TestARateLetsABurstThroughAndThenItsShare(t *testing.T) {
	r := NewRate(2, 3)
	passed := 0
	for ms := 0; ms < 10_000; ms += 100 {
		if ok, _ := r.Take(tick.Time(0).Add(time.Duration(ms)*time.Millisecond), 7); ok {
			passed++
		}
	}
	assert.Equal(t, 3+19, passed, "the burst, and two a second for the 9.9 seconds")
	ok, wait := r.Take(tick.Time(0).Add(9900*time.Millisecond), 7)
	assert.False(t, ok)
	assert.Equal(t, 100*time.Millisecond, wait)
	ok, _ = r.Take(tick.Time(0).Add(9900*time.Millisecond), 8)
	assert.True(t, ok, "another client has its own")
}

// In any stretch of time no client gets more than its burst and the rate's
// share of that stretch.
func TestNoStretchHasMoreThanBurstAndRate(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		perSecond, burst := rapid.IntRange(1, 50).Draw(t, "rate"), rapid.IntRange(1, 20).Draw(t, "burst")
		r := NewRate(float64(perSecond), burst)
		var at tick.Time
		var taken []tick.Time
		for range rapid.IntRange(1, 200).Draw(t, "requests") {
			at = at.Add(time.Duration(rapid.IntRange(0, 300).Draw(t, "gap")) * time.Millisecond)
			ok, wait := r.Take(at, 1)
			if ok {
				taken = append(taken, at)
			} else if again, _ := r.Take(at.Add(wait), 1); !again {
				t.Fatalf("after the wait of %s it may still not ask", wait)
			} else {
				at = at.Add(wait)
				taken = append(taken, at)
			}
		}
		for i := range taken {
			for j := i; j < len(taken); j++ {
				most := float64(burst) + taken[j].Sub(taken[i]).Seconds()*float64(perSecond)
				if float64(j-i+1) > most+1e-6 {
					t.Fatalf("%d requests within %s", j-i+1, taken[j].Sub(taken[i]))
				}
			}
		}
	})
}

func TestTheTableIsBounded(t *testing.T) {
	r := NewRate(1, 1)
	r.size = 100
	for i := range uint64(100_000) {
		r.Take(0, i)
	}
	assert.LessOrEqual(t, len(r.recent)+len(r.older), 200)
	ok, _ := r.Take(0, 99_999)
	assert.False(t, ok, "who came lately is still known")
	assert.Equal(t, Key(netip.MustParseAddr("2001:db8::1")), Key(netip.MustParseAddr("2001:db8::ffff:2")), "a /64 is one client")
	assert.NotEqual(t, Key(netip.MustParseAddr("2001:db8::1")), Key(netip.MustParseAddr("2001:db8:0:1::1")))
	assert.Equal(t, Key(netip.MustParseAddr("192.0.2.1")), Key(netip.MustParseAddr("::ffff:192.0.2.1")))
}
