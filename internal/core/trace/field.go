package trace

import (
	"bytes"
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/agext/levenshtein"

	"kestrix/internal/core/template"
)

// fieldKind is what a column of a file holds.
type fieldKind uint8

const (
	passOver fieldKind = iota
	fieldTime
	fieldClient
	fieldMethod
	fieldHost
	fieldPath
	fieldStatus
	fieldBytes
	fieldDuration
	fieldSession
	fieldUserAgent
	fieldReferer
	fieldHeaders
	fieldCookies
	fieldFrontend
	fieldProtocol
	fieldUpstream
	fieldBackend
	fieldRequest // "GET /path HTTP/1.1"
	fieldHeader  // one header field
	fieldCookie  // one cookie
	fieldQuery   // what follows the ? of the path
	fieldDate    // the day of a time that stands beside it
	fieldClock   // the time of a day that stands beside it
)

// fieldKinds are the keys of the record, and what else a column may hold.
var fieldKinds = map[string]fieldKind{
	"time": fieldTime, "client": fieldClient, "method": fieldMethod, "host": fieldHost, "path": fieldPath,
	"status": fieldStatus, "bytes": fieldBytes, "duration": fieldDuration, "session": fieldSession,
	"user_agent": fieldUserAgent, "referer": fieldReferer, "headers": fieldHeaders, "cookies": fieldCookies,
	"frontend": fieldFrontend, "upstream": fieldUpstream, "backend": fieldBackend, "protocol": fieldProtocol, "request": fieldRequest,
	"header": fieldHeader, "cookie": fieldCookie, "-": passOver, "*": passOver,
}

// FieldNames are the names by which fields of a line are called, in the order
// of the request record.
var FieldNames = []string{
	"time", "client", "method", "host", "path", "status", "bytes", "duration", "session", "user_agent", "referer",
	"headers", "cookies", "frontend", "upstream", "backend", "protocol", "request", "header:NAME", "cookie:NAME", "-",
}

// field is a column: what it holds, and in which unit or under which name.
type field struct {
	kind   fieldKind
	unit   float64 // of a duration or a time since the epoch: nanoseconds in one
	name   string  // of one header field or cookie
	layout string  // of a time, as Go writes layouts; empty for RFC 3339 or seconds since the epoch
}

// unread are the fields of an access log that no request record has; a reader passes them
// over.
var unread = []string{
	"route", "reason", "cause", "attempts", "id", "request_id", "trace_id", "connect", "first_byte", "proxy_name", "backend_address", "scheme", "tls_version", "sni", "grpc_status",
}

// parseField reads the name of a field: a key of the record, with a unit after
// a slash or a name after a colon where it takes one.
func parseField(text string) (field, error) {
	f, err := template.ParseField(text)
	if err != nil {
		return field{}, err
	}
	return lookUp(f)
}

// lookUp returns what a field of a template sets.
func lookUp(f template.Field) (field, error) {
	kind, ok := fieldKinds[f.Name]
	if !ok && !slices.Contains(unread, f.Name) {
		hint := ""
		if s := nearest(f.Name); s != "" {
			hint = "did you mean " + s + "? "
		}
		return field{}, fmt.Errorf("there is no field %q; %sknown: %s", f.Name, hint, strings.Join(FieldNames, ", "))
	}
	return field{kind: kind, unit: f.Nanoseconds(), name: f.Of, layout: f.Layout}, nil
}

// nearest returns the field that is most likely meant.
func nearest(name string) string {
	best, at := "", 3
	for _, k := range FieldNames[:17] {
		if d := levenshtein.Distance(name, k, nil); d < at {
			best, at = k, d
		}
	}
	return best
}

// ParseFields reads the list that -fields gives: names separated by commas, `-`
// for one that is passed over; a duration may name its unit, as in
// "duration/ms".
func ParseFields(list string) ([]field, error) {
	var out []field
	for _, name := range strings.Split(list, ",") {
		f, err := parseField(strings.TrimSpace(name))
		if err != nil {
			return nil, err
		}
		out = append(out, f)
	}
	return out, nil
}

// renames are the columns that -map names, by column.
type renames struct {
	columns map[string]field
	keys    map[string]bool // keys that come from another column, so that their own is passed over
}

// parseMap reads what -map gives: KEY=COLUMN, separated by commas.
func parseMap(list string) (*renames, error) {
	if list == "" {
		return nil, nil
	}
	m := &renames{columns: map[string]field{}, keys: map[string]bool{}}
	for _, pair := range strings.Split(list, ",") {
		key, column, ok := strings.Cut(strings.TrimSpace(pair), "=")
		if !ok || column == "" {
			return nil, fmt.Errorf("%q is not KEY=COLUMN, as in duration=took", pair)
		}
		f, err := parseField(key)
		if err != nil {
			return nil, err
		}
		if f.kind == passOver {
			return nil, fmt.Errorf("%q: a key of the record is expected before =", pair)
		}
		if _, twice := m.columns[column]; twice {
			return nil, fmt.Errorf("the column %q is named twice", column)
		}
		m.columns[column] = f
		base, _, _ := strings.Cut(key, "/")
		base, _, _ = strings.Cut(base, ":")
		if f.kind != fieldHeader && f.kind != fieldCookie {
			m.keys[base] = true
		}
	}
	return m, nil
}

