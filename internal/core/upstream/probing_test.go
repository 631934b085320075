package upstream

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kestrix/internal/core/health"
	"kestrix/internal/core/sticky"
	"kestrix/internal/core/tick"
)

func TestProbesTakeABackendOutAndBringItBack(t *testing.T) {
	u := New(0, parse(t, "probe \"http\" {\n every = \"3s\"\n timeout = \"1s\"\n down_after = 2\n up_after = 2\n}"), 1)
	auk := id(t, u, "auk")
	see := func(at tick.Time, passed bool) {
		u.Advance(at, nil)
		u.ProbeSeen(at, auk, Probe{Passed: passed, Why: "connection refused"})
	}
	see(3*second, true)
	see(6*second, false)
	see(9*second, false)
	assert.NotContains(t, picks(u, 9*second, 12), "auk")
	see(12*second, true)
	assert.NotContains(t, picks(u, 12*second, 12), "auk", "recovering is not in rotation")
	see(15*second, true)
	assert.Contains(t, picks(u, 15*second, 12), "auk")
	assert.Equal(t, []string{
		"6.0 auk up-failing: a probe failed: connection refused",
		"9.0 auk failing-down: 2 probes failed: connection refused",
		"12.0 auk down-recovering: a probe passed",
		"15.0 auk recovering-up: 2 probes passed",
	}, story(u))
}

func TestProbesAreSentOnTimeAndSpread(t *testing.T) {
	u := New(0, parse(t, "probe \"http\" {\n every = \"3s\"\n}"), 1)
	sent := map[BackendID][]tick.Time{}
	for now := u.Next(); now < 60*second; now = u.Next() {
		for _, a := range u.Advance(now, nil) {
			sent[a.Probe] = append(sent[a.Probe], now)
			u.ProbeSeen(now, a.Probe, Probe{Passed: true})
		}
	}
	firsts := map[tick.Time]bool{}
	for b, times := range sent {
		require.Len(t, times, 20, "backend %d", b)
		firsts[times[0]] = true
		assert.Less(t, times[0], 3*second)
		for i := range times[1:] {
			assert.Equal(t, 3*second, times[i+1]-times[i])
		}
	}
	assert.Len(t, firsts, 3, "they do not fire together")
	// A reload keeps each backend's place in the interval; another seed gives it another.
	again := New(10*second+7, parse(t, "probe \"http\" {\n every = \"3s\"\n}"), 1)
	assert.Contains(t, firsts, again.Next()%(3*second))
	other := New(10*second+7, parse(t, "probe \"http\" {\n every = \"3s\"\n}"), 99)
	assert.NotContains(t, firsts, other.Next()%(3*second))
}

func TestAProbeStillUnderWayIsNotSentTwice(t *testing.T) {
	u := New(0, parse(t, "probe \"http\" {\n every = \"1s\"\n timeout = \"1s\"\n}"), 1)
	n := len(u.Advance(2*second, nil)) + len(u.Advance(5*second, nil))
	assert.Equal(t, 3, n, "one each, none has ended")
	u.ProbeSeen(5*second, 0, Probe{Passed: true})
	assert.Len(t, u.Advance(7*second, nil), 1)
}

// TestFirstProbes: a starting proxy sends no request to a backend before its first
// probe, sends those at once, and no more than 256 at a time; their phase counts from
// the second on.
func TestFirstProbes(t *testing.T) {
	u := NewUnprobed(7*second, parse(t, "probe \"http\" {\n every = \"10s\"\n}"), 1)
	assert.Equal(t, []any{3, 7 * second, "no_backend"}, []any{u.Unprobed(), u.Next(), picks(u, 7*second, 1)})
	require.Len(t, u.Advance(7*second, nil), 3)
	u.ProbeSeen(8*second, 0, Probe{Passed: true})
	u.ProbeSeen(8*second, 1, Probe{Why: "connection refused"})
	assert.Equal(t, []string{"8.0 auk unprobed-up: a probe passed", "8.0 gannet unprobed-down: a probe failed: connection refused"}, story(u))
	assert.Equal(t, "auk auk", picks(u, 8*second, 2))
	assert.Equal(t, 1, u.Unprobed())
	u.ProbeSeen(8*second, 2, Probe{Passed: true})
	again := New(0, parse(t, "probe \"http\" {\n every = \"10s\"\n}"), 1)
	again.Advance(8*second, nil)
	u.Advance(8*second, nil)
	assert.Equal(t, again.Next(), u.Next(), "at the place that each has in the interval")

	members := ""
	for i := range 600 {
		members += fmt.Sprintf("b%d = \"127.0.0.1:%d\"\n", i, i+1)
	}
	u = NewUnprobed(0, parseMembers(t, members, "probe \"tcp\" {\n every = \"1h\"\n}"), 1)
	sent := u.Advance(0, nil)
	require.Len(t, sent, 256)
	for _, a := range sent[:100] {
		u.ProbeSeen(0, a.Probe, Probe{Passed: true})
	}
	assert.Len(t, u.Advance(0, nil), 100, "another for each that has ended")
	u = NewUnprobed(0, parse(t, "probe \"http\" {\n}\nwhen_all_down = \"try-anyway\""), 1)
	assert.Zero(t, u.Unprobed(), "a backend is up at once")
}

