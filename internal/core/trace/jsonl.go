package trace

import (
	"bytes"
	"fmt"
	"math"
	"strconv"
	"unicode/utf8"
)

// jsonl reads JSON Lines: one object a line, with the keys of the record.
// Unknown keys are passed over.
type jsonl struct {
	names   *renames
	line    []byte
	i       int
	scratch []byte
}

// maxDepth bounds nesting inside a line, which is passed over by recursion.
const maxDepth = 64

// parse reads one line; see combined.parse.
func (j *jsonl) parse(line []byte, r *Record) (int, string) {
	j.line, j.i, j.scratch = line, 0, j.scratch[:0]
	j.space()
	if why := j.record(r); why != "" {
		return j.i + 1, why
	}
	j.space()
	if j.i < len(j.line) {
		return j.i + 1, "something follows the object; one object a line is expected"
	}
	return 0, ""
}

// record reads an object with the keys of the record.
func (j *jsonl) record(r *Record) string {
	return j.object(func(key []byte) string { return j.member("", key, r, 0) })
}

// member reads the value of a key into the record. Where columns were renamed,
// one inside an object is named by its path, as in request.method, whatever the object is
// called.
func (j *jsonl) member(prefix string, key []byte, r *Record, depth int) string {
	name := text(key)
	if prefix != "" {
		name = prefix + "." + name
	}
	var f field
	ok := false
	if prefix == "" || j.names != nil {
		f, ok = j.names.look(name)
		ok = ok && (prefix == "" || j.names.columns[name].kind != passOver)
	}
	if j.names != nil && j.at('{') && j.names.within(name) && depth < maxDepth {
		return j.object(func(inner []byte) string { return j.member(name, inner, r, depth+1) })
	}
	if !ok {
		return j.skip(0)
	}
	switch {
	case j.null():
		return ""
	case f.kind == fieldHeaders && j.at('{'):
		return j.pairs(&r.Headers)
	case f.kind == fieldCookies && j.at('{'):
		return j.pairs(&r.Cookies)
	}
	start := j.i
	v, why := j.value(&f)
	if why != "" {
		return why
	}
	if why := f.set(r, v); why != "" {
		j.i = start
		return why
	}
	return ""
}

// value returns the text or number of a field as text.
func (j *jsonl) value(f *field) (v []byte, why string) {
	if j.at('"') {
		why = j.text(&v)
		return v, why
	}
	switch f.kind {
	case fieldTime, fieldStatus, fieldBytes, fieldDuration, fieldSession:
	default:
		return nil, "a text in quotes is expected"
	}
	start := j.i
	if _, _, why := j.number(); why != "" {
		return nil, why
	}
	return j.line[start:j.i], ""
}

// within reports whether a renamed column lies inside an object.
func (m *renames) within(object string) bool {
	for c := range m.columns {
		if len(c) > len(object) && c[len(object)] == '.' && c[:len(object)] == object {
			return true
		}
	}
	return false
}

func (j *jsonl) at(c byte) bool { return j.i < len(j.line) && j.line[j.i] == c }

// pairs reads an object of texts.
func (j *jsonl) pairs(into *[]KV) string {
	if j.null() {
		return ""
	}
	return j.object(func(name []byte) string {
		var v []byte
		if why := j.text(&v); why != "" {
			return why
		}
		*into = append(*into, KV{name, v})
		return ""
	})
}

// object reads { "key": value, ... } and hands each key to value, which must
// read its value.
func (j *jsonl) object(value func(key []byte) string) string {
	if !j.take('{') {
		return "an object in braces is expected"
	}
	j.space()
	if j.take('}') {
		return ""
	}
	for {
		var key []byte
		j.space()
		if why := j.text(&key); why != "" || key == nil {
			return "a key in quotes is expected"
		}
		j.space()
		if !j.take(':') {
			return "\":\" is expected after the key"
		}
		j.space()
		if why := value(key); why != "" {
			return why
		}
		j.space()
		if j.take('}') {
			return ""
		}
		if !j.take(',') {
			return "\",\" or \"}\" is expected"
		}
	}
}