// look returns what a column holds: what -map says of it, else the key of its
// own name.
func (m *renames) look(column string) (field, bool) {
	if m != nil {
		if f, ok := m.columns[column]; ok {
			return f, true
		}
		if m.keys[column] {
			return field{}, false
		}
	}
	kind, ok := fieldKinds[column]
	if !ok || kind == passOver || kind == fieldHeader || kind == fieldCookie {
		return field{}, false
	}
	return field{kind: kind, unit: 1e9}, true
}

// set puts the text of a field into a record. What is empty or "-" stays
// unknown; the text must hold as long as the record.
func (f *field) set(r *Record, v []byte) string {
	if v = known(v); v == nil {
		return ""
	}
	if t := f.text(r); t != nil {
		*t = v
		return ""
	}
	switch f.kind {
	case fieldProtocol:
		r.Protocol = protocol(v)
	case fieldRequest:
		splitRequest(v, r)
	case fieldHeader:
		r.Headers = append(r.Headers, KV{[]byte(f.name), v})
	case fieldCookie:
		r.Cookies = append(r.Cookies, KV{[]byte(f.name), v})
	case fieldHeaders:
		return pairs(v, &r.Headers)
	case fieldCookies:
		if v[0] == '{' {
			return pairs(v, &r.Cookies)
		}
		r.Cookies = appendCookies(r.Cookies, v)
	case fieldStatus:
		return f.status(r, v)
	case fieldBytes:
		return f.bytes(r, v)
	case fieldDuration:
		return f.duration(r, v)
	case fieldTime:
		return f.time(r, v)
	}
	return ""
}

// text returns where a field of text stands in a record, nil for another kind.
func (f *field) text(r *Record) *[]byte {
	switch f.kind {
	case fieldClient:
		return &r.Client
	case fieldMethod:
		return &r.Method
	case fieldHost:
		return &r.Host
	case fieldPath:
		return &r.Path
	case fieldSession:
		return &r.Session
	case fieldUserAgent:
		return &r.UserAgent
	case fieldReferer:
		return &r.Referer
	case fieldFrontend:
		return &r.Frontend
	case fieldUpstream:
		return &r.Upstream
	case fieldBackend:
		return &r.Backend
	}
	return nil
}

// status reads a status of three digits.
func (f *field) status(r *Record, v []byte) string {
	if len(v) != 3 || !digits(v) {
		return fmt.Sprintf("the status %q is not a number of three digits", clip(v))
	}
	r.Status = int(v[0]-'0')*100 + int(v[1]-'0')*10 + int(v[2]-'0')
	if r.Status < 100 {
		r.Status = 0 // as where the client left before any was sent
	}
	return ""
}

// bytes reads a number of bytes, which may be written as 1.2e6.
func (f *field) bytes(r *Record, v []byte) string {
	n, ok := wholeNumber(v)
	if !ok {
		x, err := strconv.ParseFloat(text(v), 64)
		if err != nil || x != math.Trunc(x) || !(x >= 0 && x < 1e18) {
			return fmt.Sprintf("%q is not a number of bytes", clip(v))
		}
		n = int64(x)
	}
	r.Bytes = n
	return ""
}

// longest is the longest duration that is believed: a century.
const longest = int64(100 * 366 * 24 * time.Hour)

func (f *field) duration(r *Record, v []byte) string {
	d, ok := int64(0), false
	if f.unit == 1e9 {
		d, ok = shortFraction(v)
	}
	if !ok {
		d, ok = decimal(v, f.unit)
	}
	if !ok {
		d, ok = f.written(v)
	}
	if !ok {
		x, err := strconv.ParseFloat(text(v), 64) // with an exponent
		if err != nil || !(x*f.unit >= 0 && x*f.unit <= float64(longest)) {
			return fmt.Sprintf("the duration %q is not a number of 0 or more, nor a time such as 134ms", clip(v))
		}
		d = int64(math.Round(x * f.unit))
	}
	if d > longest {
		return fmt.Sprintf("the duration %q is longer than a century", clip(v))
	}
	r.Duration = d
	return ""
}

// written reads a duration that names its unit, as in 134ms or 1.5s, or has a comma for a
// decimal point, as in 0,134.
func (f *field) written(v []byte) (int64, bool) {
	if bytes.Count(v, []byte(",")) == 1 && bytes.IndexByte(v, '.') < 0 {
		v = bytes.Replace(v, []byte(","), []byte("."), 1)
		if d, ok := decimal(v, f.unit); ok {
			return d, true
		}
	}
	d, err := time.ParseDuration(text(v))
	return int64(d), err == nil && d >= 0
}

