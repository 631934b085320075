package wire

import (
	"errors"
	"io"
	"net/http"
	"strconv"
	"strings"
	"sync"
	"time"
)

// Request is the head of a request. Fields that belong to the connection are
// written from what stands here; Header must not hold them.
type Request struct {
	Method  string
	Target  string
	Host    string
	Header  http.Header
	Upgrade string // what the connection is to become; empty for HTTP
	TE      bool   // trailers are welcome
	Length  int64  // of the body; -1: chunked
	HasBody bool   // a length of 0 is said
}

// Send writes the head, and body with it: all of the body if it is short, and
// nothing of it if SendBody follows.
func (c *Conn) Send(r *Request, body []byte) error {
	p := writeBuffers.Get().(*[]byte)
	defer writeBuffers.Put(p)
	b, err := appendHead((*p)[:0], r)
	if err != nil {
		return err
	}
	b = append(b, body...)
	c.begin()
	_, err = c.Conn.Write(b)
	if cap(b) <= 64<<10 {
		*p = b
	}
	return err
}

func (c *Conn) begin() {
	c.some, c.body, c.left, c.chunk = false, bodyNone, 0, chunks{}
}

// Plain reports whether a request target can be written as it is: without spaces
// and control characters, and without a fragment, which belongs to no request
// (RFC 9112 section 3.2).
func Plain(target string) bool {
	return target != "" && allText(target, urlByte) && strings.IndexByte(target, '#') < 0
}

// Check returns why a request cannot be written, nil if it can.
func (r *Request) Check() error {
	if !Plain(r.Target) || r.Method == "" || !allText(r.Method, tokenByte) || !allText(r.Host, urlByte) || !allText(r.Upgrade, valueByte) {
		return malformed("a request that cannot be written: %q %q for %q", r.Method, r.Target, r.Host)
	}
	for name, values := range r.Header {
		for _, v := range values {
			if strings.IndexByte(v, '\n') >= 0 || strings.IndexByte(v, '\r') >= 0 || strings.IndexByte(v, 0) >= 0 || !allText(name, tokenByte) {
				return malformed("a header field that cannot be written: %q", name)
			}
		}
	}
	return nil
}

func appendHead(b []byte, r *Request) ([]byte, error) {
	if err := r.Check(); err != nil {
		return b, err
	}
	b = append(b, r.Method...)
	b = append(b, ' ')
	b = append(b, r.Target...)
	b = append(b, " HTTP/1.1\r\nHost: "...)
	b = append(b, r.Host...)
	b = append(b, '\r', '\n')
	b = appendFields(b, r.Header)
	switch {
	case r.Upgrade != "":
		b = append(b, "Connection: Upgrade\r\nUpgrade: "...)
		b = append(b, r.Upgrade...)
		b = append(b, '\r', '\n')
	case r.TE:
		b = append(b, "Connection: TE\r\nTE: trailers\r\n"...)
	}
	switch {
	case r.Length < 0:
		b = append(b, "Transfer-Encoding: chunked\r\n"...)
	case r.Length > 0 || r.HasBody:
		b = append(b, "Content-Length: "...)
		b = strconv.AppendInt(b, r.Length, 10)
		b = append(b, '\r', '\n')
	}
	return append(b, '\r', '\n'), nil
}

func appendFields(b []byte, h http.Header) []byte {
	for name, values := range h {
		for _, v := range values {
			b = append(b, name...)
			b = append(b, ':', ' ')
			b = append(b, v...)
			b = append(b, '\r', '\n')
		}
	}
	return b
}

func allText(s string, kind byte) bool {
	for i := range len(s) {
		if kinds[s[i]]&kind == 0 {
			return false
		}
	}
	return true
}

// Sender writes a body to a backend while its answer may already come.
type Sender struct {
	Body    io.Reader
	Length  int64              // -1: chunked
	Trailer func() http.Header // what is known behind a chunked body; nil for none
	Wait    time.Duration      // how long one piece may take to be written
}

// ReadError is an error of reading what is to be sent.
type ReadError struct{ Err error }

func (e *ReadError) Error() string { return e.Err.Error() }
func (e *ReadError) Unwrap() error { return e.Err }

// SendBody writes a body to its end. The error is a *ReadError if the body ended
// it, else of the connection.
func (c *Conn) SendBody(s *Sender) error {
	p := pieces.Get().(*[]byte)
	defer pieces.Put(p)
	const room = 20 // for the line before a chunk
	buf := *p
	sent := int64(0)
	for {
		n, err := s.Body.Read(buf[room : len(buf)-2])
		if n > 0 {
			piece := buf[room : room+n]
			if sent += int64(n); s.Length >= 0 && sent > s.Length {
				return &ReadError{malformed("a body that is longer than its length")}
			}
			if s.Length < 0 {
				var line [room]byte
				size := appendChunkSize(line[:0], n)
				from := room - len(size)
				copy(buf[from:], size)
				piece = append(buf[from:room+n], '\r', '\n')
			}
			if err := c.SetWriteDeadline(time.Now().Add(s.Wait)); err != nil {
				return err
			}
			if _, err := c.Conn.Write(piece); err != nil {
				return err
			}
		}
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			return &ReadError{err}
		}
	}
	if s.Length >= 0 {
		if sent < s.Length {
			return &ReadError{io.ErrUnexpectedEOF}
		}
		return nil
	}
	last := []byte("0\r\n")
	if s.Trailer != nil {
		tail := &Request{Method: "-", Target: "-", Header: s.Trailer()}
		if err := tail.Check(); err != nil {
			return &ReadError{err}
		}
		last = appendFields(last, tail.Header)
	}
	_, err := c.Conn.Write(append(last, '\r', '\n'))
	return err
}

var pieces = sync.Pool{New: func() any { b := make([]byte, 32<<10); return &b }}
