package standin

import (
	"context"
	"net/http/httptest"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"

	"kestrix/internal/core/config"
	"kestrix/internal/core/scenario"
)

// TestAStandInSlowsDownAsInAReplay: work shares its cores, and is slow after a restart.
func TestAStandInSlowsDownAsInAReplay(t *testing.T) {
	fixed := func(d time.Duration) config.Distribution { return config.Distribution{Kind: "fixed", Mean: d} }
	for _, c := range []struct {
		name      string
		behaviour scenario.Behaviour
		since     time.Duration // the restart; 0: there was none
		come      []time.Duration
		end       []time.Duration
	}{
		{"alone", scenario.Behaviour{Service: fixed(time.Second), Workers: 9, Cores: 1}, 0, []time.Duration{0, 2 * time.Second}, []time.Duration{time.Second, 3 * time.Second}},
		{"one core", scenario.Behaviour{Service: fixed(time.Second), Workers: 9, Cores: 1}, 0, []time.Duration{0, 500 * time.Millisecond}, []time.Duration{1500 * time.Millisecond, 2 * time.Second}},
		{"one core, one worker", scenario.Behaviour{Service: fixed(time.Second), Workers: 1, Backlog: 9, Cores: 1}, 0, []time.Duration{0, 500 * time.Millisecond}, []time.Duration{time.Second, 2 * time.Second}},
		{"no sharing", scenario.Behaviour{Service: fixed(time.Second), Workers: 9}, 0, []time.Duration{0, 500 * time.Millisecond}, []time.Duration{time.Second, 1500 * time.Millisecond}},
		{"three on two", scenario.Behaviour{Service: fixed(2 * time.Second), Workers: 9, Cores: 2}, 0, []time.Duration{0, 0, 0}, []time.Duration{3 * time.Second, 3 * time.Second, 3 * time.Second}},
		{"cold", scenario.Behaviour{Service: fixed(time.Second), Workers: 9, Cold: scenario.Cold{For: 10 * time.Second, Factor: 5}}, 5 * time.Second, []time.Duration{0, 5 * time.Second}, []time.Duration{3 * time.Second, 6 * time.Second}},
	} {
		t.Run(c.name, func(t *testing.T) {
			synctest.Test(t, func(t *testing.T) {
				s := &StandIn{Name: "booking.auk"}
				s.Behave(c.behaviour, nil)
				if s.slots = make(chan struct{}, s.Workers); c.since > 0 {
					s.restarts(true)
					s.restarts(false)
					time.Sleep(c.since)
				}
				began, ended := time.Now(), make([]time.Duration, len(c.come))
				for i, after := range c.come {
					go func() {
						time.Sleep(after)
						ok, failed := s.work(httptest.NewRequest("GET", "/", nil), condition{slow: 1}, false)
						assert.Equal(t, []any{true, 0}, []any{ok, failed})
						ended[i] = time.Since(began)
					}()
				}
				time.Sleep(time.Minute)
				synctest.Wait()
				for i, want := range c.end {
					assert.InDelta(t, want.Seconds(), ended[i].Seconds(), 1e-6, i)
				}
			})
		})
	}
}

// TestADependencyIsSharedByStandIns: three that share one worker wait for each other, and answer
// as they are told to when it fails.
func TestADependencyIsSharedByStandIns(t *testing.T) {
	type fate struct {
		after  time.Duration
		failed int
	}
	every := func(after time.Duration, failed int) []fate {
		return []fate{{after, failed}, {after, failed}, {after, failed}}
	}
	fault := func(kind string, until time.Duration) *scenario.Fault {
		f := Once(kind)
		f.Dependencies, f.At, f.Until, f.Factor = []string{"db"}, 500*time.Millisecond, until, 3
		return &f
	}
	for _, c := range []struct {
		name  string
		db    scenario.Dependency
		fault *scenario.Fault // half a second before the calls come
		want  []fate
	}{
		{"one worker", scenario.Dependency{Workers: 1, Backlog: 9}, nil, []fate{{time.Second, 0}, {2 * time.Second, 0}, {3 * time.Second, 0}}},
		{"a worker each", scenario.Dependency{Workers: 3}, nil, every(time.Second, 0)},
		{"given up", scenario.Dependency{Workers: 1, Backlog: 9, Timeout: 1500 * time.Millisecond}, nil, []fate{{time.Second, 0}, {1500 * time.Millisecond, 500}, {1500 * time.Millisecond, 500}}},
		{"no room", scenario.Dependency{Workers: 1, Backlog: 0}, nil, []fate{{0, 500}, {0, 500}, {time.Second, 0}}},
		{"refuse", scenario.Dependency{Workers: 3}, fault("refuse", 10*time.Second), every(0, 500)},
		{"slow", scenario.Dependency{Workers: 3}, fault("slow", 10*time.Second), every(3*time.Second, 0)},
		{"errors", scenario.Dependency{Workers: 3}, fault("errors", 10*time.Second), every(20*time.Millisecond, 500)},
		{"hang", scenario.Dependency{Workers: 3}, fault("hang", 5*time.Second), every(4*time.Second, 500)},
		{"reset", scenario.Dependency{Workers: 3}, fault("reset", -1), every(time.Second, 500)},
		{"over before", scenario.Dependency{Workers: 3}, fault("refuse", 700*time.Millisecond), every(time.Second, 0)},
		{"flap", scenario.Dependency{Workers: 3}, fault("flap", -1), every(0, 500)},
	} {
		t.Run(c.name, func(t *testing.T) {
			synctest.Test(t, func(t *testing.T) {
				ctx, stop := context.WithCancel(t.Context())
				c.db.Name, c.db.Status, c.db.Service = "db", 500, config.Distribution{Kind: "fixed", Mean: time.Second}
				shared := DependenciesOf(&scenario.Scenario{Dependencies: []scenario.Dependency{c.db}})
				var all []*StandIn
				for _, name := range []string{"a.x", "a.y", "b.z"} {
					all = append(all, &StandIn{Name: name, Workers: 9, slots: make(chan struct{}, 9), Needs: NeedsOf([]scenario.Needs{{}}, shared)})
				}
				if c.fault != nil {
					Play(ctx, all, []scenario.Fault{*c.fault}, nil)
				}
				time.Sleep(time.Second)
				began, got := time.Now(), make([]fate, 3)
				for i, s := range all {
					go func() {
						_, failed := s.work(httptest.NewRequest("GET", "/", nil), condition{slow: 1}, false)
						got[i] = fate{time.Since(began), failed}
					}()
				}
				time.Sleep(time.Minute)
				synctest.Wait()
				assert.ElementsMatch(t, c.want, got)
				stop()
				synctest.Wait()
			})
		})
	}
}
