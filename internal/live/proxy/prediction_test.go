package proxy

import (
	"fmt"
	"io"
	"net/http"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kestrix/internal/core/config"
	"kestrix/internal/core/ingest"
	"kestrix/internal/core/replay"
	"kestrix/internal/core/scenario"
	"kestrix/internal/core/sim"
)

// TestProbesDoWhatTheReplayForetells kills and restarts a backend at set times
// in virtual time and holds each change of state against the replay of the same
// fault: the same core, the same moments.
func TestProbesDoWhatTheReplayForetells(t *testing.T) {
	for _, c := range []struct{ name, kind, probe string }{
		{"killed", "refuse", "probe \"http\" {\n path = \"/ready\"\n every = \"3s\"\n timeout = \"1s\"\n down_after = 2\n up_after = 3\n}"},
		{"hung", "hang", "probe \"http\" {\n every = \"2s\"\n timeout = \"700ms\"\n down_after = 3\n up_after = 2\n}"},
		{"hung behind a probe of the port", "hang", "probe \"tcp\" {\n every = \"2s\"\n timeout = \"700ms\"\n}"},
		{"killed behind a probe of the port", "refuse", "probe \"tcp\" {\n every = \"2s\"\n timeout = \"700ms\"\n}"},
	} {
		t.Run(c.name, func(t *testing.T) {
			prediction := predicted(t, app(c.probe), c.kind)
			synctest.Test(t, func(t *testing.T) {
				w := newWorld(t, app(c.probe))
				defer w.close()
				for _, a := range addresses() {
					w.start(a, nil)
				}
				time.Sleep(60 * time.Second)
				strike := func(on bool) {
					switch {
					case c.kind == "hang":
						w.net.hang("192.0.2.1:80", on)
					case on:
						w.kill("192.0.2.1:80")
					default:
						w.start("192.0.2.1:80", nil)
					}
				}
				strike(true)
				time.Sleep(60 * time.Second)
				strike(false)
				time.Sleep(60 * time.Second)
				synctest.Wait()
				var got []string
				for _, e := range w.news("app.a")[1:] { // after its first probe, which a replay does not have
					// A model's probe takes two milliseconds, one in memory none.
					got = append(got, fmt.Sprintf("%.1f %s", e.At.Sub(w.began).Seconds(), e.Kind))
				}
				assert.Equal(t, prediction, got)
				if !strings.Contains(c.name, "hung behind") {
					assert.NotEmpty(t, got)
				}
			})
		})
	}
}

// predicted replays three minutes with a fault on the first backend from 60 s to
// 120 s and returns its changes of state.
func predicted(t *testing.T, text, kind string) []string {
	c := parse(t, text)
	s, found, err := scenario.Read(config.File{Name: "s.hcl", Source: []byte("behaviour \"*\" {\n connect = \"0s\"\n}\nfault \"f\" {\n backend = \"app.a\"\n kind = \"" + kind + "\"\n at = \"60s\"\n until = \"120s\"\n}\n")}, c)
	require.NoError(t, err)
	require.Empty(t, found)
	var b strings.Builder
	for i := range 180 {
		fmt.Fprintf(&b, "{\"time\":%d,\"path\":\"/\",\"client\":\"a\",\"method\":\"GET\"}\n", 1000+i)
	}
	r, err := replay.Run(t.Context(), c, s, []ingest.Source{{Name: "t", Open: func() (io.ReadCloser, error) { return io.NopCloser(strings.NewReader(b.String())), nil }}}, replay.Options{Seed: 7})
	require.NoError(t, err)
	var out []string
	for _, h := range r.Health {
		if h.Backend == "a" {
			out = append(out, fmt.Sprintf("%.1f %s", h.At, h.To))
		}
	}
	return out
}

// TestServeAndReplayTakeTheSameDecisions sends requests through the live proxy,
// writes its access log, replays that log with the same seed, and compares who
// was chosen and why, request by request.
func TestServeAndReplayTakeTheSameDecisions(t *testing.T) {
	algorithms := []string{"round-robin", "least-connections", "random", "two-choices", "hash"}
	if underRace {
		algorithms = algorithms[1:2] // see underRace
	}
	for _, algorithm := range algorithms {
		for _, more := range []string{"", "sticky {\n by = \"address\"\n}\n", "retry {\n}\nsuspend {\n}\nprobe \"http\" {\n}\n", "failover {\n spill_below = \"90%\"\n}\nretry {\n}\nprobe \"tcp\" {\n every = \"700ms\"\n timeout = \"500ms\"\n}\n"} {
			t.Run(algorithm+" "+strings.Fields(more + " plain")[0], func(t *testing.T) {
				text := app("algorithm = \"" + algorithm + "\"\n" + more)
				if strings.HasPrefix(more, "failover") {
					text = strings.Replace(text, `b = "192.0.2.2:80"`, `b = { address = "192.0.2.2:80", tier = 2 }`, 1)
				}
				var log []byte
				var live []string
				synctest.Test(t, func(t *testing.T) {
					w := newWorld(t, text)
					defer w.close()
					for _, a := range addresses() {
						w.start(a, func(out http.ResponseWriter, r *http.Request) { time.Sleep(20 * time.Millisecond) })
					}
					<-w.proxy.Ready()
					if strings.HasPrefix(more, "failover") {
						w.kill(addresses()[0]) // half of the first tier is gone, so that it spills
					}
					for i := range 200 {
						if i > 0 { // the replay begins with the first request
							time.Sleep(time.Duration(30+i%7) * time.Millisecond)
						}
						w.get(fmt.Sprintf("%s/seats/%d", base, i))
					}
					synctest.Wait()
					for _, a := range w.log() {
						live = append(live, a.Backend+" "+a.Reason)
						log = append(a.AppendJSON(log), '\n')
					}
				})
				c := parse(t, text)
				sc := scenario.None()
				if strings.HasPrefix(more, "failover") {
					var found config.Findings
					var err error
					sc, found, err = scenario.Read(config.File{Name: "s.hcl", Source: []byte("fault \"gone\" {\n backend = \"app.a\"\n kind = \"refuse\"\n at = \"0s\"\n}\n")}, c)
					require.NoError(t, err)
					require.Empty(t, found)
					assert.Contains(t, strings.Join(live, "\n"), "b spill")
				}
				var predicted []string
				o := replay.Options{Seed: 7, Observe: func(d sim.Decision) {
					if d.Attempt > 1 {
						predicted = predicted[:len(predicted)-1] // a log tells of the last attempt
					}
					predicted = append(predicted, d.Backend+" "+d.Reason)
				}}
				_, err := replay.Run(t.Context(), c, sc, []ingest.Source{{Name: "access.jsonl", Open: func() (io.ReadCloser, error) {
					return io.NopCloser(strings.NewReader(string(log))), nil
				}}}, o)
				require.NoError(t, err)
				require.Len(t, live, 200)
				assert.Equal(t, live, predicted)
			})
		}
	}
}
