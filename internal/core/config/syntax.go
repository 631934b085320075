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
	unclosed := unclosedText(diags)
	for _, d := range diags {
		if d.Severity != hcl.DiagError || d.Subject == nil {
			continue
		}
		if unclosed != nil && d != unclosed && d.Subject.Start.Line >= unclosed.Subject.Start.Line {
			continue // a quote that is missing turns all that follows inside out
		}
		id, hint := IDSyntax, ""
		message := sentence(d.Detail)
		if message == "" {
			message = sentence(d.Summary)
		}
		switch d.Summary {
		case "Call to unknown function":
			message = sentence(strings.ReplaceAll(d.Detail, "named ", ""))
			hint = "functions are range, format and env; regexp and not stand in when"
		case "Invalid function argument":
			message = sentence(d.Detail)
			if _, after, ok := strings.Cut(d.Detail, "parameter: "); ok {
				message = strings.TrimSuffix(after, ".")
			}
		case "Attribute redefined":
			id, message, hint = IDTwice, "this key is given twice", "remove one of them"
		case "Unclosed configuration block":
			hint = "the } of this block is missing"
		case multiLine:
			message = "the text in quotes does not end on its line"
			hint = "the closing \" is missing"
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

// multiLine is the parser's word for a text that goes on over the end of a line.
const multiLine = "Invalid multi-line string"

// unclosedText finds the first text whose closing quote is missing, nil if there
// is none.
func unclosedText(diags hcl.Diagnostics) *hcl.Diagnostic {
	var first *hcl.Diagnostic
	for _, d := range diags {
		if d.Summary == multiLine && d.Subject != nil && (first == nil || d.Subject.Start.Byte < first.Subject.Start.Byte) {
			first = d
		}
	}
	return first
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
