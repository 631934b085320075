// Package wire reads and writes HTTP/1.1 messages on connections (RFC 9112), and guards
// the frames of HTTP/2 (RFC 9113): a guard in front of what clients send, and the
// client side towards backends.
//
// The proxy uses it. It must never be lenient: a message that could be understood in
// two ways is refused, so that the proxy and a backend never disagree on where it ends.
package wire

import (
	"bytes"
	"errors"
	"fmt"
	"strconv"

	"kestrix/internal/core/request"
)

// ErrMalformed is at the root of all errors about what a peer sent.
var ErrMalformed = errors.New("malformed HTTP")

func malformed(format string, args ...any) error {
	return fmt.Errorf("%w: %s", ErrMalformed, fmt.Sprintf(format, args...))
}

// What a byte may be part of.
const (
	tokenByte = 1 << iota // RFC 9110 section 5.6.2
	valueByte             // of a field value: visible, space, tab, obs-text (section 5.5)
	urlByte               // of a request target: visible; bytes beyond ASCII are no URL, but mean one thing only
	hexByte
)

var kinds = func() (t [256]byte) {
	for i := range t {
		c := byte(i)
		switch {
		case c >= '0' && c <= '9', c >= 'a' && c <= 'z', c >= 'A' && c <= 'Z', bytes.IndexByte([]byte("!#$%&'*+-.^_`|~"), c) >= 0:
			t[i] |= tokenByte
		}
		if c >= ' ' && c != 0x7f || c == '\t' {
			t[i] |= valueByte
		}
		if c > ' ' && c != 0x7f {
			t[i] |= urlByte
		}
		if c >= '0' && c <= '9' || c >= 'a' && c <= 'f' || c >= 'A' && c <= 'F' {
			t[i] |= hexByte
		}
	}
	return t
}()

func all(b []byte, kind byte) bool {
	for _, c := range b {
		if kinds[c]&kind == 0 {
			return false
		}
	}
	return true
}

// trim takes spaces and tabs from both ends.
func trim(b []byte) []byte {
	for len(b) > 0 && (b[0] == ' ' || b[0] == '\t') {
		b = b[1:]
	}
	for len(b) > 0 && (b[len(b)-1] == ' ' || b[len(b)-1] == '\t') {
		b = b[:len(b)-1]
	}
	return b
}

// is compares with a name in lower case.
func is(b []byte, lower string) bool {
	if len(b) != len(lower) {
		return false
	}
	for i, c := range b {
		if c >= 'A' && c <= 'Z' {
			c += 'a' - 'A'
		}
		if c != lower[i] {
			return false
		}
	}
	return true
}

// field splits a field line, without its end, into name and value.
func field(line []byte) (name, value []byte, err error) {
	colon := bytes.IndexByte(line, ':')
	switch {
	case line[0] == ' ' || line[0] == '\t':
		return nil, nil, malformed("a folded header field")
	case colon < 0:
		return nil, nil, malformed("a header field without a colon")
	case colon == 0:
		return nil, nil, malformed("a header field without a name")
	}
	name, value = line[:colon], trim(line[colon+1:])
	if !all(name, tokenByte) {
		return nil, nil, malformed("a header field whose name has a character that none may have")
	}
	if bytes.IndexByte(value, '\r') >= 0 {
		return nil, nil, malformed("a bare CR")
	}
	if !all(value, valueByte) {
		return nil, nil, malformed("a control character in the header field %s", name)
	}
	return name, value, nil
}

// length reads a Content-Length: digits and nothing else.
func length(value []byte) (int64, error) {
	if len(value) == 0 || len(value) > 18 {
		return 0, malformed("a Content-Length that is no length")
	}
	n := int64(0)
	for _, c := range value {
		if c < '0' || c > '9' {
			return 0, malformed("a Content-Length that is no length")
		}
		n = n*10 + int64(c-'0')
	}
	return n, nil
}

// framing gathers what the fields of a head say on where its message ends
// (RFC 9112 section 6.3).
type framing struct {
	length  int64
	lengths int
	chunked bool
	coded   bool // there is a Transfer-Encoding
	hosts   int
	host    bool // the last Host is one
	expects bool // something other than 100-continue
	tail    bool // Trailer names a field that may not stand behind a body
}

// note looks at a field.
func (f *framing) note(name, value []byte) (err error) {
	switch len(name) {
	case len("Host"):
		if is(name, "host") {
			f.hosts++
			f.host = len(value) == 0 || request.ValidHost(string(value))
		}
	case len("Expect"):
		if is(name, "expect") {
			f.expects = f.expects || !is(value, "100-continue")
		}
	case len("Trailer"):
		if is(name, "trailer") {
			f.tail = f.tail || namesFraming(value)
		}
	case len("Content-Length"):
		if is(name, "content-length") {
			f.lengths++
			f.length, err = length(value)
		}
	case len("Transfer-Encoding"):
		if is(name, "transfer-encoding") {
			if f.coded {
				return malformed("two Transfer-Encodings")
			}
			f.coded, f.chunked = true, is(value, "chunked")
		}
	}
	return err
}

// namesFraming reports whether a Trailer field names one that says where a
// message ends, which may not stand behind it (RFC 9110 section 6.5.1).
func namesFraming(value []byte) bool {
	for name := range bytes.SplitSeq(value, []byte{','}) {
		if name = trim(name); is(name, "content-length") || is(name, "transfer-encoding") || is(name, "trailer") {
			return true
		}
	}
	return false
}

