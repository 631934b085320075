package upstream

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"kestrix/internal/core/balance"
	"kestrix/internal/core/sticky"
	"kestrix/internal/core/tick"
)

// checkBooks compares what the core counts as it goes with counting anew.
func checkBooks(t require.TestingT, u *Upstream) {
	eligible, onTrial, leaving, first := 0, 0, 0, 0
	for i := range u.members {
		m := &u.members[i]
		if m.in {
			eligible++
		}
		if m.waitsForTrial() {
			onTrial++
		}
		if m.leaving {
			leaving++
		}
		if m.first {
			first++
		}
		require.Equal(t, m.inFlight >= m.most, m.full, "%s: full", m.cfg.Name)
		require.False(t, m.gone && m.in, "%s is gone and in rotation", m.cfg.Name)
		require.Equal(t, !m.gone && m.health.Eligible() && m.weight > 0, m.in, "%s in rotation", m.cfg.Name)
	}
	require.Equal(t, []int{eligible, onTrial, leaving, first}, []int{u.eligible, u.onTrial, u.leaving, u.sent}, "eligible, on trial, leaving, first probes")
	require.LessOrEqual(t, u.sent, firstProbes)
	require.Len(t, u.byName, len(u.cfg.Backends))
	for _, b := range u.cfg.Backends {
		slot := id(t, u, b.Name)
		require.Equal(t, b.Address, u.members[slot].cfg.Address)
		seat := u.Seat(sticky.BackendHash(u.cfg.Name, b.Name))
		require.Equal(t, b.Name, u.members[seat].cfg.Name, "a seat is of its name")
		require.True(t, seat == slot || u.members[seat].leaving, "%s: its seat is with the one that serves", b.Name)
	}
	if shares := u.Shares(); shares != nil {
		sum := 0.0
		for _, s := range shares {
			sum += s.Share
		}
		if eligible > 0 {
			require.InDelta(t, 1, sum, 1e-9, "%v", shares)
		}
	}
}

// TestTheCoreKeepsItsBooks: whatever it is told, in whatever order.
func TestTheCoreKeepsItsBooks(t *testing.T) {
	configs := []string{
		"probe \"tcp\" {\n every = \"2s\"\n timeout = \"1s\"\n}\nsuspend {\n after = 2\n rest = \"3s\"\n silent_after = \"4s\"\n keep = \"0%\"\n}\nretry {\n}",
		"algorithm = \"least-connections\"\nsuspend {\n after = 1\n}\nqueue {\n limit = 3\n timeout = \"2s\"\n}\nsticky {\n by = \"cookie\"\n}",
		"algorithm = \"two-choices\"\nprobe \"tcp\" {\n every = \"1s\"\n timeout = \"1s\"\n}\nfailover {\n}\nslow_start = \"5s\"\nsticky {\n by = \"address\"\n}",
		"when_all_down = \"try-anyway\"\nprobe \"tcp\" {\n every = \"1s\"\n timeout = \"1s\"\n}\nfailover {\n}\nsuspend {\n after = 1\n rest = \"1s\"\n}",
	}
	rapid.Check(t, func(t *rapid.T) {
		config := func() (members, more string) {
			more = rapid.SampledFrom(configs).Draw(t, "config")
			for i := range rapid.IntRange(1, 5).Draw(t, "backends") {
				tier := ""
				if strings.Contains(more, "failover") {
					tier = fmt.Sprintf(", tier = %d", 1+i/3)
				}
				members += fmt.Sprintf("b%d = { address = \"127.0.0.1:%d\", max_in_flight = %d%s }\n", i, 1+i+10*rapid.IntRange(0, 2).Draw(t, "address"), rapid.IntRange(1, 3).Draw(t, "most"), tier)
			}
			return members, more
		}
		members, more := config()
		u := NewUnprobed(0, parseMembers(t, members, more), 1)
		type flight struct {
			q *Request
			a *Attempt
		}
		var open []flight
		var probes []BackendID
		now := tick.Time(0)
		for i := range rapid.IntRange(1, 80).Draw(t, "steps") {
			now = now.Add(time.Duration(rapid.IntRange(0, 1500).Draw(t, "ms")) * time.Millisecond)
			for _, a := range u.Advance(now, nil) {
				if a.Kind == SendProbe {
					probes = append(probes, a.Probe)
				} else if a.Grant.Verdict.Kind == Go {
					q, at := a.Grant.Request, a.Grant.Attempt
					open = append(open, flight{&q, &at})
				}
			}
			switch what := rapid.IntRange(0, 9).Draw(t, "what"); {
			case what <= 3:
				f := flight{get(uint64(i)), &Attempt{}}
				f.q.Seat = BackendID(rapid.IntRange(-1, len(u.members)+1).Draw(t, "seat"))
				if u.Choose(now, f.q, f.a).Kind == Go {
					open = append(open, f)
				}
			case what <= 5 && len(open) > 0:
				f := open[0]
				open = open[1:]
				o := Outcome{Kind: OutcomeKind(rapid.IntRange(0, int(lastOutcome)).Draw(t, "outcome")), Status: 200}
				if u.Settle(now, f.q, f.a, o) == Again && u.Choose(now, f.q, f.a).Kind == Go {
					open = append(open, f)
				}
			case what == 6 && len(probes) > 0:
				u.ProbeSeen(now, probes[0], Probe{Passed: rapid.Bool().Draw(t, "passed"), Why: "x"})
				probes = probes[1:]
			case what == 7:
				members, more := config()
				u.Reload(now, parseMembers(t, members, more))
			case what == 8:
				b := u.cfg.Backends[rapid.IntRange(0, len(u.cfg.Backends)-1).Draw(t, "backend")]
				u.Operate(now, id(t, u, b.Name), Operation(rapid.IntRange(0, int(Admit)).Draw(t, "order")), rapid.IntRange(0, 3).Draw(t, "weight"))
			}
			checkBooks(t, u)
		}
	})
}

