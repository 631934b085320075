package standin

import (
	"bufio"
	"context"
	"errors"
	"io"
	"net"
	"net/http"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kestrix/internal/core/config"
	"kestrix/internal/core/scenario"
	"kestrix/internal/core/status"
)

// started is a stand-in on a free port.
func started(t *testing.T, name string) *StandIn {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	s := &StandIn{Name: name, Address: config.Address{Host: "127.0.0.1", Port: l.Addr().(*net.TCPAddr).Port}}
	require.NoError(t, l.Close())
	require.NoError(t, s.Start())
	t.Cleanup(s.Stop)
	return s
}

// ask returns the status, 0 if there is no whole answer within a moment.
func ask(s *StandIn, path string, within time.Duration) (int, string) {
	ctx, stop := context.WithTimeout(context.Background(), within)
	defer stop()
	r, _ := http.NewRequestWithContext(ctx, http.MethodGet, "http://"+s.Address.String()+path, nil)
	res, err := (&http.Client{Transport: &http.Transport{DisableKeepAlives: true}}).Do(r)
	if err != nil {
		return 0, ""
	}
	defer res.Body.Close()
	text, err := io.ReadAll(res.Body)
	if err != nil {
		return 0, string(text)
	}
	return res.StatusCode, string(text)
}

const patience = 10 * time.Second

func TestFaultsOfAStandIn(t *testing.T) {
	for kind, want := range map[string][2]int{ // of a request and of a probe
		"refuse": {0, 0}, "hang": {0, 0}, "reset": {0, 200}, "errors": {503, 503}, "probe-fails": {200, 503}, "probe-lies": {503, 200}, "slow": {200, 200},
	} {
		t.Run(kind, func(t *testing.T) {
			s := started(t, "booking.auk")
			require.NoError(t, s.Fail("f", Once(kind)))
			within := patience
			if want[0] == 0 {
				within = 200 * time.Millisecond
			}
			request, half := ask(s, "/seats", within)
			assert.Equal(t, want[0], request)
			if kind == "reset" {
				assert.Len(t, half, 500, "an answer that breaks off half-way")
			} else {
				probe, _ := ask(s, "/ready", within)
				assert.Equal(t, want[1], probe, "of a probe")
			}
			require.NoError(t, s.Fix("f"))
			request, _ = ask(s, "/seats", patience)
			assert.Equal(t, 200, request, "and all is well again")
		})
	}
	s := started(t, "booking.auk")
	require.ErrorContains(t, s.Fail("f", Once("park")), `cannot simulate "park"`)
	// One fault ends and another goes on.
	require.NoError(t, s.Fail("a", Once("errors")))
	require.NoError(t, s.Fail("b", Once("refuse")))
	require.NoError(t, s.Fix("b"))
	status, _ := ask(s, "/", patience)
	assert.Equal(t, 503, status)
	require.NoError(t, s.Fail("b", Once("refuse")))
	s.Stop()
	require.NoError(t, s.Fix("b"))
	status, _ = ask(s, "/", patience)
	assert.Zero(t, status, "what was stopped stays so")
}

func TestAStandInFlaps(t *testing.T) {
	s := started(t, "booking.auk")
	f := Once("flap")
	f.FailsFor, f.WorksFor = 30*time.Millisecond, 30*time.Millisecond
	require.NoError(t, s.Fail("f", f))
	seen := map[int]bool{}
	require.Eventually(t, func() bool {
		status, _ := ask(s, "/", patience)
		seen[status] = true
		return len(seen) == 2
	}, patience, time.Millisecond, "now it refuses, now it works")
	require.NoError(t, s.Fix("f"))
	status, _ := ask(s, "/", patience)
	assert.Equal(t, 200, status)
}

// TestWorkersAndBacklog: one works, one waits, and a third breaks.
func TestWorkersAndBacklog(t *testing.T) {
	s := started(t, "booking.auk")
	s.Stop()
	s.Workers, s.Backlog, s.Service = 1, 1, config.Distribution{Kind: "fixed", Mean: 300 * time.Millisecond}
	require.NoError(t, s.Start())
	statuses := make(chan int, 3)
	for range 3 {
		go func() {
			status, _ := ask(s, "/", patience)
			statuses <- status
		}()
	}
	got := map[int]int{}
	for range 3 {
		got[<-statuses]++
	}
	assert.Equal(t, map[int]int{200: 2, 0: 1}, got)
	for _, kind := range []string{"exponential", "lognormal"} {
		s.Service = config.Distribution{Kind: kind, Mean: 50 * time.Millisecond, CV: 0.5}
		sum := time.Duration(0)
		for range 20_000 {
			sum += s.takes(&http.Request{})
		}
		assert.InEpsilon(t, 50, float64(sum.Milliseconds())/20_000, 0.05, kind)
	}
}

