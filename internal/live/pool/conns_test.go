package pool

import (
	"io"
	"net"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kestrix/internal/live/wire"
)

// TestAConnectionIsNotKeptForAPoolThatIsGone: one in use when its backend left is closed
// when it is put back.
func TestAConnectionIsNotKeptForAPoolThatIsGone(t *testing.T) {
	var idle idleConns
	here, there := net.Pipe()
	idle.put(wire.NewConn(here), time.Minute)
	require.Len(t, idle.free, 1)
	idle.close()
	_, err := there.Read(make([]byte, 1))
	assert.ErrorIs(t, err, io.EOF, "what waits is closed")
	here, there = net.Pipe()
	idle.put(wire.NewConn(here), time.Minute)
	assert.Empty(t, idle.free)
	_ = there.SetReadDeadline(time.Now().Add(time.Second)) // a failure to come
	_, err = there.Read(make([]byte, 1))
	assert.ErrorIs(t, err, io.EOF, "and what comes back")
}