// TestWhatAnAlgorithmNeedsIsGivenToIt: by their values in the table, those that count
// see what is in flight, those that time see how long it took, and those that are random
// get random bits.
func TestWhatAnAlgorithmNeedsIsGivenToIt(t *testing.T) {
	for _, a := range balance.Algorithms {
		if a.Hash {
			continue
		}
		members := "a = { address = \"127.0.0.1:1\", max_in_flight = 50 }\nb = { address = \"127.0.0.1:2\", max_in_flight = 50 }"
		u := New(0, parseMembers(t, members, "algorithm = \""+a.Name+"\""), 1)
		var kept []*Attempt
		for i := range uint64(40) { // those of a stay, those of b end at once
			at := &Attempt{}
			if u.Choose(0, get(i), at); at.Backend == id(t, u, "a") {
				kept = append(kept, at)
				continue
			}
			u.Settle(tick.Time(time.Millisecond), get(i), at, Outcome{Kind: Answered, Status: 200})
		}
		got := strings.Fields(picks(u, second, 100))
		toA := 0
		for _, name := range got {
			if name == "a" {
				toA++
			}
		}
		switch {
		case a.Counts && !a.Ordered:
			assert.Less(t, toA, 10, "%s: a has %d in flight", a.Name, len(kept))
		case a.Random:
			assert.InDelta(t, 50, toA, 25, "%s", a.Name)
			assert.NotEqual(t, got[:20], got[20:40], "%s has random bits", a.Name)
		}
	}
}

// TestASeatMustBeOne: not one that no backend has, nor one that has grown too old.
func TestASeatMustBeOne(t *testing.T) {
	u := New(0, parse(t, "sticky {\n by = \"cookie\"\n ttl = \"1h\"\n}"), 1)
	ask := func(seat BackendID, age time.Duration) Reason {
		q, a := get(1), &Attempt{}
		q.Seat, q.SeatAge = seat, age
		v := u.Choose(0, q, a)
		u.Settle(0, q, a, Outcome{Kind: Answered, Status: 200})
		return v.Reason
	}
	assert.Equal(t, KeptSeat, ask(2, time.Hour))
	assert.Equal(t, ByAlgorithm, ask(2, time.Hour+1), "it is too old")
	assert.Equal(t, ByAlgorithm, ask(3, 0), "there is no such backend")
	assert.Equal(t, ByAlgorithm, ask(None, 0))
}

// TestAFullBackendIsNotTriedAnyway: when_all_down is for backends that are out.
func TestAFullBackendIsNotTriedAnyway(t *testing.T) {
	for _, b := range []string{"parked", "down"} { // nor is one that is down, while another only has no room
		u := New(0, parseMembers(t, "a = { address = \"127.0.0.1:1\", max_in_flight = 1 }\nb = \"127.0.0.1:2\"", "when_all_down = \"try-anyway\"\nprobe \"tcp\" {\n every = \"1s\"\n down_after = 2\n}"), 1)
		now := tick.Time(0)
		for ; now < 5*second; now += second / 10 {
			for _, x := range u.Advance(now, nil) {
				u.ProbeSeen(now, x.Probe, Probe{Passed: b == "parked" || x.Probe == id(t, u, "a")})
			}
		}
		if b == "parked" {
			u.Operate(now, id(t, u, "b"), Park, 0)
		}
		require.Equal(t, Go, u.Choose(now, get(1), &Attempt{}).Kind)
		v := u.Choose(now, get(2), &Attempt{})
		assert.Equal(t, []any{Refused, NoRoom}, []any{v.Kind, v.Reason}, b)
	}
}

