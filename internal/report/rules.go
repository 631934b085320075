package report

import (
	"fmt"
	"slices"
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
		word = s.yellow(word)
	}
	fmt.Fprintf(&b, "%s  %s  %s\n\n", s.bold(r.ID), word, r.Title)
	for _, part := range []struct{ name, text string }{{"why", r.Why}, {"mend", r.Mend}} {
		if part.text != "" {
			fmt.Fprintf(&b, "  %-5s %s\n", part.name, flow(part.text, s.Width, 8))
		}
	}
	bad, good := r.Examples()
	if bad == "" {
		b.WriteString("\n  found by `kestrix check -live`, which looks at the machine\n")
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
		Mend     string `json:"mend"`
		Bad      string `json:"bad"`
		Good     string `json:"good"`
	}{r.ID, r.Severity.String(), r.Title, r.Why, r.Mend, withoutWants(bad), withoutWants(good)}
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

// family is rules that belong together, by the beginning of their ids.
type family struct{ prefix, title, file, about string }

var families = []family{
	{"KX0", "Reading", "reading", "What reading the language itself finds. These are errors, and cannot be allowed away."},
	{"KX1", "Names and structure", "names", "Names, routes and addresses, and how they fit together."},
	{"KX2", "Health", "health", "Probes, suspension and failover: what is noticed, how fast, and what is left then."},
	{"KX3", "Balancing", "balancing", "How requests are spread."},
	{"KX4", "Sessions", "sessions", "How clients keep their backend, and when they lose it."},
	{"KX5", "Timeouts", "timeouts", "How long anybody waits for anybody."},
	{"KX6", "Forwarding", "forwarding", "What becomes of a request on its way: who it is from, and what it asks for."},
	{"KX7", "Security", "security", "Certificates, keys, passwords, and who may operate the proxy."},
	{"KX8", "The machine", "machine", "What `kestrix check -live` finds by looking: names are looked up, backends connected to, probes run once, listeners bound."},
	{"KX9", "Suppression", "suppression", "Comments that allow findings."},
}

func (f family) rules() []*check.Rule {
	var out []*check.Rule
	for _, r := range slices.Concat(check.Rules, check.LiveRules) {
		if strings.HasPrefix(r.ID, f.prefix) {
			out = append(out, r)
		}
	}
	return out
}

// RulePages writes the table of rules as pages of Markdown, by file name: an
// index, and a page for each family with examples.
func RulePages(note string) map[string]string {
	pages := map[string]string{}
	var index strings.Builder
	fmt.Fprintf(&index, "# The rules of check\n\n%s `kestrix check -explain ID` shows a rule with its examples in the terminal. A finding that claims something about behaviour carries a witness: a request, moment or number that the decision core itself has confirmed.\n", note)
	for _, f := range families {
		fmt.Fprintf(&index, "\n## [%s](rules/%s.md)\n\n| id | severity | what is found |\n|---|---|---|\n", f.title, f.file)
		var page strings.Builder
		fmt.Fprintf(&page, "# %s\n\n%s %s [All rules](../rules.md).\n", f.title, f.about, note)
		for _, r := range f.rules() {
			fmt.Fprintf(&index, "| [%s](rules/%s.md#%s) | %s | %s |\n", r.ID, f.file, strings.ToLower(r.ID), r.Severity, cell(r.Title))
			bad, good := r.Examples()
			fmt.Fprintf(&page, "\n## %s\n\n**%s**: %s.\n\nWhy it matters: %s.\n\nHow to mend it: %s.\n", r.ID, upperFirst(r.Severity.String()), r.Title, r.Why, r.Mend)
			if bad != "" {
				fmt.Fprintf(&page, "\nFound in:\n\n```hcl\n%s\n```\n\nClean:\n\n```hcl\n%s\n```\n", withoutWants(bad), withoutWants(good))
			}
		}
		pages["rules/"+f.file+".md"] = page.String()
	}
	pages["rules.md"] = index.String()
	return pages
}
