package standin

import (
	"context"
	"crypto/tls"
	"errors"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/coder/websocket"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kestrix/internal/core/config"
	"kestrix/internal/core/scenario"
)

func TestAStandInSaysWhatItReceived(t *testing.T) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	port := l.Addr().(*net.TCPAddr).Port
	require.NoError(t, l.Close())
	s := &StandIn{Name: "booking.auk", Address: config.Address{Host: "127.0.0.1", Port: port}, Delay: 20 * time.Millisecond}
	require.NoError(t, s.Start())
	defer s.Stop()
	other := &StandIn{Name: "booking.gannet", Address: s.Address}
	assert.ErrorContains(t, other.Start(), "the stand-in booking.gannet cannot listen on "+s.Address.String())
	get := func(method, path, body string) (string, time.Duration, error) {
		began := time.Now()
		req, err := http.NewRequest(method, "http://"+s.Address.String()+path, strings.NewReader(body))
		require.NoError(t, err)
		req.Header.Set("X-Quay", "north")
		res, err := http.DefaultClient.Do(req)
		if err != nil {
			return "", 0, err
		}
		defer res.Body.Close()
		text, err := io.ReadAll(res.Body)
		return string(text), time.Since(began), err
	}
	text, took, err := get("POST", "/seats?x=1", "hello")
	require.NoError(t, err)
	assert.True(t, strings.HasPrefix(text, "auk answers, as booking.auk at 127.0.0.1:"), text)
	assert.Contains(t, text, "POST /seats?x=1 HTTP/1.1\n")
	assert.Contains(t, text, "X-Quay: north\n")
	assert.Contains(t, text, "a body of 5 bytes")
	assert.GreaterOrEqual(t, took, 20*time.Millisecond)
	text, _, err = get("GET", "/ready", "")
	require.NoError(t, err)
	assert.Equal(t, "ready\n", text)
	s.Stop()
	_, _, err = get("GET", "/", "")
	assert.Error(t, err)
	require.NoError(t, s.Start(), "it can be started again")
	_, _, err = get("GET", "/", "")
	assert.NoError(t, err)
}

func TestWhatIsSpokenWithAStandInIsFoundOut(t *testing.T) {
	s := started(t, "gate.shag")
	s.Stop()
	s.Reports = true
	require.NoError(t, s.Start())
	talk := func(before, say string, secure bool) string {
		c, err := net.Dial("tcp", s.Address.String())
		require.NoError(t, err)
		defer c.Close()
		require.NoError(t, c.SetDeadline(time.Now().Add(5*time.Second)))
		_, _ = io.WriteString(c, before)
		if secure {
			c = tls.Client(c, &tls.Config{ServerName: "gate.tern.example", InsecureSkipVerify: true})
		}
		_, _ = io.WriteString(c, say)
		if half, ok := c.(interface{ CloseWrite() error }); ok && say != "" {
			if err := half.CloseWrite(); !errors.Is(err, syscall.ENOTCONN) { // it may have answered and closed
				require.NoError(t, err)
			}
		}
		b, err := io.ReadAll(c)
		require.NoError(t, err)
		return string(b)
	}
	const ask = "GET / HTTP/1.1\r\nHost: a\r\nConnection: close\r\n\r\n"
	const named = "PROXY TCP4 203.0.113.9 192.0.2.1 4711 80\r\n"
	assert.Equal(t, "turn\x00", talk("", "turn\x00", false))
	assert.Equal(t, "turn 7", talk(named, "turn 7", true))
	assert.Contains(t, talk(named, ask, false), ", with a PROXY protocol header of version 1 that names 203.0.113.9:4711\n")
	assert.Contains(t, talk("", ask, true), ", with TLS for gate.tern.example\n")
	assert.Contains(t, talk("", ask, false), "reached from 127.0.0.1:")
	assert.Equal(t, "state=up\n", talk("", "", false))
	require.NoError(t, s.Fail("f", Once("probe-fails")))
	assert.Equal(t, "state=down\n", talk("", "", false))

	ws, _, err := websocket.Dial(t.Context(), "ws://"+s.Address.String()+"/websocket", nil)
	require.NoError(t, err)
	require.NoError(t, ws.Write(t.Context(), websocket.MessageText, []byte("tide")))
	_, b, err := ws.Read(t.Context())
	require.NoError(t, err)
	assert.Equal(t, "gate.shag: tide", string(b))
	require.NoError(t, ws.Close(websocket.StatusNormalClosure, ""))
}

