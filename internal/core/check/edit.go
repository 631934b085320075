package check

import (
	"bytes"
	"strings"

	"github.com/hashicorp/hcl/v2"
	"github.com/hashicorp/hcl/v2/hclsyntax"

	"kestrix/internal/core/config"
)

// trees are the sources of a configuration as they were parsed, for rules that know the edit that mends what
// they find. A source is parsed when it is asked for.
type trees struct {
	files  []config.File
	parsed map[string]*hclsyntax.Body
}

// source returns a file's text without a byte order mark; nil if there is none of the name.
func (t *trees) source(name string) []byte {
	for _, f := range t.files {
		if f.Name == name {
			return bytes.TrimPrefix(f.Source, []byte("\xef\xbb\xbf"))
		}
	}
	return nil
}

// body returns a file's outermost level, nil if it cannot be parsed.
func (t *trees) body(name string) *hclsyntax.Body {
	if body, ok := t.parsed[name]; ok {
		return body
	}
	if t.parsed == nil {
		t.parsed = map[string]*hclsyntax.Body{}
	}
	var body *hclsyntax.Body
	for _, f := range t.files {
		if f.Name == name {
			if b, found, err := config.Parse(f); err == nil && len(found) == 0 {
				body = b
			}
		}
	}
	t.parsed[name] = body
	return body
}

// block returns the block whose head begins where a range does, nil if there is none.
func (t *trees) block(at hcl.Range) *hclsyntax.Block {
	body := t.body(at.Filename)
	if body == nil {
		return nil
	}
	var find func(b *hclsyntax.Body) *hclsyntax.Block
	find = func(b *hclsyntax.Body) *hclsyntax.Block {
		for _, x := range b.Blocks {
			if x.TypeRange.Start.Byte == at.Start.Byte {
				return x
			}
			if x.TypeRange.Start.Byte < at.Start.Byte && at.Start.Byte < x.CloseBraceRange.End.Byte {
				return find(x.Body)
			}
		}
		return nil
	}
	return find(body)
}

// written reports whether a value stands in the source itself, and not as a name of one.
func (t *trees) written(at hcl.Range) bool {
	src := t.source(at.Filename)
	if at.Start.Byte >= at.End.Byte || at.End.Byte > len(src) {
		return false
	}
	text := string(src[at.Start.Byte:at.End.Byte])
	return strings.ContainsAny(text[:1], "\"[{0123456789") && !strings.Contains(text, "let.") && !strings.Contains(text, "env(") && !strings.Contains(text, "${") || strings.HasPrefix(text, "regexp(") || text == "true" || text == "false"
}

// replace puts a value in the place of another that stands in the source.
func (p *Pass) replace(at hcl.Range, with string) []config.Edit {
	if p.trees == nil || !p.trees.written(at) {
		return nil
	}
	return []config.Edit{{Range: at, Text: with}}
}

// set gives a key of a block a value, be the key there or not. at is the head of the block.
func (p *Pass) set(at hcl.Range, key, value string) []config.Edit {
	if p.trees == nil {
		return nil
	}
	b := p.trees.block(at)
	if b == nil {
		return nil
	}
	if a, ok := b.Body.Attributes[key]; ok {
		return p.replace(a.Expr.Range(), value)
	}
	return p.insert(b, key+" = "+value)
}

// setIn gives a key of a block within another a value, and makes the inner block if it is not there. at is the head of
// the outer one, or of the inner one if that is given.
func (p *Pass) setIn(at hcl.Range, inner, key, value string) []config.Edit {
	if p.trees == nil {
		return nil
	}
	b := p.trees.block(at)
	if b == nil {
		return nil
	}
	if b.Type == inner {
		return p.set(at, key, value)
	}
	for _, x := range b.Body.Blocks {
		if x.Type == inner {
			return p.set(x.TypeRange, key, value)
		}
	}
	return p.insert(b, inner+" {\n  "+key+" = "+value+"\n}")
}

// insert puts lines before the end of a block that has lines of its own.
func (p *Pass) insert(b *hclsyntax.Block, text string) []config.Edit {
	src := p.trees.source(b.TypeRange.Filename)
	if b.OpenBraceRange.Start.Line == b.CloseBraceRange.Start.Line {
		return nil
	}
	at := b.CloseBraceRange.Start.Byte
	line := bytes.LastIndexByte(src[:at], '\n') + 1
	own := string(src[line:at])
	if strings.TrimSpace(own) != "" {
		return nil
	}
	end := "\n"
	if line > 1 && src[line-2] == '\r' {
		end = "\r\n"
	}
	var out strings.Builder
	for _, l := range strings.Split(text, "\n") {
		out.WriteString(own + "  " + l + end)
	}
	where := hcl.Range{Filename: b.TypeRange.Filename, Start: hcl.Pos{Line: b.CloseBraceRange.Start.Line, Column: 1, Byte: line}}
	where.End = where.Start
	return []config.Edit{{Range: where, Text: out.String()}}
}

// drop takes out the key in whose line a value stands, with the line.
func (p *Pass) drop(at hcl.Range) []config.Edit {
	if p.trees == nil || at.Filename == "" {
		return nil
	}
	src := p.trees.source(at.Filename)
	if at.End.Byte > len(src) {
		return nil
	}
	from := bytes.LastIndexByte(src[:at.Start.Byte], '\n') + 1
	to := bytes.IndexByte(src[at.End.Byte:], '\n')
	if to < 0 {
		return nil
	}
	to += at.End.Byte + 1
	if key, _, ok := strings.Cut(strings.TrimSpace(string(src[from:at.Start.Byte])), "="); strings.ContainsAny(key, "{}") || !ok && key != "" {
		return nil // not a line of its own
	}
	where := hcl.Range{Filename: at.Filename, Start: hcl.Pos{Line: at.Start.Line, Column: 1, Byte: from}, End: hcl.Pos{Line: at.End.Line + 1, Column: 1, Byte: to}}
	return []config.Edit{{Range: where}}
}