func (j *jsonl) space() {
	for j.i < len(j.line) && (j.line[j.i] == ' ' || j.line[j.i] == '\t' || j.line[j.i] == '\r' || j.line[j.i] == '\n') {
		j.i++
	}
}

func (j *jsonl) take(c byte) bool {
	if j.i < len(j.line) && j.line[j.i] == c {
		j.i++
		return true
	}
	return false
}

func (j *jsonl) null() bool {
	if bytes.HasPrefix(j.line[j.i:], []byte("null")) {
		j.i += 4
		return true
	}
	return false
}

// text reads a text in quotes; null leaves it unknown.
func (j *jsonl) text(into *[]byte) string {
	if j.null() {
		*into = nil
		return ""
	}
	if !j.take('"') {
		return "a text in quotes is expected"
	}
	start := j.i
	for k := start; k < len(j.line); k++ {
		switch j.line[k] {
		case '"':
			j.i = k + 1
			*into = j.line[start:k:k]
			return ""
		case '\\':
			return j.escaped(start, into)
		}
	}
	return "a text in quotes does not end"
}

// escaped reads a text that holds escapes (RFC 8259 section 7).
func (j *jsonl) escaped(start int, into *[]byte) string {
	from := len(j.scratch)
	for k := start; k < len(j.line); k++ {
		c := j.line[k]
		if c == '"' {
			j.i = k + 1
			*into = j.scratch[from:len(j.scratch):len(j.scratch)]
			return ""
		}
		if c != '\\' {
			j.scratch = append(j.scratch, c)
			continue
		}
		k++
		if k >= len(j.line) {
			break
		}
		switch e := j.line[k]; e {
		case '"', '\\', '/':
			j.scratch = append(j.scratch, e)
		case 'b':
			j.scratch = append(j.scratch, '\b')
		case 'f':
			j.scratch = append(j.scratch, '\f')
		case 'n':
			j.scratch = append(j.scratch, '\n')
		case 'r':
			j.scratch = append(j.scratch, '\r')
		case 't':
			j.scratch = append(j.scratch, '\t')
		case 'u':
			if k+4 >= len(j.line) {
				j.i = k
				return "an escape in a text is cut short"
			}
			n, err := strconv.ParseUint(text(j.line[k+1:k+5]), 16, 32)
			if err != nil {
				j.i = k
				return "an escape in a text is not four hexadecimal digits"
			}
			j.scratch = utf8.AppendRune(j.scratch, rune(n))
			k += 4
		default:
			j.i = k
			return "a text has an escape that JSON does not have"
		}
	}
	return "a text in quotes does not end"
}

// number reads a number, or a text that holds one; null leaves it unknown.
func (j *jsonl) number() (float64, bool, string) {
	if j.null() {
		return 0, false, ""
	}
	if j.i < len(j.line) && j.line[j.i] == '"' {
		var s []byte
		if why := j.text(&s); why != "" {
			return 0, false, why
		}
		n, err := strconv.ParseFloat(text(s), 64)
		if err != nil || math.IsNaN(n) || math.IsInf(n, 0) {
			return 0, false, fmt.Sprintf("a number is expected, not %q", clip(s))
		}
		return n, true, ""
	}
	end := j.i
	for end < len(j.line) && bytes.IndexByte([]byte("+-.eE0123456789"), j.line[end]) >= 0 {
		end++
	}
	n, err := strconv.ParseFloat(text(j.line[j.i:end]), 64)
	if err != nil {
		return 0, false, "a number is expected"
	}
	j.i = end
	return n, true, ""
}

// skip passes a value over.
func (j *jsonl) skip(depth int) string {
	if depth > maxDepth {
		return fmt.Sprintf("values are nested more than %d deep", maxDepth)
	}
	if j.i >= len(j.line) {
		return "a value is expected"
	}
	switch c := j.line[j.i]; {
	case c == '"':
		var s []byte
		return j.text(&s)
	case c == '{':
		return j.object(func([]byte) string { return j.skip(depth + 1) })
	case c == '[':
		return j.list(func() string { return j.skip(depth + 1) })
	}
	for _, word := range []string{"true", "false", "null"} {
		if bytes.HasPrefix(j.line[j.i:], []byte(word)) {
			j.i += len(word)
			return ""
		}
	}
	_, _, why := j.number()
	return why
}
