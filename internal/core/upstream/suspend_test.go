package upstream

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kestrix/internal/core/tick"
)

func TestFailuresOfTrafficSuspend(t *testing.T) {
	u := New(0, parse(t, "suspend {\n after = 3\n rest = \"10s\"\n growth = 3\n longest = \"25s\"\n keep = \"50%\"\n on = [\"connect\", \"503\"]\n}"), 1)
	hit := func(now tick.Time, name string, o Outcome) {
		for i := range uint64(100) {
			q, a := get(i), &Attempt{}
			v := u.Choose(now, q, a)
			if v.Backend == id(t, u, name) {
				u.Settle(now, q, a, o)
				return
			}
			u.Settle(now, q, a, Outcome{Kind: Answered, Status: 200})
		}
		require.Fail(t, name+" was never chosen")
	}
	refused := Outcome{Kind: ConnectRefused}
	hit(1*second, "auk", refused)
	hit(1*second, "auk", refused)
	hit(1*second, "auk", Outcome{Kind: AnswerTimeout}) // not in `on`: an end like any other
	hit(2*second, "auk", refused)
	hit(2*second, "auk", refused)
	hit(2*second, "auk", Outcome{Kind: ClientLeft}) // says nothing
	assert.Empty(t, story(u))
	hit(2*second, "auk", Outcome{Kind: Answered, Status: 503})
	assert.Equal(t, []string{"2.0 auk up-suspended: 3 requests failed in a row, the last: status 503; out for 10 s"}, story(u))
	assert.NotContains(t, picks(u, 3*second, 9), "auk")
	for range 5 {
		hit(4*second, "gannet", refused)
	}
	assert.Empty(t, story(u), "keep leaves two of three in rotation")
	assert.Equal(t, 12*second, u.Next())
	u.Advance(12*second, nil)
	assert.Empty(t, story(u), "its rest is over, and it is on trial: it is still shown as suspended")
	trial := &Attempt{}
	v := u.Choose(13*second, get(1), trial)
	assert.Equal(t, []any{id(t, u, "auk"), OnTrial}, []any{v.Backend, v.Reason})
	assert.NotContains(t, picks(u, 13*second, 9), "auk", "one request at a time, and it is not eligible")
	u.Settle(13*second, get(1), trial, Outcome{Kind: ClientLeft})
	trial = &Attempt{}
	require.Equal(t, OnTrial, u.Choose(13*second, get(1), trial).Reason, "a client that left showed nothing")
	u.Settle(13*second, get(1), trial, refused)
	assert.Equal(t, []string{"13.0 auk suspended-suspended: the trial request failed: connection refused; out for 25 s"}, story(u), "the first failure is enough; three times as long, cut to the longest")
	assert.NotContains(t, picks(u, 14*second, 9), "auk")
	u.Advance(38*second, nil)
	assert.Equal(t, "auk", strings.Fields(picks(u, 38*second, 9))[0])
	assert.Equal(t, []string{"38.0 auk suspended-up: a trial request succeeded"}, story(u))
	assert.Contains(t, picks(u, 39*second, 9), "auk")
	for range 3 {
		hit(40*second, "auk", refused)
	}
	assert.Contains(t, story(u)[0], "out for 25 s", "three rests, less none for two seconds in rotation")
}

// TestATrialMayBeRetried: the client of the request on trial is served by another.
func TestATrialMayBeRetried(t *testing.T) {
	u := New(0, parse(t, "suspend {\n after = 1\n rest = \"10s\"\n}\nretry {\n}"), 1)
	q, a := get(1), &Attempt{}
	first := u.Choose(0, q, a).Backend
	require.Equal(t, Again, u.Settle(0, q, a, Outcome{Kind: ConnectRefused}))
	require.NotEqual(t, first, u.Choose(0, q, a).Backend)
	u.Settle(0, q, a, Outcome{Kind: Answered, Status: 200})
	u.Advance(10*second, nil)
	q, a = get(2), &Attempt{}
	require.Equal(t, first, u.Choose(10*second, q, a).Backend)
	require.Equal(t, Again, u.Settle(10*second, q, a, Outcome{Kind: ConnectRefused}))
	v := u.Choose(10*second, q, a)
	assert.Equal(t, AfterFailure, v.Reason)
	assert.NotEqual(t, first, v.Backend)
}

