package standin

import (
	"io"
	"net"
	"net/http"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kestrix/internal/core/config"
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
