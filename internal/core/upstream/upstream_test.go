package upstream

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"kestrix/internal/core/config"
	"kestrix/internal/core/health"
	"kestrix/internal/core/tick"
)

const second = tick.Time(time.Second)

// parse makes the configuration of an upstream of three backends with more
// blocks in it.
func parse(t require.TestingT, more string) *config.Upstream {
	return parseMembers(t, `auk = "127.0.0.1:1"
gannet = "127.0.0.1:2"
petrel = "127.0.0.1:3"`, more)
}

func parseMembers(t require.TestingT, members, more string) *config.Upstream {
	text := "frontend \"f\" {\n listen = \"127.0.0.1:9\"\n route \"r\" {\n send_to = upstream.u\n }\n}\nupstream \"u\" {\n backends = {\n" + members + "\n}\n" + more + "\n}\n"
	c, found, err := config.Read([]config.File{{Name: "u.hcl", Source: []byte(text)}})
	require.NoError(t, err)
	for _, f := range found {
		require.Fail(t, f.Message, f.Hint)
	}
	return c.Upstreams[0]
}

// get makes a request for Choose.
func get(id uint64) *Request {
	return &Request{ID: id, Key: id * 0x9e3779b97f4a7c15, SeatKey: id*0x9e3779b97f4a7c15 | 1, Seat: None, Repeatable: true}
}

// names of the backends that n requests in a row are given, each ended at once.
func picks(u *Upstream, now tick.Time, n int) string {
	var out []string
	for i := range n {
		q, a := get(uint64(i)), &Attempt{}
		v := u.Choose(now, q, a)
		if v.Kind == Refused {
			out = append(out, v.Reason.String())
			continue
		}
		out = append(out, u.Backend(v.Backend).Name)
		u.Settle(now, q, a, Outcome{Kind: Answered, Status: 200})
	}
	return strings.Join(out, " ")
}

func id(t require.TestingT, u *Upstream, name string) BackendID {
	b, ok := u.Lookup(name)
	require.True(t, ok, name)
	return b
}

// story returns the changes since the last call in words.
func story(u *Upstream) []string {
	var out []string
	for _, c := range u.Changes(nil) {
		out = append(out, fmt.Sprintf("%.1f %s %s-%s: %s", c.At.Seconds(), u.Backend(c.Backend).Name, c.From, c.To, c.Why))
	}
	return out
}

func TestRetries(t *testing.T) {
	more := "retry {\n attempts = 3\n on = [\"connect\", \"timeout\", \"503\"]\n}"
	for _, c := range []struct {
		name    string
		outcome Outcome
		get     bool // the method is idempotent
		again   bool
	}{
		{"answered", Outcome{Kind: Answered, Status: 200}, true, false},
		{"refused", Outcome{Kind: ConnectRefused}, true, true},
		{"refused POST", Outcome{Kind: ConnectRefused}, false, true},
		{"no connection in time, POST", Outcome{Kind: ConnectTimeout}, false, true},
		{"timeout", Outcome{Kind: AnswerTimeout}, true, true},
		{"timeout POST", Outcome{Kind: AnswerTimeout}, false, false},
		{"503", Outcome{Kind: Answered, Status: 503}, true, true},
		{"503 POST", Outcome{Kind: Answered, Status: 503}, false, false},
		{"500 is not in on", Outcome{Kind: Answered, Status: 500}, true, false},
		{"reset is not in on", Outcome{Kind: Reset}, true, false},
		{"something was passed on", Outcome{Kind: AnswerTimeout, Final: true}, true, false},
		{"the body is gone", Outcome{Kind: ConnectRefused, Final: true}, true, false},
		{"the client left", Outcome{Kind: ClientLeft}, true, false},
	} {
		u := New(0, parse(t, more), 1)
		q, a := get(1), &Attempt{}
		q.Repeatable = c.get
		first := u.Choose(0, q, a)
		assert.Equal(t, c.again, u.Repeats(q, a, c.outcome), c.name)
		step := u.Settle(0, q, a, c.outcome)
		assert.Equal(t, c.again, step == Again, c.name)
		assert.Zero(t, u.InFlight(first.Backend))
		if step != Again {
			continue
		}
		second := u.Choose(0, q, a)
		assert.NotEqual(t, first.Backend, second.Backend, "%s: on one not tried yet", c.name)
		assert.Equal(t, AfterFailure, second.Reason)
		require.Equal(t, Again, u.Settle(0, q, a, Outcome{Kind: ConnectRefused}))
		third := u.Choose(0, q, a)
		assert.NotContains(t, []BackendID{first.Backend, second.Backend}, third.Backend)
		assert.Equal(t, Finished, u.Settle(0, q, a, Outcome{Kind: ConnectRefused}), "three attempts, the first included")
	}
}