// TestATrialWaitsUntilItCanBeMade: a backend that was at max_in_flight when its rest
// ended, or in a tier that gets no requests, has its trial as soon as one can be made.
func TestATrialWaitsUntilItCanBeMade(t *testing.T) {
	u := New(0, parseMembers(t, "a = { address = \"127.0.0.1:1\", max_in_flight = 1 }\nb = \"127.0.0.1:2\"", "algorithm = \"first-fit\"\nsuspend {\n after = 1\n rest = \"10s\"\n silent_after = \"5s\"\n}"), 1)
	hangs := &Attempt{}
	require.Equal(t, id(t, u, "a"), u.Choose(0, get(1), hangs).Backend)
	u.Advance(5*second, nil)
	require.Len(t, story(u), 1, "it is suspended")
	u.Advance(15*second, nil)
	assert.Equal(t, "b b", picks(u, 16*second, 2), "its rest is over, and it is full")
	u.Settle(17*second, get(1), hangs, Outcome{Kind: ClientLeft})
	assert.Equal(t, OnTrial, u.Choose(17*second, get(2), &Attempt{}).Reason)

	u = New(0, parseMembers(t, "a = \"127.0.0.1:1\"\nb = { address = \"127.0.0.1:2\", tier = 2 }", "failover {\n}\nsuspend {\n after = 1\n rest = \"10s\"\n}"), 1)
	a := id(t, u, "a")
	u.Operate(0, a, Park, 0)
	at := &Attempt{}
	require.Equal(t, id(t, u, "b"), u.Choose(0, get(1), at).Backend)
	u.Operate(0, a, Return, 0)
	u.Settle(0, get(1), at, Outcome{Kind: ConnectRefused})
	u.Advance(10*second, nil)
	assert.Equal(t, "a a", picks(u, 11*second, 2), "the second tier gets no requests, and so none on trial")
	u.Operate(11*second, a, Park, 0)
	v := u.Choose(11*second, get(2), &Attempt{})
	assert.Equal(t, []any{id(t, u, "b"), OnTrial}, []any{v.Backend, v.Reason}, "with no backend in rotation it has its trial")
}

// TestSilence: a backend that answers nobody for silent_after is suspended, whether its
// clients wait or leave; one first byte to anybody ends the silence.
func TestSilence(t *testing.T) {
	more := "suspend {\n after = 3\n silent_after = \"5s\"\n}\ntimeouts {\n answer = \"1m\"\n}"
	begin := func(u *Upstream, now tick.Time) *Attempt {
		for i := range uint64(9) {
			a := &Attempt{}
			if u.Choose(now, get(i), a); a.Backend == id(t, u, "auk") {
				return a
			}
			u.Settle(now, get(i), a, Outcome{Kind: Answered, Status: 200})
		}
		require.Fail(t, "auk was never chosen")
		return nil
	}
	u := New(0, parse(t, more), 1)
	a := begin(u, 1*second)
	u.Settle(2*second, get(1), a, Outcome{Kind: ClientLeft})
	begin(u, 3*second)
	u.Advance(7*second, nil)
	assert.Empty(t, story(u), "two attempts are too few")
	begin(u, 8*second)
	assert.Equal(t, []string{"8.0 auk up-suspended: unanswered: no first byte for 7 s, with 3 requests begun; out for 10 s"}, story(u))

	u = New(0, parse(t, more), 1)
	for range 3 {
		begin(u, 1*second)
	}
	stream := begin(u, 4*second)
	u.FirstByte(stream)
	begin(u, 5*second)
	u.Advance(9*second, nil)
	assert.Empty(t, story(u), "a first byte to one of them")
	begin(u, 9*second)
	begin(u, 9*second)
	assert.Equal(t, 10*second, u.Next(), "five seconds after the first since")
	u.Advance(10*second, nil)
	assert.Len(t, story(u), 1)

	for _, off := range []string{"silent_after = \"0s\"", "silent_after = \"1h\""} {
		u = New(0, parse(t, "suspend {\n after = 1\n "+off+"\n}"), 1)
		begin(u, second)
		u.Advance(100*second, nil)
		assert.Empty(t, story(u), off)
	}
	u = New(0, parse(t, "suspend {\n after = 1\n}\ntimeouts {\n answer = \"7s\"\n}"), 1)
	begin(u, second)
	assert.Equal(t, 8*second, u.Next(), "the answer timeout, if not given")
}

func TestAttemptsFromBeforeAChangeOfStateDoNotCount(t *testing.T) {
	u := New(0, parseMembers(t, "a = \"127.0.0.1:1\"\nb = \"127.0.0.1:2\"", "suspend {\n after = 2\n keep = \"0%\"\n}\nprobe \"tcp\" {\n every = \"1s\"\n timeout = \"1s\"\n}"), 1)
	a := id(t, u, "a")
	var old []*Attempt
	for i := range uint64(6) {
		at := &Attempt{}
		u.Choose(second, get(i), at)
		if at.Backend == a {
			old = append(old, at)
		}
	}
	require.GreaterOrEqual(t, len(old), 2)
	u.Advance(2*second, nil)
	u.ProbeSeen(2*second, a, Probe{Passed: false, Why: "x"})
	u.Advance(4*second, nil)
	for range 2 {
		u.Advance(u.Next(), nil)
		u.ProbeSeen(5*second, a, Probe{Passed: true})
	}
	story(u)
	for _, at := range old {
		u.Settle(6*second, get(0), at, Outcome{Kind: Reset})
	}
	assert.Empty(t, story(u), "they were begun before it was down and came back")
}
