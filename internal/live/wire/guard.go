package wire

import (
	"bytes"
	"io"
	"net"
	"net/http"
	"os"
	"strings"
	"sync/atomic"
	"time"
)

// Guard is a client's connection on which only requests can be read that have
// one meaning (RFC 9112 sections 2.2, 5.1 and 6.3). The first that has not ends
// it: the reader is given a request of the guard's own in its place, Refused
// tells it from others, and nothing of what the client sent behind it.
//
// What was read whole is handed out as it came, without being copied.
type Guard struct {
	net.Conn
	most    int  // bytes that a head may have
	http2   bool // may be begun
	wait    time.Duration
	timed   bool   // the end of the head at hand is waited for
	held    []byte // read, and not handed out yet
	pass    int    // bytes of held that may be
	state   guardState
	head    guardHead
	left    int64 // bytes of a body with a length
	chunks  chunks
	raw     atomic.Bool
	refused atomic.Pointer[Refusal]
	broken  error         // in the middle of a body
	number  uint64        // of the request at hand, from 1
	phase   atomic.Uint64 // how far it has been handed out, with its number before that
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
}

type guardState uint8

const (
	inHead guardState = iota
	inBody
	inChunks
	unguarded // HTTP/2, or a connection that was taken over
)

// guardHead is how far a head has been read.
type guardHead struct {
	at    int // of the line that is not whole yet, from the head's beginning
	lines int
	minor int
	framing
}

// NewGuard guards a connection; most is how many bytes a request's head may
// have, and wait how long it may take from its first byte on. http2 lets HTTP/2
// begin, by its preface (RFC 9113 section 3.4).
func NewGuard(c net.Conn, most int, wait time.Duration, http2 bool) *Guard {
	return &Guard{Conn: c, most: most, wait: wait, http2: http2}
}

// Refused gives why the request at hand was not taken, nil if it was.
func (g *Guard) Refused() *Refusal { return g.refused.Load() }

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
			g.pass = len(g.held)
			g.state = unguarded
		}
		if g.phase.Load()%phases >= bodyLeft {
			return 0, os.ErrDeadlineExceeded
		}
		if g.pass > 0 {
			n := copy(p, g.held[:g.pass])
			g.held = g.held[n:]
			g.pass -= n
			if len(g.held) == 0 {
				g.held = nil // idle connections keep no buffer
			}
			return g.out(n)
		}
		if g.broken != nil {
			return 0, g.broken
		}
		if len(g.held) == 0 {
			n, err := g.Conn.Read(p)
			if n == 0 {
				return 0, err
			}
			k := g.check(p[:n])
			if k < n && g.broken == nil { // what comes behind a broken body is of no use
				g.held = append(make([]byte, 0, max(2*(n-k), 512)), p[k:n]...)
			}
			if k > 0 {
				return g.out(k)
			}
			continue
		}
		// The server does not see a head before it is whole, and cannot time
		// it. A read of one byte is its look-out for a client that leaves, while
		// it is busy with the request before.
		if !g.timed && len(p) > 1 {
			g.timed = true
			if err := g.Conn.SetReadDeadline(time.Now().Add(g.wait)); err != nil {
				return 0, err
			}
		}
		if len(g.held) == cap(g.held) {
			g.held = append(make([]byte, 0, min(2*cap(g.held), g.most+4<<10)), g.held...)
		}
		n, err := g.Conn.Read(g.held[len(g.held):cap(g.held)])
		if n == 0 {
			return 0, err
		}
		g.held = g.held[:len(g.held)+n]
		if k := g.check(g.held); k > 0 {
			g.pass = k
		}
	}
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

// Whole says whether all of the body of a request has been handed out. Requests
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
	if phase := g.phase.Load(); phase%phases != bodyLeft || !g.phase.CompareAndSwap(phase, phase-bodyLeft+bodyClosed) || CloseWrite(g.Conn) != nil || g.Conn.SetReadDeadline(time.Now().Add(drainTime)) != nil {
		return g.Conn.Close()
	}
	go func() {
		_, _ = io.CopyN(io.Discard, g.Conn, drainBytes) // its end is all that is wanted
		g.Conn.Close()
	}()
	return nil
}

// check goes on in bytes of which none has been handed out, and gives how many
// may be.
func (g *Guard) check(b []byte) int {
	n := 0
	for n < len(b) {
		switch g.state {
		case inHead:
			end, err := g.readHead(b[n:])
			if err != nil {
				return g.refuse(b, n, http.StatusBadRequest, err)
			}
			if end == 0 && len(b)-n > g.most || end > g.most {
				return g.refuse(b, n, http.StatusRequestHeaderFieldsTooLarge, malformed("a head of more than %d bytes", g.most))
			}
			if end == 0 {
				return n
			}
			n += end
		case inBody:
			k := min(g.left, int64(len(b)-n))
			n += int(k)
			if g.left -= k; g.left == 0 {
				g.state = inHead
			}
		case inChunks:
			k, err := g.chunks.skip(b[n:], nil)
			n += k
			if err != nil {
				g.broken = err
				return n
			}
			if g.chunks.at == chunksOver {
				g.state = inHead
			}
		default:
			return len(b)
		}
	}
	return n
}