// TestFirstProbesAreNeverMoreThan256: a first probe that ends makes room for another,
// once; other probes make none, not even of backends whose health was forgotten.
func TestFirstProbesAreNeverMoreThan256(t *testing.T) {
	members := func(port int) string {
		var b strings.Builder
		for i := range 600 {
			fmt.Fprintf(&b, "b%d = \"127.0.0.1:%d\"\n", i, port+i)
		}
		return b.String()
	}
	probe := "probe \"tcp\" {\n every = \"1s\"\n timeout = \"1s\"\n}"
	u := NewUnprobed(0, parseMembers(t, members(1), probe), 1)
	first := u.Advance(0, nil)
	require.Len(t, first, 256)
	for _, a := range first[:100] {
		u.ProbeSeen(0, a.Probe, Probe{Passed: true})
		u.ProbeSeen(0, a.Probe, Probe{Passed: true}) // and is heard of once more
	}
	require.Len(t, u.Advance(0, nil), 100)
	now := 5 * second
	for ; now < 8*second; now += second {
		again := u.Advance(now, nil)
		require.Len(t, again, 100, "of those that have been probed")
		for _, a := range again {
			u.Operate(now, a.Probe, Forget, 0)
			u.ProbeSeen(now, a.Probe, Probe{Passed: true})
		}
	}
	u.Reload(now, parseMembers(t, members(1001), probe)) // others by the same names
	for _, a := range first[100:] {
		u.ProbeSeen(now, a.Probe, Probe{Passed: true}) // of those that are to go
	}
	assert.Len(t, u.Advance(now, nil), 256)
}

// TestAReplacedBackendServesUntilTheNewOnesAreProbed: a reload that replaces all servers
// refuses nobody.
func TestAReplacedBackendServesUntilTheNewOnesAreProbed(t *testing.T) {
	probe := "probe \"tcp\" {\n every = \"1s\"\n timeout = \"1s\"\n up_after = 3\n}\nsticky {\n by = \"cookie\"\n}"
	u := NewUnprobed(0, parseMembers(t, "a = \"127.0.0.1:1\"\nb = \"127.0.0.1:2\"", probe), 1)
	u.Advance(0, nil)
	u.ProbeSeen(0, 0, Probe{Passed: true})
	u.ProbeSeen(0, 1, Probe{Passed: true})
	seat := u.Seat(sticky.BackendHash("u", "a"))
	u.Operate(0, id(t, u, "b"), Weigh, 3)
	story(u)
	u.Reload(second, parseMembers(t, "a = \"127.0.0.1:11\"\nb = \"127.0.0.1:12\"", probe))
	assert.Equal(t, seat, u.Seat(sticky.BackendHash("u", "a")), "sessions stay with the server that serves")
	at := &Attempt{}
	v := u.Choose(second, get(1), at)
	require.Equal(t, Go, v.Kind)
	assert.Contains(t, []int{1, 2}, u.Backend(v.Backend).Address.Port, "the old ones serve")
	u.Advance(second, nil)
	u.ProbeSeen(2*second, id(t, u, "a"), Probe{Why: "connection refused"})
	require.Equal(t, Go, u.Choose(2*second, get(2), &Attempt{}).Kind)
	u.ProbeSeen(2*second, id(t, u, "b"), Probe{Passed: true})
	assert.Equal(t, "b b", picks(u, 3*second, 2))
	assert.Equal(t, 12, u.Backend(u.Choose(3*second, get(1), &Attempt{}).Backend).Address.Port)
	assert.Equal(t, 3, u.Members(3 * second)[1].Weight, "a weight set by hand is for the name")
	assert.NotEqual(t, seat, u.Seat(sticky.BackendHash("u", "a")))
	assert.Equal(t, Finished, u.Settle(4*second, get(1), at, Outcome{Kind: Answered, Status: 200}), "what was in flight ends")
	for now := 3 * second; u.Members(now)[0].State != health.Up; now += second {
		for _, x := range u.Advance(now, nil) {
			u.ProbeSeen(now, x.Probe, Probe{Passed: true})
		}
		require.Less(t, now, 5*second, "one pass makes a newcomer up, whatever up_after says")
	}

	// One that is removed where another serves goes at once; one that is configured
	// again before the others have been probed never left.
	u.Reload(9*second, parseMembers(t, "b = \"127.0.0.1:12\"", probe))
	assert.NotContains(t, picks(u, 9*second, 4), "a")
	u.Reload(9*second, parseMembers(t, "b = \"127.0.0.1:99\"", probe))
	u.Reload(9*second, parseMembers(t, "b = \"127.0.0.1:12\"", probe))
	assert.Equal(t, health.Up, u.Members(9 * second)[0].State)
	assert.Equal(t, "b", picks(u, 9*second, 1))
}

