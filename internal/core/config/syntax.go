package config

import (
	"bytes"
	"fmt"
	"slices"
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
		f := Finding{ID: IDSyntax, Severity: Error, Range: *d.Subject, Message: unread.message, Hint: unread.hint}
		if w, ok := inOurWords[d.Summary]; ok {
			f.Message, f.Hint = w.message, w.hint
		}
		if say := bySource[d.Summary]; say != nil {
			say(&f, d, src)
		}
		out = append(out, f)
	}
	return out
}

// words are a message and what to do.
type words struct{ message, hint string }

// unread are the words for a diagnostic that has none of its own.
var unread = words{"this cannot be read", "look at the mark and at the line before it: a quote, brace or bracket may be missing"}

const aValue = "a text in quotes, a number, a list in [ ], or names in { }"

// inOurWords has the words for the parser's summaries, whose own texts never reach a user.
var inOurWords = map[string]words{
	"Argument or block definition required":           {"expected a key with = or a block", `like: listen = "0.0.0.0:8080"`},
	"Argument definition required":                    {"expected a key with =", `like: listen = "0.0.0.0:8080"`},
	"Invalid argument name":                           {"this is not the name of a key", "names are letters, digits, - and _, without quotes"},
	"Invalid block definition":                        {"the { of a block follows its name on the same line", "like: upstream \"booking\" {"},
	"Invalid single-argument block definition":        {"a block on one line holds one key only", "put each key on a line of its own"},
	"Unclosed configuration block":                    {"this block is not closed", "the } of this block is missing"},
	"Unclosed configuration body":                     {"a block is not closed", "a } is missing at the end"},
	"Missing newline after argument":                  {"a key ends with its line; something follows it here", "put each key on a line of its own"},
	"Missing newline after block definition":          {"a block ends with its line; something follows it here", "put what follows on a line of its own"},
	"Attribute redefined":                             {"this key is given twice", "remove one of them"},
	"Unsupported argument":                            {"this key is not allowed here", "kestrix help config lists the keys"},
	"Unsupported block type":                          {"this block is not allowed here", "kestrix help config lists the blocks"},
	"Invalid expression":                              {"a value is missing here", aValue},
	"Missing expression":                              {"a value is missing here", aValue},
	"Missing attribute value":                         {"a value is missing here", aValue},
	"Missing map element":                             {"a value is missing here", aValue},
	"Invalid number literal":                          {"this is not a number", "like 3 or 0.5; durations and sizes are texts, as in \"2s\" and \"8MiB\""},
	"Invalid character":                               {"this character has no meaning here", "texts are in quotes"},
	"Unbalanced parentheses":                          {"a ) is missing", "close what ( opens"},
	"Missing closing parenthesis":                     {"a ) is missing", "close what ( opens"},
	"Missing open parenthesis":                        {"a ( is missing after the name of the function", "like: env(\"TERN_SECRET\")"},
	"Unterminated function call":                      {"a ) is missing after the values of the function", "like: env(\"TERN_SECRET\")"},
	"Missing argument separator":                      {"a comma is missing between the values of the function", "like: range(1, 4)"},
	"Missing function name":                           {"the name of a function is missing here", "like: env(\"TERN_SECRET\")"},
	"Unterminated object constructor expression":      {"a } is missing", "close what { opens"},
	"Unterminated tuple constructor expression":       {"a ] is missing", "close what [ opens"},
	"Unclosed index brackets":                         {"a ] is missing", "close what [ opens"},
	"Missing close bracket on index":                  {"a ] is missing", "close what [ opens"},
	"Missing item separator":                          {"a comma is missing between two values of the list", "like: [\"GET\", \"HEAD\"]"},
	"Missing attribute separator":                     {"a comma or a new line is missing between two names", "like: { auk = \"192.0.2.11:8080\", gannet = \"192.0.2.12:8080\" }"},
	"Missing key/value separator":                     {"an = is missing after this name", "like: { auk = \"192.0.2.11:8080\" }"},
	"Invalid object key":                              {"this is not a name", "names are letters, digits, - and _, or texts in quotes"},
	"Ambiguous attribute key":                         {"this is not a name", "put it in quotes, or in parentheses to use its value"},
	"Incorrect key type":                              {"this is not a name", "a name is a text"},
	"Null value as key":                               {"a name is null", "a name is a text"},
	"Duplicate object key":                            {"this name is given twice", "remove one of them"},
	"Index value required":                            {"an index is missing between [ and ]", "like: let.ports[0]"},
	"Invalid legacy index syntax":                     {"an index is in brackets", "like: let.ports[0]"},
	"Invalid attribute name":                          {"a name is missing after the dot", "like: let.port"},
	"Attribute name required":                         {"a name is missing after the dot", "like: let.port"},
	"Variables not allowed":                           {"a name cannot be used here", aValue},
	"Function calls not allowed":                      {"a function cannot be used here", aValue},
	"Not enough function arguments":                   {"the function needs more values", "kestrix help config lists the functions"},
	"Too many function arguments":                     {"the function has fewer values", "kestrix help config lists the functions"},
	"Error in function call":                          {"the function does not accept these values", "docs/configuration.md has an example of each function"},
	"Invalid operand":                                 {"this operation needs other types of values", "numbers are written without quotes"},
	"Operation failed":                                {"this operation has no result", "check its values"},
	"Iteration over non-iterable value":               {"for needs a list or an object", "like: [for n in range(1, 4) : \"app${n}\"]"},
	"Iteration over null value":                       {"for needs a list or an object; this is null", "like: [for n in range(1, 4) : \"app${n}\"]"},
	"Invalid 'for' expression":                        {"this for expression is not complete", "like: [for n in range(1, 4) : \"app${n}\"]"},
	"Invalid 'for' condition":                         {"the condition of for is not true or false", "like: [for n in range(1, 4) : n if n != 2]"},
	"Condition is null":                               {"the condition is null", "a condition is true or false"},
	"Null condition":                                  {"the condition is null", "a condition is true or false"},
	"Incorrect condition type":                        {"the condition is not true or false", "like: env(\"STAGE\", \"\") == \"test\" ? 1 : 3"},
	"Missing false expression in conditional":         {"the value after : is missing", "like: env(\"STAGE\", \"\") == \"test\" ? 1 : 3"},
	"Inconsistent conditional result types":           {"the two values of the condition have different types", "both numbers, or both texts"},
	"Attempt to get attribute from null value":        {"this value is null and has no keys", "give it a value"},
	"Attempt to index null value":                     {"this value is null and has no elements", "give it a value"},
	"Invalid template control keyword":                {"%{ begins a template directive, and its name is unknown", "write {host} for a placeholder, or %%{ for the characters themselves"},
	"Invalid template directive":                      {"%{ begins a template directive, which is not complete", "write %%{ for the characters themselves"},
	"Unexpected end of template":                      {"a template directive is not complete", "write %%{ for the characters themselves"},
	"Unclosed template interpolation sequence":        {"a } is missing after ${", "write $${ for the characters themselves"},
	"Extra characters after interpolation expression": {"a } is missing after ${", "write $${ for the characters themselves"},
	"Invalid template interpolation value":            {"this value cannot be part of a text", "texts and numbers can"},
	multiLine:                                         {"the text in quotes does not end on its line", "the closing \" is missing"},
	"Unterminated string literal":                     {"the text in quotes does not end on its line", "the closing \" is missing"},
	"Unterminated template string":                    {"a text does not end", "the closing quote or the end marker is missing"},
	"Invalid string literal":                          {"this text cannot be read", "write each backslash twice"},
}

