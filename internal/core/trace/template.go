package trace

import (
	"bytes"
	"fmt"

	"kestrix/internal/core/template"
)

// lineTemplate reads lines of a form that the user describes: fields in braces
// among text that stands as it is, as in
//
//	{client} [{time:02/Jan/2006:15:04:05 -0700}] "{method} {path} {*}" {status}
//
// A field goes up to the text that follows it; {*} passes anything over. What
// stands between quotes is taken apart by itself: a request that is empty, "-"
// or garbage leaves its fields unknown.
type lineTemplate struct {
	pieces  []piece
	text    string
	scratch []byte
}

// piece is a piece of the template with what its field sets.
type piece struct {
	template.Piece
	set   *field  // nil where there is no field
	group []piece // between quotes
}

func parseTemplate(text string) (*lineTemplate, error) {
	pieces, err := template.Parse(text)
	if err != nil {
		return nil, err
	}
	t := &lineTemplate{text: text}
	if t.pieces, err = compile(pieces); err != nil {
		return nil, err
	}
	if !anyField(t.pieces) {
		return nil, fmt.Errorf("%q names no field in braces, as in '{client} {time} \"{request}\" {status}'", text)
	}
	return t, nil
}

// compile looks the fields of pieces up.
func compile(pieces []template.Piece) (out []piece, err error) {
	for _, p := range pieces {
		c := piece{Piece: p}
		if p.Field != nil {
			f, err := lookUp(*p.Field)
			if err != nil {
				return nil, err
			}
			c.set = &f
		}
		if c.group, err = compile(p.Group); err != nil {
			return nil, err
		}
		out = append(out, c)
	}
	return out, nil
}

func anyField(pieces []piece) bool {
	for _, p := range pieces {
		if p.set != nil && p.set.kind != passOver || anyField(p.group) {
			return true
		}
	}
	return false
}

// parse reads one line; see combined.parse.
func (t *lineTemplate) parse(line []byte, r *Record) (int, string) {
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

func (t *lineTemplate) match(pieces []piece, line []byte, i int, r *Record) (int, string) {
	for n := range pieces {
		p := &pieces[n]
		switch {
		case p.Quote:
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
		case p.set == nil:
			end, ok := fits(p.Text, line, i)
			if !ok {
				return i, fmt.Sprintf("%q is expected", p.Text)
			}
			i = end
		default:
			end := len(line)
			if n+1 < len(pieces) {
				if end = t.stop(&pieces[n+1], line, i); end < 0 {
					return i, fmt.Sprintf("{%s} is not followed by %q", p.Field.Written, pieces[n+1].shown())
				}
			}
			if why := p.set.set(r, bytes.TrimSpace(line[i:end])); why != "" {
				return i, why
			}
			i = end
		}
	}
	return i, ""
}

// quoted reads what stands between quotes. Where it is a request that does not
// fit, method and path stay unknown.
func (t *lineTemplate) quoted(group []piece, inner []byte, r *Record) (int, string) {
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
	if len(group) == 0 || len(group) == 1 && group[0].set != nil {
		if len(group) == 1 {
			return 0, group[0].set.set(r, inner)
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
		if p.set != nil && (p.set.kind == fieldPath || p.set.kind == fieldMethod) {
			return true
		}
	}
	return false
}

// stop returns where the piece after a field begins, -1 if nowhere.
func (t *lineTemplate) stop(next *piece, line []byte, i int) int {
	if next.Quote {
		if k := bytes.IndexByte(line[i:], '"'); k >= 0 {
			return i + k
		}
		return -1
	}
	if k := bytes.IndexByte(line[i:], next.Text[0]); next.Text[0] != ' ' && k < 0 {
		return -1
	}
	for k := i; k < len(line); k++ {
		if _, ok := fits(next.Text, line, k); ok {
			return k
		}
	}
	return -1
}

func (p *piece) shown() string {
	if p.Quote {
		return `"`
	}
	return p.Text
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
