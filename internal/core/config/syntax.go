package config

import (
	"bytes"
	"cmp"
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
		f := Finding{ID: IDSyntax, Severity: Error, Range: *d.Subject, Message: cmp.Or(sentence(d.Detail), sentence(d.Summary))}
		if w, ok := inOurWords[d.Summary]; ok {
			f.Message, f.Hint = cmp.Or(w.message, f.Message), w.hint
		}
		if say := bySource[d.Summary]; say != nil {
			say(&f, d, src)
		}
		out = append(out, f)
	}
	return out
}

// inOurWords says what the parser's summaries mean; an empty message is the parser's own.
var inOurWords = map[string]struct{ message, hint string }{
	"Argument or block definition required":    {"expected a key with = or a block", `like: listen = "0.0.0.0:8080"`},
	"Invalid template control keyword":         {"%{ begins a template directive, and its name is unknown", "write {host} for a placeholder, or %%{ for the characters themselves"},
	"Unclosed configuration block":             {"", "the } of this block is missing"},
	multiLine:                                  {"the text in quotes does not end on its line", "the closing \" is missing"},
	"Invalid single-argument block definition": {"a block on one line holds one key only", "put each key on a line of its own"},
	"Invalid block definition":                 {"the { of a block follows its name on the same line", "like: upstream \"booking\" {"},
	"Invalid expression":                       {"a value is missing here", "a text in quotes, a number, a list in [ ], or names in { }"},
	"Missing attribute value":                  {"a value is missing here", "a text in quotes, a number, a list in [ ], or names in { }"},
	"Missing newline after argument":           {"a key ends with its line; something follows it here", "put each key on a line of its own"},
	"Attribute redefined":                      {"this key is given twice", "remove one of them"},
}

// bySource words findings that depend on what stands in the source, which may not be at hand.
var bySource = map[string]func(f *Finding, d *hcl.Diagnostic, src []byte){
	"Call to unknown function": func(f *Finding, d *hcl.Diagnostic, _ []byte) {
		f.Message = sentence(strings.ReplaceAll(d.Detail, "named ", ""))
		f.Hint = "functions are " + functionNames() + "; regexp and not stand in when"
	},
	"Invalid function argument": func(f *Finding, d *hcl.Diagnostic, _ []byte) {
		if _, after, ok := strings.Cut(d.Detail, "parameter: "); ok {
			f.Message = strings.TrimSuffix(after, ".")
		}
	},
	"Attribute redefined": func(f *Finding, _ *hcl.Diagnostic, _ []byte) { f.ID = IDTwice },
	"Argument or block definition required": func(f *Finding, _ *hcl.Diagnostic, src []byte) {
		if at := f.Range.Start.Byte; at < len(src) && src[at] == '}' {
			f.Message, f.Hint = "this } closes nothing", "remove this one, or one above"
		}
	},
	"Invalid escape sequence": func(f *Finding, _ *hcl.Diagnostic, src []byte) {
		if at := f.Range.Start.Byte; at+1 < len(src) {
			f.Message, f.Hint = fmt.Sprintf("\\%c is not an escape sequence", src[at+1]), fmt.Sprintf("write each backslash twice, as in regexp(\"\\\\%c+\")", src[at+1])
		}
	},
	"Unterminated template string": func(f *Finding, _ *hcl.Diagnostic, src []byte) {
		if at := lastHeredoc(src); at.Start.Line > 0 {
			at.Filename = f.Range.Filename
			f.Range, f.Message = at, "the heredoc that begins here has no end marker"
			f.Hint = fmt.Sprintf("%s on a line of its own", strings.TrimLeft(string(src[at.Start.Byte:at.End.Byte]), "<-"))
		}
	},
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
