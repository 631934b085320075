package wire

import (
	"bytes"
	"errors"
	"io"
	"net"
	"os"
	"sync/atomic"
	"time"
)

// Guard is a client's connection on which only requests can be read that have
// one meaning (RFC 9112 sections 2.2, 5.1 and 6.3). The first that has not ends
// it: the reader is given a request of the guard's own in its place, Refused
// tells it from others, and nothing of what the client sent behind it. Requests
// that came before it are answered first.
//
// HTTP/2, where it may begin, is guarded by its frames; see Frames.
//
// What was read whole is handed out as it came, without being copied.
type Guard struct {
	net.Conn
	o       GuardOptions
	timed   bool   // the end of the head at hand is waited for
	held    []byte // read, and not handed out yet
	unseen  bool   // held has not been checked
	pass    int    // bytes of held that may be handed out
	blank   int    // empty lines before the head at hand
	state   guardState
	head    guardHead
	left    int64 // bytes of a body with a length
	chunks  chunks
	raw     atomic.Bool
	frames  atomic.Pointer[Frames] // of HTTP/2, once it has begun
	refused atomic.Pointer[Refusal]
	broken  error         // what reading ends with
	number  uint64        // of the request at hand, from 1
	phase   atomic.Uint64 // how far it has been handed out, with its number before that
	leaving bool          // the library has been told to end the connection, of HTTP/2
	badBody atomic.Bool   // its chunks are malformed
	ending  ending
	idle    atomic.Int64 // since when, in nanoseconds of the epoch; 0 while a request is at hand
}

// GuardOptions are what a Guard goes by.
type GuardOptions struct {
	Head       int           // bytes that a request's head may have
	Wait       time.Duration // how long a head may take from its first byte on
	HalfClosed time.Duration // how long an answer may take to begin after the client has ended its direction
	Idle       time.Duration // how long a connection that was used may wait for its next request; 0: for ever
	HTTP2      bool          // HTTP/2 may begin, by its preface (RFC 9113 section 3.4)
	OnlyHTTP2  bool          // nothing else may, as was agreed in the TLS handshake
	// Reset is called, by the reader, with each request of HTTP/2 that is reset
	// without being handed out; nil: it is not reported.
	Reset func(*Refusal)
}

// How far the body of a request has been handed out.
const (
	bodyOut    uint64 = iota // all of it
	bodyComes                // some of it is to come
	bodyLeft                 // it will not be read; see Leave
	bodyClosed               // likewise, and the connection is closed
	phases
)

// drainTime and drainBytes are how long, and for how much, an unread body is
// thrown away before the connection is closed: a client that is cut off while it
// sends may lose the answer (RFC 9112 section 9.6).
const (
	drainTime  = time.Second
	drainBytes = 16 << 20
)

// Refusal is why a request was not taken.
type Refusal struct {
	Status int    // to answer with
	Why    string // in words for a client
	Method string // as far as they could be read
	Target string
	Host   string // of HTTP/2
	Number uint64 // of the request on its connection, from 1; of HTTP/2, that of its stream
}

type guardState uint8

const (
	inHead guardState = iota
	inBody
	inChunks
	inFrames  // of HTTP/2
	unguarded // the connection was taken over
)

// NewGuard guards a connection.
func NewGuard(c net.Conn, o GuardOptions) *Guard {
	g := &Guard{Conn: c, o: o}
	g.idle.Store(time.Now().UnixNano())
	return g
}

// Refused returns why the request at hand was not taken, nil if it was.
func (g *Guard) Refused() *Refusal { return g.refused.Load() }

// BodyMalformed reports whether the body at hand ends in what is malformed; the
// library has words of its own for some of it. It may be called from any goroutine.
func (g *Guard) BodyMalformed() bool { return g.badBody.Load() }

// Open ends the guard: what comes from now on is handed out unseen, for a
// connection that speaks something else than HTTP/1.1 from here.
func (g *Guard) Open() { g.raw.Store(true) }

