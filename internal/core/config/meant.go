package config

import (
	"bytes"
	"fmt"
	"regexp"
	"slices"
	"strings"
	"unicode/utf8"

	"github.com/hashicorp/hcl/v2"
)

// A source whose syntax is broken is looked through for slips whose meaning is plain: they are told
// in one finding each, and repaired in a copy, so that other mistakes are found as well. Repaired lines
// keep their numbers.

// slip looks for one kind of them in a text, tells of the first, and returns the text as it was meant.
type slip func(t *slipped)

// slipped is a text while slips are looked for.
type slipped struct {
	name  string
	lines []string // without their ends; repaired in place
	start []int    // where each begins in the source
	code  [][]bool // of each byte: not in a text in quotes, a comment or a heredoc
	found Findings
	told  int // by the slip that is being looked for
}

// mostTold bounds what one slip tells of: of more it says how many there are.
const mostTold = 10

// slips are looked for in this order: what stands before whole lines first.
var slips = []slip{conflicts, patches, numbered, curlyQuotes, singleQuotes, terminalCodes, invisible, foreignComments, colons, signs, noSign, semicolons, bareValues}

// meant looks for slips in a source, and returns it as it was meant, with what was found.
func meant(name string, src []byte) ([]byte, Findings) {
	if len(src) > mostMeant {
		return src, nil
	}
	t := &slipped{name: name}
	at := 0
	for _, l := range bytes.Split(src, []byte("\n")) {
		t.lines, t.start = append(t.lines, strings.TrimSuffix(string(l), "\r")), append(t.start, at)
		at += len(l) + 1
	}
	for _, look := range slips {
		t.code, t.told = inCode(t.lines), 0
		look(t)
		if more := t.told - mostTold; more > 0 {
			t.found[len(t.found)-1].Message += fmt.Sprintf(", and %d more in this file", more)
		}
	}
	if len(t.found) == 0 {
		return src, nil
	}
	return []byte(strings.Join(t.lines, "\n")), t.found
}

// mostMeant bounds the size of a source that is looked through, in bytes.
const mostMeant = 256 << 10

// tell makes a finding of bytes from to to of a line, both counted from 0.
func (t *slipped) tell(line, from, to int, message, hint string) {
	if t.told++; t.told > mostTold {
		return
	}
	at := func(n int) hcl.Pos {
		return hcl.Pos{Line: line + 1, Column: utf8.RuneCountInString(t.lines[line][:n]) + 1, Byte: t.start[line] + n}
	}
	t.found = append(t.found, Finding{ID: IDSyntax, Severity: Error, Range: hcl.Range{Filename: t.name, Start: at(from), End: at(to)}, Message: message, Hint: hint})
}

// put replaces bytes of a line.
func (t *slipped) put(line, from, to int, with string) {
	l := t.lines[line]
	t.lines[line] = l[:from] + with + l[to:]
}

var heredoc = regexp.MustCompile(`<<-?([A-Za-z_][A-Za-z0-9_-]*)\s*$`)

// inCode tells code from texts in quotes, comments and heredocs. A text in quotes ends with its line.
func inCode(lines []string) [][]bool {
	out := make([][]bool, len(lines))
	end, block := "", false // what ends a heredoc; within /* */
	for i, l := range lines {
		out[i] = make([]bool, len(l))
		if end != "" {
			if strings.TrimSpace(l) == end {
				end = ""
			}
			continue
		}
		quoted := false
		for k := 0; k < len(l); k++ {
			switch {
			case block:
				if strings.HasPrefix(l[k:], "*/") {
					block = false
					k++
				}
			case quoted && l[k] == '\\':
				k++
			case l[k] == '"':
				quoted = !quoted
			case quoted:
			case l[k] == '#' || strings.HasPrefix(l[k:], "//") && comments(l[:k]):
				k = len(l)
			case strings.HasPrefix(l[k:], "/*") && comments(l[:k]):
				block = true
				k++
			default:
				out[i][k] = true
			}
		}
		if m := heredoc.FindStringSubmatch(l); m != nil && len(l) > 0 && out[i][strings.LastIndex(l, "<<")] {
			end = m[1]
		}
	}
	return out
}

// comments reports whether // or /* behind the beginning of a line begins a comment, and not a path whose quotes
// are missing, as in path = /a/**.
func comments(before string) bool {
	trimmed := strings.TrimRight(before, " \t")
	return trimmed == "" || trimmed != before && !strings.HasSuffix(trimmed, "=")
}

// inCodeAt reports whether a byte of a line is code.
func (t *slipped) inCodeAt(line, at int) bool { return at < len(t.code[line]) && t.code[line][at] }

