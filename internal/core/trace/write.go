package trace

import (
	"strconv"
	"time"
	"unicode/utf8"
)

// AppendCommon writes a record as a Common log line without its end. What is
// not known is "-".
func AppendCommon(b []byte, r *Record) []byte {
	b = appendOr(b, r.Client)
	b = append(b, " - - ["...)
	b = time.Unix(0, r.Time).UTC().AppendFormat(b, "02/Jan/2006:15:04:05 -0700")
	b = append(b, `] "`...)
	if r.Method == nil {
		b = append(b, '-')
	} else {
		b = AppendEscaped(b, r.Method)
		b = append(b, ' ')
		b = AppendEscaped(b, r.Path)
		if b = append(b, ' '); len(r.Version) > 0 {
			b = append(b, r.Version...)
		} else {
			b = append(b, "HTTP/1.1"...)
		}
	}
	b = append(b, `" `...)
	if r.Status == 0 {
		b = append(b, "000"...)
	} else {
		b = strconv.AppendInt(b, int64(r.Status), 10)
	}
	b = append(b, ' ')
	if r.Bytes < 0 {
		return append(b, '-')
	}
	return strconv.AppendInt(b, r.Bytes, 10)
}

// AppendCombined writes a record as a Combined log line with a trailing
// duration in seconds, without the end of the line. What is not known is "-".
func AppendCombined(b []byte, r *Record) []byte {
	b = append(AppendCommon(b, r), ` "`...)
	b = AppendEscaped(b, orDash(r.Referer))
	b = append(b, `" "`...)
	b = AppendEscaped(b, orDash(r.UserAgent))
	b = append(b, `" `...)
	return AppendSeconds(b, r.Duration)
}

// AppendSeconds writes nanoseconds as seconds with a fraction to the
// microsecond, "-" if they are not known.
func AppendSeconds(b []byte, ns int64) []byte {
	if ns < 0 {
		return append(b, '-')
	}
	return strconv.AppendFloat(b, float64(ns)/1e9, 'f', 6, 64)
}

// AppendEscaped writes a text so that it can stand in quotes in a log line:
// quotes and backslashes escaped, control characters as \xhh.
func AppendEscaped(b, s []byte) []byte {
	for _, c := range s {
		switch {
		case c == '"' || c == '\\':
			b = append(b, '\\', c)
		case c < ' ' || c == 0x7f:
			const hex = "0123456789abcdef"
			b = append(b, '\\', 'x', hex[c>>4], hex[c&15])
		default:
			b = append(b, c)
		}
	}
	return b
}

func orDash(s []byte) []byte {
	if len(s) == 0 {
		return []byte("-")
	}
	return s
}

func appendOr(b, s []byte) []byte { return append(b, orDash(s)...) }

// AppendJSON writes a record as one line of JSON Lines, without the end of the
// line. What is not known is left out.
func AppendJSON(b []byte, r *Record) []byte {
	b = append(b, '{')
	if r.Time != NoTime {
		b = append(b, `"time":"`...)
		b = time.Unix(0, r.Time).UTC().AppendFormat(b, time.RFC3339Nano)
		b = append(b, `",`...)
	}
	for _, f := range [...]struct {
		name string
		text []byte
	}{
		{"client", r.Client}, {"method", r.Method}, {"host", r.Host}, {"path", r.Path},
		{"session", r.Session}, {"user_agent", r.UserAgent}, {"referer", r.Referer}, {"frontend", r.Frontend},
		{"upstream", r.Upstream}, {"backend", r.Backend},
	} {
		if f.text != nil {
			b = append(b, '"')
			b = append(b, f.name...)
			b = append(b, `":`...)
			b = AppendJSONText(b, f.text)
			b = append(b, ',')
		}
	}
	if r.Status != 0 {
		b = append(b, `"status":`...)
		b = strconv.AppendInt(b, int64(r.Status), 10)
		b = append(b, ',')
	}
	if r.Bytes >= 0 {
		b = append(b, `"bytes":`...)
		b = strconv.AppendInt(b, r.Bytes, 10)
		b = append(b, ',')
	}
	if r.Duration >= 0 {
		b = append(b, `"duration":`...)
		b = strconv.AppendFloat(b, float64(r.Duration)/1e9, 'f', -1, 64)
		b = append(b, ',')
	}
	b = appendPairs(b, "headers", r.Headers)
	b = appendPairs(b, "cookies", r.Cookies)
	b = append(b, `"protocol":"`...)
	b = append(b, r.Protocol.String()...)
	return append(b, `"}`...)
}

func appendPairs(b []byte, name string, pairs []KV) []byte {
	if len(pairs) == 0 {
		return b
	}
	b = append(b, '"')
	b = append(b, name...)
	b = append(b, `":`...)
	return append(appendObject(b, pairs), ',')
}

func appendObject(b []byte, pairs []KV) []byte {
	b = append(b, '{')
	for i, p := range pairs {
		if i > 0 {
			b = append(b, ',')
		}
		b = AppendJSONText(b, p.Name)
		b = append(b, ':')
		b = AppendJSONText(b, p.Value)
	}
	return append(b, '}')
}

// AppendJSONText writes a text in quotes (RFC 8259 section 7); bytes that are
// not UTF-8 become the replacement character.
func AppendJSONText(b, s []byte) []byte {
	b = append(b, '"')
	for len(s) > 0 {
		r, n := utf8.DecodeRune(s)
		switch {
		case r == '"' || r == '\\':
			b = append(b, '\\', byte(r))
		case r < ' ':
			const hex = "0123456789abcdef"
			b = append(b, '\\', 'u', '0', '0', hex[r>>4], hex[r&15])
		default:
			b = utf8.AppendRune(b, r)
		}
		s = s[n:]
	}
	return append(b, '"')
}