func TestARetryGoesToTheSameBackendIfThereIsNoOther(t *testing.T) {
	u := New(0, parseMembers(t, `a = "127.0.0.1:1"`, "retry {\n}"), 1)
	q, a := get(1), &Attempt{}
	u.Choose(0, q, a)
	require.Equal(t, Again, u.Settle(0, q, a, Outcome{Kind: ConnectRefused}))
	assert.Equal(t, Go, u.Choose(0, q, a).Kind)
}

func TestACookieKeepsItsBackend(t *testing.T) {
	u := New(0, parse(t, "retry {\n}\nsticky {\n by = \"cookie\"\n ttl = \"1h\"\n}"), 1)
	q, a := get(1), &Attempt{}
	v := u.Choose(0, q, a)
	require.Equal(t, ByAlgorithm, v.Reason)
	require.Equal(t, v.Backend, v.Seat, "a new client is given a seat")
	assert.False(t, v.Moved())
	u.Settle(0, q, a, Outcome{Kind: Answered, Status: 200})
	seat := v.Seat
	for i := range uint64(5) {
		q, a := get(i), &Attempt{}
		q.Seat = seat
		v := u.Choose(0, q, a)
		assert.Equal(t, seat, v.Backend)
		assert.Equal(t, KeptSeat, v.Reason)
		assert.Equal(t, None, v.Seat, "nothing new to tell the client")
		u.Settle(0, q, a, Outcome{Kind: Answered, Status: 200})
	}
	old := func(age time.Duration) Verdict {
		q, a := get(9), &Attempt{}
		q.Seat, q.SeatAge = seat, age
		v := u.Choose(0, q, a)
		u.Settle(0, q, a, Outcome{Kind: Answered, Status: 200})
		return v
	}
	assert.Equal(t, seat, old(20*time.Minute).Seat, "renewed after a quarter of its time")
	assert.Equal(t, ByAlgorithm, old(2*time.Hour).Reason, "too old: as if it had none")

	// A retry's detour does not move the session.
	q, a = get(7), &Attempt{}
	q.Seat = seat
	u.Choose(0, q, a)
	require.Equal(t, Again, u.Settle(0, q, a, Outcome{Kind: ConnectRefused}))
	v = u.Choose(0, q, a)
	assert.NotEqual(t, seat, v.Backend)
	assert.Equal(t, None, v.Seat)
	u.Settle(0, q, a, Outcome{Kind: Answered, Status: 200})

	// Draining keeps seats and gives no new ones; parked loses them.
	u.Operate(0, seat, Drain, 0)
	assert.Equal(t, KeptSeat, old(0).Reason)
	assert.NotContains(t, picks(u, 0, 12), u.Backend(seat).Name)
	u.Operate(0, seat, Park, 0)
	v = old(0)
	assert.Equal(t, LostSeat, v.Reason)
	assert.True(t, v.Moved())
	assert.NotEqual(t, seat, v.Seat)
	u.Operate(0, seat, Return, 0)
	assert.Equal(t, KeptSeat, old(0).Reason)
	assert.Equal(t, None, u.Seat(12345), "a ticket of a backend that is no longer there")
}

