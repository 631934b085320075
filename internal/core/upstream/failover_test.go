package upstream

import (
	"fmt"
	"math"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"kestrix/internal/core/config"
	"kestrix/internal/core/health"
	"kestrix/internal/core/request"
	"kestrix/internal/core/tick"
)

const tiers = `a1 = { address = "127.0.0.1:1" }
a2 = { address = "127.0.0.1:2" }
a3 = { address = "127.0.0.1:3" }
a4 = { address = "127.0.0.1:4" }
b1 = { address = "127.0.0.1:5", tier = 2 }
b2 = { address = "127.0.0.1:6", tier = 2 }
c1 = { address = "127.0.0.1:7", tier = 3 }`

// spread sends n requests, each ended at once, and returns the share of each
// backend.
func spread(u *Upstream, n int) map[string]float64 {
	out := map[string]float64{}
	for i := range n {
		q, a := get(uint64(i)), &Attempt{}
		v := u.Choose(0, q, a)
		if v.Kind != Go {
			out[v.Reason.String()] += 1 / float64(n)
			continue
		}
		out[u.Backend(v.Backend).Name] += 1 / float64(n)
		u.Settle(0, q, a, Outcome{Kind: Answered, Status: 200})
	}
	return out
}

func TestTiersSpillByHealthyCapacity(t *testing.T) {
	for _, c := range []struct {
		out  string // backends that are taken out
		want map[string]float64
	}{
		{"", map[string]float64{"a": 1}},
		// 3 of 4 are healthy: 0.75/0.85 stay, the rest goes to the second tier.
		{"a1", map[string]float64{"a": 0.75 / 0.85, "b": 1 - 0.75/0.85}},
		{"a1 a2", map[string]float64{"a": 0.5 / 0.85, "b": 1 - 0.5/0.85}},
		// The second is half healthy itself, so some reaches the third.
		{"a1 a2 a3 b1", map[string]float64{"a": 0.25 / 0.85, "b": 0.5 / 0.85, "c": 1 - 0.75/0.85}},
		{"a1 a2 a3 a4 b1 b2", map[string]float64{"c": 1}},
		// All together cannot take everything: scaled up.
		{"a1 a2 a3 b1 c1", map[string]float64{"a": 1.0 / 3, "b": 2.0 / 3}},
		{"a1 a2 a3 a4 b1 b2 c1", map[string]float64{"no_backend": 1}},
	} {
		for _, algorithm := range []string{"round-robin", "hash"} {
			u := New(0, parseMembers(t, tiers, "algorithm = \""+algorithm+"\"\nfailover {\n spill_below = \"85%\"\n}"), 7)
			for _, b := range u.Config().Backends {
				for _, name := range strings.Fields(c.out) {
					if b.Name == name {
						u.Operate(0, id(t, u, name), Park, 0)
					}
				}
			}
			got := map[string]float64{}
			for name, share := range spread(u, 20_000) {
				if name != "no_backend" {
					name = name[:1]
				}
				got[name] += share
			}
			for name, want := range c.want {
				assert.InDelta(t, want, got[name], 0.015, "%s, without %s: %s", algorithm, c.out, name)
			}
			assert.Len(t, got, len(c.want), "%s, without %s", algorithm, c.out)
		}
	}
}

func TestTheOwnZoneComesFirst(t *testing.T) {
	members := `n1 = { address = "127.0.0.1:1", zone = "north" }
n2 = { address = "127.0.0.1:2", zone = "north" }
s1 = { address = "127.0.0.1:3", zone = "south" }
w1 = { address = "127.0.0.1:4", zone = "west", weight = 3 }`
	cfg := parseZone(t, "north", members, "failover {\n prefer = \"zone\"\n spill_below = \"80%\"\n}")
	u := New(0, cfg, 7)
	near := func(want map[string]float64) {
		t.Helper()
		got := spread(u, 20_000)
		for name, share := range want {
			assert.InDelta(t, share, got[name], 0.015, name)
		}
	}
	near(map[string]float64{"n1": 0.5, "n2": 0.5, "s1": 0, "w1": 0})
	u.Operate(0, id(t, u, "n1"), Park, 0)
	// Half of the own zone is left: 0.5/0.8 stays, the rest by weight.
	near(map[string]float64{"n2": 0.625, "s1": 0.375 / 4, "w1": 0.375 * 3 / 4})
	assert.Equal(t, []GroupShare{{Tier: 1, OwnZone: true, Share: 0.625, Healthy: 0.5}, {Tier: 1, Share: 0.375, Healthy: 1}}, u.Shares())
	u.Operate(0, id(t, u, "s1"), Park, 0)
	u.Operate(0, id(t, u, "w1"), Park, 0)
	near(map[string]float64{"n2": 1})
	q, a := get(1), &Attempt{}
	v := u.Choose(0, q, a)
	u.Settle(0, q, a, Outcome{Kind: ConnectRefused})
	assert.Equal(t, "n2", u.Backend(v.Backend).Name)
}

