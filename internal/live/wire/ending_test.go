package wire

import (
	"io"
	"net"
	"os"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// abortedConn is a connection whose reading is ended by the library at the worst
// moment: when the guard is just about to set a deadline of its own.
type abortedConn struct {
	net.Conn
	abort func() error // sets a deadline that is over
}

func (c *abortedConn) SetReadDeadline(t time.Time) error {
	if t.After(time.Now()) && c.abort != nil {
		done, abort := make(chan error), c.abort
		c.abort = nil
		go func() { done <- abort() }()
		select { // the guard makes it wait, or has it go first and its own deadline last
		case <-done:
		case <-time.After(20 * time.Millisecond):
		}
	}
	return c.Conn.SetReadDeadline(t)
}

// TestAnEndedReadStaysEnded: the library listens for the client's end while a request
// is answered, and ends that read afterwards by a deadline that is over. If the
// guard's own deadline took its place, the connection would never be idle, and a
// graceful stop would wait for it and then say that a request was cut off.
func TestAnEndedReadStaysEnded(t *testing.T) {
	for name, sent := range map[string]string{"nothing of a next request": "", "half of a next request": "GET / HT"} {
		t.Run(name, func(t *testing.T) {
			client, server := net.Pipe()
			defer client.Close()
			c := &abortedConn{Conn: server}
			g := NewGuard(c, GuardOptions{Head: 1 << 10, Wait: time.Minute, Idle: time.Minute})
			defer g.Close()
			go func() { _, _ = io.WriteString(client, "GET / HTTP/1.1\r\nHost: a\r\n\r\n"+sent) }()
			_, err := g.Read(make([]byte, 4<<10))
			require.NoError(t, err)
			g.Answered()
			c.abort = func() error { return g.SetReadDeadline(time.Unix(1, 0)) }

			ended := make(chan error)
			go func() {
				_, err := g.Read(make([]byte, 1))
				ended <- err
			}()
			select {
			case err := <-ended:
				assert.ErrorIs(t, err, os.ErrDeadlineExceeded)
			case <-time.After(5 * time.Second):
				require.Fail(t, "the read that was ended goes on")
			}
			require.NoError(t, g.SetReadDeadline(time.Time{}))
			go func() { _, _ = io.WriteString(client, "GET / HTTP/1.1\r\nHost: a\r\n\r\n"[len(sent):]) }()
			_, err = g.Read(make([]byte, 4<<10))
			assert.NoError(t, err, "the next request is read")
		})
	}
}
