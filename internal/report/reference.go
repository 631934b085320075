package report

import (
	"fmt"
	"strings"

	"kestrix/internal/core/config"
	"kestrix/internal/core/scenario"
)

// Reference writes a language's table as a page of Markdown, so that the page
// says what the program does.
func Reference(title, intro string, table *config.Block) string {
	var b strings.Builder
	fmt.Fprintf(&b, "# %s\n\n%s\n", title, intro)
	if len(table.Keys) > 0 {
		b.WriteString("\n## At the top\n")
		referenceKeys(&b, table.Keys)
	}
	for _, c := range table.Blocks {
		referenceBlock(&b, c, "")
	}
	functions := config.FunctionHelp
	if table == scenario.Language {
		functions = scenario.FunctionHelp
	}
	b.WriteString("\n## Functions\n\n| call | gives |\n|---|---|\n")
	for _, f := range functions {
		fmt.Fprintf(&b, "| `%s` | %s |\n", f.Call, cell(f.Help))
	}
	if table == scenario.Language {
		b.WriteString("\n## Kinds of faults\n\n| kind | what happens |\n|---|---|\n")
		for _, k := range scenario.FaultKinds {
			fmt.Fprintf(&b, "| `%s` | %s |\n", k.Name, k.Doc)
		}
	}
	return b.String()
}

func referenceBlock(b *strings.Builder, c *config.Block, within string) {
	name := c.Name
	if c.Label != nil {
		name += fmt.Sprintf(" %q", strings.ToUpper(c.Label.Name))
	}
	path := strings.TrimSpace(within + " " + name)
	fmt.Fprintf(b, "\n## `%s`\n\n%s.", path, upperFirst(c.Help))
	if c.Label != nil && len(c.Label.Allowed) > 0 {
		fmt.Fprintf(b, " The %s is %s.", c.Label.Name, strings.Join(c.Label.Allowed, " or "))
	}
	switch {
	case c.Required && c.Many:
		b.WriteString(" At least one.")
	case c.Many:
		b.WriteString(" Any number.")
	case !c.Required:
		b.WriteString(" At most one.")
	}
	if c.Like != "" {
		fmt.Fprintf(b, " It takes what `%s` takes, except %s.\n", c.Like, strings.Join(c.Except, " and "))
		return
	}
	b.WriteByte('\n')
	referenceKeys(b, c.Keys)
	for _, inner := range c.Blocks {
		referenceBlock(b, inner, name)
	}
}

func referenceKeys(b *strings.Builder, keys []*config.Key) {
	if len(keys) == 0 {
		return
	}
	b.WriteString("\n| key | what it is | default | meaning | example |\n|---|---|---|---|---|\n")
	for _, k := range keys {
		what := k.Type.String()
		if len(k.Allowed) > 0 {
			what = "one of " + strings.Join(k.Allowed, ", ")
		}
		switch {
		case k.Min != "" && k.Max != "":
			what += fmt.Sprintf(", %s to %s", k.Min, k.Max)
		case k.Min != "":
			what += ", at least " + k.Min
		case k.Max != "":
			what += ", at most " + k.Max
		}
		def := "none"
		switch {
		case k.Required:
			def = "must be given"
		case k.Default != "":
			def = "`" + k.Default + "`"
		}
		fmt.Fprintf(b, "| `%s` | %s | %s | %s | `%s` |\n", k.Name, cell(what), def, cell(k.Help), k.Example)
	}
	for _, k := range keys {
		if k.Fields != nil {
			fmt.Fprintf(b, "\nInside `%s`, %s:\n", k.Name, k.Fields.Help)
			referenceKeys(b, k.Fields.Keys)
		}
	}
}

func cell(s string) string { return strings.ReplaceAll(s, "|", "\\|") }

func upperFirst(s string) string {
	if s == "" {
		return s
	}
	return strings.ToUpper(s[:1]) + s[1:]
}
