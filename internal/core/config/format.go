package config

import (
	"bytes"

	"github.com/hashicorp/hcl/v2"
	"github.com/hashicorp/hcl/v2/hclsyntax"
	"github.com/hashicorp/hcl/v2/hclwrite"
)

// Format returns a source in canonical layout: two spaces a level, equals signs
// of neighbouring lines below each other, at most one blank line between things
// and none at either end, line feeds only. Comments stay. Source whose syntax is
// broken is not touched: its findings come instead. The error is an
// UnusableError.
func Format(f File) ([]byte, Findings, error) {
	_, findings, err := Parse(f)
	if err != nil || len(findings) > 0 {
		return nil, findings, err
	}
	src := bytes.TrimPrefix(f.Source, []byte("\xef\xbb\xbf"))
	src = lineFeeds(src, f.Name)
	// Aligning may change what stands next to what, so that a second pass has
	// something to do; it settles quickly.
	for range 5 {
		next := hclwrite.Format(src)
		if bytes.Equal(next, src) {
			break
		}
		src = next
	}
	return squeeze(src), nil, nil
}

// lineFeeds has lines end with line feeds only, but for those of heredocs, which are part of a value.
func lineFeeds(src []byte, name string) []byte {
	if !bytes.Contains(src, []byte("\r\n")) {
		return src
	}
	tokens, _ := hclsyntax.LexConfig(src, name, hcl.InitialPos)
	var out []byte
	from, open := 0, false
	for _, t := range tokens {
		switch t.Type {
		case hclsyntax.TokenOHeredoc:
			out = append(out, bytes.ReplaceAll(src[from:t.Range.End.Byte], []byte("\r\n"), []byte("\n"))...)
			from, open = t.Range.End.Byte, true
		case hclsyntax.TokenCHeredoc:
			out = append(out, src[from:t.Range.Start.Byte]...)
			from, open = t.Range.Start.Byte, false
		}
	}
	if open { // cannot be: the source was parsed
		return append(out, src[from:]...)
	}
	return append(out, bytes.ReplaceAll(src[from:], []byte("\r\n"), []byte("\n"))...)
}

// squeeze takes out blank lines that follow a blank line or stand at either end,
// except inside a text over several lines, where they mean something.
func squeeze(src []byte) []byte {
	if bytes.Contains(src, []byte("<<")) {
		return append(bytes.TrimSpace(src), '\n') // perhaps a heredoc: leave the inside alone
	}
	var out []byte
	blank := true
	for line := range bytes.Lines(src) {
		empty := len(bytes.TrimSpace(line)) == 0
		if empty && blank {
			continue
		}
		blank = empty
		out = append(out, bytes.TrimRight(line, " \t\n")...)
		out = append(out, '\n')
	}
	return append(bytes.TrimRight(out, "\n"), '\n')
}