// CloseWrite ends the direction towards the client.
func (g *Guard) CloseWrite() error { return CloseWrite(g.Conn) }

// RefusedHost is the Host of the request that stands for one that was refused.
const RefusedHost = "refused.invalid"

// instead is what a reader gets in place of a request that is refused.
const instead = "GET / HTTP/1.1\r\nHost: " + RefusedHost + "\r\nConnection: close\r\n\r\n"

// Read reads what may be read. It is not safe for concurrent use.
func (g *Guard) Read(p []byte) (int, error) {
	if len(p) == 0 {
		return 0, nil
	}
	for {
		if g.raw.Load() && g.broken == nil {
			g.pass, g.unseen = len(g.held), false
			g.state = unguarded
		}
		switch {
		case g.phase.Load()%phases >= bodyLeft:
			return 0, os.ErrDeadlineExceeded
		case g.pass > 0:
			n := copy(p, g.held[:g.pass])
			g.held = g.held[n:]
			g.pass -= n
			if len(g.held) == 0 {
				g.held = nil // idle connections keep no buffer
			}
			return g.out(n)
		case g.broken != nil:
			if g.state == inHead {
				if err := g.hold(); err != nil {
					return 0, err
				}
			}
			return 0, g.broken
		case g.unseen:
			g.unseen = false
			if g.skipBlank() {
				if k := g.check(g.held); k > 0 {
					g.pass, g.unseen = k, k < len(g.held)
				}
			}
		case len(g.held) == 0:
			if n, err := g.fresh(p); n > 0 || err != nil {
				if err != nil {
					return 0, err
				}
				return g.out(n)
			}
		default:
			if err := g.more(); err != nil && !g.over(err) {
				return 0, err
			}
		}
	}
}

// fresh reads from the connection while nothing is held. It returns how much of p may
// be handed out; 0 if that has to be decided anew.
func (g *Guard) fresh(p []byte) (int, error) {
	if err := g.waits(); err != nil {
		return 0, err
	}
	n, err := g.Conn.Read(p)
	if n == 0 {
		if g.over(err) || g.bidFarewell(err) {
			return 0, nil
		}
		return 0, err
	}
	g.idle.Store(0)
	k := g.check(p[:n])
	if g.pass > 0 {
		return 0, nil // something else in place of it
	}
	if k < n && g.broken == nil { // what comes behind a broken body is of no use
		g.held = append(make([]byte, 0, max(2*(n-k), 512)), p[k:n]...)
		g.unseen = true
	}
	return k, nil
}

// waits notes that the next request is waited for, where it is. The library would
// time an idle connection too; but of HTTP/2 its timer keeps what a connection
// held in memory long after its end.
func (g *Guard) waits() error {
	if g.state != inHead || g.number == 0 || g.unanswered() {
		return nil
	}
	if g.idle.Load() == 0 {
		g.idle.Store(time.Now().UnixNano())
	}
	if g.o.Idle == 0 {
		return nil
	}
	return g.within(g.o.Idle)
}

// farewell is a GOAWAY frame with NO_ERROR (RFC 9113 section 6.8). The library
// answers it with its own and ends the connection once no stream is open.
var farewell = []byte{0, 0, 8, 7, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0}

// farewellTime is how long the library may take to end a connection.
const farewellTime = 5 * time.Second

// bidFarewell has the library end a connection of HTTP/2 that has been idle for
// its time, and reports whether it did.
func (g *Guard) bidFarewell(err error) bool {
	var ne net.Error
	f := g.frames.Load()
	if f == nil || g.leaving || !errors.As(err, &ne) || !ne.Timeout() || f.idle().IsZero() {
		return false
	}
	g.leaving = true
	g.held, g.pass, g.unseen = bytes.Clone(farewell), len(farewell), false
	return g.within(farewellTime) == nil
}

