// Package trace reads, writes, makes and describes recorded requests, in the formats of
// the table Formats.
//
// The trace commands and the replay's ingest use it, and the proxy writes its access
// log with it. It must never lose a line silently: a line that cannot be read is an
// error, or counted.
package trace

import (
	"fmt"

	"kestrix/internal/core/trace/scan"
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
	Version     []byte // of HTTP, as log lines write it; it is written where it is known, and not read
	Frontend    []byte
	Upstream    []byte // that served it then, and which of its backends
	Backend     []byte
	Headers     []KV
	Cookies     []KV
	Complete    bool  // Headers and Cookies are all that was sent, even where there are none
	Status      int   // 0 if unknown
	Bytes       int64 // -1 if unknown
	Duration    int64 // nanoseconds, -1 if unknown
	Protocol    Protocol
	Line        int64
	Page        *Page // of a made record: what its client fetches next, in the records that follow; nil for nothing
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
	r.Upstream, r.Backend = nil, nil
	r.Headers, r.Cookies, r.Complete = r.Headers[:0], r.Cookies[:0], false
	r.Status, r.Bytes, r.Duration, r.Protocol, r.Page = 0, -1, -1, HTTP, nil
}

// Header returns the value of a header field, and whether it is known.
func (r *Record) Header(name string) (string, bool) {
	value, found := "", false
	for i := range r.Headers {
		if !equalFold(r.Headers[i].Name, name) {
			continue
		}
		if found {
			value += ", " + text(r.Headers[i].Value) // several lines are one list (RFC 9110 section 5.3)
			continue
		}
		value, found = text(r.Headers[i].Value), true
	}
	return value, found
}

// Cookie returns the value of a cookie, and whether it is known.
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

// text returns bytes as a string without copying; it holds as long as they do.
func text(b []byte) string { return scan.Text(b) }

// Text returns bytes of a record as a string that holds as long as the record.
func Text(b []byte) string { return text(b) }

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
	return fmt.Sprintf("%s:%d:%d: %s; -bad skip skips such lines", e.Name, e.Line, e.Column, e.Why)
}