func parseZone(t require.TestingT, zone, members, more string) *config.Upstream {
	text := "zone = \"" + zone + "\"\nfrontend \"f\" {\n listen = \"127.0.0.1:9\"\n route \"r\" {\n send_to = upstream.u\n }\n}\nupstream \"u\" {\n backends = {\n" + members + "\n}\n" + more + "\n}\n"
	c, found, err := config.Read([]config.File{{Name: "u.hcl", Source: []byte(text)}})
	require.NoError(t, err)
	require.Empty(t, found)
	return c.Upstreams[0]
}

// A retry leaves the tier rather than try the same backend twice, and a full
// tier lets what it cannot take go on.
func TestARetryAndAFullTierGoOn(t *testing.T) {
	u := New(0, parseMembers(t, "a = { address = \"127.0.0.1:1\", max_in_flight = 1 }\nb = { address = \"127.0.0.1:2\", tier = 2 }", "failover {\n}\nretry {\n attempts = 3\n}"), 7)
	q, a := get(1), &Attempt{}
	assert.Equal(t, "a", u.Backend(u.Choose(0, q, a).Backend).Name)
	other := &Attempt{}
	v := u.Choose(0, get(2), other)
	assert.Equal(t, "b spill", u.Backend(v.Backend).Name+" "+u.ReasonWord(v.Reason), "the first tier is full")
	require.Equal(t, Again, u.Settle(0, q, a, Outcome{Kind: ConnectRefused}))
	v = u.Choose(0, q, a)
	assert.Equal(t, "b retry", u.Backend(v.Backend).Name+" "+u.ReasonWord(v.Reason))
	require.Equal(t, Again, u.Settle(0, q, a, Outcome{Kind: ConnectRefused}))
	assert.Equal(t, "a", u.Backend(u.Choose(0, q, a).Backend).Name, "both were tried: from the beginning")
	// Tiers change over a reload while requests are open.
	u.Reload(0, parseMembers(t, "a = { address = \"127.0.0.1:1\", tier = 2 }\nb = { address = \"127.0.0.1:2\" }", "failover {\n}"))
	u.Settle(0, q, a, Outcome{Kind: Answered, Status: 200})
	u.Settle(0, get(2), other, Outcome{Kind: Answered, Status: 200})
	assert.InDelta(t, 1, spread(u, 10)["b"], 1e-9)
	assert.Equal(t, []int{0, 0}, []int{u.InFlight(0), u.InFlight(1)})
}

// A tier whose last backend was removed is no tier: what is left is the first,
// and nothing spills, even while a request of the removed one is open.
func TestATierThatIsGoneCountsNoMore(t *testing.T) {
	u := New(0, parseMembers(t, "a = { address = \"127.0.0.1:1\" }\nb = { address = \"127.0.0.1:2\", tier = 2 }", "failover {\n}"), 7)
	q, a := get(1), &Attempt{}
	require.Equal(t, "a", u.Backend(u.Choose(0, q, a).Backend).Name)
	u.Reload(0, parseMembers(t, "b = { address = \"127.0.0.1:2\", tier = 2 }\nc = { address = \"127.0.0.1:3\", tier = 2 }", "failover {\n}"))
	next := &Attempt{}
	v := u.Choose(0, get(2), next)
	assert.Equal(t, ByAlgorithm, v.Reason)
	u.Settle(0, get(2), next, Outcome{Kind: Answered, Status: 200})
	u.Settle(0, q, a, Outcome{Kind: Answered, Status: 200})
	assert.Nil(t, u.Shares(), "one group is left")
	assert.InDelta(t, 0.5, spread(u, 100)["c"], 0.02)
}

func TestABudgetLimitsRetries(t *testing.T) {
	u := New(0, parse(t, "retry {\n attempts = 2\n budget = \"10%\"\n}"), 1)
	again := 0
	for i := range 1000 {
		q, a := get(uint64(i)), &Attempt{}
		u.Choose(0, q, a)
		o := Outcome{Kind: ConnectRefused}
		repeats := u.Repeats(q, a, o)
		step := u.Settle(0, q, a, o)
		require.Equal(t, repeats, step == Again)
		if i <= 11 { // 10 at first, and a tenth more with each that follows: 1 is left for the eleventh retry
			assert.Equal(t, i < 11, repeats, "request %d", i)
		}
		if step == Again {
			again++
			u.Choose(0, q, a)
			u.Settle(0, q, a, o)
		}
	}
	assert.Equal(t, 109, again, "ten at once, and a tenth of the 999 others")
}

