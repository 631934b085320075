package upstream

import (
	"fmt"
	"testing"

	"pgregory.net/rapid"

	"kestrix/internal/core/config"
	"kestrix/internal/core/tick"
)

// TestTheShortWaysDecideAlike drives two cores with the same requests, outcomes,
// probes and operations, one of which takes no short way.
func TestTheShortWaysDecideAlike(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		more := "algorithm = \"" + rapid.SampledFrom(config.Algorithms).Draw(t, "algorithm") + "\"\nprobe \"tcp\" {\n every = \"1s\"\n timeout = \"1s\"\n}\n"
		for _, block := range []string{"suspend {\n after = 2\n rest = \"5s\"\n}\n", "suspend {\n after = 1\n on = [\"200\"]\n}\n", "retry {\n attempts = 3\n budget = \"20%\"\n}\n", "sticky {\n by = \"address\"\n}\n", "queue {\n limit = 3\n timeout = \"1s\"\n}\n"} {
			if rapid.IntRange(0, 3).Draw(t, "block") == 0 {
				if more += block; block[:4] == "susp" {
					break
				}
			}
		}
		seed := rapid.Uint64().Draw(t, "seed")
		// Backends with and without room for more than so many, of which the last comes
		// and goes.
		some := func() *config.Upstream {
			members := ""
			for i := range rapid.IntRange(2, 3).Draw(t, "backends") {
				members += fmt.Sprintf("b%d = { address = \"127.0.0.1:%d\"%s }\n", i, i+1, rapid.SampledFrom([]string{"", ", max_in_flight = 1", ", max_in_flight = 2"}).Draw(t, "room"))
			}
			return parseMembers(t, members, more)
		}
		first := some()
		short, long := New(0, first, seed), New(0, first, seed)
		long.quick, long.plain = false, false
		type open struct {
			q    *Request
			a, b *Attempt
		}
		var all []open
		now := tick.Time(0)
		choose := func(o open) {
			v, w := short.Choose(now, o.q, o.a), long.Choose(now, o.q, o.b)
			if v != w || o.a.Number != o.b.Number {
				t.Fatalf("the short way decided %+v, the long one %+v", v, w)
			}
			if v.Kind == Go {
				all = append(all, o)
			}
		}
		for i := range rapid.IntRange(1, 80).Draw(t, "steps") {
			now += tick.Time(rapid.Int64Range(0, int64(second)).Draw(t, "wait"))
			if a, b := fmt.Sprint(short.Advance(now, nil)), fmt.Sprint(long.Advance(now, nil)); a != b {
				t.Fatalf("due by %d: %s and %s", now, a, b)
			}
			switch rapid.IntRange(0, 8).Draw(t, "what") {
			case 8:
				next := some()
				short.Reload(now, next)
				long.Reload(now, next)
				long.quick, long.plain = false, false
			case 0:
				id, p := BackendID(rapid.IntRange(0, 1).Draw(t, "probed")), Probe{Passed: rapid.Bool().Draw(t, "passed"), Why: "x"}
				short.ProbeSeen(now, id, p)
				long.ProbeSeen(now, id, p)
			case 1, 2, 3:
				if len(all) == 0 {
					break
				}
				k := rapid.IntRange(0, len(all)-1).Draw(t, "ends")
				o := all[k]
				all = append(all[:k], all[k+1:]...)
				outcome := Outcome{Kind: rapid.SampledFrom([]OutcomeKind{Answered, Answered, Reset, ConnectRefused}).Draw(t, "outcome"), Status: rapid.SampledFrom([]int{200, 200, 301, 404, 503}).Draw(t, "status")}
				a, b := Finished, long.Settle(now, o.q, o.b, outcome)
				if good := outcome.Kind == Answered && outcome.Status < 400; !good || o.a.Number > 1 || !short.Done(now, o.a.Backend, o.a.Began) {
					a = short.Settle(now, o.q, o.a, outcome)
				}
				if a != b {
					t.Fatalf("after %+v: %d and %d", outcome, a, b)
				}
				if a == Again {
					choose(o)
				}
			default:
				q := get(uint64(i))
				q.Key, q.SeatKey = uint64(i%5)<<60, uint64(i%5)+1
				choose(open{q, &Attempt{}, &Attempt{}})
			}
			if a, b := fmt.Sprint(short.Members(now), short.Next(), short.tokens), fmt.Sprint(long.Members(now), long.Next(), long.tokens); a != b {
				t.Fatalf("after %d steps:\n%s\n%s", i, a, b)
			}
		}
	})
}
