package report

import (
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kestrix/internal/core/result"
	"kestrix/internal/core/study"
)

// variant makes a run of a comparison and what it is of.
func variant(name, choice string, pool int, now bool, f study.Figures, busy float64) (study.Variant, study.Run) {
	r := &result.Replay{Requests: 10_000, Answered: 10_000 - int64(f.Failed), Upstreams: map[string]*result.Upstream{"a": {Backends: map[string]*result.Backend{"auk": {Busy: busy}}}}}
	return study.Variant{Name: name, Choice: choice, Pool: pool, Configured: now}, study.Run{Name: name, Configured: now, Figures: f, Result: r, Leave: &result.Leave{Backends: []string{"a.auk"}}}
}

// tellApart has every two runs told apart by each figure in which they differ by a tenth.
func tellApart(c *study.Comparison) {
	for i := range study.Measures {
		m := &study.Measures[i]
		for _, a := range c.Runs {
			for _, b := range c.Runs {
				x, some := m.Of(&a.Figures)
				if y, too := m.Of(&b.Figures); some && too && (m.More && x > y*1.1 || !m.More && y > x*1.1+0.001) {
					c.Apart = append(c.Apart, study.Apart{Figure: m.Key, Better: a.Name, Worse: b.Name})
				}
			}
		}
	}
}

func TestAdvice(t *testing.T) {
	type one struct {
		name, choice string
		pool         int
		now          bool
		p99          float64
		failed       float64
		leave        float64 // of MovedOnLeave, negative for none
	}
	for title, c := range map[string]struct {
		runs []one
		busy float64
		want []string // beginnings of what is said, and of why and when not
	}{
		"nothing stands out": {
			[]one{{"as configured", "", 0, true, 0.1, 0, -1}, {"random", "random", 0, false, 0.102, 0, -1}}, 0.1,
			[]string{"keep the configured variant: no other variant", "elapsed p99 is 100 ms, that of the variants with as few failures is 100 ms to 102 ms; 0 of 10,000 requests fail, the minimum of all variants is 0; 10 seeds", "the load grows"},
		},
		"nothing at all differs": {
			[]one{{"random", "random", 0, true, 0.1, 3, -1}, {"ring", "ring", 0, false, 0.1, 3, -1}}, 0.9,
			[]string{"keep random", "elapsed p99 is 100 ms, as with the other variants that have as few failures; 3 of 10,000 requests fail, the minimum of all variants is 3", "there are few requests"},
		},
		"another is faster": {
			[]one{{"round-robin", "round-robin", 0, true, 0.3, 0, -1}, {"two-choices", "two-choices", 0, false, 0.1, 0, -1}, {"ring", "ring", 0, false, 0.05, 500, -1}}, 0.7,
			[]string{"choose two-choices: elapsed p99 is 100 ms instead of 300 ms with round-robin", "p95 is", "the pool is small"},
		},
		"another fails less": {
			[]one{{"as configured", "", 0, true, 0.05, 400, -1}, {"least-connections", "least-connections", 0, false, 0.1, 1, -1}}, 0.7,
			[]string{"choose least-connections: 1 of 10,000 requests fail, with the configured variant 400", "elapsed p99 is 100 ms instead of 50.0 ms", "several proxies share"},
		},
		"who keeps clients": {
			[]one{{"random", "random", 0, true, 0.1, 0, 0.7}, {"ring", "ring", 0, false, 0.1, 0, 0}, {"modulo", "modulo", 0, false, 0.1, 0, 0.75}}, 0.9,
			[]string{"keep random", "elapsed p99", "there are few", "where backends keep something of a client, such as a session or a cache, choose ring or a sticky block", "when a.auk left, 0.0 % of the other clients' requests moved, with modulo 75.0 %", "any backend can answer"},
		},
		"who keeps clients and fails is no cure": {
			[]one{{"random", "random", 0, true, 0.1, 0, 0.7}, {"ring", "ring", 0, false, 0.1, 900, 0}}, 0.9,
			[]string{"keep random", "elapsed p99", "there are few"},
		},
		"enough backends": {
			[]one{{"2 backends", "", 2, false, 1, 50, -1}, {"3 backends", "", 3, false, 0.1, 0, -1}, {"5 backends", "", 5, false, 0.095, 0, -1}}, 0.5,
			[]string{"3 backends do: more of them", "elapsed p99 is 100 ms, with 5 backends it is 95.0 ms; the busiest works 50.0 % of the time; failed 0 and 0", "one of them may fail"},
		},
		"not enough of them": {
			[]one{{"1 backend", "", 1, false, 3, 5000, -1}, {"2 backends", "", 2, false, 1, 400, -1}}, 1,
			[]string{"2 backends are still better than 1 backend: try more", "elapsed p99 from 3.00 s to 1.00 s, failed from 5,000 to 400", "such a load never comes"},
		},
		"one does": {
			[]one{{"1 backend", "", 1, false, 0.1, 0, -1}, {"2 backends", "", 2, false, 0.1, 0, -1}}, 0.2,
			[]string{"1 backend does: more of them", "elapsed p99", "one of them may fail"},
		},
		"several are as good": {
			[]one{{"round-robin", "round-robin", 0, true, 0.1, 900, -1}, {"two-choices", "two-choices", 0, false, 0.1, 200, -1}, {"random", "random", 0, false, 0.101, 201, -1}}, 0.7,
			[]string{"choose two-choices: 200 of 10,000 requests fail, with round-robin 900", "; random is as good: no difference beyond chance in failures and elapsed p99; 10 seeds", "the pool is small"},
		},
	} {
		p := Compared{Result: &study.Comparison{Seeds: 10, Needed: 10}}
		for _, o := range c.runs {
			f := study.Figures{P50: o.p99 / 4, P95: o.p99 / 2, P99: o.p99 / 2, ElapsedP99: o.p99, Failed: o.failed, Spread: 1.1, Throughput: 100}
			if o.leave >= 0 {
				f.MovedOnLeave = &o.leave
			}
			w, r := variant(o.name, o.choice, o.pool, o.now, f, c.busy)
			p.Ways, p.Result.Runs = append(p.Ways, w), append(p.Result.Runs, r)
		}
		unknown := p.Advise()
		assert.False(t, slices.ContainsFunc(unknown, func(a study.Advice) bool {
			return strings.HasPrefix(a.Say, "choose") || strings.Contains(a.Say, "more") && c.runs[0].pool == 0
		}), "%s: nothing can be told apart: %q", title, unknown)
		tellApart(p.Result)
		var got []string
		for _, a := range p.Advise() {
			got = append(got, a.Say, a.Because, a.Unless)
		}
		require.Len(t, got, len(c.want), "%s: %q", title, got)
		for i, want := range c.want {
			assert.Contains(t, got[i], want, title)
		}
		p.Result.Seeds = 9
		assert.Empty(t, p.Advise(), "too few seeds to tell")
		p.Result.Seeds, p.Result.Partial = 10, true
		assert.Empty(t, p.Advise(), "half of it is nothing to go by")
	}
	for _, name := range study.Choices {
		assert.Contains(t, wrongWhen, name, "of each it is known when it is wrong")
	}
}
