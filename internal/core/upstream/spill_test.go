package upstream

import (
	"fmt"
	"math"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"

	"kestrix/internal/core/tick"
)

// modelled is what the rule of spilling by load needs to know of a backend.
type modelled struct {
	most, group int
	inFlight    int
	out         bool
	lowered     float64 // to how much its room was, when it last refused
	since       tick.Time
}

// room returns how many it may have in flight. A room that was lowered grows by whole requests.
func (m *modelled) room(now tick.Time) float64 {
	if math.IsInf(m.lowered, 1) {
		return float64(m.most)
	}
	return min(float64(m.most), math.Floor(m.lowered+0.05*float64(m.most)*now.Sub(m.since).Seconds()+1e-6))
}

// TestRequestsSpillByTheRule holds the choices to the rule as it is written, which looks at all
// backends each time.
func TestRequestsSpillByTheRule(t *testing.T) {
	const at = 0.75
	rapid.Check(t, func(rt *rapid.T) {
		algorithm := rapid.SampledFrom([]string{"round-robin", "least-connections", "random", "two-choices", "least-latency", "first-fit", "hash"}).Draw(rt, "algorithm")
		var model []modelled
		members := ""
		for i := range rapid.IntRange(2, 6).Draw(rt, "backends") {
			m := modelled{most: rapid.IntRange(1, 12).Draw(rt, "most"), group: rapid.IntRange(0, 3).Draw(rt, "group"), lowered: math.Inf(1)}
			zone := "north"
			if m.group%2 == 1 {
				zone = "south"
			}
			members += fmt.Sprintf("b%d = { address = \"127.0.0.1:%d\", max_in_flight = %d, tier = %d, zone = %q }\n", i, i+1, m.most, m.group/2+1, zone)
			model = append(model, m)
		}
		u := New(0, parseZone(t, "north", members, fmt.Sprintf("algorithm = %q\nfailover {\n prefer = \"zone\"\n spill_at = \"75%%\"\n}", algorithm)), 7)
		type open struct {
			q *Request
			a *Attempt
		}
		var opened []open
		now := tick.Time(0)
		for i := range rapid.IntRange(1, 120).Draw(rt, "steps") {
			now = now.Add(time.Duration(rapid.IntRange(0, 3000).Draw(rt, "later")) * time.Millisecond)
			for u.Next() <= now {
				u.Advance(u.Next(), nil)
			}
			switch k := rapid.IntRange(0, 9).Draw(rt, "what"); {
			case k < 6:
				q, a := get(uint64(i)), &Attempt{}
				v := u.Choose(now, q, a)
				judge(rt, model, now, at, v)
				if v.Kind == Go {
					model[v.Backend].inFlight++
					opened = append(opened, open{q, a})
				}
			case k < 9 && len(opened) > 0:
				n := rapid.IntRange(0, len(opened)-1).Draw(rt, "which")
				x := opened[n]
				opened = append(opened[:n], opened[n+1:]...)
				m, status := &model[x.a.Backend], rapid.SampledFrom([]int{200, 200, 200, 503, 429, 500}).Draw(rt, "status")
				if lower := math.Max(1, float64(m.inFlight-1)); (status == 503 || status == 429) && lower < m.room(now) {
					m.lowered, m.since = lower, now
				}
				m.inFlight--
				u.Settle(now, x.q, x.a, Outcome{Kind: Answered, Status: status})
			case k == 9:
				n := rapid.IntRange(0, len(model)-1).Draw(rt, "operated")
				model[n].out = !model[n].out
				op := Admit
				if model[n].out {
					op = Park
				}
				u.Operate(now, BackendID(n), op, 0)
			}
		}
	})
}

// judge holds a verdict to the rule: the first group with a backend below spill_at of its room, else
// the first with any room, else none.
func judge(rt *rapid.T, model []modelled, now tick.Time, at float64, v Verdict) {
	first := func(share float64) int {
		group := math.MaxInt
		for i := range model {
			m := &model[i]
			if !m.out && float64(m.inFlight) < share*m.room(now) {
				group = min(group, m.group)
			}
		}
		return group
	}
	wanted, got := first(at), math.MaxInt
	if wanted == math.MaxInt {
		wanted = first(1)
	}
	if v.Kind == Go {
		m := &model[v.Backend]
		if got = m.group; m.out || float64(m.inFlight) >= m.room(now) {
			rt.Fatalf("given to %+v, which is out or has no room", *m)
		}
	}
	if got != wanted {
		rt.Fatalf("given to group %d, and the rule says %d: %+v", got, wanted, model)
	}
}

// TestSeatsAndSlowStartsWhereLoadSpills: a seat is kept while there is any room, one that was given
// elsewhere stays there, and a backend that returns has little room at first.
func TestSeatsAndSlowStartsWhereLoadSpills(t *testing.T) {
	const members = "a = { address = \"127.0.0.1:1\", max_in_flight = 4 }\nb = { address = \"127.0.0.1:2\", max_in_flight = 4, tier = 2 }"
	u := New(0, parseMembers(t, members, "failover {\n spill_at = \"50%\"\n}\nsticky {\n by = \"address\"\n}\nslow_start = \"10s\"\n"), 7)
	ask := func(now tick.Time, client uint64) string {
		q, a := get(client), &Attempt{}
		v := u.Choose(now, q, a)
		if v.Kind != Go {
			return v.Reason.String()
		}
		return u.Backend(v.Backend).Name + " " + v.Reason.String()
	}
	assert.Equal(t, []string{"a algorithm", "a algorithm", "b spill", "a seat", "b seat", "a seat"},
		[]string{ask(0, 1), ask(0, 2), ask(0, 3), ask(0, 1), ask(0, 3), ask(0, 2)})
	assert.NotContains(t, ask(0, 1), "a ", "no room is left")
	shares := u.Shares()
	assert.Equal(t, []int{4, 3}, []int{shares[0].InFlight, shares[1].InFlight})
	assert.Equal(t, []float64{4, 4}, []float64{shares[0].Room, shares[1].Room})
	assert.Equal(t, 1.0, shares[1].Share, "the next goes to the second tier")

	u = New(0, parseMembers(t, "a = { address = \"127.0.0.1:1\", max_in_flight = 100 }\nb = { address = \"127.0.0.1:2\", max_in_flight = 100, tier = 2 }", "failover {\n spill_at = \"50%\"\n}\nslow_start = \"10s\"\n"), 7)
	u.Operate(0, 0, Park, 0)
	u.Operate(0, 0, Admit, 0)
	for now := tick.Time(0); now <= 10e9; now += 1e9 {
		for u.Next() <= now {
			u.Advance(u.Next(), nil)
		}
		assert.InDelta(t, 100*(0.1+0.9*now.Seconds()/10), u.Shares()[0].Room, 5)
	}
}