// more reads behind what is held.
func (g *Guard) more() error {
	// The server does not see a head before it is whole, and cannot time it. It
	// is not timed while the request before is being answered.
	if !g.timed && g.state == inHead && !g.unanswered() {
		if err := g.within(g.o.Wait); err != nil {
			return err
		}
		g.timed = true
	}
	if len(g.held) == cap(g.held) {
		g.held = append(make([]byte, 0, min(2*cap(g.held), max(g.o.Head, FrameMost)+4<<10)), g.held...)
	}
	n, err := g.Conn.Read(g.held[len(g.held):cap(g.held)])
	if n == 0 {
		g.timed = g.timed && !g.ended() // the library takes the deadline of the head away with its own
		return err
	}
	g.held = g.held[:len(g.held)+n]
	g.unseen = true
	return nil
}

// over reports whether an error is the end of the client's direction between two
// requests, or in the head of one, and keeps it for the time when it may be told.
func (g *Guard) over(err error) bool {
	if g.state != inHead || !errors.Is(err, io.EOF) || g.raw.Load() {
		return false
	}
	g.broken = err
	g.ending.begin()
	return true
}

// maxBlank is how many empty lines may stand before a request line (RFC 9112
// section 2.2 asks for one).
const maxBlank = 8

// skipBlank takes empty lines away that stand before a request line, and reports
// whether there is something to check.
func (g *Guard) skipBlank() bool {
	for g.state == inHead && g.head.fresh() && len(g.held) > 0 && g.held[0] == '\r' {
		if len(g.held) == 1 {
			return false
		}
		if g.held[1] != '\n' || g.blank == maxBlank {
			g.refuse(g.held, 0, malformed("a first line that is no request"))
			return false
		}
		g.held = g.held[2:]
		g.blank++
	}
	if len(g.held) == 0 {
		g.held, g.timed = nil, false
	}
	return len(g.held) > 0
}

// out hands bytes out, unless the body they belong to has just been left.
func (g *Guard) out(n int) (int, error) {
	whole := g.pass == 0 && g.state != inBody && g.state != inChunks
	next := g.number*phases + bodyComes
	if whole {
		next = g.number*phases + bodyOut
	}
	for {
		phase := g.phase.Load()
		switch {
		case phase%phases >= bodyLeft:
			return 0, os.ErrDeadlineExceeded
		case phase == next, g.phase.CompareAndSwap(phase, next):
			return n, nil
		}
	}
}

// Whole reports whether all of the body of a request has been handed out. Requests
// of a connection are numbered from 1: a client may send the next one as soon as
// it has its answer. It may be called from any goroutine.
func (g *Guard) Whole(number uint64) bool {
	phase := g.phase.Load()
	return phase/phases > number || phase%phases == bodyOut
}

// Leave ends the reading of a request's body that has not been handed out whole:
// a read that waits fails, and so does every other from now on, so that what still
// comes of it is never taken for another request. It does nothing where all of
// the body is out. It may be called from any goroutine.
func (g *Guard) Leave(number uint64) {
	if g.phase.CompareAndSwap(number*phases+bodyComes, number*phases+bodyLeft) {
		_ = g.Conn.SetReadDeadline(time.Now()) // where it cannot be set, the connection's end is waited for
	}
}

// Close ends the connection: where a body was left, once what still comes of it
// has been thrown away for a while, beside the caller.
func (g *Guard) Close() error {
	g.ending.close()
	if phase := g.phase.Load(); phase%phases != bodyLeft || !g.phase.CompareAndSwap(phase, phase-bodyLeft+bodyClosed) || CloseWrite(g.Conn) != nil || g.Conn.SetReadDeadline(time.Now().Add(drainTime)) != nil {
		return g.Conn.Close()
	}
	go func() {
		_, _ = io.CopyN(io.Discard, g.Conn, drainBytes) // its end is all that is missing
		g.Conn.Close()
	}()
	return nil
}
