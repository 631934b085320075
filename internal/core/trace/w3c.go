package trace

import (
	"bytes"
	"fmt"
	"strings"
	"time"
)

// w3c reads W3C Extended log lines (W3C working draft WD-logfile-960323):
// directives that begin with #, of which #Fields names the columns, then one
// line a request with columns separated by spaces or tabs. Times are UTC.
type w3c struct {
	names   *renames
	columns []field
	date    []byte // the day that #Date gives, for lines that have none
	last    int64  // of the lines without a day: the time before, to see midnight
	scratch []byte
	day     [10]byte // the day seen last, and when it began
	start   int64
}

// w3cFields are what the standard's identifiers hold.
var w3cFields = map[string]fieldKind{
	"date": fieldDate, "time": fieldClock, "time-taken": fieldDuration, "bytes": fieldBytes, "sc-bytes": fieldBytes,
	"c-ip": fieldClient, "c-dns": fieldClient, "cs-method": fieldMethod, "cs-uri": fieldPath, "cs-uri-stem": fieldPath, "cs-uri-query": fieldQuery,
	"cs-host": fieldHost, "cs(Host)": fieldHost, "sc-status": fieldStatus, "cs(User-Agent)": fieldUserAgent, "cs(Referer)": fieldReferer,
	"cs(Cookie)": fieldCookies,
	// Of ours, for what the standard has no identifier.
	"x-session": fieldSession, "x-frontend": fieldFrontend, "x-upstream": fieldUpstream, "x-backend": fieldBackend, "x-protocol": fieldProtocol, "x-cookies": fieldCookies, "x-headers": fieldHeaders,
}

func isDirective(line []byte) bool {
	for _, d := range []string{"#Version:", "#Fields:", "#Software:", "#Start-Date:", "#Date:", "#Remark:", "#End-Date:"} {
		if len(line) >= len(d) && strings.EqualFold(text(line[:len(d)]), d) {
			return true
		}
	}
	return false
}

// directive takes a line that begins with #; what is no directive is a comment.
func (w *w3c) directive(line []byte) (int, string) {
	name, value, ok := bytes.Cut(line[1:], []byte(":"))
	if !ok {
		return 0, ""
	}
	switch strings.ToLower(text(name)) {
	case "date", "start-date":
		value = bytes.TrimSpace(value)
		if len(value) >= 10 {
			w.date, w.last = bytes.Clone(value[:10]), 0
		}
	case "fields":
		w.columns = w.columns[:0]
		for _, id := range strings.Fields(text(value)) {
			id = strings.Clone(id)
			if f, ok := w.names.column(id); ok {
				w.columns = append(w.columns, f)
				continue
			}
			f := field{kind: w3cFields[id], unit: 1e9}
			for known, kind := range w3cFields {
				if strings.EqualFold(known, id) {
					f.kind = kind
				}
			}
			if inner, ok := strings.CutPrefix(id, "cs("); f.kind == passOver && ok {
				f.kind, f.name = fieldHeader, strings.TrimSuffix(inner, ")")
			}
			w.columns = append(w.columns, f)
		}
		if len(w.columns) == 0 {
			return 1, "#Fields: names no columns"
		}
	}
	return 0, ""
}

// column returns what -map says of a column, if anything.
func (m *renames) column(name string) (field, bool) {
	if m == nil {
		return field{}, false
	}
	f, ok := m.columns[name]
	return f, ok
}

// parse reads one line; see combined.parse.
func (w *w3c) parse(line []byte, r *Record) (int, string) {
	if w.columns == nil {
		return 1, "no #Fields: directive has named the columns"
	}
	w.scratch = w.scratch[:0]
	day, clock, query := w.date, []byte(nil), []byte(nil)
	dated := false
	clockAt, n := 0, 0
	for i := 0; ; n++ {
		for i < len(line) && (line[i] == ' ' || line[i] == '\t') {
			i++
		}
		if i >= len(line) {
			break
		}
		if n >= len(w.columns) {
			return i + 1, fmt.Sprintf("the line has more columns than the %d that #Fields: names", len(w.columns))
		}
		start := i
		v, next, ok := w.cell(line, i)
		if i = next; !ok {
			return start + 1, "a text in quotes does not end"
		}
		switch f := &w.columns[n]; f.kind {
		case fieldDate:
			day, dated = known(v), true
		case fieldClock:
			clock, clockAt = known(v), start
		case fieldQuery:
			query = known(v)
		case fieldPath:
			if why := target(v, r); why != "" {
				return start + 1, why
			}
		default:
			if why := f.set(r, v); why != "" {
				return start + 1, why
			}
		}
	}
	if n < len(w.columns) {
		return len(line) + 1, fmt.Sprintf("the line ends after %d of the %d columns that #Fields: names", n, len(w.columns))
	}
	if query != nil && r.Path != nil {
		from := len(w.scratch)
		w.scratch = append(append(append(w.scratch, r.Path...), '?'), query...)
		r.Path = w.scratch[from:]
	}
	if clock == nil {
		return 0, ""
	}
	if day == nil {
		return clockAt + 1, "the time has no date: neither #Fields: nor #Date: names one"
	}
	return w.moment(day, clock, clockAt, dated, r)
}