// conflicts finds what a version control leaves where two changes meet.
func conflicts(t *slipped) {
	second := false
	for i, l := range t.lines {
		switch {
		case strings.HasPrefix(l, "<<<<<<< "):
			t.tell(i, 0, len(l), "an unresolved merge conflict begins here", "keep one side, and remove the lines that begin with <, = and >")
		case strings.HasPrefix(l, "======="), strings.HasPrefix(l, "||||||| "):
			second = true
		case strings.HasPrefix(l, ">>>>>>> "):
			second = false
		default:
			if second {
				t.lines[i] = ""
			}
			continue
		}
		if len(t.found) > 0 {
			t.lines[i] = ""
		}
	}
}

var hunk = regexp.MustCompile(`^(@@ .*@@|diff --git |index [0-9a-f]+\.\.|--- \S|\+\+\+ \S)`)

// patches finds lines of a patch.
func patches(t *slipped) {
	told := false
	for i, l := range t.lines {
		if l == "" || l[0] != '+' && l[0] != '-' && !hunk.MatchString(l) {
			continue
		}
		if !told {
			t.tell(i, 0, 1, "these lines are copied from a patch, with their signs", "remove the "+l[:1]+": + marks an added line, - a removed one")
			told = true
		}
		if l[0] == '+' && !hunk.MatchString(l) {
			t.lines[i] = " " + l[1:]
		} else {
			t.lines[i] = ""
		}
	}
}

var lineNumber = regexp.MustCompile(`^\s*\d+\s*[:|│]?(\s|$)`)

// numbered finds line numbers that were copied with the lines.
func numbered(t *slipped) {
	n, all, first := 0, 0, -1
	for i, l := range t.lines {
		if strings.TrimSpace(l) == "" {
			continue
		}
		all++
		if lineNumber.MatchString(l) {
			if n++; first < 0 {
				first = i
			}
		}
	}
	if n < 2 || n*5 < all*4 {
		return
	}
	at := lineNumber.FindStringIndex(t.lines[first])
	t.tell(first, 0, at[1], "line numbers are copied with the lines", "copy the lines without them")
	for i, l := range t.lines {
		t.lines[i] = lineNumber.ReplaceAllString(l, "")
	}
}

// everywhere replaces characters in code, and tells of the first with how many there are.
func (t *slipped) everywhere(is func(line, at int, r rune) (with string, yes bool), words func(r rune, n int) (message, hint string)) {
	n, line, at, size, which := 0, 0, 0, 0, rune(0)
	type change struct{ line, from, to int }
	var all []change
	var with []string
	for i, l := range t.lines {
		for k, r := range l {
			if s, yes := is(i, k, r); yes {
				if n++; n == 1 {
					line, at, size, which = i, k, utf8.RuneLen(r), r
				}
				all, with = append(all, change{i, k, k + utf8.RuneLen(r)}), append(with, s)
			}
		}
	}
	if n == 0 {
		return
	}
	message, hint := words(which, n)
	t.tell(line, at, at+size, message, hint)
	for i := len(all) - 1; i >= 0; i-- {
		t.put(all[i].line, all[i].from, all[i].to, with[i])
	}
}

// times words how often something stands in a file.
func times(n int) string {
	if n == 1 {
		return ""
	}
	return fmt.Sprintf(", and %d more in this file", n-1)
}

// curlyQuotes finds the quotes of word processors.
func curlyQuotes(t *slipped) {
	t.everywhere(func(line, at int, r rune) (string, bool) {
		return `"`, strings.ContainsRune("“”„‟‘’‚«»", r) && t.inCodeAt(line, at)
	}, func(r rune, n int) (string, string) {
		return fmt.Sprintf("%c (U+%04X) is not a quotation mark of the language%s", r, r, times(n)), `use "`
	})
}

// singleQuotes finds texts between single quotes.
func singleQuotes(t *slipped) {
	t.everywhere(func(line, at int, r rune) (string, bool) { return `"`, r == '\'' && t.inCodeAt(line, at) },
		func(_ rune, n int) (string, string) {
			return "single quotes do not quote a text" + times((n+1)/2), `use "`
		})
}

