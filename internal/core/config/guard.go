package config

import (
	"bytes"
	"fmt"
	"unicode/utf8"

	"github.com/hashicorp/hcl/v2"
	"github.com/hashicorp/hcl/v2/hclsyntax"
)

// Limits on what is handed to the parser. Its recursion follows nesting, and a
// stack that overflows cannot be recovered from.
const (
	maxNesting   = 100
	maxOperators = 500
	// MaxSource is the size in bytes above which a source is refused.
	MaxSource = 16 << 20
)

// UnusableError is a source that cannot be read at all: empty, not UTF-8, too
// large or nested too deep. Commands answer it with exit code 3.
type UnusableError struct {
	File         string
	Line, Column int // 0 when the whole file is meant
	What         string
}

func (e *UnusableError) Error() string {
	if e.Line == 0 {
		return fmt.Sprintf("%s: %s", e.File, e.What)
	}
	return fmt.Sprintf("%s:%d:%d: %s", e.File, e.Line, e.Column, e.What)
}

// guard refuses what must not reach the parser.
func guard(name string, src []byte) error {
	if len(src) > MaxSource {
		return &UnusableError{name, 0, 0, fmt.Sprintf("%d MB is no configuration; at most %d MiB are read", len(src)/1_000_000, MaxSource>>20)}
	}
	if len(bytes.TrimSpace(src)) == 0 {
		return &UnusableError{name, 0, 0, "the file is empty; `kestrix new ADDRESS...` writes a first configuration"}
	}
	for _, k := range []struct{ begin, what string }{{"\x1f\x8b", "compressed by gzip"}, {"\x28\xb5\x2f\xfd", "compressed by zstd"}, {"PK\x03\x04", "a zip archive"}, {"\x7fELF", "a program"}} {
		if bytes.HasPrefix(src, []byte(k.begin)) {
			return &UnusableError{name, 1, 1, "this is " + k.what + ", and a configuration is a text"}
		}
	}
	if !utf8.Valid(src) {
		line, col := 1, 1
		for i := 0; i < len(src); {
			r, n := utf8.DecodeRune(src[i:])
			if r == utf8.RuneError && n == 1 {
				return &UnusableError{name, line, col, fmt.Sprintf("the byte 0x%02x is not UTF-8; save the file as UTF-8", src[i])}
			}
			if r == '\n' {
				line, col = line+1, 0
			}
			col++
			i += n
		}
	}
	if i := bytes.IndexByte(src, 0); i >= 0 {
		line := 1 + bytes.Count(src[:i], []byte("\n"))
		return &UnusableError{name, line, i - bytes.LastIndexByte(src[:i], '\n'), "a NUL byte stands here; this is not a text file"}
	}
	if line, column, n := openComments(src); n > mostOpenComments {
		return &UnusableError{name, line, column, fmt.Sprintf("a comment begins here with /* and does not end, as do %d more; a path stands in quotes", n-1)}
	}
	return guardNesting(name, src)
}

// mostOpenComments bounds how often /* may stand without an end: the lexer looks for it up to the end of the source each time.
const mostOpenComments = 50

// openComments counts the /* of a source that stand outside of quotes and lines' comments and have no */ behind them, and
// returns where the first is.
func openComments(src []byte) (line, column, n int) {
	from := bytes.LastIndex(src, []byte("*/")) + 1
	quoted := false
	for i, at, begin := 0, 1, 0; i < len(src); i++ {
		switch {
		case src[i] == '\n':
			quoted, at, begin = false, at+1, i+1
		case quoted && src[i] == '\\':
			i++
		case src[i] == '"':
			quoted = !quoted
		case quoted:
		case src[i] == '#':
			if end := bytes.IndexByte(src[i:], '\n'); end >= 0 {
				i += end - 1
			}
		case i >= from && src[i] == '/' && i+1 < len(src) && src[i+1] == '*':
			if n++; n == 1 {
				line, column = at, utf8.RuneCount(src[begin:i])+1
			}
			i++
		}
	}
	return line, column, n
}

// guardNesting lexes, which does not recurse, and counts what would make the
// parser or the evaluation recurse: brackets of every kind, and operators or
// look-ups strung together in one expression.
func guardNesting(name string, src []byte) error {
	tokens, _ := hclsyntax.LexConfig(src, name, hcl.InitialPos)
	depth, inner, operators := 0, 0, 0 // inner: brackets inside which a newline ends nothing
	for _, t := range tokens {
		switch t.Type {
		case hclsyntax.TokenOBrace, hclsyntax.TokenOBrack, hclsyntax.TokenOParen,
			hclsyntax.TokenTemplateInterp, hclsyntax.TokenTemplateControl,
			hclsyntax.TokenOQuote, hclsyntax.TokenOHeredoc:
			depth++
			if t.Type == hclsyntax.TokenOBrace {
				operators = 0
			} else {
				operators++
			}
			if t.Type == hclsyntax.TokenOParen {
				inner++
			}
		case hclsyntax.TokenCBrace, hclsyntax.TokenCBrack, hclsyntax.TokenCParen,
			hclsyntax.TokenTemplateSeqEnd, hclsyntax.TokenCQuote, hclsyntax.TokenCHeredoc:
			depth = max(0, depth-1)
			if t.Type == hclsyntax.TokenCParen {
				inner = max(0, inner-1)
			}
		case hclsyntax.TokenComma:
			if inner == 0 {
				operators = 0
			}
		case hclsyntax.TokenNewline:
			if inner == 0 {
				operators = 0
			}
		case hclsyntax.TokenIdent, hclsyntax.TokenNumberLit, hclsyntax.TokenQuotedLit,
			hclsyntax.TokenStringLit, hclsyntax.TokenComment, hclsyntax.TokenEqual:
		default:
			operators++
		}
		if depth > maxNesting {
			p := t.Range.Start
			return &UnusableError{name, p.Line, p.Column, fmt.Sprintf("brackets are nested more than %d deep here; nothing in the language needs that", maxNesting)}
		}
		if operators > maxOperators {
			p := t.Range.Start
			return &UnusableError{name, p.Line, p.Column, fmt.Sprintf("one expression strings more than %d operators together; split it up with let", maxOperators)}
		}
	}
	return nil
}
