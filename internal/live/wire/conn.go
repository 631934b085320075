package wire

import (
	"net"
	"sync"
	"time"
)

// Conn is a connection to a backend on which one request is made after the
// other: Send, perhaps SendBody, then Receive and Read to the end of the answer.
// Only SendBody may run beside the others.
type Conn struct {
	net.Conn
	Born time.Time // when it was connected
	Used int       // exchanges that are behind it
	Idle time.Time // since when it is not used

	buf   *[readSize]byte // what was read; nil while there is nothing
	large []byte          // the same, for a head that is larger
	at    int             // the first byte in buf that is not used up
	end   int             // behind the last one
	some  bool            // a byte of the answer has come
	body  bodyKind
	left  int64 // of a body with a length
	chunk chunks
	close bool // no further request can be made
}

const readSize = 8 << 10

// MaxAnswerHead is how many bytes the head of an answer may have, interim ones
// included.
const MaxAnswerHead = 256 << 10

var readBuffers = sync.Pool{New: func() any { return new([readSize]byte) }}

var writeBuffers = sync.Pool{New: func() any { b := make([]byte, 0, 4<<10); return &b }}

type bodyKind uint8

const (
	bodyNone bodyKind = iota
	bodyLength
	bodyChunked
	bodyToEnd
)

// NewConn makes one of a fresh connection.
func NewConn(c net.Conn) *Conn { return &Conn{Conn: c, Born: time.Now()} }
