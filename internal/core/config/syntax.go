package config

import (
	"strings"
	"unicode"
	"unicode/utf8"

	"github.com/hashicorp/hcl/v2"
)

// fromSyntax turns the parser's diagnostics into findings of ours: one message
// in our own tone, with its place.
func fromSyntax(diags hcl.Diagnostics) Findings {
	var out Findings
	for _, d := range diags {
		if d.Severity != hcl.DiagError || d.Subject == nil {
			continue
		}
		id, hint := IDSyntax, ""
		message := sentence(d.Detail)
		if message == "" {
			message = sentence(d.Summary)
		}
		switch d.Summary {
		case "Attribute redefined":
			id, message, hint = IDTwice, "this key is given twice", "remove one of them"
		case "Unclosed configuration block":
			hint = "the } of this block is missing"
		case "Invalid single-argument block definition":
			message = "a block on one line holds one key only"
			hint = "put each key on a line of its own"
		case "Invalid block definition":
			hint = "a block looks like: upstream \"booking\" {"
		case "Missing newline after argument":
			message = "a key ends with its line; something follows it here"
			hint = "put each key on a line of its own"
		}
		out = append(out, Finding{ID: id, Severity: Error, Range: *d.Subject, Message: message, Hint: hint})
	}
	return out
}

// sentence takes the first sentence of a diagnostic's text, without a capital
// and a full stop.
func sentence(s string) string {
	s = strings.TrimSpace(strings.ReplaceAll(s, "\n", " "))
	if i := strings.Index(s, ". "); i > 0 {
		s = s[:i]
	}
	s = strings.TrimSuffix(s, ".")
	r, n := utf8.DecodeRuneInString(s)
	if n > 0 && len(s) > n && !unicode.IsUpper(rune(s[n])) {
		s = string(unicode.ToLower(r)) + s[n:]
	}
	return s
}