// TestSharesAreOfNow: what a tier was counted for once is not counted again.
func TestSharesAreOfNow(t *testing.T) {
	u := New(0, parseMembers(t, tiers, "failover {\n spill_below = \"80%\"\n}"), 1)
	before := fmt.Sprint(u.Shares())
	for range 3 {
		for _, name := range []string{"a1", "a2"} {
			u.Operate(0, id(t, u, name), Park, 0)
		}
		assert.NotEqual(t, before, fmt.Sprint(u.Shares()))
		for _, name := range []string{"a1", "a2"} {
			u.Operate(0, id(t, u, name), Return, 0)
		}
		assert.Equal(t, before, fmt.Sprint(u.Shares()))
	}
}

// TestOneSilenceAfterAnother: each has its own end, whether or not the one before came
// to it.
func TestOneSilenceAfterAnother(t *testing.T) {
	u := New(0, parseMembers(t, "a = \"127.0.0.1:1\"\nb = \"127.0.0.1:2\"", "algorithm = \"first-fit\"\nsuspend {\n after = 1\n silent_after = \"5s\"\n}\n"), 1)
	at := &Attempt{}
	u.Choose(0, get(1), at)
	u.FirstByte(at)
	for now := second; now <= 20*second; now += second {
		u.Advance(now, nil)
	}
	require.Empty(t, story(u))
	u.Choose(20*second, get(2), &Attempt{})
	u.Advance(25*second, nil)
	assert.Len(t, story(u), 1)
}

// TestOneWithoutWeightHasNoTrial: a request on trial is one more than it may have.
func TestOneWithoutWeightHasNoTrial(t *testing.T) {
	u := New(0, parseMembers(t, "a = \"127.0.0.1:1\"\nb = \"127.0.0.1:2\"", "algorithm = \"round-robin\"\nsuspend {\n after = 1\n rest = \"1s\"\n}"), 1)
	at := &Attempt{}
	name := u.Backend(u.Choose(0, get(1), at).Backend).Name
	u.Settle(0, get(1), at, Outcome{Kind: ConnectRefused})
	u.Operate(0, at.Backend, Weigh, 0)
	u.Advance(2*second, nil)
	assert.NotContains(t, picks(u, 2*second, 4), name)
}

// TestADriverThatComesLateSendsOneProbe, whether or not it comes just when one is due.
func TestADriverThatComesLateSendsOneProbe(t *testing.T) {
	for _, late := range []tick.Time{2 * second, 2*second + second/2, 7 * second} {
		u := New(0, parse(t, "probe \"tcp\" {\n every = \"1s\"\n timeout = \"1s\"\n}"), 1)
		first := u.Next()
		sent := u.Advance(first, nil)
		require.Len(t, sent, 1)
		u.ProbeSeen(first, sent[0].Probe, Probe{Passed: true})
		n := 0
		for _, a := range u.Advance(first+late, nil) {
			if a.Probe == sent[0].Probe {
				n++
			}
			u.ProbeSeen(first+late, a.Probe, Probe{Passed: true})
		}
		assert.Equal(t, 1, n)
		assert.Empty(t, u.Advance(first+late, nil))
		assert.Greater(t, u.Next(), first+late)
	}
}

// TestAGrantOutlivesAReload: it is handed out at once.
func TestAGrantOutlivesAReload(t *testing.T) {
	members, more := "a = { address = \"127.0.0.1:1\", max_in_flight = 1 }", "queue {\n}"
	u := New(0, parseMembers(t, members, more), 1)
	at := &Attempt{}
	u.Choose(0, get(1), at)
	require.Equal(t, Queued, u.Choose(0, get(2), &Attempt{}).Kind)
	u.Settle(second, get(1), at, Outcome{Kind: Answered, Status: 200})
	u.Reload(second, parseMembers(t, members, more))
	assert.Equal(t, second, u.Next())
	got := u.Advance(second, nil)
	require.Len(t, got, 1)
	assert.Equal(t, Go, got[0].Grant.Verdict.Kind)

}
