package trace

import (
	"bytes"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"
	"time"
)

// WrittenAs returns the names of the formats that can be written, sorted.
func WrittenAs() (names []string) {
	for _, f := range Formats {
		if f.append != nil {
			names = append(names, f.Name)
		}
	}
	slices.Sort(names)
	return names
}

// Writer writes records in one format.
type Writer struct {
	out    io.Writer
	format *Format
	buf    []byte
	n      int64
	lost   map[string]int64
}

// NewWriter prepares to write; the format is one of WrittenAs.
func NewWriter(out io.Writer, format string) (*Writer, error) {
	f := FormatOf(format)
	if f == nil || f.append == nil {
		return nil, fmt.Errorf("a trace cannot be written as %q; it can as %s", format, strings.Join(WrittenAs(), ", "))
	}
	return &Writer{out: out, format: f, lost: map[string]int64{}}, nil
}

// Lost returns how many records had something that the format has no place for,
// by what that is.
func (w *Writer) Lost() map[string]int64 { return w.lost }

// Write writes one record. The error is that of writing, or a *LineError, without
// a name, for a record that the format cannot hold.
func (w *Writer) Write(r *Record) error {
	b, f := w.buf[:0], w.format
	if f.IsLog && r.Time == NoTime {
		return &LineError{Line: r.Line, Column: 1, Why: "the record has no time, which log lines cannot do without", CannotBeSkip: true}
	}
	if w.n == 0 {
		b = append(b, f.head...)
	} else {
		b = append(b, f.between...)
	}
	b = append(f.append(b, r), f.end...)
	if f.IsLog {
		w.miss(r)
	}
	w.n++
	w.buf = b
	_, err := w.out.Write(b)
	return err
}

// Close writes what stands after the last record. It does not close the
// writer beneath.
func (w *Writer) Close() error {
	if w.format.foot == "" {
		return nil
	}
	b := []byte{}
	if w.n == 0 {
		b = append(b, w.format.head...)
	}
	_, err := w.out.Write(append(b, w.format.foot...))
	return err
}

// miss counts what log lines have no place for.
func (w *Writer) miss(r *Record) {
	more := w.format == commonLog
	for _, f := range [...]struct {
		name string
		has  bool
	}{
		{"host", r.Host != nil}, {"session", r.Session != nil}, {"frontend", r.Frontend != nil}, {"upstream", r.Upstream != nil}, {"backend", r.Backend != nil},
		{"headers", len(r.Headers) > 0}, {"cookies", len(r.Cookies) > 0}, {"protocol", r.Protocol != HTTP},
		{"fraction of the second", r.Time != NoTime && r.Time%1e9 != 0}, {"user_agent", more && r.UserAgent != nil},
		{"referer", more && r.Referer != nil}, {"duration", more && r.Duration >= 0},
	} {
		if f.has {
			w.lost[f.name]++
		}
	}
}

func appendStamp(b []byte, ns int64) []byte {
	if ns == NoTime {
		return b
	}
	return time.Unix(0, ns).UTC().AppendFormat(b, time.RFC3339Nano)
}

// appendExact writes nanoseconds in seconds without rounding.
func appendExact(b []byte, ns int64) []byte {
	return strconv.AppendFloat(b, float64(ns)/1e9, 'f', -1, 64)
}

// appendCSV writes a row; what is not known is empty.
func appendCSV(b []byte, r *Record) []byte {
	texts := func(list ...[]byte) {
		for _, t := range list {
			b = append(appendCell(b, t), ',')
		}
	}
	b = append(appendStamp(b, r.Time), ',')
	texts(r.Client, r.Method, r.Host, r.Path)
	if r.Status > 0 {
		b = strconv.AppendInt(b, int64(r.Status), 10)
	}
	b = append(b, ',')
	if r.Bytes >= 0 {
		b = strconv.AppendInt(b, r.Bytes, 10)
	}
	b = append(b, ',')
	if r.Duration >= 0 {
		b = appendExact(b, r.Duration)
	}
	b = append(b, ',')
	texts(r.Session, r.UserAgent, r.Referer)
	for _, pairs := range [][]KV{r.Headers, r.Cookies} {
		if len(pairs) > 0 {
			b = appendCell(b, appendObject(nil, pairs))
		}
		b = append(b, ',')
	}
	texts(r.Frontend, r.Upstream, r.Backend)
	return append(b, r.Protocol.String()...)
}

func appendCell(b, v []byte) []byte {
	if !bytes.ContainsAny(v, ",\"\r\n") && (len(v) == 0 || v[0] > ' ' && v[0] != '#' && v[len(v)-1] > ' ') {
		return append(b, v...)
	}
	b = append(b, '"')
	for _, ch := range v {
		if ch == '"' {
			b = append(b, '"')
		}
		b = append(b, ch)
	}
	return append(b, '"')
}

