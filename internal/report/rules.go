package report

import (
	"fmt"
	"strings"

	"kestrix/internal/core/check"
	"kestrix/internal/core/config"
)

// Rule writes what there is to know of a rule, as text.
func (s Style) Rule(r *check.Rule) string {
	var b strings.Builder
	word := r.Severity.String()
	switch r.Severity {
	case config.Error:
		word = s.red(word)
	case config.Warning:
		word = s.warn(word)
	}
	fmt.Fprintf(&b, "%s  %s  %s\n\n", s.bold(r.ID), word, r.Title)
	for _, part := range []struct{ name, text string }{{"why", r.Why}, {"fix", r.Fix}} {
		if part.text != "" {
			fmt.Fprintf(&b, "  %-5s %s\n", part.name, flow(part.text, s.Width, 8))
		}
	}
	bad, good := r.Examples()
	if bad == "" {
		b.WriteString("\n  found by `kestrix check " + r.Flag() + "`\n")
		return b.String()
	}
	fmt.Fprintf(&b, "\n  %s\n%s\n  %s\n%s", s.bold("found in"), indented(withoutWants(bad)), s.bold("clean"), indented(withoutWants(good)))
	if r.Run != nil {
		fmt.Fprintf(&b, "\n  to allow it on a line: # kestrix: allow %s because ...\n", r.ID)
	}
	return b.String()
}

// RuleJSON returns a rule in the form that is written as JSON.
func RuleJSON(r *check.Rule) any {
	bad, good := r.Examples()
	return struct {
		ID       string `json:"id"`
		Severity string `json:"severity"`
		Title    string `json:"title"`
		Why      string `json:"why"`
		Fix      string `json:"fix"`
		Bad      string `json:"bad"`
		Good     string `json:"good"`
	}{r.ID, r.Severity.String(), r.Title, r.Why, r.Fix, withoutWants(bad), withoutWants(good)}
}

// withoutWants takes out what the examples' comments say to their test, and
// marks the place instead.
func withoutWants(src string) string {
	lines := strings.Split(strings.TrimRight(src, "\n"), "\n")
	for i, l := range lines {
		if before, _, ok := strings.Cut(l, "# want:"); ok {
			lines[i] = strings.TrimRight(before, " ") + " # here"
		}
	}
	return strings.Join(lines, "\n")
}

func indented(src string) string {
	return "    " + strings.ReplaceAll(src, "\n", "\n    ") + "\n"
}
