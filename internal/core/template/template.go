// Package template is the form of log lines that users describe: fields in braces among
// text that stands as it is, as in
//
//	{client} [{time:02/Jan/2006:15:04:05 -0700}] "{request}" {status} {duration/ms}
//
// Package trace reads lines of such a form, the access log writes them, and the
// configuration language checks them. It must never know which fields there are: each of
// the three has a table of its own.
package template

import (
	"errors"
	"fmt"
	"strings"
	"time"
)

// Piece is text, a field, or what stands between quotes.
type Piece struct {
	Text  string  // of spaces and tabs in a row there is one space
	Field *Field  // nil for text and quotes
	Group []Piece // between quotes
	Quote bool
}

// Field is a field as it is written: its name, with what follows it.
type Field struct {
	Written string // whole, such as duration/ms
	Name    string // such as duration
	Unit    string // of a duration or a time since the epoch: s, ms, us or ns; empty for none
	Layout  string // of a time, as package time has it; empty for none
	Of      string // the name of a header field or cookie; empty for another field
}

// Nanoseconds returns how many of them the field's unit has; those of a second without one.
func (f *Field) Nanoseconds() float64 {
	if f.Unit == "" {
		return 1e9
	}
	return units[f.Unit]
}

var units = map[string]float64{"s": 1e9, "ms": 1e6, "us": 1e3, "ns": 1}

// timed are the fields that may have a unit.
var timed = map[string]bool{"duration": true, "time": true, "connect": true, "first_byte": true}

// ParseField reads a field without its braces. It does not know which names there are.
func ParseField(text string) (Field, error) {
	base, rest, colon := strings.Cut(text, ":")
	base, unit, slash := strings.Cut(base, "/")
	f := Field{Written: text, Name: base, Unit: unit}
	switch {
	case slash && !timed[base]:
		return f, fmt.Errorf("%q: only duration, connect, first_byte and time have a unit", text)
	case slash && units[unit] == 0:
		return f, fmt.Errorf("%q is no unit; known: s, ms, us, ns", unit)
	}
	switch base {
	case "header", "cookie":
		if rest == "" {
			return f, fmt.Errorf("%q names no %s, as in %s:NAME", text, base, base)
		}
		f.Of = rest
	case "time":
		f.Layout = rest
		if colon && !shows(rest) {
			return f, fmt.Errorf("%q is no layout of a time; it shows how the moment 2006-01-02 15:04:05 would be written, as in 02/Jan/2006:15:04:05 -0700", rest)
		}
	default:
		if colon {
			return f, fmt.Errorf("%q: only time, header and cookie take something after a colon", text)
		}
	}
	return f, nil
}

// shows reports whether a layout tells two moments of one day apart.
func shows(layout string) bool {
	a := time.Date(2006, 1, 2, 15, 4, 5, 0, time.UTC)
	return a.Format(layout) != a.Add(time.Hour+61*time.Second).Format(layout)
}

// Parse reads a template. The error says what is wrong, without its place.
func Parse(text string) ([]Piece, error) {
	pieces, rest, err := parse(text, false)
	if err != nil {
		return nil, err
	}
	if rest != "" {
		return nil, fmt.Errorf("%q: a quote is never closed", text)
	}
	return pieces, nil
}

// Fields returns the fields of pieces in their order.
func Fields(pieces []Piece) (out []*Field) {
	for i := range pieces {
		if pieces[i].Field != nil {
			out = append(out, pieces[i].Field)
		}
		out = append(out, Fields(pieces[i].Group)...)
	}
	return out
}

// parse reads up to the end, or the closing quote of a group, and returns what follows it.
func parse(text string, inQuotes bool) (out []Piece, rest string, err error) {
	var literal strings.Builder
	flush := func() {
		if literal.Len() > 0 {
			out = append(out, Piece{Text: literal.String()})
			literal.Reset()
		}
	}
	for text != "" {
		switch c := text[0]; {
		case c == '"' && inQuotes:
			flush()
			return out, text[1:], nil
		case c == '"':
			flush()
			group, after, err := parse(text[1:], true)
			if err != nil {
				return nil, "", err
			}
			if after == "" && !strings.HasSuffix(text, `"`) {
				return nil, "", errors.New("a quote is never closed")
			}
			out = append(out, Piece{Group: group, Quote: true})
			text = after
		case c == '{':
			name, after, ok := strings.Cut(text[1:], "}")
			if !ok {
				return nil, "", fmt.Errorf("the brace before %q is never closed", name)
			}
			flush()
			if n := len(out); n > 0 && out[n-1].Field != nil {
				return nil, "", fmt.Errorf("{%s} follows {%s} with nothing between them, so that where one ends cannot be told", name, out[n-1].Field.Written)
			}
			f, err := ParseField(name)
			if err != nil {
				return nil, "", err
			}
			out = append(out, Piece{Field: &f})
			text = after
		case c == '}':
			return nil, "", fmt.Errorf("a closing brace without an opening one before %q", text)
		case c == ' ' || c == '\t':
			literal.WriteByte(' ')
			text = strings.TrimLeft(text, " \t")
		default:
			literal.WriteByte(c)
			text = text[1:]
		}
	}
	if inQuotes {
		return nil, "", errors.New("a quote is never closed")
	}
	flush()
	return out, "", nil
}