// unseen are characters that nobody sees, with their names.
var unseen = map[rune]string{
	0x00a0: "no-break space", 0x00ad: "soft hyphen", 0x200b: "zero width space", 0x200c: "zero width non-joiner", 0x200d: "zero width joiner", 0x200e: "left-to-right mark", 0x200f: "right-to-left mark",
	0x202a: "left-to-right embedding", 0x202b: "right-to-left embedding", 0x202c: "pop directional formatting", 0x202d: "left-to-right override", 0x202e: "right-to-left override",
	0x2028: "line separator", 0x2029: "paragraph separator", 0x202f: "narrow no-break space", 0x2060: "word joiner", 0x2066: "left-to-right isolate", 0x2067: "right-to-left isolate", 0x2068: "first strong isolate", 0x2069: "pop directional isolate", 0x3000: "ideographic space", 0xfeff: "byte order mark",
}

var terminalCode = regexp.MustCompile(`\x1b\[[0-9;?]*[A-Za-z]|\x1b\][^\x07\x1b]*(\x07|\x1b\\)`)

// terminalCodes finds what colours the output of a terminal.
func terminalCodes(t *slipped) {
	told := false
	for i, l := range t.lines {
		for _, m := range slices.Backward(terminalCode.FindAllStringIndex(l, -1)) {
			if !t.inCodeAt(i, m[0]) {
				continue
			}
			if !told {
				t.tell(i, m[0], m[0]+1, "a terminal color code begins here, with U+001B", "copy the text without colors")
				told = true
			}
			t.put(i, m[0], m[1], "")
		}
	}
}

// invisible finds characters that nobody sees.
func invisible(t *slipped) {
	t.everywhere(func(line, at int, r rune) (string, bool) {
		_, known := unseen[r]
		if !known && (r >= 0x20 && r != 0x7f || r == '\t') || !t.inCodeAt(line, at) {
			return "", false
		}
		if strings.Contains(unseen[r], "space") && r != 0x200b {
			return " ", true
		}
		return "", true
	}, func(r rune, n int) (string, string) {
		name := unseen[r]
		if name == "" {
			name = "a control character"
		}
		return fmt.Sprintf("an invisible character: U+%04X, %s%s", r, name, times(n)), "retype the line"
	})
}

// foreignComments finds comments as other languages have them.
func foreignComments(t *slipped) {
	told := false
	for i, l := range t.lines {
		trimmed := strings.TrimLeft(l, " \t")
		at := len(l) - len(trimmed)
		sign := ""
		for _, s := range []string{"--", ";", "<!--", "%", "rem ", "REM "} {
			if strings.HasPrefix(trimmed, s) && t.inCodeAt(i, at) {
				sign = s
				break
			}
		}
		if sign == "" {
			continue
		}
		if !told {
			t.tell(i, at, at+len(sign), "a comment begins with # or //", "# "+clipped(strings.TrimSpace(trimmed[len(sign):])))
			told = true
		}
		t.lines[i] = ""
	}
}

// clipped shortens a text for a hint.
func clipped(s string) string {
	if r := []rune(s); len(r) > 40 {
		return string(r[:40]) + "…"
	}
	return s
}

var colon = regexp.MustCompile(`^(\s*)([A-Za-z_][A-Za-z0-9_-]*)(\s*):(\s|$|")`)

// colons finds keys that are followed by a colon.
func colons(t *slipped) {
	object := t.objects()
	for i, l := range t.lines {
		m := colon.FindStringSubmatchIndex(l)
		if m == nil || !t.inCodeAt(i, m[4]) || object[i] {
			continue
		}
		at, rest := m[7], strings.TrimSpace(l[m[7]+1:])
		name := l[m[4]:m[5]]
		if rest == "" || rest == "{" { // a block
			t.tell(i, at, at+1, fmt.Sprintf("%s is followed by a colon", name), "a block has { after its name, a key has = and a value")
			t.put(i, at, at+1, "")
			continue
		}
		t.tell(i, at, at+1, fmt.Sprintf("a key is followed by =, and %s by a colon", name), fmt.Sprintf("%s = %s", name, clipped(rest)))
		t.put(i, at, at+1, " =")
	}
}

// objects reports which lines begin within { } or [ ] of a value, where a colon is as good.
func (t *slipped) objects() []bool {
	out := make([]bool, len(t.lines))
	var open []bool // of each bracket: it is a value's
	for i, l := range t.lines {
		out[i] = len(open) > 0 && open[len(open)-1]
		for k, c := range l {
			if !t.inCodeAt(i, k) {
				continue
			}
			switch c {
			case '{', '[':
				before := strings.TrimRight(l[:k], " \t")
				open = append(open, c == '[' || strings.HasSuffix(before, "=") || strings.HasSuffix(before, "(") || strings.HasSuffix(before, ",") || strings.HasSuffix(before, ":"))
			case '}', ']':
				if len(open) > 0 {
					open = open[:len(open)-1]
				}
			}
		}
	}
	return out
}

