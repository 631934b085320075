package wire

import (
	"bytes"
	"errors"
	"io"
	"net/http"
	"strconv"
	"strings"
)

// guardHead is how far a head has been read.
type guardHead struct {
	at    int // of the line that is not whole yet, from the head's beginning
	lines int
	minor int
	framing
}

func (h *guardHead) fresh() bool { return h.at == 0 && h.lines == 0 }

// check goes on in bytes of which none has been handed out, and returns how many
// may be.
func (g *Guard) check(b []byte) int {
	n := 0
	for n < len(b) {
		switch g.state {
		case inHead:
			if g.head.fresh() && b[n] == '\r' {
				return n // see skipBlank
			}
			end, err := g.readHead(b[n:])
			if err != nil {
				return g.refuse(b, n, err)
			}
			if end == 0 {
				if len(b)-n > g.o.Head {
					return g.refuse(b, n, tooLarge(g.o.Head))
				}
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
				g.badBody.Store(true)
				return n
			}
			if g.chunks.at == chunksOver {
				g.state = inHead
			}
		case inFrames:
			return g.checkFrames(b, n)
		default:
			return len(b)
		}
	}
	return n
}

func tooLarge(most int) error {
	return &refusal{http.StatusRequestHeaderFieldsTooLarge, "a head of more than " + strconv.Itoa(most) + " bytes"}
}

// refuse has the reader get what stood before the request that begins at a
// place, and then the guard's own.
func (g *Guard) refuse(b []byte, at int, err error) int {
	if errors.Is(err, errNotHTTP2) {
		g.broken = io.EOF
		return at
	}
	g.number++
	r := &Refusal{Status: http.StatusBadRequest, Number: g.number}
	r.Why, _ = strings.CutPrefix(err.Error(), ErrMalformed.Error()+": ")
	var own *refusal
	if errors.As(err, &own) {
		r.Status = own.status
	}
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
	g.pass, g.unseen = len(g.held), false
	g.state, g.head = inHead, guardHead{}
	return 0
}

// tlsHandshake is the first byte of a connection over TLS (RFC 8446 section 5.1).
const tlsHandshake = 0x16

// readHead goes on with a head and returns where it ends, 0 while it does not.
func (g *Guard) readHead(b []byte) (int, error) {
	h := &g.head
	// What begins like nothing of HTTP may never have a line's end to wait for.
	if g.number == 0 && g.blank == 0 && h.at == 0 && (g.o.HTTP2 || g.o.OnlyHTTP2) {
		n, waits, err := g.preface(b)
		if n > 0 || waits || err != nil {
			return n, err
		}
	}
	if h.at == 0 && len(b) > 0 {
		if err := firstByte(b[0]); err != nil {
			return 0, err
		}
	}
	for {
		line, err := h.line(b)
		if line == nil || err != nil {
			return 0, err
		}
		switch {
		case h.lines == 0:
			err = h.request(line)
		case len(line) > 0:
			var name, value []byte
			if name, value, err = field(line); err == nil {
				err = h.note(name, value)
			}
		case h.at > g.o.Head:
			return 0, tooLarge(g.o.Head)
		default:
			end := h.at
			err := g.begin()
			return end, err
		}
		if err != nil {
			return 0, err
		}
		h.lines++
	}
}

// firstByte refuses a first byte with which no request begins.
func firstByte(x byte) error {
	switch {
	case x == tlsHandshake:
		return malformed("a TLS handshake where clear text is spoken")
	case x != '\n' && kinds[x]&tokenByte == 0:
		return malformed("a first line that is no request")
	}
	return nil
}

// preface looks for the beginning of HTTP/2. It returns how long its preface is if it
// has come whole, and whether the rest of it must be waited for.
func (g *Guard) preface(b []byte) (n int, waits bool, err error) {
	n = min(len(b), len(Preface))
	switch {
	case string(b[:n]) != Preface[:n]:
		if g.o.OnlyHTTP2 {
			err = errNotHTTP2
		}
		return 0, false, err
	case n < len(Preface):
		return 0, true, nil
	}
	g.state = inFrames
	g.frames.Store(newFrames(g.o.Head, g.o.Idle, g.Conn.SetReadDeadline))
	return n, false, nil
}

// line returns the next line of a head without its end, and goes behind it; nil while
// its end has not come.
func (h *guardHead) line(b []byte) ([]byte, error) {
	lf := bytes.IndexByte(b[h.at:], '\n')
	if lf < 0 {
		// What is there of a line must not wait for its end to be refused.
		if rest := b[h.at:]; len(rest) > 1 && bytes.IndexByte(rest[:len(rest)-1], '\r') >= 0 {
			return nil, malformed("a bare CR")
		}
		return nil, nil
	}
	line := b[h.at : h.at+lf]
	if lf == 0 || line[lf-1] != '\r' {
		return nil, malformed("a line that ends without CR")
	}
	h.at += lf + 1
	return line[: lf-1 : lf-1], nil
}

// request reads a request line.
func (h *guardHead) request(line []byte) error {
	method, rest, ok := bytes.Cut(line, []byte{' '})
	if !ok || len(method) == 0 || !all(method, tokenByte) {
		return malformed("a first line that is no request")
	}
	if string(method) == "PRI" {
		return malformed("the method PRI, which begins HTTP/2 and nothing else (RFC 9113 section 3.4)")
	}
	target, proto, _ := bytes.Cut(rest, []byte{' '})
	if err := checkTarget(string(method), string(target)); err != nil {
		return err
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
	switch {
	case h.hosts > 1 || h.hosts == 0 && h.minor == 1:
		return malformed("%d Host fields where one is missing", h.hosts)
	case h.hosts == 1 && !h.host:
		return malformed("a Host that is none")
	case h.expects:
		return &refusal{http.StatusExpectationFailed, "an expectation other than 100-continue"} // RFC 9110 section 10.1.1
	case h.tail && h.chunked:
		return malformed("a Trailer that names a field which may not stand behind a body")
	}
	switch {
	case h.chunked:
		g.state, g.chunks = inChunks, chunks{}
	case h.length > 0:
		g.state, g.left = inBody, h.length
	}
	g.head, g.timed, g.blank = guardHead{}, false, 0
	g.number++
	return nil
}

// Preface is what a client that speaks HTTP/2 begins with (RFC 9113 section 3.4).
const Preface = "PRI * HTTP/2.0\r\n\r\nSM\r\n\r\n"

// errNotHTTP2 ends a connection on which HTTP/2 was agreed on and is not spoken:
// no answer would be understood.
var errNotHTTP2 = errors.New("not HTTP/2")