// TestABlackholeSwallows: connecting neither succeeds nor fails, what is open
// falls silent, and all is well again afterwards.
func TestABlackholeSwallows(t *testing.T) {
	s := started(t, "gate.shag")
	open, err := net.Dial("tcp", s.Address.String())
	require.NoError(t, err)
	defer open.Close()
	require.NoError(t, s.Fail("f", Once("blackhole")))
	require.NoError(t, s.Fail("g", Once("slow")), "one fault beside another")
	_, err = net.DialTimeout("tcp", s.Address.String(), 300*time.Millisecond)
	require.ErrorContains(t, err, "timeout")
	_, err = io.WriteString(open, "GET / HTTP/1.1\r\nHost: a\r\n\r\n")
	require.NoError(t, err)
	require.NoError(t, open.SetReadDeadline(time.Now().Add(300*time.Millisecond)))
	_, err = open.Read(make([]byte, 1))
	require.ErrorIs(t, err, os.ErrDeadlineExceeded)
	require.NoError(t, s.Fix("f"))
	status, _ := ask(s, "/", patience)
	assert.Equal(t, 200, status)
	require.NoError(t, s.Fail("f", Once("blackhole")))
	s.Stop()
	_, err = net.DialTimeout("tcp", s.Address.String(), 300*time.Millisecond)
	require.ErrorIs(t, err, syscall.ECONNREFUSED)
}

// TestAStandInThatObeysTakesAsLongAsItIsAsked lets requests say how long they take,
// as a rehearsal does, and that they are streams, which hold no worker.
func TestAStandInThatObeysTakesAsLongAsItIsAsked(t *testing.T) {
	s := &StandIn{Name: "booking.auk", Address: config.Address{Host: "127.0.0.1", Port: 1}, Service: config.Distribution{Kind: "fixed", Mean: 7 * time.Millisecond}}
	ask := func(seconds string) *http.Request {
		r := httptest.NewRequest("GET", "/seats", nil)
		if seconds != "" {
			r.Header.Set(AskTakes, seconds)
		}
		return r
	}
	assert.Equal(t, 7*time.Millisecond, s.takes(ask("0.5")), "not everybody may say so")
	s.Obeys = true
	for seconds, want := range map[string]time.Duration{"0.5": 500 * time.Millisecond, "0": 0, "": 7 * time.Millisecond, "-1": 7 * time.Millisecond, "1e9": 7 * time.Millisecond, "soon": 7 * time.Millisecond} {
		assert.Equal(t, want, s.takes(ask(seconds)), seconds)
	}
	s.Draws = true
	assert.Equal(t, 7*time.Millisecond, s.takes(ask("0.5")), "the scenario says how long")

	// Some paths take longer; a route may have rewritten the path that comes.
	c := &config.Config{Upstreams: []*config.Upstream{{Name: "booking", Backends: []config.Backend{{Name: "auk"}}}}}
	sc := &scenario.Scenario{Behaviours: []scenario.Behaviour{
		{Pattern: "booking.*", Paths: []string{"/search/**"}, Service: config.Distribution{Kind: "fixed", Mean: time.Second}},
		{Pattern: "booking.*", Paths: []string{"/board"}, Service: config.Distribution{Kind: "from_trace"}},
	}}
	s.OfPaths = sc.PathServices(c.Upstreams[0], "auk")
	for _, x := range []struct {
		path, asked string
		want        time.Duration
	}{{"/seats", "", 7 * time.Millisecond}, {"/x/../%73earch/1?q", "", time.Second}, {"/seats", "/search", time.Second}, {"/search", "/seats", 7 * time.Millisecond}, {"/board", "", 500 * time.Millisecond}} {
		r := httptest.NewRequest("GET", x.path, nil)
		r.Header.Set(AskTakes, "0.5")
		if x.asked != "" {
			r.Header.Set(AskPath, x.asked)
		}
		assert.Equal(t, x.want, s.takes(r), x)
	}

	// With its one worker busy a stream is answered all the same.
	s = &StandIn{Name: "booking.auk", Obeys: true, Workers: 1, slots: make(chan struct{}, 1), changed: make(chan struct{})}
	s.slots <- struct{}{}
	ctx, leave := context.WithTimeout(t.Context(), 5*time.Second)
	defer leave()
	r := httptest.NewRequest("GET", "/board/today?n=1", nil).WithContext(ctx)
	r.Header.Set(AskStream, "1")
	w := httptest.NewRecorder()
	s.serve(w, r)
	assert.Equal(t, "text/event-stream", w.Header().Get("Content-Type"))
	assert.Contains(t, w.Body.String(), "data: booking.auk says 0")
}
