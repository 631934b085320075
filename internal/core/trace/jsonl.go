package trace

import (
	"bytes"
	"fmt"
	"math"
	"strconv"
	"time"
	"unicode/utf8"
)

// jsonl reads JSON Lines: one object a line, with the keys of the record.
// Unknown keys are passed over.
type jsonl struct {
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
	if why := j.object(func(key []byte) string { return j.key(text(key), r) }); why != "" {
		return j.i + 1, why
	}
	j.space()
	if j.i < len(j.line) {
		return j.i + 1, "something follows the object; one object a line is expected"
	}
	return 0, ""
}

func (j *jsonl) key(key string, r *Record) string {
	switch key {
	case "client":
		return j.text(&r.Client)
	case "method":
		return j.text(&r.Method)
	case "host":
		return j.text(&r.Host)
	case "path":
		return j.text(&r.Path)
	case "session":
		return j.text(&r.Session)
	case "user_agent":
		return j.text(&r.UserAgent)
	case "referer":
		return j.text(&r.Referer)
	case "frontend":
		return j.text(&r.Frontend)
	case "time":
		return j.time(r)
	case "status":
		n, ok, why := j.number()
		if why != "" || !ok {
			return why
		}
		if n != math.Trunc(n) || n < 100 || n > 999 {
			return fmt.Sprintf("the status %g is not a number of three digits", n)
		}
		r.Status = int(n)
	case "bytes":
		n, ok, why := j.number()
		if why != "" || !ok {
			return why
		}
		if n < 0 || n > 1e18 {
			return fmt.Sprintf("bytes cannot be %g", n)
		}
		r.Bytes = int64(n)
	case "duration":
		n, ok, why := j.number()
		if why != "" || !ok {
			return why
		}
		if n < 0 || n > 1e9 {
			return fmt.Sprintf("the duration cannot be %g seconds", n)
		}
		r.Duration = int64(math.Round(n * 1e9))
	case "protocol":
		var p []byte
		if why := j.text(&p); why != "" {
			return why
		}
		switch text(p) {
		case "stream":
			r.Protocol = Stream
		case "tcp":
			r.Protocol = TCP
		}
	case "headers":
		return j.pairs(&r.Headers)
	case "cookies":
		return j.pairs(&r.Cookies)
	default:
		return j.skip(0)
	}
	return ""
}

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

// time reads an RFC 3339 text or seconds since the epoch.
func (j *jsonl) time(r *Record) string {
	if j.i < len(j.line) && j.line[j.i] == '"' {
		var s []byte
		if why := j.text(&s); why != "" {
			return why
		}
		t, err := time.Parse(time.RFC3339Nano, text(s))
		if err != nil || t.Year() < 1678 || t.Year() > 2261 {
			return fmt.Sprintf("the time %q is not like 2026-11-23T06:55:08.25Z", clip(s))
		}
		r.Time = t.UnixNano()
		r.WholeSecond = bytes.IndexByte(s, '.') < 0
		return ""
	}
	start := j.i
	n, ok, why := j.number()
	if why != "" || !ok {
		return why
	}
	if n < -9e9 || n > 9e9 {
		return fmt.Sprintf("the time %g is not seconds since the epoch", n)
	}
	whole, frac := math.Modf(n)
	r.Time = int64(whole)*1e9 + int64(math.Round(frac*1e9))
	// A float64 holds these seconds to about 0.2 microseconds; digits are exact.
	if d, exact := decimal(j.line[start:j.i], 1); exact && d == int64(whole) {
		if dot := bytes.IndexByte(j.line[start:j.i], '.'); dot >= 0 {
			if f, ok := decimal(append([]byte("0"), j.line[start+dot:j.i]...), 1e9); ok {
				r.Time = int64(whole)*1e9 + f
			}
		}
	}
	r.WholeSecond = bytes.IndexByte(j.line[start:j.i], '.') < 0
	return ""
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
			return "a : is expected after the key"
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
			return "a , or } is expected"
		}
	}
}

func (j *jsonl) space() {
	for j.i < len(j.line) && (j.line[j.i] == ' ' || j.line[j.i] == '\t' || j.line[j.i] == '\r') {
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
			return "a text holds an escape that JSON does not have"
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
		j.i++
		j.space()
		if j.take(']') {
			return ""
		}
		for {
			j.space()
			if why := j.skip(depth + 1); why != "" {
				return why
			}
			j.space()
			if j.take(']') {
				return ""
			}
			if !j.take(',') {
				return "a , or ] is expected"
			}
		}
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