// bySource words findings that depend on what stands in the source, which may not be at hand.
var bySource = map[string]func(f *Finding, d *hcl.Diagnostic, src []byte){
	"Call to unknown function": func(f *Finding, d *hcl.Diagnostic, _ []byte) {
		f.Message = sentence(strings.ReplaceAll(d.Detail, "named ", ""))
		f.Hint = "functions are " + functionNames() + "; regexp and not stand in when"
	},
	"Invalid function argument": func(f *Finding, d *hcl.Diagnostic, _ []byte) { fromFunction(f, d, "parameter: ") },
	"Error in function call":    func(f *Finding, d *hcl.Diagnostic, _ []byte) { fromFunction(f, d, "failed: ") },
	"Attribute redefined":       func(f *Finding, _ *hcl.Diagnostic, _ []byte) { f.ID = IDTwice },
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

// ownFunctions are those whose errors are in our words.
var ownFunctions = []string{"env", "file", "length", "number"}

// fromFunction words the error of a function: its own text, which follows a mark, where it is in our words; otherwise that
// the values do not suit it, with an example.
func fromFunction(f *Finding, d *hcl.Diagnostic, mark string) {
	name := ""
	if call, ok := hcl.DiagnosticExtra[hclsyntax.FunctionCallDiagExtra](d); ok {
		name = call.CalledFunctionName()
	}
	_, text, _ := strings.Cut(d.Detail, mark)
	if text = strings.TrimSuffix(text, "."); text != "" && (slices.Contains(ownFunctions, name) || strings.HasPrefix(text, name+" makes ")) {
		f.Message, f.Hint = text, ""
		return
	}
	f.Message, f.Hint = "the function does not accept these values", "kestrix help config lists the functions"
	for _, x := range FunctionHelp {
		if strings.HasPrefix(x.Call, name+"(") {
			f.Message, f.Hint = fmt.Sprintf("%s does not accept these values", name), "like: "+x.Call
		}
	}
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
