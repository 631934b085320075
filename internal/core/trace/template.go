package trace

import (
	"bytes"
	"errors"
	"fmt"
	"strings"
)

// template reads lines of a form that the user describes: fields in braces
// among text that stands as it is, as in
//
//	{client} [{time:02/Jan/2006:15:04:05 -0700}] "{method} {path} {*}" {status}
//
// A field goes up to the text that follows it; {*} passes anything over. What
// stands between quotes is taken apart by itself: a request that is empty, "-"
// or garbage leaves its fields unknown.
type template struct {
	pieces  []piece
	text    string
	scratch []byte
}

// piece is text, then perhaps a field, or what stands between quotes.
type piece struct {
	text  string
	field *field
	name  string  // of the field, as written
	group []piece // between quotes
	quote bool
}

func parseTemplate(text string) (*template, error) {
	t := &template{text: text}
	pieces, rest, err := parsePieces(text, false)
	if err != nil {
		return nil, err
	}
	if rest != "" {
		return nil, fmt.Errorf("%q: a quote is never closed", text)
	}
	if !anyField(pieces) {
		return nil, fmt.Errorf("%q names no field in braces, as in '{client} {time} \"{request}\" {status}'", text)
	}
	t.pieces = pieces
	return t, nil
}

func anyField(pieces []piece) bool {
	for _, p := range pieces {
		if p.field != nil && p.field.kind != passOver || anyField(p.group) {
			return true
		}
	}
	return false
}

// parsePieces reads up to the end, or the closing quote of a group, and returns
// what follows it.
func parsePieces(text string, inQuotes bool) (out []piece, rest string, err error) {
	var literal strings.Builder
	flush := func() {
		if literal.Len() > 0 {
			out = append(out, piece{text: literal.String()})
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
			group, after, err := parsePieces(text[1:], true)
			if err != nil {
				return nil, "", err
			}
			if after == "" && !strings.HasSuffix(text, `"`) {
				return nil, "", errors.New("a quote is never closed")
			}
			out = append(out, piece{group: group, quote: true})
			text = after
		case c == '{':
			name, after, ok := strings.Cut(text[1:], "}")
			if !ok {
				return nil, "", fmt.Errorf("the brace before %q is never closed", name)
			}
			flush()
			if n := len(out); n > 0 && out[n-1].field != nil {
				return nil, "", fmt.Errorf("{%s} follows {%s} with nothing between them, so that where one ends cannot be told", name, out[n-1].name)
			}
			f, err := parseField(name)
			if err != nil {
				return nil, "", err
			}
			out = append(out, piece{field: &f, name: name})
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

// parse reads one line; see combined.parse.
func (t *template) parse(line []byte, r *Record) (int, string) {
	t.scratch = t.scratch[:0]
	i, why := t.match(t.pieces, line, 0, r)
	if why != "" {
		return i + 1, why
	}
	if rest := bytes.TrimRight(line[i:], " \t"); len(rest) > 0 {
		return i + 1, fmt.Sprintf("the line goes on with %q where the template ends", clip(rest))
	}
	return 0, ""
}

func (t *template) match(pieces []piece, line []byte, i int, r *Record) (int, string) {
	for n := range pieces {
		p := &pieces[n]
		switch {
		case p.quote:
			if i >= len(line) || line[i] != '"' {
				return i, "a quote is expected"
			}
			end := closing(line, i+1)
			if end < 0 {
				return i, "the quote is never closed"
			}
			if at, why := t.quoted(p.group, line[i+1:end], r); why != "" {
				return i + 1 + at, why
			}
			i = end + 1
		case p.field == nil:
			end, ok := fits(p.text, line, i)
			if !ok {
				return i, fmt.Sprintf("%q is expected", p.text)
			}
			i = end
		default:
			end := len(line)
			if n+1 < len(pieces) {
				if end = t.stop(&pieces[n+1], line, i); end < 0 {
					return i, fmt.Sprintf("{%s} is not followed by %q", p.name, pieces[n+1].shown())
				}
			}
			if why := p.field.set(r, bytes.TrimSpace(line[i:end])); why != "" {
				return i, why
			}
			i = end
		}
	}
	return i, ""
}

// quoted reads what stands between quotes. Where it is a request that does not
// fit, method and path stay unknown.
func (t *template) quoted(group []piece, inner []byte, r *Record) (int, string) {
	from := len(t.scratch)
	if bytes.IndexByte(inner, '\\') >= 0 {
		for k := 0; k < len(inner); k++ {
			if inner[k] == '\\' && k+1 < len(inner) && (inner[k+1] == '"' || inner[k+1] == '\\') {
				k++
			}
			t.scratch = append(t.scratch, inner[k])
		}
		inner = t.scratch[from:len(t.scratch):len(t.scratch)]
	}
	if len(group) == 0 || len(group) == 1 && group[0].field != nil {
		if len(group) == 1 {
			return 0, group[0].field.set(r, inner)
		}
		return 0, ""
	}
	at, why := t.match(group, inner, 0, r)
	if why == "" && at < len(inner) {
		why = fmt.Sprintf("what stands in quotes goes on with %q where the template ends", clip(inner[at:]))
	}
	if why != "" && asked(group) || known(inner) == nil {
		r.Method, r.Path = nil, nil
		return 0, ""
	}
	return at, why
}

// asked reports whether a group holds what was asked.
func asked(group []piece) bool {
	for _, p := range group {
		if p.field != nil && (p.field.kind == fieldPath || p.field.kind == fieldMethod) {
			return true
		}
	}
	return false
}

// stop returns where the piece after a field begins, -1 if nowhere.
func (t *template) stop(next *piece, line []byte, i int) int {
	if next.quote {
		if k := bytes.IndexByte(line[i:], '"'); k >= 0 {
			return i + k
		}
		return -1
	}
	if k := bytes.IndexByte(line[i:], next.text[0]); next.text[0] != ' ' && k < 0 {
		return -1
	}
	for k := i; k < len(line); k++ {
		if _, ok := fits(next.text, line, k); ok {
			return k
		}
	}
	return -1
}

func (p *piece) shown() string {
	if p.quote {
		return `"`
	}
	return p.text
}

// fits reports whether text stands in a line, and where it ends; a space stands
// for any number of spaces and tabs.
func fits(text string, line []byte, i int) (int, bool) {
	for k := range len(text) {
		if text[k] == ' ' {
			if i >= len(line) || line[i] != ' ' && line[i] != '\t' {
				return i, false
			}
			for i < len(line) && (line[i] == ' ' || line[i] == '\t') {
				i++
			}
			continue
		}
		if i >= len(line) || line[i] != text[k] {
			return i, false
		}
		i++
	}
	return i, true
}

// closing returns where the quote is that ends a text, -1 if nowhere; a
// backslash escapes the next byte.
func closing(line []byte, i int) int {
	for ; i < len(line); i++ {
		switch line[i] {
		case '\\':
			i++
		case '"':
			return i
		}
	}
	return -1
}