func TestANewClientsSeatIsWhereItIsFinallyServed(t *testing.T) {
	u := New(0, parse(t, "retry {\n}\nsticky {\n by = \"cookie\"\n}"), 1)
	q, a := get(1), &Attempt{}
	first := u.Choose(0, q, a)
	require.Equal(t, Again, u.Settle(0, q, a, Outcome{Kind: ConnectRefused}))
	second := u.Choose(0, q, a)
	assert.Equal(t, second.Backend, second.Seat)
	assert.NotEqual(t, first.Backend, second.Seat)
	assert.False(t, second.Moved(), "it had none before")
}

func TestOnLossRefuse(t *testing.T) {
	u := New(0, parse(t, "sticky {\n by = \"cookie\"\n on_loss = \"refuse\"\n}"), 1)
	u.Operate(0, 0, Park, 0)
	q, a := get(1), &Attempt{}
	q.Seat = 0
	v := u.Choose(0, q, a)
	assert.Equal(t, Refused, v.Kind)
	assert.Equal(t, RefusedByLoss, v.Reason)
	assert.Contains(t, picks(u, 0, 3), "petrel", "others are served")
}

func TestAnAddressKeepsItsBackend(t *testing.T) {
	u := New(0, parse(t, "sticky {\n by = \"address\"\n ttl = \"1h\"\n}"), 1)
	seats := map[uint64]string{}
	for round := range 3 {
		for c := range uint64(50) {
			q, a := get(c+uint64(round)*1000), &Attempt{}
			q.Key, q.SeatKey = c, c+1
			v := u.Choose(tick.Time(round)*second, q, a)
			name := u.Backend(v.Backend).Name
			if round == 0 {
				seats[c] = name
			}
			assert.Equal(t, seats[c], name)
			u.Settle(tick.Time(round)*second, q, a, Outcome{Kind: Answered, Status: 200})
		}
	}
	spread := map[string]int{}
	for _, s := range seats {
		spread[s]++
	}
	assert.Len(t, spread, 3)
	q, a := get(7), &Attempt{}
	q.Key, q.SeatKey = 1, 2
	v := u.Choose(3*3600*second, q, a)
	assert.Equal(t, ByAlgorithm, v.Reason, "it stayed away longer than its ttl")
}

func TestMaxInFlight(t *testing.T) {
	u := New(0, parseMembers(t, "a = { address = \"127.0.0.1:1\", max_in_flight = 2 }\nb = { address = \"127.0.0.1:2\", max_in_flight = 1 }", ""), 1)
	var open []*Attempt
	for i := range uint64(3) {
		at := &Attempt{}
		require.Equal(t, Go, u.Choose(0, get(i), at).Kind)
		open = append(open, at)
	}
	v := u.Choose(0, get(9), &Attempt{})
	assert.Equal(t, NoRoom, v.Reason)
	u.Cancel(0, open[0])
	assert.Equal(t, open[0].Backend, u.Choose(0, get(9), &Attempt{}).Backend, "where there is room again")
	u.Operate(0, 0, Park, 0)
	u.Operate(0, 1, Park, 0)
	assert.Equal(t, NoBackend, u.Choose(0, get(9), &Attempt{}).Reason)
}

