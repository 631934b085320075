package config

import (
	"bytes"
	"fmt"
	"strings"
	"unicode"
	"unicode/utf8"

	"github.com/hashicorp/hcl/v2"
	"github.com/hashicorp/hcl/v2/hclsyntax"
)

// fromSyntax turns the parser's diagnostics into findings of ours: one message
// in our own tone, with its place.
// src is the source; nil where it is not at hand.
func fromSyntax(diags hcl.Diagnostics, src []byte) Findings {
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
		rng := *d.Subject
		message := sentence(d.Detail)
		if message == "" {
			message = sentence(d.Summary)
		}
		switch d.Summary {
		case "Call to unknown function":
			message = sentence(strings.ReplaceAll(d.Detail, "named ", ""))
			hint = "functions are " + functionNames() + "; regexp and not stand in when"
		case "Invalid function argument":
			message = sentence(d.Detail)
			if _, after, ok := strings.Cut(d.Detail, "parameter: "); ok {
				message = strings.TrimSuffix(after, ".")
			}
		case "Attribute redefined":
			id, message, hint = IDTwice, "this key is given twice", "remove one of them"
		case "Argument or block definition required":
			message, hint = "a key with = or a block is wanted here", `like: listen = "0.0.0.0:8080"`
			if at := rng.Start.Byte; at < len(src) && src[at] == '}' {
				message, hint = "this } closes nothing", "one too many, here or above"
			}
		case "Invalid escape sequence":
			if at := rng.Start.Byte; at+1 < len(src) {
				message, hint = fmt.Sprintf("\\%c means nothing in a text", src[at+1]), fmt.Sprintf("a backslash is written twice, as in regexp(\"\\\\%c+\")", src[at+1])
			}
		case "Invalid template control keyword", "Invalid template directive":
			message, hint = "%{ begins a directive, and there is none of this name", "{host} for what is filled in, %%{ for the two characters"
		case "Unterminated template string":
			if at := lastHeredoc(src); at.Filename == "" && len(src) > 0 && at.Start.Line > 0 {
				at.Filename = rng.Filename
				rng, message, hint = at, "the text that begins here does not end", fmt.Sprintf("%s on a line of its own", strings.TrimLeft(string(src[at.Start.Byte:at.End.Byte]), "<-"))
			}
		case "Division by zero", "Invalid operand":
			message = sentence(d.Summary)
		case "Unclosed configuration block":
			hint = "the } of this block is missing"
		case multiLine:
			message = "the text in quotes does not end on its line"
			hint = "the closing \" is missing"
		case "Invalid single-argument block definition":
			message = "a block on one line holds one key only"
			hint = "put each key on a line of its own"
		case "Invalid block definition":
			message, hint = "a block has its { on the line of its name, and nothing else behind the name", "like: upstream \"booking\" {"
		case "Invalid expression", "Missing attribute value":
			message, hint = "a value is wanted here", "a text in quotes, a number, a list in [ ], or names in { }"
		case "Missing newline after argument":
			message = "a key ends with its line; something follows it here"
			hint = "put each key on a line of its own"
		}
		out = append(out, Finding{ID: id, Severity: Error, Range: rng, Message: message, Hint: hint})
	}
	return out
}

// lastHeredoc returns where the last heredoc of a source begins; no line where there is none.
func lastHeredoc(src []byte) hcl.Range {
	var at hcl.Range
	tokens, _ := hclsyntax.LexConfig(src, "", hcl.InitialPos)
	for _, t := range tokens {
		if t.Type == hclsyntax.TokenOHeredoc {
			at = t.Range
			n := len(bytes.TrimRight(t.Bytes, "\r\n"))
			at.End = hcl.Pos{Line: at.Start.Line, Column: at.Start.Column + n, Byte: at.Start.Byte + n}
		}
	}
	return at
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