func TestABackendSaysHowItIs(t *testing.T) {
	u := New(0, parse(t, "probe \"self-report\" {\n every = \"1s\"\n timeout = \"1s\"\n down_after = 1\n up_after = 1\n}\nsticky {\n by = \"header\"\n name = \"X-Seat\"\n}"), 1)
	auk := id(t, u, "auk")
	at := tick.Time(0)
	say := func(line string) []string {
		at += second
		u.Advance(at, nil)
		r, err := health.ParseReport(line)
		p := Probe{Passed: err == nil && !r.Down, Why: "it says that it is down"}
		if err == nil {
			p.Report = &r
		} else {
			p.Why = err.Error()
		}
		u.ProbeSeen(at, auk, p)
		return story(u)
	}
	assert.Empty(t, say("state=up share=100"))
	assert.Equal(t, []string{"2.0 auk up-draining: it says so itself: draining"}, say("share=50 state=draining\n"))
	assert.Zero(t, spread(u, 30)["auk"])
	assert.Equal(t, []string{"3.0 auk draining-up: it says so itself: up"}, say("state=up share=50"))
	got := 0.0
	for i := range 1000 {
		q, a := get(uint64(5000+i)), &Attempt{}
		q.SeatKey = 0
		if v := u.Choose(at, q, a); v.Backend == auk {
			got++
		}
	}
	assert.InDelta(t, 200, got, 2, "half of its weight beside two whole ones")
	assert.Equal(t, []string{"4.0 auk up-parked: it says so itself: parked"}, say("state=parked"))
	assert.Equal(t, []string{"5.0 auk parked-down: a probe failed: it says that it is down"}, say("state=down"))
	assert.Equal(t, []string{"6.0 auk down-up: a probe passed"}, say("future=1"), "what it does not say is as usual")
	assert.Equal(t, []string{`7.0 auk up-down: a probe failed: it reported state=sleepy; known: up, draining, parked, down`}, say("state=sleepy"))
	for _, line := range []string{"", "up", "share=101", "share=x", "state=\xff"} {
		_, err := health.ParseReport(line)
		assert.Error(t, err, line)
	}
	u.Reload(at, parse(t, ""))
	assert.True(t, u.Eligible(auk), "nothing could tell that it is well again")
}

func FuzzReport(f *testing.F) {
	f.Add("state=draining share=50")
	f.Fuzz(func(t *testing.T, line string) {
		if r, err := health.ParseReport(line); err == nil && (r.Share < 0 || r.Share > 1 || math.IsNaN(r.Share)) {
			t.Fatal(r)
		}
	})
}

func TestSeatsByWhatClientsBring(t *testing.T) {
	u := New(0, parse(t, "sticky {\n by = \"existing-cookie\"\n name = \"app\"\n ttl = \"1h\"\n}"), 1)
	ask := func(id, key uint64) string {
		q, a := get(id), &Attempt{}
		q.SeatKey = key
		v := u.Choose(0, q, a)
		u.Settle(0, q, a, Outcome{Kind: Answered, Status: 200})
		return u.Backend(v.Backend).Name + " " + u.ReasonWord(v.Reason)
	}
	none := func(string) (string, bool) { return "", false }
	cookie := func(name string) (string, bool) { return "s1", name == "app" }
	s := u.Config().Sticky
	assert.Zero(t, request.SeatKey(s, &request.Request{Header: none, Cookie: none}, 5), "who brings none is not known")
	key := request.SeatKey(s, &request.Request{Header: none, Cookie: cookie}, 5)
	assert.Equal(t, request.SeatValue("s1"), key)
	assert.NotEqual(t, ask(1, 0), ask(2, 0), "each has its turn")
	u.Learn(0, key, id(t, u, "petrel"))
	for i := range 4 {
		assert.Equal(t, "petrel seat", ask(uint64(10+i), key), "where the application gave it")
	}
	first := ask(20, 99)
	assert.Contains(t, first, "round-robin")
	assert.Contains(t, ask(21, 99), "seat", "a cookie from before this proxy was started has its seat from now on")
}

