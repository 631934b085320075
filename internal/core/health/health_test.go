package health

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"kestrix/internal/core/tick"
)

// TestProbeStates runs results (+ passed, - failed) through a backend that is
// down after two failures and up after three passes.
func TestProbeStates(t *testing.T) {
	for _, c := range []struct{ results, states string }{
		{"", "up"},
		{"+", "up"},
		{"-", "down"}, // the first result alone decides the starting state
		{"+-", "up failing"},
		{"+-+", "up failing up"},
		{"+--", "up failing down"},
		{"+-+-+-", "up failing up failing up failing"},
		{"+---", "up failing down down"},
		{"+--+++", "up failing down recovering recovering up"},
		{"+--++-", "up failing down recovering recovering down"},
		{"+--+-+++", "up failing down recovering down recovering recovering up"},
		{"-+++-", "down recovering recovering up failing"},
	} {
		b := Start(0, false, false)
		var got []string
		for _, r := range c.results {
			b.ProbeSeen(r == '+', 2, 3)
			got = append(got, b.State().String())
		}
		if c.results == "" {
			got = []string{b.State().String()}
		}
		assert.Equal(t, c.states, strings.Join(got, " "), "results %s", c.results)
	}
}

// TestUnprobed: nothing is sent to a backend whose first probe has not ended. One that
// joins a proxy at work needs one pass to be up, whatever up_after says; one that was in
// operation is judged by its thresholds at once.
func TestUnprobed(t *testing.T) {
	b := Start(0, true, false)
	assert.Equal(t, []any{Unprobed, false, false, true}, []any{b.State(), b.Eligible(), b.KeepsSessions(), b.First()})
	b.ProbeSeen(false, 2, 2)
	b.ProbeSeen(true, 2, 2)
	assert.Equal(t, Recovering, b.State())
	b = Start(0, true, true)
	b.ProbeSeen(false, 2, 2)
	assert.Equal(t, Down, b.State())
	b.ProbeSeen(true, 2, 2)
	assert.Equal(t, Up, b.State())
	b.ProbeSeen(false, 2, 2)
	b.ProbeSeen(false, 2, 2)
	b.ProbeSeen(true, 2, 2)
	assert.Equal(t, Recovering, b.State(), "once it has been up it is like any other")
	b = Backend{}
	b.ProbeSeen(false, 2, 2)
	assert.Equal(t, Failing, b.State(), "the first of two failures")
	b.Suspend(0, time.Second, 2, time.Minute)
	b.ProbeSeen(false, 2, 2)
	b.Unprobe()
	assert.Equal(t, Suspended, b.State(), "a suspension outlives the probe")
}

func TestThresholdsOfOne(t *testing.T) {
	var b Backend
	b.ProbeSeen(true, 1, 1)
	b.ProbeSeen(false, 1, 1)
	assert.Equal(t, Down, b.State(), "one failure is enough, it is never failing")
	b.ProbeSeen(true, 1, 1)
	assert.Equal(t, Up, b.State())
}

func TestTheFirstThatAppliesIsShown(t *testing.T) {
	var b Backend
	b.ProbeSeen(true, 2, 2)
	b.ProbeSeen(false, 2, 2)
	assert.Equal(t, Failing, b.State())
	assert.True(t, b.Eligible(), "failing is still in rotation")
	b.Suspend(0, time.Second, 2, time.Minute)
	assert.Equal(t, Suspended, b.State())
	assert.False(t, b.Eligible())
	b.ProbeSeen(false, 2, 2)
	assert.Equal(t, Down, b.State(), "down goes before suspended")
	b.Operator = Drained
	assert.Equal(t, Draining, b.State())
	assert.False(t, b.KeepsSessions(), "a backend that is down holds nobody, draining or not")
	b.Operator = ParkedOut
	assert.Equal(t, Parked, b.State())
	b.Forget()
	assert.Equal(t, Parked, b.State(), "what an operator set is not forgotten")
	b.Operator = Drained
	assert.True(t, b.KeepsSessions(), "draining keeps its sessions")
	assert.False(t, b.Eligible(), "and gets no new ones")
	b.Operator = In
	assert.Equal(t, Up, b.State())
}

func TestRestsGrowAndAreForgiven(t *testing.T) {
	var b Backend
	now := tick.Time(0)
	suspend := func() time.Duration { return b.Suspend(now, 10*time.Second, 2, time.Minute) }
	rested := func(inRotation time.Duration) {
		now = b.RestsTill
		b.Rested()
		assert.Equal(t, []any{Suspended, false, true}, []any{b.State(), b.Eligible(), b.OnTrial()}, "until a request succeeds")
		b.Worked(now)
		now = now.Add(inRotation)
	}
	for _, c := range []struct {
		want, after time.Duration
	}{
		{10 * time.Second, time.Second},
		{20 * time.Second, time.Second},
		{40 * time.Second, time.Second},
		{60 * time.Second, time.Second}, // longest
		{60 * time.Second, 25 * time.Second},
		{60 * time.Second, 45 * time.Second}, // two rests forgiven of five, then a sixth: the fourth
		{10 * time.Second, time.Hour},        // four forgiven of four: as at first
		{10 * time.Second, 0},
	} {
		assert.Equal(t, c.want, suspend())
		assert.True(t, b.Resting())
		assert.Equal(t, now.Add(c.want), b.RestsTill)
		rested(c.after)
		assert.False(t, b.Resting())
	}
}

func TestFailuresInARow(t *testing.T) {
	var b Backend
	assert.False(t, b.Seen(true, 3))
	assert.False(t, b.Seen(true, 3))
	assert.False(t, b.Seen(false, 3), "an answer begins the count anew")
	assert.False(t, b.Seen(true, 3))
	assert.False(t, b.Seen(true, 3))
	assert.True(t, b.Seen(true, 3))
	assert.Equal(t, 3, b.Failures())
}

func TestStatesByTheirWords(t *testing.T) {
	for s := Up; s <= Parked; s++ {
		got, ok := Named(s.String())
		assert.True(t, ok)
		assert.Equal(t, s, got)
		assert.Equal(t, s == Up || s == Failing, s.InRotation())
		assert.Equal(t, s.InRotation(), InRotation(s.String()))
	}
	_, ok := Named("asleep")
	assert.False(t, ok)
	assert.False(t, InRotation("asleep"))
}

func TestWhatAStrangerWroteIsCut(t *testing.T) {
	for n, want := range map[int]int{39: 39, 40: 40, 41: 40, 4000: 40} {
		_, err := ParseReport("share=" + strings.Repeat("x", n))
		assert.ErrorContains(t, err, "it said share="+strings.Repeat("x", want)+";", n)
	}
}
