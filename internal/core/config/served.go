package config

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"github.com/cespare/xxhash/v2"
	"github.com/hashicorp/hcl/v2"
	"github.com/hashicorp/hcl/v2/hclsyntax"
	"github.com/zclconf/go-cty/cty"
)

// hiddenPrefix begins what stands for a secret.
const hiddenPrefix = "hidden, digest "

// Hidden returns what stands for a secret where settings are compared: the same for the same
// secret. What stands for one already stays.
func Hidden(secret string) string {
	if isHidden(secret) {
		return secret
	}
	return fmt.Sprintf("%s%08x", hiddenPrefix, uint32(xxhash.Sum64String(secret)))
}

// isHidden reports whether a text stands for a secret.
func isHidden(s string) bool {
	return len(s) == len(hiddenPrefix)+8 && strings.HasPrefix(s, hiddenPrefix)
}

// piece is a part of a source and what stands in its place.
type piece struct {
	at   hcl.Range
	text string
}

// Resolved returns the sources of a configuration so that they read the same anywhere: secrets
// are digests, and what comes from the environment and from files of this machine stands in
// them. It is for those who may know all but the secrets.
func (c *Config) Resolved() []File {
	var out []File
	for _, f := range c.raw {
		src := f.Source
		skipped := 0
		if strings.HasPrefix(string(src), "\xef\xbb\xbf") {
			skipped = 3
		}
		var text []byte
		done := 0
		for _, p := range c.pieces {
			from, to := p.at.Start.Byte+skipped, p.at.End.Byte+skipped
			if p.at.Filename != f.Name || from < done || to > len(src) {
				continue // of another file, or within what was replaced
			}
			text = append(append(text, src[done:from]...), p.text...)
			if to > from && src[to-1] == '\n' { // of a heredoc
				text = append(text, '\n')
			}
			done = to
		}
		out = append(out, File{f.Name, append(text, src[done:]...)})
	}
	return out
}

// resolve notes what Resolved replaces in a source.
func (d *Decoder) resolve(body *hclsyntax.Body) {
	_ = hclsyntax.VisitAll(body, func(n hclsyntax.Node) hcl.Diagnostics {
		call, ok := n.(*hclsyntax.FunctionCallExpr)
		if !ok || call.Name != "env" && call.Name != "file" {
			return nil
		}
		v, diags := call.Value(d.Context)
		if !diags.HasErrors() && v.IsWhollyKnown() && !v.IsNull() && v.Type() == cty.String {
			d.pieces = append(d.pieces, piece{call.Range(), literal(v.AsString())})
		}
		return nil
	})
}

// withoutSecrets has secrets be digests wherever they stand: in their keys, and in values of one's
// own and of this machine that are the same.
func (d *Decoder) withoutSecrets(bodies []*hclsyntax.Body) []piece {
	known := map[string]bool{}
	for _, s := range d.hidden {
		known[s.text] = true
	}
	out := make([]piece, 0, len(d.pieces)+len(d.hidden))
	for _, p := range d.pieces {
		for s := range known {
			if p.text == literal(s) {
				p.text = literal(Hidden(s))
			}
		}
		out = append(out, p)
	}
	for _, s := range d.hidden {
		out = append(out, piece{s.at, literal(Hidden(s.text))})
	}
	for _, body := range bodies {
		for _, b := range body.Blocks {
			if b.Type != "let" {
				continue
			}
			for _, a := range b.Body.Attributes {
				if v, diags := a.Expr.Value(d.Context); !diags.HasErrors() && v.IsWhollyKnown() && !v.IsNull() && v.Type() == cty.String && known[v.AsString()] {
					out = append(out, piece{a.Expr.Range(), literal(Hidden(v.AsString()))})
				}
			}
		}
	}
	// What is around others stands for all of it.
	slices.SortStableFunc(out, func(a, b piece) int {
		return cmp.Or(cmp.Compare(a.at.Start.Byte, b.at.Start.Byte), cmp.Compare(b.at.End.Byte, a.at.End.Byte))
	})
	return out
}

// literal writes a text as a literal of the language.
func literal(s string) string {
	var b strings.Builder
	b.WriteByte('"')
	for i, c := range s {
		switch {
		case c == '"' || c == '\\':
			b.WriteByte('\\')
			b.WriteRune(c)
		case c == '\n':
			b.WriteString(`\n`)
		case c == '\r':
			b.WriteString(`\r`)
		case c == '\t':
			b.WriteString(`\t`)
		case (c == '$' || c == '%') && strings.HasPrefix(s[i+1:], "{"):
			b.WriteRune(c)
			b.WriteRune(c)
		case c < ' ' || c == 0x7f:
			fmt.Fprintf(&b, `\u%04x`, c)
		default:
			b.WriteRune(c)
		}
	}
	b.WriteByte('"')
	return b.String()
}
