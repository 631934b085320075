package check

import (
	"bytes"
	"regexp"
	"strings"

	"github.com/hashicorp/hcl/v2"
	"github.com/hashicorp/hcl/v2/hclsyntax"

	"kestrix/internal/core/config"
)

// allowRules are about the comments that suppress findings.
var allowRules = []*Rule{
	{ID: "KX901", Severity: config.Warning, Title: "a suppression that gives no reason",
		Why: "whoever reads it next year cannot tell whether it still holds", Mend: "# kestrix: allow KX201 because ..."},
	{ID: "KX902", Severity: config.Warning, Title: "a suppression that suppresses nothing",
		Why: "it hides the finding when it comes back", Mend: "remove the comment"},
}

// allowance is a comment such as `# kestrix: allow KX203 because ...`. It holds
// for its own line, or for the next if it stands alone.
type allowance struct {
	id     string
	reason string
	line   int // whose findings it suppresses
	rng    hcl.Range
	used   bool
}

var allowComment = regexp.MustCompile(`kestrix:\s*allow\s+(\S+)(?:\s+because\s+(\S.*))?`)

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
		a := &allowance{id: string(m[1]), reason: strings.TrimSpace(string(m[2])), line: t.Range.Start.Line, rng: t.Range}
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
		out = append(out, a)
	}
	return out
}

// suppress takes out what comments allow, and adds what is wrong with the
// comments themselves. Errors of reading cannot be allowed away.
func suppress(c *config.Config, found config.Findings) config.Findings {
	byLine := map[string][]*allowance{}
	var all []*allowance
	for _, f := range c.Files {
		for _, a := range allowances(f) {
			byLine[f.Name] = append(byLine[f.Name], a)
			all = append(all, a)
		}
	}
	if len(all) == 0 {
		return found
	}
	kept := found[:0:0]
	for _, f := range found {
		allowed := false
		for _, a := range byLine[f.Range.Filename] {
			if r := Find(f.ID); a.line == f.Range.Start.Line && a.id == f.ID && r != nil && r.Run != nil {
				a.used = true
				allowed = allowed || a.reason != ""
			}
		}
		if !allowed {
			kept = append(kept, f)
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
		kept = append(kept, config.Finding{ID: rule.ID, Severity: rule.Severity, Range: a.rng, Message: message, Why: rule.Why, Mend: rule.Mend})
	}
	return kept
}