// TestNoAttemptGoesToABackendThatIsOut drives the core with random probes,
// failures, operators and reloads, and counts what is in flight beside it.
func TestNoAttemptGoesToABackendThatIsOut(t *testing.T) {
	algorithms := []string{"round-robin", "least-connections", "random", "hash"}
	rapid.Check(t, func(t *rapid.T) {
		more := "algorithm = \"" + rapid.SampledFrom(algorithms).Draw(t, "algorithm") + "\"\nprobe \"tcp\" {\n every = \"1s\"\n timeout = \"1s\"\n}\nsuspend {\n after = 2\n rest = \"5s\"\n}\nretry {\n attempts = 3\n}\n"
		anyway := rapid.Bool().Draw(t, "anyway")
		if anyway {
			more += "when_all_down = \"try-anyway\"\n"
		}
		if rapid.Bool().Draw(t, "slow") {
			more += "slow_start = \"3s\"\n"
		}
		if rapid.Bool().Draw(t, "sticky") {
			more += "sticky {\n by = \"address\"\n}\n"
		}
		u := New(0, parse(t, more), rapid.Uint64().Draw(t, "seed"))
		type open struct {
			q *Request
			a *Attempt
		}
		var all []open
		inFlight := map[BackendID]int{}
		now := tick.Time(0)
		for i := range rapid.IntRange(1, 80).Draw(t, "steps") {
			now += tick.Time(rapid.Int64Range(0, int64(2*second)).Draw(t, "wait"))
			u.Advance(now, nil)
			switch rapid.IntRange(0, 5).Draw(t, "what") {
			case 0:
				u.ProbeSeen(now, BackendID(rapid.IntRange(0, 2).Draw(t, "probed")), Probe{Passed: rapid.Bool().Draw(t, "passed"), Why: "x"})
			case 1:
				u.Operate(now, BackendID(rapid.IntRange(0, 2).Draw(t, "who")), Operation(rapid.IntRange(0, int(Admit)).Draw(t, "operation")), rapid.IntRange(0, 3).Draw(t, "weight"))
			case 2:
				if len(all) > 0 {
					o := all[0]
					all = all[1:]
					inFlight[o.a.Backend]--
					outcome := Outcome{Kind: OutcomeKind(rapid.IntRange(0, int(lastOutcome)).Draw(t, "outcome")), Status: rapid.SampledFrom([]int{200, 503}).Draw(t, "status")}
					if u.Settle(now, o.q, o.a, outcome) == Again {
						if v := u.Choose(now, o.q, o.a); v.Kind == Go {
							inFlight[v.Backend]++
							all = append(all, o)
						}
					}
				}
			default:
				q, a := get(uint64(i)), &Attempt{}
				q.Key, q.SeatKey = uint64(i%5), uint64(i%5)+1
				v := u.Choose(now, q, a)
				possible := 0
				for _, m := range u.Members(now) {
					if u.Eligible(m.ID) && m.Weight > 0 {
						possible++
					}
				}
				if v.Kind == Refused {
					if possible > 0 {
						t.Fatalf("refused (%s) while %d could have taken it", v.Reason, possible)
					}
					continue
				}
				if v.Reason == TriedAnyway {
					if possible > 0 || !anyway || u.members[v.Backend].health.Operator != health.In {
						t.Fatalf("tried anyway with %d in rotation, on one that is %s", possible, u.Members(now)[v.Backend].State)
					}
					inFlight[v.Backend]++
					all = append(all, open{q, a})
					break
				}
				if a.trial { // by its own reason, or for one that lost its seat
					if m := &u.members[v.Backend]; !m.health.OnTrial() || !m.trying || a.Number != 1 {
						t.Fatalf("on trial with %s, which is %s", m.cfg.Name, m.health.State())
					}
					inFlight[v.Backend]++
					all = append(all, open{q, a})
					break
				}
				m := &u.members[v.Backend]
				keeps := m.health.State() == health.Draining || m.health.Eligible() && m.weight == 0 // its sessions
				if !u.Eligible(v.Backend) && !(v.Reason == KeptSeat && keeps) {
					t.Fatalf("sent to %s, which is %s (%s)", u.Backend(v.Backend).Name, u.Members(now)[v.Backend].State, v.Reason)
				}
				inFlight[v.Backend]++
				all = append(all, open{q, a})
			}
			for b := range BackendID(3) {
				if u.InFlight(b) != inFlight[b] {
					t.Fatalf("%d in flight on %d, want %d", u.InFlight(b), b, inFlight[b])
				}
			}
			if u.Next() <= now {
				t.Fatalf("something is due at %d, not after %d", u.Next(), now)
			}
		}
	})
}

func TestChoosingAllocatesNothing(t *testing.T) {
	u := New(0, parse(t, "algorithm = \"least-connections\"\nretry {\n}\nsuspend {\n}\nsticky {\n by = \"cookie\"\n}"), 1)
	q := get(1)
	var a Attempt
	assert.Zero(t, testing.AllocsPerRun(1000, func() {
		a = Attempt{}
		q.ID++
		u.Choose(second, q, &a)
		u.Settle(second, q, &a, Outcome{Kind: Answered, Status: 200})
	}))
}
