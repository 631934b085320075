// Package trace reads, makes and describes recorded requests. A format is a
// file of its own.
package trace

import (
	"fmt"
	"net/netip"
	"strings"
	"unsafe"

	"github.com/cespare/xxhash/v2"
)

// Record is one recorded request. Texts are nil where they are not known, and
// point into the reader's buffer: they hold until the next record is read.
type Record struct {
	Time        int64 // nanoseconds since the epoch; NoTime if unknown
	WholeSecond bool  // the stamp has no fraction
	Client      []byte
	Method      []byte
	Host        []byte
	Path        []byte // with its query
	Session     []byte
	UserAgent   []byte
	Referer     []byte
	Frontend    []byte
	Headers     []KV
	Cookies     []KV
	Status      int   // 0 if unknown
	Bytes       int64 // -1 if unknown
	Duration    int64 // nanoseconds, -1 if unknown
	Protocol    Protocol
	Line        int64
}

// KV is a name with its text.
type KV struct{ Name, Value []byte }

// NoTime stands for a moment that is not known.
const NoTime = int64(-1) << 63

// Protocol is the kind of a record.
type Protocol uint8

// The kinds of a record.
const (
	HTTP   Protocol = iota
	Stream          // a long answer: event stream, WebSocket
	TCP             // a connection
)

// reset makes everything unknown, field by field, which is a good deal faster
// than assigning a record as a whole.
func (r *Record) reset() {
	r.Time, r.WholeSecond = NoTime, false
	r.Client, r.Method, r.Host, r.Path = nil, nil, nil, nil
	r.Session, r.UserAgent, r.Referer, r.Frontend = nil, nil, nil, nil
	r.Headers, r.Cookies = r.Headers[:0], r.Cookies[:0]
	r.Status, r.Bytes, r.Duration, r.Protocol = 0, -1, -1, HTTP
}

// Header gives the value of a header field, and whether it is known.
func (r *Record) Header(name string) (string, bool) {
	for i := range r.Headers {
		if equalFold(r.Headers[i].Name, name) {
			return text(r.Headers[i].Value), true
		}
	}
	return "", false
}

// Cookie gives the value of a cookie, and whether it is known.
func (r *Record) Cookie(name string) (string, bool) {
	for i := range r.Cookies {
		if string(r.Cookies[i].Name) == name {
			return text(r.Cookies[i].Value), true
		}
	}
	return "", false
}

func equalFold(a []byte, b string) bool {
	if len(a) != len(b) {
		return false
	}
	for i := range a {
		if a[i]|0x20 != b[i]|0x20 {
			return false
		}
	}
	return true
}

// text gives bytes as a string without copying; it holds as long as they do.
func text(b []byte) string {
	if len(b) == 0 {
		return ""
	}
	return unsafe.String(&b[0], len(b))
}

// Text gives bytes of a record as a string that holds as long as the record.
func Text(b []byte) string { return text(b) }

// ClientKey is the number by which a client's address is known to the hash
// algorithm and to stickiness: the same for every way of writing an address.
// An address may carry a port, which does not count.
func ClientKey(client string) uint64 {
	i := strings.IndexByte(client, ':')
	if i < 0 {
		return xxhash.Sum64String(client)
	}
	// An IPv6 address is known by its bytes: writing it out would cost more.
	if client[0] != '[' && strings.IndexByte(client[i+1:], ':') >= 0 {
		if a, err := netip.ParseAddr(client); err == nil && !a.Is4In6() {
			b := a.As16()
			return xxhash.Sum64(b[:])
		}
	}
	canonical := CanonicalClient(client)
	if canonical == client {
		return xxhash.Sum64String(client)
	}
	return ClientKey(canonical)
}

// CanonicalClient strips a port and writes an IPv6 address in its canonical
// form (RFC 5952). An IPv4 address or a name without a port, by far the most
// frequent, is given back as it is.
func CanonicalClient(client string) string {
	colons := strings.Count(client, ":")
	if colons == 0 {
		return client
	}
	if client[0] != '[' && colons > 1 {
		if a, err := netip.ParseAddr(client); err == nil {
			return a.Unmap().WithZone("").String()
		}
		return client
	}
	if ap, err := netip.ParseAddrPort(client); err == nil {
		return ap.Addr().Unmap().WithZone("").String()
	}
	if i := strings.IndexByte(client, ':'); colons == 1 && i > 0 {
		return client[:i]
	}
	return client
}

// LineError is a line that cannot be read.
type LineError struct {
	Name         string
	Line         int64
	Column       int // in bytes, from 1; 0 for the line as a whole
	Why          string
	CannotBeSkip bool // the file itself is damaged: nothing after it can be read
}

func (e *LineError) Error() string {
	switch {
	case e.Line == 0:
		return fmt.Sprintf("%s: %s", e.Name, e.Why)
	case e.CannotBeSkip && e.Column > 0:
		return fmt.Sprintf("%s:%d:%d: %s", e.Name, e.Line, e.Column, e.Why)
	case e.CannotBeSkip:
		return fmt.Sprintf("%s:%d: %s", e.Name, e.Line, e.Why)
	}
	return fmt.Sprintf("%s:%d:%d: %s; -bad skip passes such lines over", e.Name, e.Line, e.Column, e.Why)
}
