package wire

import (
	"bytes"
	"errors"
	"io"
	"net"
	"net/http"
	"net/textproto"
	"strconv"
	"strings"
	"syscall"
)

// Answer is the head of an answer.
type Answer struct {
	Status int
	Minor  int   // HTTP/1.Minor
	Length int64 // of its body; -1: not known before its end
	// Upgrade is what the connection became, of status 101.
	Upgrade string
}

// ErrNothing: the connection ended before a byte of the answer came. On one that
// was used before it may have been closed while the request was on its way, and
// says nothing of the backend.
var ErrNothing = errors.New("the connection was closed without an answer")

// Receive reads the head of the answer. Its fields are added to h, without those
// that belong to the connection. Interim answers (1xx but 101) are handed to
// interim with fields of their own.
func (c *Conn) Receive(method string, h http.Header, interim func(status int, h http.Header)) (Answer, error) {
	total := 0
	for {
		head, err := c.readHead(MaxAnswerHead - total)
		if err != nil {
			return Answer{}, err
		}
		total += len(head)
		to := h
		a, err := statusLine(head)
		if err != nil {
			return a, err
		}
		passing := a.Status < 200 && a.Status != http.StatusSwitchingProtocols
		if passing {
			to = http.Header{}
		}
		if err := c.readFields(&a, method, head, to); err != nil {
			return a, err
		}
		if !passing {
			return a, nil
		}
		if interim != nil {
			interim(a.Status, to)
		}
	}
}

// statusLine reads the first line of a head.
func statusLine(head string) (Answer, error) {
	line, _, _ := strings.Cut(head, "\r\n")
	var a Answer
	if len(line) < 12 || line[8] != ' ' || len(line) > 12 && line[12] != ' ' {
		return a, malformed("a first line that is no answer")
	}
	minor, ok := version([]byte(line[:8]))
	n, err := strconv.Atoi(line[9:12])
	if !ok || err != nil || n < 100 || n > 999 {
		return a, malformed("a first line that is no answer")
	}
	a.Status, a.Minor = n, minor
	return a, nil
}

// readFields reads the fields of a head into h and learns from them where the
// body ends.
func (c *Conn) readFields(a *Answer, method, head string, h http.Header) error {
	rest := head[strings.Index(head, "\r\n")+2:]
	values := make([]string, strings.Count(rest, "\n"))
	var f framing
	var named []string // by Connection
	kept := a.Minor == 1
	for len(rest) > 2 {
		line, after, _ := strings.Cut(rest, "\r\n")
		rest = after
		colon := strings.IndexByte(line, ':')
		if colon <= 0 || !allText(line[:colon], tokenByte) {
			return malformed("a header field without a proper name")
		}
		value := strings.Trim(line[colon+1:], " \t")
		if !allText(value, valueByte) {
			return malformed("a control character in the header field %s", line[:colon])
		}
		name := textproto.CanonicalMIMEHeaderKey(line[:colon])
		switch name {
		case "Content-Length", "Transfer-Encoding":
			if err := f.note([]byte(name), []byte(value)); err != nil {
				return err
			}
			if name == "Transfer-Encoding" {
				continue
			}
		case "Connection":
			for v := range strings.SplitSeq(value, ",") {
				switch v = strings.TrimSpace(v); {
				case strings.EqualFold(v, "close"):
					kept = false
				case strings.EqualFold(v, "keep-alive"):
					kept = kept || a.Minor == 0
				case v != "":
					named = append(named, textproto.CanonicalMIMEHeaderKey(v))
				}
			}
			continue
		case "Upgrade":
			if a.Status == http.StatusSwitchingProtocols {
				a.Upgrade = value
			}
			continue
		case "Keep-Alive", "Proxy-Connection":
			continue
		}
		if old := h[name]; old != nil {
			h[name] = append(old, value)
			continue
		}
		values[0] = value
		h[name] = values[:1:1]
		values = values[1:]
	}
	for _, name := range named {
		delete(h, name)
	}
	return c.frame(a, &f, method, kept)
}