var sign = regexp.MustCompile(`^(\s*)([A-Za-z_][A-Za-z0-9_-]*)(\s*)(==|=>|:=|\+=|<-)`)

// signs finds keys that are followed by something like =.
func signs(t *slipped) {
	object := t.objects()
	for i, l := range t.lines {
		if m := sign.FindStringSubmatchIndex(l); m != nil && t.inCodeAt(i, m[4]) && !object[i] {
			name, what := l[m[4]:m[5]], l[m[8]:m[9]]
			t.tell(i, m[8], m[9], fmt.Sprintf("a key is followed by =, and %s by %s", name, what), fmt.Sprintf("%s = %s", name, clipped(strings.TrimSpace(l[m[9]:]))))
			t.put(i, m[8], m[9], "=")
		}
	}
}

var keyAndText = regexp.MustCompile(`^(\s*)([a-z_]+)(\s+)("[^"]*"|\[.*\]|true|false|\d+)\s*(#.*)?$`)

// noSign finds keys with nothing between them and their value.
func noSign(t *slipped) {
	for i, l := range t.lines {
		m := keyAndText.FindStringSubmatchIndex(l)
		if m == nil || !t.inCodeAt(i, m[4]) || !isKey(l[m[4]:m[5]]) {
			continue
		}
		name := l[m[4]:m[5]]
		t.tell(i, m[4], m[5], fmt.Sprintf("there is no = between %s and its value", name), fmt.Sprintf("%s = %s", name, clipped(l[m[8]:m[9]])))
		t.put(i, m[5], m[5], " =")
	}
}

// isKey reports whether any block of the language has a key of this name.
func isKey(name string) bool {
	var has func(b *Block) bool
	has = func(b *Block) bool {
		return b.Key(name) != nil || slices.ContainsFunc(b.Blocks, has)
	}
	return has(Language)
}

// semicolons finds ends of statements.
func semicolons(t *slipped) {
	told := false
	for i, l := range t.lines {
		for k := len(l) - 1; k >= 0; k-- {
			if l[k] != ';' || !t.inCodeAt(i, k) {
				continue
			}
			if !told {
				t.tell(i, k, k+1, "a line does not end with ;", "remove the ;")
				told = true
			}
			t.put(i, k, k+1, " ")
		}
	}
}

// bare are values that look like something and stand in quotes.
var bare = []struct {
	what string
	re   *regexp.Regexp
}{
	{"an address", regexp.MustCompile(`^(\d{1,3}(\.\d{1,3}){3}(:\d+|/\d+)?|\[[0-9a-fA-F:.]+\]:\d+|[A-Za-z][A-Za-z0-9-]*(\.[A-Za-z0-9-]+)+:\d+|[A-Za-z][A-Za-z0-9-]*:\d+|unix:/\S+)$`)},
	{"a path", regexp.MustCompile(`^/\S*$`)},
	{"a rate", regexp.MustCompile(`^\d+(\.\d+)?([KMG]i?)?B?/(s|m|h)$`)},
	{"a duration", regexp.MustCompile(`^(\d+(\.\d+)?(ns|us|ms|s|m|h|d))+$`)},
	{"a percentage", regexp.MustCompile(`^\d+(\.\d+)?%$`)},
	{"a size", regexp.MustCompile(`^\d+(\.\d+)?([KMG]i?)?B$`)},
	{"a range", regexp.MustCompile(`^\d{3}-\d{3}$`)},
	{"a name", regexp.MustCompile(`^(\*\.)?[A-Za-z][A-Za-z0-9-]*(\.[A-Za-z0-9-]+)*\.(example|com|org|net|internal|local|test|pem|key|crt|log|html|sock)$`)},
}

var bareValue = regexp.MustCompile(`(=|\[|,)(\s*)([^\s"'\[\]{},()=#]+(?:\[[0-9a-fA-F:.]+\]:\d+)?)`)

// bareValues finds values whose quotes are missing.
func bareValues(t *slipped) {
	for i := range t.lines {
		for at := 0; ; {
			m := bareValue.FindStringSubmatchIndex(t.lines[i][at:])
			if m == nil {
				break
			}
			from, to := at+m[6], at+m[7]
			value := t.lines[i][from:to]
			if at = to; !t.inCodeAt(i, from) {
				continue
			}
			for _, b := range bare {
				if b.re.MatchString(value) {
					t.tell(i, from, to, b.what+" must be quoted", fmt.Sprintf("%q", value))
					t.put(i, from, to, `"`+value+`"`)
					t.code[i] = inCode(t.lines[i : i+1])[0]
					at += 2
					break
				}
			}
		}
	}
}
