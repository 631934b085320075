package accesslog

import (
	"net/http"
	"strconv"
	"strings"
	"time"

	"kestrix/internal/core/template"
	"kestrix/internal/core/trace"
)

// AppendLine writes a line in a form of one's own, so that package trace reads from it what
// was meant: what there is not is "-", a value in quotes has a backslash before quotes and
// backslashes, and bytes that would end a value are %XX.
func (a *Line) AppendLine(b []byte, pieces []template.Piece) []byte {
	return a.appendPieces(b, pieces, false)
}

func (a *Line) appendPieces(b []byte, pieces []template.Piece, quoted bool) []byte {
	for i := range pieces {
		switch p := &pieces[i]; {
		case p.Quote:
			b = append(b, '"')
			b = append(a.appendPieces(b, p.Group, true), '"')
		case p.Field == nil:
			b = append(b, p.Text...)
		default:
			ends := ""
			if i+1 < len(pieces) {
				if ends = `"`; !pieces[i+1].Quote {
					ends = pieces[i+1].Text[:1]
				}
			}
			b = appendValue(b, a.value(p.Field), ends, quoted)
		}
	}
	return b
}

// appendValue writes a value, with %XX for the bytes that would end it.
func appendValue(b []byte, v, ends string, quoted bool) []byte {
	const digits = "0123456789ABCDEF"
	if v == "" {
		return append(b, '-')
	}
	for i := range len(v) {
		switch c := v[i]; {
		case strings.IndexByte(ends, c) >= 0, c < ' ', c == 0x7f:
			b = append(b, '%', digits[c>>4], digits[c&15])
		case quoted && (c == '"' || c == '\\'):
			b = append(b, '\\', c)
		default:
			b = append(b, c)
		}
	}
	return b
}

// value returns the text of a field, empty for none.
func (a *Line) value(f *template.Field) string {
	in := func(d time.Duration) string {
		if d == 0 && f.Name != "duration" {
			return ""
		}
		return decimal(int64(d), f)
	}
	switch f.Name {
	case "time":
		return a.moment(f)
	case "duration":
		return in(a.Duration)
	case "connect":
		return in(a.Connect)
	case "first_byte":
		return in(a.FirstByte)
	case "request":
		if a.Method == "" {
			return ""
		}
		return a.Method + " " + a.Path + " " + a.Protocol
	case "header":
		if strings.EqualFold(f.Of, "Referer") {
			return a.Referer // with what is masked
		}
		return strings.Join(a.Header.Values(f.Of), ", ")
	case "cookie":
		if c, err := (&http.Request{Header: a.Header}).Cookie(f.Of); err == nil {
			return c.Value
		}
		return ""
	case "bytes":
		return strconv.FormatInt(a.Bytes, 10)
	case "attempts":
		return strconv.Itoa(a.Attempts)
	case "status":
		if a.Status > 0 {
			return strconv.Itoa(a.Status)
		}
		return ""
	case "id":
		if a.Upstream != "" {
			return strconv.FormatUint(a.ID, 10)
		}
		return ""
	}
	return a.text(f.Name)
}

// moment writes the time at which a request began.
func (a *Line) moment(f *template.Field) string {
	switch {
	case f.Layout != "":
		return a.Time.UTC().Format(f.Layout)
	case f.Unit != "":
		return decimal(a.Time.UnixNano(), f)
	}
	return a.Time.UTC().Format(time.RFC3339Nano)
}

// decimal writes nanoseconds in the unit of a field, exactly; a float would hold a time of
// these days to some hundred of them.
func decimal(ns int64, f *template.Field) string {
	if f.Unit == "" {
		return string(trace.AppendSeconds(nil, ns))
	}
	per := int64(f.Nanoseconds())
	whole, rest := strconv.FormatInt(ns/per, 10), strconv.FormatInt(per+ns%per, 10)[1:]
	if rest = strings.TrimRight(rest, "0"); rest == "" {
		return whole
	}
	return whole + "." + rest
}