// frame learns where the body of an answer ends (RFC 9112 section 6.3).
func (c *Conn) frame(a *Answer, f *framing, method string, kept bool) error {
	if err := f.check(a.Minor); err != nil {
		return err
	}
	c.close = !kept
	a.Length = 0
	switch {
	case a.Status < 200:
		c.body = bodyNone
		c.close = a.Status == http.StatusSwitchingProtocols
	case method == http.MethodHead, a.Status == http.StatusNoContent, a.Status == http.StatusNotModified:
		c.body = bodyNone
		if f.lengths > 0 {
			a.Length = f.length
		}
	case f.chunked:
		c.body, c.chunk, a.Length = bodyChunked, chunks{}, -1
	case f.lengths > 0:
		c.body, c.left, a.Length = bodyLength, f.length, f.length
		if f.length == 0 {
			c.body = bodyNone
		}
	default:
		c.body, c.close, a.Length = bodyToEnd, true, -1
	}
	return nil
}

// readHead reads up to and with the empty line.
func (c *Conn) readHead(most int) (string, error) {
	seen := 0 // bytes that have been looked at
	for {
		have := c.bytes()
		for {
			lf := bytes.IndexByte(have[seen:], '\n')
			if lf < 0 {
				break
			}
			i := seen + lf
			if i == 0 || have[i-1] != '\r' {
				return "", malformed("a line that ends without CR")
			}
			line := have[seen : i-1]
			seen = i + 1
			if seen > most {
				break
			}
			if len(line) == 0 {
				head := string(have[:seen])
				c.used(seen)
				return head, nil
			}
			if line[0] == ' ' || line[0] == '\t' {
				return "", malformed("a folded header field")
			}
		}
		if len(have) > most {
			return "", malformed("a head of more than %d KiB", MaxAnswerHead>>10)
		}
		if err := c.fill(); err != nil {
			return "", err
		}
	}
}

// bytes returns what has been read and not used up.
func (c *Conn) bytes() []byte {
	if c.large != nil {
		return c.large[c.at:c.end]
	}
	if c.buf == nil {
		return nil
	}
	return c.buf[c.at:c.end]
}

func (c *Conn) used(n int) {
	if c.at += n; c.at == c.end {
		c.at, c.end, c.large = 0, 0, nil
	}
}

// fill reads more behind what is there.
func (c *Conn) fill() error {
	if c.buf == nil {
		c.buf = readBuffers.Get().(*[readSize]byte)
	}
	room := c.buf[:]
	if c.large != nil {
		room = c.large
	}
	if c.at > 0 {
		copy(room, room[c.at:c.end])
		c.at, c.end = 0, c.end-c.at
	}
	if c.end == len(room) {
		c.large = make([]byte, 2*len(room))
		copy(c.large, room)
		room = c.large
	}
	n, err := c.Conn.Read(room[c.end:])
	c.end += n
	if n > 0 {
		c.some = true
		return nil
	}
	if errors.Is(err, io.EOF) {
		err = io.ErrUnexpectedEOF
	}
	if err == nil {
		return io.ErrNoProgress
	}
	if !c.some && !isTimeout(err) {
		return errors.Join(ErrNothing, err)
	}
	return err
}

func isTimeout(err error) bool {
	var ne net.Error
	return errors.As(err, &ne) && ne.Timeout()
}

// Buffered reports whether more of the body can be read without waiting.
func (c *Conn) Buffered() bool {
	switch c.body {
	case bodyNone:
		return true
	case bodyChunked:
		return c.end-c.at > 2
	}
	return c.at < c.end
}