func TestSpecialPaths(t *testing.T) {
	s := started(t, "booking.auk")
	_, text := ask(s, "/events?every=1ms&n=3", patience)
	assert.Equal(t, 3, strings.Count(text, "data: booking.auk says"))
	_, text = ask(s, "/body/5000", patience)
	assert.Len(t, text, 5000)
	for path, want := range map[string]int{"/answer/418": 418, "/answer/204": 204, "/session": 200, "/body/x": 200, "/answer/99": 200} {
		status, _ := ask(s, path, patience)
		assert.Equal(t, want, status, path)
	}
	res, err := (&http.Client{CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}).Get("http://" + s.Address.String() + "/elsewhere")
	require.NoError(t, err)
	defer res.Body.Close()
	assert.Equal(t, "http://"+s.Address.String()+"/seats", res.Header.Get("Location"))
	conn, err := net.Dial("tcp", s.Address.String())
	require.NoError(t, err)
	defer conn.Close()
	_, err = io.WriteString(conn, "GET /events HTTP/1.1\r\nHost: x\r\n\r\n")
	require.NoError(t, err)
	require.NoError(t, conn.SetReadDeadline(time.Now().Add(patience)))
	lines := bufio.NewReader(conn)
	for {
		line, err := lines.ReadString('\n')
		require.NoError(t, err)
		if strings.HasPrefix(line, "data:") {
			break // at once, although the stream goes on
		}
	}
}

func TestOrders(t *testing.T) {
	auk, gannet := started(t, "booking.auk"), started(t, "booking.gannet")
	all := []*StandIn{auk, gannet}
	socket := filepath.Join(t.TempDir(), "s")
	ctx, stop := context.WithCancel(context.Background())
	events := make(chan string, 9)
	require.NoError(t, Listen(ctx, socket, all, func(object string, kind status.EventKind, text string) {
		events <- object + " " + string(kind) + " " + text
	}))
	require.ErrorContains(t, Listen(ctx, socket, all, nil), "other stand-ins take orders")
	answer, err := Tell(ctx, socket, Order{"auk", "errors"})
	require.NoError(t, err)
	assert.Equal(t, "booking.auk: the backend answers with an error status, at a rate\n", answer)
	assert.Equal(t, "booking.auk fault the backend answers with an error status, at a rate", <-events)
	status, _ := ask(auk, "/", patience)
	assert.Equal(t, 503, status)
	status, _ = ask(gannet, "/", patience)
	assert.Equal(t, 200, status)
	_, err = Tell(ctx, socket, Order{"booking.*", Fixed})
	require.NoError(t, err)
	status, _ = ask(auk, "/", patience)
	assert.Equal(t, 200, status)
	_, err = Tell(ctx, socket, Order{"skua", "hang"})
	require.EqualError(t, err, `no stand-in is called "skua"; known: booking.auk, booking.gannet`)
	_, err = Tell(ctx, socket, Order{"auk", "burn"})
	require.ErrorContains(t, err, `cannot simulate "burn"; known: refuse, blackhole, hang`)
	stop()
	require.Eventually(t, func() bool {
		_, err := Tell(context.Background(), socket, Order{"auk", "hang"})
		return err != nil && strings.Contains(err.Error(), "no stand-in takes orders")
	}, patience, time.Millisecond)
}

// TestAScenarioInRealTime: what a scenario says begins and ends by the clock.
func TestAScenarioInRealTime(t *testing.T) {
	auk := started(t, "booking.auk")
	at := func(kind string, pattern string, from, until time.Duration) scenario.Fault {
		f := Once(kind)
		f.Name, f.At, f.Until, f.Backends = kind, from, until, []config.Placed[string]{{Value: pattern}}
		return f
	}
	ctx, stop := context.WithCancel(context.Background())
	defer stop()
	events := make(chan string, 9)
	Play(ctx, []*StandIn{auk}, []scenario.Fault{at("errors", "booking.*", 0, 50*time.Millisecond), at("hang", "gate.*", 0, -1), at("park", "booking.auk", time.Millisecond, -1), at("reset", "booking.auk", time.Hour, -1)},
		func(object string, _ status.EventKind, text string) { events <- object + ": " + text })
	got := map[string]bool{}
	for range 3 {
		select {
		case n := <-events:
			got[n] = true
		case <-time.After(patience):
			require.NoError(t, errors.New("nothing happened"), "%v", got)
		}
	}
	assert.True(t, got["booking.auk: errors: the backend answers with an error status, at a rate"], "%v", got)
	assert.True(t, got["booking.auk: errors: over"], "%v", got)
	assert.True(t, got[`booking.auk: park: an operator parks the backend; a stand-in cannot simulate "park"`], "%v", got)
	status, _ := ask(auk, "/", patience)
	assert.Equal(t, 200, status)
}
