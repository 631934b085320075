package report

import (
	"bytes"
	"fmt"
	"strconv"
	"strings"
	"unicode"

	"github.com/hashicorp/hcl/v2"

	"kestrix/internal/core/config"
)

// Finding is how a finding is written as JSON. The keys are documented and
// stable.
type Finding struct {
	ID          string `json:"id"`
	Severity    string `json:"severity"`
	File        string `json:"file"`
	Line        int    `json:"line"`
	Column      int    `json:"column"`
	EndLine     int    `json:"end_line"`
	EndColumn   int    `json:"end_column"`
	Message     string `json:"message"`
	Hint        string `json:"hint,omitempty"`
	Why         string `json:"why,omitempty"`
	Witness     string `json:"witness,omitempty"`
	Fix         string `json:"fix,omitempty"`
	Edits       []Edit `json:"edits,omitempty"`
	Fingerprint string `json:"fingerprint"`
	Old         bool   `json:"old,omitempty"`
}

// Edit is a text that takes the place of another, as JSON.
type Edit struct {
	File      string `json:"file"`
	Line      int    `json:"line"`
	Column    int    `json:"column"`
	EndLine   int    `json:"end_line"`
	EndColumn int    `json:"end_column"`
	Text      string `json:"text"`
}

// Checked is a finding with what it is known by, and whether it is one of a baseline.
type Checked struct {
	config.Finding
	Fingerprint string
	Old         bool
}

// Unread is a file that cannot be read as a configuration, as JSON. Line is 0 where all of it is meant.
type Unread struct {
	File   string `json:"file"`
	Line   int    `json:"line"`
	Column int    `json:"column"`
	Why    string `json:"why"`
}

// FindingsJSON returns findings in the form that is written as JSON.
func FindingsJSON(all []Checked) []Finding {
	out := []Finding{}
	for _, f := range all {
		var fix []Edit
		for _, e := range f.Edits {
			fix = append(fix, Edit{e.Range.Filename, e.Range.Start.Line, e.Range.Start.Column, e.Range.End.Line, e.Range.End.Column, e.Text})
		}
		out = append(out, Finding{
			f.ID, f.Severity.String(), f.Range.Filename, f.Range.Start.Line, f.Range.Start.Column, f.Range.End.Line, f.Range.End.Column,
			f.Message, f.Hint, f.Why, f.Witness, f.Fix, fix, f.Fingerprint, f.Old,
		})
	}
	return out
}

// Findings writes findings as text, each with its place in the source.
func (s Style) Findings(all config.Findings, files []config.File) string {
	sources := map[string][][]byte{}
	for _, f := range files {
		src := bytes.TrimPrefix(f.Source, []byte("\xef\xbb\xbf"))
		sources[f.Name] = bytes.Split(src, []byte("\n"))
	}
	var b strings.Builder
	for _, f := range all {
		word := f.Severity.String()
		switch f.Severity {
		case config.Error:
			word = s.red(word)
		case config.Warning:
			word = s.warn(word)
		}
		f = s.harmless(f)
		head := fmt.Sprintf("%s:%d:%d", s.printable(f.Range.Filename), f.Range.Start.Line, f.Range.Start.Column)
		head = s.bold(head) + "  " + word + " " + f.ID + "  "
		fmt.Fprintf(&b, "%s%s\n", head, flowFrom(f.Message, s.Width, visible(head), 11))
		s.snippet(&b, sources[f.Range.Filename], f)
		for _, part := range []struct{ name, text string }{{"why", f.Why}, {"witness", f.Witness}, {"fix", f.Fix}} {
			if part.text != "" {
				fmt.Fprintf(&b, "  %-7s  %s\n", part.name, flow(part.text, s.Width, 11))
			}
		}
		b.WriteByte('\n')
	}
	return b.String()
}

// snippet shows the line before, the line itself with the place marked, and
// the line after.
func (s Style) snippet(b *strings.Builder, lines [][]byte, f config.Finding) {
	at := f.Range.Start.Line
	if at < 1 || at > len(lines) || len(lines[at-1]) == 0 && f.Range.Empty() && f.Hint == "" {
		return
	}
	edge := "│"
	if !s.Unicode {
		edge = "|"
	}
	digits := len(strconv.Itoa(at + 1))
	wide := max(s.Width-digits-6, 30)
	text := func(n int) string {
		return s.printable(strings.ReplaceAll(strings.TrimRight(string(lines[n-1]), "\r"), "\t", " "))
	}
	show := func(n int, line string) { fmt.Fprintf(b, "   %*d %s %s\n", digits, n, edge, clip(line, wide)) }
	if at > 1 && len(bytes.TrimSpace(lines[at-2])) > 0 {
		show(at-1, text(at-1))
	}
	line := text(at)
	from, to := marked(f.Range, line)
	if out := from - wide/2; to > wide && out > 0 { // what is marked stands far to the right: the line and its mark move together
		line = "…" + string([]rune(line)[out+1:])
		from, to = from-out, min(to-out, wide)
	}
	show(at, line)
	to = min(to, max(wide, from+1))
	hint := f.Hint
	mark := strings.Repeat(" ", digits+3) + " " + edge + " " + strings.Repeat(" ", from) + s.rule(to-from)
	if hint != "" {
		if visible(mark)+1+visible(hint) > s.Width {
			mark += "\n" + strings.Repeat(" ", digits+3) + " " + edge + " " + strings.Repeat(" ", min(from, 4)) + flow(hint, s.Width, digits+6+min(from, 4))
		} else {
			mark += " " + hint
		}
	}
	b.WriteString(strings.TrimRight(mark, " ") + "\n")
	if at < len(lines) && len(bytes.TrimSpace(lines[at])) > 0 {
		show(at+1, text(at+1))
	}
}

// harmless returns a finding whose words reach a terminal as they are read.
func (s Style) harmless(f config.Finding) config.Finding {
	for _, text := range []*string{&f.Message, &f.Hint, &f.Why, &f.Witness, &f.Fix} {
		*text = s.printable(*text)
	}
	return f
}

// printable puts a sign in the place of each character that nobody sees, or that a terminal would obey.
func (s Style) printable(text string) string {
	sign := '·'
	if !s.Unicode {
		sign = '?'
	}
	return strings.Map(func(r rune) rune {
		if r != ' ' && !unicode.IsPrint(r) {
			return sign
		}
		return r
	}, text)
}

// marked returns the columns of a line that a range takes, at least one.
func marked(r hcl.Range, line string) (int, int) {
	n := len([]rune(line))
	from := min(r.Start.Column-1, n)
	to := n
	if r.End.Line == r.Start.Line {
		to = min(r.End.Column-1, max(n, from+1))
	}
	return from, max(to, from+1)
}