// time reads a time in the field's layout, or RFC 3339, or a number of units
// since the epoch.
func (f *field) time(r *Record, v []byte) string {
	if f.layout != "" {
		t, err := time.Parse(f.layout, text(v))
		if err != nil || !reachable(t) {
			return fmt.Sprintf("the time %q is not like %s", clip(v), f.layout)
		}
		r.Time, r.WholeSecond = t.UnixNano(), t.Nanosecond() == 0 && !strings.ContainsAny(f.layout, ".,")
		return ""
	}
	if len(v) > 10 && v[4] == '-' {
		return stampRFC3339(v, r)
	}
	return epoch(v, f.unit, r)
}

// reachable reports whether a moment can be told in nanoseconds of 64 bits.
func reachable(t time.Time) bool { return t.Year() >= 1678 && t.Year() <= 2261 }

// stampRFC3339 reads a time such as 2026-11-23T06:55:08.25Z; a space may stand
// for the T (RFC 3339 section 5.6).
func stampRFC3339(v []byte, r *Record) string {
	s := text(v)
	if len(v) > 10 && v[10] == ' ' {
		s = s[:10] + "T" + s[11:]
	}
	t, err := time.Parse(time.RFC3339Nano, s)
	if err != nil {
		if _, bare := time.Parse("2006-01-02T15:04:05.999999999", s); bare == nil {
			return fmt.Sprintf("the time %q has no zone, like the Z of 2026-11-23T06:55:08.25Z", clip(v))
		}
	}
	if err != nil || !reachable(t) {
		return fmt.Sprintf("the time %q is not like 2026-11-23T06:55:08.25Z", clip(v))
	}
	r.Time = t.UnixNano()
	r.WholeSecond = len(v) < 20 || v[19] != '.'
	return ""
}

// latest is the last moment since the epoch that is believed, in nanoseconds.
const latest = float64(9e18)

// epoch reads a number of units since the epoch. Its digits are exact; a
// float64 would hold seconds to about 0.2 microseconds only.
func epoch(v []byte, unit float64, r *Record) string {
	x, err := strconv.ParseFloat(text(v), 64)
	if err != nil || math.IsNaN(x) {
		return fmt.Sprintf("the time %q is not like 2026-11-23T06:55:08.25Z, nor seconds since the epoch", clip(v))
	}
	if math.Abs(x*unit) > latest {
		if unit == 1e9 && math.Abs(x) < 1e14 {
			return fmt.Sprintf("the time %s is not seconds since the epoch, but could be milliseconds: -map time/ms=COLUMN says so", clip(v))
		}
		return fmt.Sprintf("the time %s is not seconds since the epoch", clip(v))
	}
	whole, frac := math.Modf(x)
	ns := int64(whole)*int64(unit) + int64(math.Round(frac*unit))
	point := bytes.IndexByte(v, '.')
	before, after := v, []byte(nil)
	if point >= 0 {
		before, after = v[:point], v[point+1:]
	}
	if n, err := strconv.ParseInt(text(before), 10, 64); err == nil && digits(before) && (point < 0 || digits(after)) {
		if tail, ok := decimal(append([]byte("0."), after...), unit); ok {
			ns = n*int64(unit) + tail
		}
	}
	r.Time = ns
	r.WholeSecond = point < 0 && ns%1e9 == 0 && unit == 1e9
	return ""
}

// protocol reads the kind of a record; what is neither stream nor tcp, such as
// HTTP/1.1, is http.
func protocol(v []byte) Protocol {
	switch text(v) {
	case "stream":
		return Stream
	case "tcp":
		return TCP
	}
	return HTTP
}

// String returns the word for a kind of record.
func (p Protocol) String() string { return [...]string{"http", "stream", "tcp"}[p] }

// appendCookies reads what a Cookie header field holds (RFC 6265 section
// 4.2.1): name=value pairs separated by semicolons.
func appendCookies(to []KV, v []byte) []KV {
	for len(v) > 0 {
		end := 0
		for end < len(v) && v[end] != ';' {
			end++
		}
		pair := v[:end]
		for len(pair) > 0 && (pair[0] == ' ' || pair[0] == '+' || pair[0] == '\t') {
			pair = pair[1:]
		}
		for i, ch := range pair {
			if ch == '=' {
				to = append(to, KV{pair[:i], pair[i+1:]})
				break
			}
		}
		v = v[min(end+1, len(v)):]
	}
	return to
}

// pairs reads an object of texts in JSON, as CSV writes header fields.
func pairs(v []byte, into *[]KV) string {
	j := &jsonl{line: v}
	j.space()
	why := j.pairs(into)
	j.space()
	if why == "" && j.i < len(v) {
		why = "something follows the object"
	}
	return why
}