// cell returns the text that begins at i, in quotes or up to a space, and where it ends.
func (w *w3c) cell(line []byte, i int) (v []byte, end int, ok bool) {
	if line[i] == '"' {
		return w.quoted(line, i)
	}
	end = i
	for end < len(line) && line[end] != ' ' && line[end] != '\t' {
		end++
	}
	return line[i:end], end, true
}

// moment puts the day and the time of day together.
func (w *w3c) moment(day, clock []byte, at int, dated bool, r *Record) (int, string) {
	if string(day) != string(w.day[:]) {
		t, err := time.Parse(time.DateOnly, text(day))
		if err != nil || !reachable(t) {
			return at + 1, fmt.Sprintf("the date %q is not like 2026-11-23", clip(day))
		}
		copy(w.day[:], day)
		w.start = t.UnixNano()
	}
	wrong := func() (int, string) {
		return at + 1, fmt.Sprintf("the time %q is not like 06:55:08 or 06:55:08.25", clip(clock))
	}
	if len(clock) < 5 || clock[2] != ':' || !digits(clock[:2]) || !digits(clock[3:5]) {
		return wrong()
	}
	two := func(i int) int64 { return int64(clock[i]-'0')*10 + int64(clock[i+1]-'0') }
	hour, minute, ns := two(0), two(3), int64(0)
	r.WholeSecond = true
	if rest := clock[5:]; len(rest) > 0 {
		if rest[0] != ':' || len(rest) < 3 || !digits(rest[1:3]) {
			return wrong()
		}
		seconds, ok := decimal(rest[1:], 1e9)
		if !ok || seconds > 60_999_999_999 {
			return wrong()
		}
		ns, r.WholeSecond = seconds, len(rest) == 3
	}
	if hour > 23 || minute > 59 {
		return wrong()
	}
	t := w.start + (hour*3600+minute*60)*1e9 + ns
	if !dated {
		// The day is that of #Date; a time half a day back is the next day's.
		const dayLong = int64(24 * time.Hour)
		for w.last != 0 && t < w.last-dayLong/2 {
			t += dayLong
		}
		w.last = t
	}
	r.Time = t
	return 0, ""
}

// quoted reads a text in quotes, in which "" stands for a quote.
func (w *w3c) quoted(line []byte, i int) ([]byte, int, bool) {
	from := len(w.scratch)
	for k := i + 1; k < len(line); k++ {
		if line[k] == '"' {
			if k+1 >= len(line) || line[k+1] != '"' {
				return w.scratch[from:len(w.scratch):len(w.scratch)], k + 1, true
			}
			k++
		}
		w.scratch = append(w.scratch, line[k])
	}
	return nil, i, false
}

// target puts what was asked into a record: a path, or a URL with its host.
func target(v []byte, r *Record) string {
	if v = known(v); v == nil {
		return ""
	}
	if v[0] == '/' || v[0] == '*' {
		r.Path = v
		return ""
	}
	for _, scheme := range []string{"http://", "https://", "ws://", "wss://"} {
		if len(v) > len(scheme) && strings.EqualFold(text(v[:len(scheme)]), scheme) {
			rest := v[len(scheme):]
			end := bytes.IndexAny(rest, "/?#")
			if end < 0 {
				r.Host, r.Path = rest, []byte("/")
				return ""
			}
			r.Host = rest[:end]
			if rest = rest[end:]; rest[0] != '/' {
				rest = append([]byte("/"), rest...)
			}
			if k := bytes.IndexByte(rest, '#'); k >= 0 {
				rest = rest[:k]
			}
			r.Path = rest
			return ""
		}
	}
	return "" // neither a path nor a URL of the web: unknown
}