// check returns an error if the end is in doubt.
func (f *framing) check(minor int) error {
	switch {
	case f.lengths > 1:
		return malformed("two Content-Lengths")
	case f.coded && f.lengths > 0:
		return malformed("Content-Length beside Transfer-Encoding")
	case f.coded && minor == 0:
		return malformed("Transfer-Encoding in HTTP/1.0")
	case f.coded && !f.chunked:
		return malformed("a Transfer-Encoding other than chunked")
	}
	return nil
}

// version reads "HTTP/1.1" or "HTTP/1.0", giving the minor number.
func version(b []byte) (int, bool) {
	if len(b) != 8 || string(b[:7]) != "HTTP/1." || b[7] != '0' && b[7] != '1' {
		return 0, false
	}
	return int(b[7] - '0'), true
}

// chunks follows a chunked body through its bytes (RFC 9112 section 7.1).
type chunks struct {
	at    chunkAt
	size  int64 // of the chunk, or what is left of it
	digs  int
	extra int    // bytes of extensions and trailers so far
	line  int    // where the line at hand begins in tail
	tail  []byte // the lines behind the body, each with its CR LF
}

type chunkAt uint8

const (
	inSize chunkAt = iota
	afterSize
	inExtension
	atSizeEnd
	inData
	atDataEnd
	atDataEnd2
	inTrailer
	atTrailerEnd
	chunksOver
)

// maxExtra bounds extensions and trailers together.
const maxExtra = 16 << 10

// skip goes over bytes; n is how many belong to the body, which is fewer than
// there are only once it is over. data, if not nil, is called with what the
// chunks hold.
func (c *chunks) skip(b []byte, data func([]byte)) (n int, err error) {
	for n < len(b) && c.at != chunksOver {
		if c.at == inData {
			k := int(min(c.size, int64(len(b)-n)))
			if data != nil {
				data(b[n : n+k])
			}
			n += k
			if c.size -= int64(k); c.size == 0 {
				c.at = atDataEnd
			}
			continue
		}
		if err := c.step(b[n]); err != nil {
			return n, err
		}
		n++
	}
	return n, nil
}

// step takes a byte that is not of a chunk's data.
func (c *chunks) step(x byte) error {
	switch c.at {
	case inSize:
		return c.inSize(x)
	case afterSize, inExtension:
		return c.behindSize(x)
	case atSizeEnd:
		if x != '\n' {
			return malformed("a bare CR behind a chunk size")
		}
		if c.at = inData; c.size == 0 {
			c.at = inTrailer
		}
	case atDataEnd:
		if x != '\r' {
			return malformed("a chunk that is longer than its size")
		}
		c.at = atDataEnd2
	case atDataEnd2:
		if x != '\n' {
			return malformed("a chunk that is longer than its size")
		}
		c.at, c.size, c.digs = inSize, 0, 0
	case inTrailer, atTrailerEnd:
		return c.inTrailer(x)
	}
	return nil
}

// inSize takes a byte of a chunk's size, or what ends it.
func (c *chunks) inSize(x byte) error {
	switch {
	case kinds[x]&hexByte != 0:
		if c.digs++; c.digs > 15 {
			return malformed("a chunk of a size beyond reason")
		}
		c.size = c.size<<4 | unhex(x)
	case c.digs == 0:
		return malformed("a chunk without a size")
	case x == '\r':
		c.at = atSizeEnd
	case x == ';':
		c.at = inExtension
	case x == ' ' || x == '\t':
		c.at = afterSize
	default:
		return malformed("a chunk size that is no number")
	}
	return nil
}

// behindSize takes a byte of the spaces behind a chunk's size, or of its extensions.
func (c *chunks) behindSize(x byte) error {
	c.extra++
	switch {
	case x == '\r' && c.extra <= maxExtra:
		c.at = atSizeEnd
	case c.at == afterSize && x == ';':
		c.at = inExtension
	case c.at == afterSize && (x != ' ' && x != '\t' || c.extra > maxExtra):
		return malformed("a chunk size that is no number")
	case c.extra > maxExtra:
		return malformed("chunk extensions of more than %d KiB", maxExtra>>10)
	case c.at == inExtension && kinds[x]&valueByte == 0:
		return malformed("a control character in a chunk extension")
	}
	return nil
}

// inTrailer takes a byte of the trailers, or of what ends a line of them.
func (c *chunks) inTrailer(x byte) error {
	switch {
	case c.at == inTrailer:
		if c.extra++; c.extra > maxExtra {
			return malformed("trailers of more than %d KiB", maxExtra>>10)
		}
		if x == '\r' {
			c.at = atTrailerEnd
		} else {
			c.tail = append(c.tail, x)
		}
		return nil
	case x != '\n':
		return malformed("a bare CR in a trailer")
	case len(c.tail) == c.line:
		c.at = chunksOver
		return nil
	}
	if _, _, err := field(c.tail[c.line:]); err != nil {
		return err
	}
	c.tail = append(c.tail, '\r', '\n')
	c.at, c.line = inTrailer, len(c.tail)
	return nil
}

func unhex(c byte) int64 {
	switch {
	case c <= '9':
		return int64(c - '0')
	case c <= 'F':
		return int64(c-'A') + 10
	}
	return int64(c-'a') + 10
}

// appendChunkSize writes the line before a chunk.
func appendChunkSize(b []byte, n int) []byte {
	b = strconv.AppendUint(b, uint64(n), 16)
	return append(b, '\r', '\n')
}