// Read reads the body of the answer. Behind its end it returns io.EOF; a body that
// ends too early returns io.ErrUnexpectedEOF.
func (c *Conn) Read(p []byte) (int, error) {
	for {
		switch c.body {
		case bodyNone:
			return 0, io.EOF
		case bodyLength:
			n, err := c.take(p[:min(int64(len(p)), c.left)])
			if c.left -= int64(n); c.left == 0 {
				c.body = bodyNone
			}
			return n, err
		case bodyToEnd:
			n, err := c.take(p)
			if errors.Is(err, io.ErrUnexpectedEOF) {
				err = io.EOF
				c.body = bodyNone
			}
			return n, err
		case bodyChunked:
			n, err := c.readChunks(p)
			if n > 0 || err != nil {
				return n, err
			}
		}
	}
}

// Left returns how many bytes of a body with a length have not been read; 0 of any other.
func (c *Conn) Left() int64 {
	if c.body != bodyLength {
		return 0
	}
	return c.left
}

// Pour moves some of a body with a length into a pipe, once nothing of it is buffered, and
// returns how many bytes. from is the connection's own.
func (c *Conn) Pour(x *Pipe, from syscall.RawConn) (int, error) {
	n, err := x.Fill(from, c.left)
	if c.left -= int64(n); c.left == 0 {
		c.body = bodyNone
	}
	if errors.Is(err, io.EOF) {
		err = io.ErrUnexpectedEOF
	}
	return n, err
}

// Raw returns what bytes of a connection can be moved with in the kernel, nil where they
// come to this process in another form, as with TLS.
func Raw(c net.Conn) syscall.RawConn {
	s, ok := c.(syscall.Conn)
	if !ok {
		return nil
	}
	raw, err := s.SyscallConn()
	if err != nil {
		return nil
	}
	return raw
}

// take returns what is there, or reads.
func (c *Conn) take(p []byte) (int, error) {
	if have := c.bytes(); len(have) > 0 {
		n := copy(p, have)
		c.used(n)
		return n, nil
	}
	n, err := c.Conn.Read(p)
	if n > 0 {
		return n, nil
	}
	if errors.Is(err, io.EOF) {
		err = io.ErrUnexpectedEOF
	}
	return 0, err
}

// readChunks reads of a chunked body; nothing and no error asks for another
// call.
func (c *Conn) readChunks(p []byte) (int, error) {
	if c.at == c.end {
		if c.chunk.at == inData && c.chunk.size > 0 {
			n, err := c.take(p[:min(int64(len(p)), c.chunk.size)])
			if c.chunk.size -= int64(n); c.chunk.size == 0 {
				c.chunk.at = atDataEnd
			}
			return n, err
		}
		if err := c.fill(); err != nil {
			return 0, err
		}
	}
	have := c.bytes()
	n := 0
	k, err := c.chunk.skip(have[:min(len(have), len(p))], func(b []byte) { n += copy(p[n:], b) })
	c.used(k)
	if c.chunk.at == chunksOver {
		c.body = bodyNone
	}
	return n, err
}

// Trailer returns the fields behind a chunked body that has been read to its end,
// nil for none.
func (c *Conn) Trailer() (http.Header, error) {
	if len(c.chunk.tail) == 0 {
		return nil, nil
	}
	h := http.Header{}
	for line := range bytes.SplitSeq(c.chunk.tail, []byte("\r\n")) {
		if len(line) == 0 {
			continue
		}
		name, value, err := field(line)
		if err != nil {
			return nil, err
		}
		h.Add(string(name), string(value))
	}
	return h, nil
}

// Rest returns what was read behind a head, of a connection that became something
// else than HTTP.
func (c *Conn) Rest() []byte {
	b := bytes.Clone(c.bytes())
	c.Release()
	return b
}

// Done reports whether the answer has been read to its end and the connection can
// take another request.
func (c *Conn) Done() bool { return c.body == bodyNone && !c.close && c.at == c.end }

// Over reports whether the answer has been read to its end.
func (c *Conn) Over() bool { return c.body == bodyNone }

// Release gives the buffers back, between two exchanges.
func (c *Conn) Release() {
	if c.buf != nil {
		readBuffers.Put(c.buf)
	}
	c.buf, c.large, c.at, c.end = nil, nil, 0, 0
}