func TestReloadKeepsWhatStays(t *testing.T) {
	u := New(0, parse(t, "probe \"http\" {\n}"), 1)
	at := &Attempt{}
	u.Choose(0, get(1), at)
	gone := u.Backend(at.Backend).Name
	kept := "auk"
	if gone == kept {
		kept = "gannet"
	}
	u.Operate(0, id(t, u, kept), Park, 0)
	u.Operate(0, id(t, u, kept), Weigh, 7)
	members := strings.ReplaceAll("auk = \"127.0.0.1:1\"\ngannet = \"127.0.0.1:2\"\npetrel = \"127.0.0.1:3\"", gone+" =", "skua =")
	u.Reload(second, parseMembers(t, members, "algorithm = \"least-connections\"\nprobe \"http\" {\n}"))
	for _, m := range u.Members(second) {
		switch m.Name {
		case kept:
			assert.Equal(t, "parked", m.State.String(), "what an operator set stays")
			assert.Equal(t, 7, m.Weight, "a weight set by hand stays")
		case "skua":
			assert.NotEqual(t, at.Backend, m.ID, "the slot of one with open requests is not given anew")
		default:
			assert.Equal(t, 1, m.Weight)
		}
	}
	assert.NotContains(t, picks(u, second, 10), gone)
	assert.Equal(t, Finished, u.Settle(2*second, get(1), at, Outcome{Kind: Answered, Status: 200}), "what was open ends as it would have")
	old := at.Backend
	u.Reload(3*second, parseMembers(t, members+"\nfulmar = \"127.0.0.1:9\"", ""))
	assert.Equal(t, old, id(t, u, "fulmar"), "the slot is free again")
	assert.Equal(t, tick.Never, u.Next(), "without a probe nothing is due")
}

func TestAReloadForgetsWhatNothingCouldMend(t *testing.T) {
	u := NewUnprobed(0, parse(t, "probe \"http\" {\n every = \"1s\"\n timeout = \"1s\"\n}"), 1)
	u.Advance(2*second, nil)
	u.ProbeSeen(2*second, 0, Probe{Passed: false, Why: "x"})
	require.Equal(t, "down", u.Members(0)[0].State.String())
	u.ProbeSeen(2*second, 0, Probe{Passed: true}) // none is under way: ignored
	require.Equal(t, "down", u.Members(0)[0].State.String())
	u.Reload(3*second, parse(t, ""))
	assert.Equal(t, "up", u.Members(0)[0].State.String(), "without a probe it could never come back")
	assert.Contains(t, story(u), "3.0 auk down-up: no probe is configured any more")
}

// TestAReloadPutsNothingOff: what waits for a moment has it still after a reload, and is
// not put off by reloads in quick succession.
func TestAReloadPutsNothingOff(t *testing.T) {
	members, more := "a = { address = \"127.0.0.1:1\", max_in_flight = 1 }\nb = \"127.0.0.1:2\"", "algorithm = \"first-fit\"\nqueue {\n timeout = \"5s\"\n}\nsuspend {\n after = 1\n rest = \"10s\"\n silent_after = \"30s\"\n}"
	u := New(0, parseMembers(t, members, more), 1)
	u.Operate(0, id(t, u, "b"), Park, 0)
	u.Choose(0, get(1), &Attempt{})
	require.Equal(t, Queued, u.Choose(1*second, get(2), &Attempt{}).Kind)
	for now := 2 * second; now < 5*second; now += second {
		u.Reload(now, parseMembers(t, members, more))
	}
	assert.Equal(t, 6*second, u.Next(), "the wait in the queue ends")
	actions := u.Advance(6*second, nil)
	require.Len(t, actions, 1)
	assert.Equal(t, WaitedTooLong, actions[0].Grant.Verdict.Reason)
	assert.Equal(t, 30*second, u.Next(), "the silence of a")

	u = New(0, parseMembers(t, members, more), 1)
	at := &Attempt{}
	u.Choose(0, get(1), at)
	u.Settle(0, get(1), at, Outcome{Kind: ConnectRefused})
	require.Len(t, story(u), 1, "a is suspended")
	u.Reload(3*second, parseMembers(t, members, more))
	u.Reload(9*second, parseMembers(t, members, more))
	assert.Equal(t, 10*second, u.Next(), "the rest ends")
	u.Advance(10*second, nil)
	at = &Attempt{}
	require.Equal(t, OnTrial, u.Choose(10*second, get(2), at).Reason)

	more = "slow_start = \"40s\""
	u = New(0, parseMembers(t, members, more), 1)
	u.Operate(0, id(t, u, "a"), Park, 0)
	u.Operate(0, id(t, u, "a"), Return, 0)
	u.Advance(10*second, nil)
	u.Reload(11*second, parseMembers(t, members, more))
	assert.Equal(t, 11*second, u.Next(), "slow start goes on")
}
