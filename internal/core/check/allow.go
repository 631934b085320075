package check

import (
	"bytes"
	"cmp"
	"regexp"
	"strings"

	"github.com/hashicorp/hcl/v2"
	"github.com/hashicorp/hcl/v2/hclsyntax"

	"kestrix/internal/core/config"
)

// allowRules are about the comments that suppress findings.
var allowRules = []*Rule{
	{ID: "KX901", Severity: config.Warning, Title: "a suppression without a reason",
		Why: "a reader cannot tell whether the exception is still needed", Fix: "# kestrix: allow KX201 because ..."},
	{ID: "KX902", Severity: config.Warning, Title: "a suppression without a finding",
		Why: "it would hide the finding when it returns", Fix: "remove the comment"},
}

// allowance is a comment such as `# kestrix: allow KX203 because ...`. It holds
// for its own line, or for the next if it stands alone.
type allowance struct {
	id     string
	reason string
	line   int // whose findings it suppresses
	rng    hcl.Range
	used   bool
	shared bool      // with other ids in one comment
	whole  hcl.Range // of the comment with what goes when it goes: its line, if it stands alone
}

var allowComment = regexp.MustCompile(`kestrix:\s*allow\s+([^\s,]+(?:\s*,\s*[^\s,]+)*)(?:\s+because\s+(\S.*))?`)

// allowances reads the comments of a file.
func allowances(f config.File) []*allowance {
	src := bytes.TrimPrefix(f.Source, []byte("\xef\xbb\xbf"))
	if !bytes.Contains(src, []byte("kestrix:")) {
		return nil
	}
	tokens, _ := hclsyntax.LexConfig(src, f.Name, hcl.InitialPos)
	var out []*allowance
	for i, t := range tokens {
		if t.Type != hclsyntax.TokenComment {
			continue
		}
		m := allowComment.FindSubmatch(t.Bytes)
		if m == nil {
			continue
		}
		a := allowance{reason: strings.TrimSpace(string(m[2])), line: t.Range.Start.Line, rng: t.Range}
		// The range of a comment takes its newline in, which would mark two lines.
		a.rng.End = a.rng.Start
		a.rng.End.Column += len(bytes.TrimRight(t.Bytes, "\r\n"))
		a.rng.End.Byte += len(bytes.TrimRight(t.Bytes, "\r\n"))
		alone := i == 0 || tokens[i-1].Range.End.Line < t.Range.Start.Line || tokens[i-1].Type == hclsyntax.TokenNewline || tokens[i-1].Type == hclsyntax.TokenComment
		if alone {
			a.line++
			for k := i + 1; k < len(tokens) && tokens[k].Type == hclsyntax.TokenComment; k++ {
				a.line++ // several comments stand above one line
			}
		}
		a.whole = a.rng
		if from := bytes.LastIndexByte(src[:t.Range.Start.Byte], '\n') + 1; alone && len(bytes.TrimSpace(src[from:t.Range.Start.Byte])) == 0 {
			a.whole = t.Range // the token takes its newline in
			a.whole.Start = hcl.Pos{Line: t.Range.Start.Line, Column: 1, Byte: from}
		}
		ids := strings.Split(string(m[1]), ",")
		for _, id := range ids {
			one := a
			one.id, one.shared = strings.TrimSpace(id), len(ids) > 1
			out = append(out, &one)
		}
	}
	return out
}

// Allowed is a finding that a comment allows.
type Allowed struct {
	config.Finding
	Because string
}

// suppress takes out what comments allow, and adds what is wrong with the
// comments themselves. Errors of reading cannot be allowed away.
func suppress(c *config.Config, found config.Findings) (config.Findings, []Allowed) {
	byLine := map[string][]*allowance{}
	var all []*allowance
	for _, f := range c.Files {
		for _, a := range allowances(f) {
			byLine[f.Name] = append(byLine[f.Name], a)
			all = append(all, a)
		}
	}
	if len(all) == 0 {
		return found, nil
	}
	kept := found[:0:0]
	var out []Allowed
	for _, f := range found {
		because := ""
		for _, a := range byLine[f.Range.Filename] {
			if r := Find(f.ID); a.line == f.Range.Start.Line && a.id == f.ID && r != nil && r.Run != nil {
				a.used = true
				because = cmp.Or(because, a.reason)
			}
		}
		if because == "" {
			kept = append(kept, f)
		} else {
			out = append(out, Allowed{f, because})
		}
	}
	for _, a := range all {
		rule, message := Find("KX901"), "the suppression of "+a.id+" gives no reason, so it does not hold"
		switch {
		case a.reason != "" && a.used:
			continue
		case !a.used:
			rule, message = Find("KX902"), "no "+a.id+" is found here"
			if Find(a.id) == nil {
				message = "there is no rule " + a.id
			}
		}
		f := config.Finding{ID: rule.ID, Severity: rule.Severity, Range: a.rng, Message: message, Why: rule.Why, Fix: rule.Fix}
		if !a.used && !a.shared {
			f.Edits = []config.Edit{{Range: a.whole}}
		}
		kept = append(kept, f)
	}
	return kept, out
}