// refuse has the reader get what stood before the request that begins at a
// place, and then the guard's own.
func (g *Guard) refuse(b []byte, at, status int, err error) int {
	why, _ := strings.CutPrefix(err.Error(), ErrMalformed.Error()+": ")
	r := &Refusal{Status: status, Why: why}
	first, _, _ := bytes.Cut(b[at:], []byte{'\n'})
	words := bytes.Split(bytes.TrimSuffix(first, []byte{'\r'}), []byte{' '})
	if len(words[0]) < 32 && all(words[0], tokenByte) {
		r.Method = string(words[0])
	}
	if len(words) > 1 && all(words[1], urlByte) {
		r.Target = string(words[1][:min(len(words[1]), 1<<10)])
	}
	g.refused.Store(r)
	g.broken = io.EOF
	held := append(make([]byte, 0, at+len(instead)), b[:at]...)
	g.held = append(held, instead...)
	g.pass = len(g.held)
	return 0
}

// tlsHandshake is the first byte of a connection over TLS (RFC 8446 section 5.1).
const tlsHandshake = 0x16

// readHead goes on with a head and gives where it ends, 0 while it does not.
func (g *Guard) readHead(b []byte) (int, error) {
	h := &g.head
	// What begins like nothing of HTTP may never have a line's end to wait for.
	if h.at == 0 && len(b) > 0 && b[0] != '\r' && b[0] != '\n' && !all(b[:1], tokenByte) {
		if b[0] == tlsHandshake {
			return 0, malformed("a TLS handshake where clear text is spoken")
		}
		return 0, malformed("a first line that is no request")
	}
	for {
		lf := bytes.IndexByte(b[h.at:], '\n')
		if lf < 0 {
			// What is there of a line must not wait for its end to be refused.
			if rest := b[h.at:]; len(rest) > 1 && bytes.IndexByte(rest[:len(rest)-1], '\r') >= 0 {
				return 0, malformed("a bare CR")
			}
			return 0, nil
		}
		line := b[h.at : h.at+lf]
		if lf == 0 || line[lf-1] != '\r' {
			return 0, malformed("a line that ends without CR")
		}
		line = line[:lf-1]
		h.at += lf + 1
		switch {
		case h.lines == 0:
			if g.http2 && string(line) == "PRI * HTTP/2.0" {
				g.state = unguarded
				return h.at, nil
			}
			if err := h.request(line); err != nil {
				return 0, err
			}
		case len(line) == 0:
			end := h.at
			err := g.begin()
			return end, err
		default:
			name, value, err := field(line)
			if err == nil {
				err = h.note(name, value)
			}
			if err != nil {
				return 0, err
			}
		}
		h.lines++
	}
}

// request reads a request line.
func (h *guardHead) request(line []byte) error {
	method, rest, ok := bytes.Cut(line, []byte{' '})
	if !ok || len(method) == 0 || !all(method, tokenByte) {
		return malformed("a first line that is no request")
	}
	target, proto, ok := bytes.Cut(rest, []byte{' '})
	if !ok || len(target) == 0 || !all(target, urlByte) {
		return malformed("a request without a proper target")
	}
	if bytes.IndexByte(target, '#') >= 0 {
		return malformed("a target with a fragment")
	}
	for i := bytes.IndexByte(target, '%'); i >= 0 && i < len(target); i++ {
		if target[i] == '%' && (i+2 >= len(target) || kinds[target[i+1]]&kinds[target[i+2]]&hexByte == 0) {
			return malformed("a target with a broken escape")
		}
	}
	if h.minor, ok = version(proto); !ok {
		return malformed("a version other than HTTP/1.1 or HTTP/1.0")
	}
	return nil
}

// begin goes over to the body that a head announces.
func (g *Guard) begin() error {
	h := &g.head
	if err := h.check(h.minor); err != nil {
		return err
	}
	if h.hosts > 1 || h.hosts == 0 && h.minor == 1 {
		return malformed("%d Host fields where one is wanted", h.hosts)
	}
	switch {
	case h.chunked:
		g.state, g.chunks = inChunks, chunks{}
	case h.length > 0:
		g.state, g.left = inBody, h.length
	}
	g.head, g.timed = guardHead{}, false
	g.number++
	return nil
}