// In whatever order requests come, end, leave and wait too long: no backend has
// more open than it may, nobody overtakes in the queue, and everybody is told
// once what comes of it.
func TestTheQueue(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		u := New(0, parseMembers(t, "a = { address = \"127.0.0.1:1\", max_in_flight = 2 }\nb = { address = \"127.0.0.1:2\", max_in_flight = 1 }", "queue {\n limit = 4\n timeout = \"3s\"\n}"), 7)
		type req struct {
			q *Request
			a Attempt
		}
		open := map[uint64]*req{}
		waits := map[uint64]*req{}
		since := map[uint64]tick.Time{}
		now, last := tick.Time(0), uint64(0)
		deliver := func() {
			for _, g := range u.Advance(now, nil) {
				if g.Kind != Granted {
					continue
				}
				r := waits[g.Grant.Request.ID]
				if r == nil {
					t.Fatalf("%d does not wait", g.Grant.Request.ID)
				}
				delete(waits, r.q.ID)
				r.a = g.Grant.Attempt
				if g.Grant.Verdict.Kind == Go {
					if r.q.ID < last {
						t.Fatalf("%d was overtaken by %d", r.q.ID, last)
					}
					last = r.q.ID
					open[r.q.ID] = r
				} else if now.Sub(since[r.q.ID]) < 3*time.Second {
					t.Fatalf("%d was refused early: %v", r.q.ID, g.Grant.Verdict.Reason)
				}
			}
		}
		pick := func(m map[uint64]*req) *req {
			least := uint64(math.MaxUint64)
			for k := range m {
				least = min(least, k)
			}
			return m[least]
		}
		for i := range rapid.IntRange(1, 120).Draw(t, "steps") {
			now = now.Add(time.Duration(rapid.IntRange(0, 900).Draw(t, "ms")) * time.Millisecond)
			deliver()
			switch what := rapid.IntRange(0, 5).Draw(t, "what"); {
			case what <= 2:
				r := &req{q: get(uint64(i + 1))}
				switch v := u.Choose(now, r.q, &r.a); v.Kind {
				case Go:
					if len(waits) > 0 {
						t.Fatalf("%d went ahead of those that wait", r.q.ID)
					}
					open[r.q.ID] = r
				case Queued:
					waits[r.q.ID], since[r.q.ID] = r, now
				case Refused:
					if len(waits) < 4 || v.Reason != NoRoom {
						t.Fatalf("refused for %v with %d waiting", v.Reason, len(waits))
					}
				}
			case what == 3 && len(open) > 0:
				r := pick(open)
				delete(open, r.q.ID)
				u.Settle(now, r.q, &r.a, Outcome{Kind: Answered, Status: 200})
			case what == 4 && len(waits) > 0:
				r := pick(waits)
				delete(waits, r.q.ID)
				u.Cancel(now, &r.a)
			case what == 5 && len(open) > 0:
				r := pick(open)
				delete(open, r.q.ID)
				u.Cancel(now, &r.a)
			}
			if u.InFlight(0) > 2 || u.InFlight(1) > 1 {
				t.Fatalf("more is open than may be: %d and %d", u.InFlight(0), u.InFlight(1))
			}
			deliver()
			if u.Waiting() != len(waits) {
				t.Fatalf("%d wait, and the core says %d", len(waits), u.Waiting())
			}
			if len(waits) > 0 && len(open) < 3 {
				t.Fatalf("%s", fmt.Sprintf("%d wait although only %d are open", len(waits), len(open)))
			}
		}
	})
}

// A reload that changes how is chosen takes what is open along.
func TestAlgorithmsChangeWhileRequestsAreOpen(t *testing.T) {
	more := func(algorithm string) string {
		if method, ok := strings.CutPrefix(algorithm, "hash/"); ok {
			return "algorithm = \"hash\"\nhash {\n method = \"" + method + "\"\n}"
		}
		return "algorithm = \"" + algorithm + "\""
	}
	names := []string{"round-robin", "least-connections", "two-choices", "least-latency", "first-fit", "hash/ring", "hash/rendezvous", "hash/modulo", "random"}
	u := New(0, parse(t, more("random")), 1)
	var open []*Attempt
	var reqs []*Request
	for i := range 300 {
		u.Reload(tick.Time(i)*second, parse(t, more(names[i%len(names)])))
		q, a := get(uint64(i)), &Attempt{}
		require.Equal(t, Go, u.Choose(tick.Time(i)*second, q, a).Kind)
		open, reqs = append(open, a), append(reqs, q)
		if len(open) > 7 {
			u.Settle(tick.Time(i)*second, reqs[0], open[0], Outcome{Kind: Answered, Status: 200})
			open, reqs = open[1:], reqs[1:]
		}
	}
	sum := 0
	for i := range 3 {
		sum += u.InFlight(BackendID(i))
	}
	assert.Equal(t, len(open), sum)
}

func TestAnUpstreamOfNobody(t *testing.T) {
	for _, more := range []string{"", "failover {\n}", "algorithm = \"hash\"", "queue {\n}", "sticky {\n by = \"address\"\n}\nwhen_all_down = \"try-anyway\""} {
		cfg := parse(t, more)
		none := *cfg
		none.Backends = nil
		u := New(0, &none, 1)
		v := u.Choose(0, get(1), &Attempt{})
		assert.Equal(t, []any{Refused, NoBackend}, []any{v.Kind, v.Reason}, more)
		u.Reload(second, cfg)
		assert.Equal(t, Go, u.Choose(second, get(2), &Attempt{}).Kind, more)
		u.Reload(2*second, &none)
		assert.Equal(t, Refused, u.Choose(2*second, get(3), &Attempt{}).Kind, more)
	}
}
