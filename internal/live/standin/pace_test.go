package standin

import (
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
						assert.True(t, s.work(httptest.NewRecorder(), httptest.NewRequest("GET", "/", nil), condition{slow: 1}, false))
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
