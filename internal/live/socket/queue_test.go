package socket

import (
	"io"
	"net"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestWhatWaitsIsAcceptedBeforeAListenerCloses, with what has been sent by then.
func TestWhatWaitsIsAcceptedBeforeAListenerCloses(t *testing.T) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	var clients []net.Conn
	for range 5 {
		c, err := net.Dial("tcp", l.Addr().String())
		require.NoError(t, err)
		defer c.Close()
		_, err = io.WriteString(c, "hello")
		require.NoError(t, err)
		clients = append(clients, c)
	}
	waiting := CloseAccepting(l)
	require.Len(t, waiting, 5)
	for _, c := range waiting {
		b := make([]byte, 5)
		_ = c.SetDeadline(time.Now().Add(5 * time.Second)) // a failure to come
		_, err = io.ReadFull(c, b)
		require.NoError(t, err)
		assert.NotNil(t, c.RemoteAddr())
		_, err = c.Write(b)
		require.NoError(t, err)
		c.Close()
	}
	for _, c := range clients {
		text, err := io.ReadAll(c)
		require.NoError(t, err)
		assert.Equal(t, "hello", string(text))
	}
	_, err = net.DialTimeout("tcp", l.Addr().String(), time.Second)
	assert.Error(t, err)
}