// appendW3C writes a line; what is not known is "-".
func appendW3C(b []byte, r *Record) []byte {
	if r.Time == NoTime {
		b = append(b, "- -"...)
	} else {
		b = time.Unix(0, r.Time).UTC().AppendFormat(b, "2006-01-02 15:04:05.999999999")
	}
	stem, query, _ := bytes.Cut(r.Path, []byte("?"))
	if len(query) == 0 {
		stem = r.Path // a ? that nothing follows stays
	}
	for _, t := range [][]byte{r.Client, r.Method, r.Host, stem, query} {
		b = appendW3CText(append(b, ' '), t)
	}
	b = append(b, ' ')
	if r.Status > 0 {
		b = strconv.AppendInt(b, int64(r.Status), 10)
	} else {
		b = append(b, '-')
	}
	b = append(b, ' ')
	if r.Bytes >= 0 {
		b = strconv.AppendInt(b, r.Bytes, 10)
	} else {
		b = append(b, '-')
	}
	b = append(b, ' ')
	if r.Duration >= 0 {
		b = appendExact(b, r.Duration)
	} else {
		b = append(b, '-')
	}
	for _, t := range [][]byte{r.UserAgent, r.Referer, r.Session, r.Frontend, r.Upstream, r.Backend, []byte(r.Protocol.String())} {
		b = appendW3CText(append(b, ' '), t)
	}
	for _, pairs := range [][]KV{r.Cookies, r.Headers} {
		var object []byte
		if len(pairs) > 0 {
			object = appendObject(nil, pairs)
		}
		b = appendW3CText(append(b, ' '), object)
	}
	return b
}

// appendW3CText quotes a text where it must be; control characters, which a
// line cannot hold, become spaces.
func appendW3CText(b, v []byte) []byte {
	if len(v) == 0 {
		return append(b, '-')
	}
	bare := v[0] != '"'
	for _, ch := range v {
		bare = bare && ch > ' ' && ch != 0x7f
	}
	if bare {
		return append(b, v...)
	}
	b = append(b, '"')
	for _, ch := range v {
		switch {
		case ch == '"':
			b = append(b, '"', '"')
		case ch < ' ' || ch == 0x7f:
			b = append(b, ' ')
		default:
			b = append(b, ch)
		}
	}
	return append(b, '"')
}

// appendHAR writes an entry with all that the standard asks for; -1 stands for
// what is not known. Keys that begin with _ are ours.
func appendHAR(b []byte, r *Record) []byte {
	text := func(key string, v []byte) {
		b = append(b, '"')
		b = append(b, key...)
		b = append(b, `":`...)
		b = append(AppendJSONText(b, v), ',')
	}
	number := func(key string, x float64, end string) {
		b = append(b, '"')
		b = append(b, key...)
		b = append(b, `":`...)
		b = append(strconv.AppendFloat(b, x, 'f', -1, 64), end...)
	}
	took := -1.0
	if r.Duration >= 0 {
		took = float64(r.Duration) / 1e6
	}
	b = append(b, '{')
	text("startedDateTime", appendStamp(nil, r.Time))
	number("time", took, ",")
	for _, own := range []struct {
		key  string
		text []byte
	}{{"_client", r.Client}, {"_session", r.Session}, {"_frontend", r.Frontend}, {"_upstream", r.Upstream}, {"_backend", r.Backend}} {
		if own.text != nil {
			text(own.key, own.text)
		}
	}
	text("_protocol", []byte(r.Protocol.String()))
	b = append(b, `"request":{`...)
	text("method", r.Method)
	var url []byte
	switch {
	case r.Path == nil:
	case r.Host == nil:
		url = append([]byte("http://"+noHost), r.Path...)
	default:
		url = append(append([]byte("http://"), r.Host...), r.Path...)
	}
	text("url", url)
	b = append(b, `"httpVersion":"HTTP/1.1","cookies":`...)
	b = appendNamed(b, r.Cookies)
	b = append(b, `,"headers":`...)
	headers := slices.Clone(r.Headers)
	for _, h := range []KV{{[]byte("User-Agent"), r.UserAgent}, {[]byte("Referer"), r.Referer}} {
		if h.Value != nil {
			headers = append(headers, h)
		}
	}
	if r.Path == nil && r.Host != nil {
		headers = append(headers, KV{[]byte("Host"), r.Host})
	}
	b = appendNamed(b, headers)
	b = append(b, `,"queryString":[],"headersSize":-1,"bodySize":-1},"response":{`...)
	number("status", float64(r.Status), ",")
	b = append(b, `"statusText":"","httpVersion":"HTTP/1.1","cookies":[],"headers":[],"content":{`...)
	number("size", float64(r.Bytes), ",")
	b = append(b, `"mimeType":""},"redirectURL":"","headersSize":-1,`...)
	number("bodySize", float64(r.Bytes), `},"cache":{},"timings":{"send":0,"receive":0,`)
	number("wait", took, "}}")
	return b
}

func appendNamed(b []byte, pairs []KV) []byte {
	b = append(b, '[')
	for i, p := range pairs {
		if i > 0 {
			b = append(b, ',')
		}
		b = append(b, `{"name":`...)
		b = AppendJSONText(b, p.Name)
		b = append(b, `,"value":`...)
		b = append(AppendJSONText(b, p.Value), '}')
	}
	return append(b, ']')
}
