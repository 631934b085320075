package report

import (
	"fmt"
	"strings"

	"kestrix/internal/core/config"
)

// HelpConfig writes what the language has under a name: nothing for all of it, a
// block, a key, or a path such as upstream.probe.every. ok is false where there
// is nothing of that name.
func (s Style) HelpConfig(table *config.Block, query string) (text string, ok bool) {
	var b strings.Builder
	if query == "" {
		s.helpTree(&b, table, 0)
		return b.String(), true
	}
	s.helpFind(&b, table, "", strings.ToLower(query))
	return b.String(), b.Len() > 0
}

// helpTree lists a block's keys and blocks, a line each.
func (s Style) helpTree(b *strings.Builder, c *config.Block, depth int) {
	pad := strings.Repeat("  ", depth)
	for _, k := range c.Keys {
		fmt.Fprintf(b, "%s%s %s\n", pad, padRight(k.Name, 26-2*depth), flow(k.Help, s.Width, 27))
		if k.Fields != nil {
			s.helpTree(b, k.Fields, depth+1)
		}
	}
	for _, inner := range c.Blocks {
		name := inner.Name
		if inner.Label != nil {
			name += fmt.Sprintf(" %q", strings.ToUpper(inner.Label.Name))
		}
		fmt.Fprintf(b, "%s%s %s\n", pad, s.bold(padRight(name, 26-2*depth)), flow(inner.Help+like(inner), s.Width, 27))
		if inner.Like != "" {
			continue
		}
		s.helpTree(b, inner, depth+1)
	}
}

func (s Style) helpFind(b *strings.Builder, c *config.Block, path, query string) {
	hit := func(name string) bool {
		full := strings.TrimPrefix(path+"."+name, ".")
		return name == query || full == query || strings.HasSuffix(full, "."+query)
	}
	for _, k := range c.Keys {
		if hit(k.Name) {
			s.helpKey(b, k, strings.TrimPrefix(path+"."+k.Name, "."))
		}
		if k.Fields != nil {
			s.helpFind(b, k.Fields, path+"."+k.Name, query)
		}
	}
	for _, inner := range c.Blocks {
		if hit(inner.Name) {
			head := strings.TrimPrefix(path+"."+inner.Name, ".")
			fmt.Fprintf(b, "%s  %s\n", s.bold(head), flow("a block"+labelled(inner)+": "+inner.Help+like(inner), s.Width, 2))
			if inner.Label != nil {
				s.helpValues(b, inner.Label.Allowed, inner.Label.Meanings)
			}
			var names, docs []string
			for _, v := range inner.Variables {
				names, docs = append(names, "{"+v.Name+"}"), append(docs, v.Doc)
			}
			s.helpValues(b, names, docs)
			if inner.Like == "" {
				s.helpTree(b, inner, 1)
			}
			b.WriteByte('\n')
		}
		if inner.Like != "" {
			continue // what is in it is found in the block it is like
		}
		s.helpFind(b, inner, strings.TrimPrefix(path+"."+inner.Name, "."), query)
	}
}

// like returns where the keys of a block are told.
func like(c *config.Block) string {
	if c.Like == "" {
		return ""
	}
	return "; it has the keys of " + c.Like + ", except " + strings.Join(c.Except, " and ")
}

func labelled(c *config.Block) string {
	switch {
	case c.Label == nil:
		return ""
	}
	return " with a " + c.Label.Name
}

// helpValues lists values, a line each, with what they mean.
func (s Style) helpValues(b *strings.Builder, values, meanings []string) {
	width := 0
	for _, v := range values {
		width = max(width, visible(v))
	}
	for i, v := range values {
		text := ""
		if meanings != nil {
			text = "  " + flow(meanings[i], s.Width, width+6)
		}
		b.WriteString(strings.TrimRight("    "+padRight(v, width)+text, " ") + "\n")
	}
}

func (s Style) helpKey(b *strings.Builder, k *config.Key, path string) {
	what := k.Type.String()
	if len(k.Allowed) > 0 {
		what = "one of the values below"
	}
	fmt.Fprintf(b, "%s  %s\n", s.bold(path), flow(k.Help, s.Width, 2))
	line := func(name, text string) {
		if text != "" {
			fmt.Fprintf(b, "  %-9s%s\n", name, flow(text, s.Width, 11))
		}
	}
	line("type", what)
	switch {
	case k.Min != "" && k.Max != "":
		line("limits", k.Min+" to "+k.Max)
	case k.Min != "":
		line("limits", "at least "+k.Min)
	case k.Max != "":
		line("limits", "at most "+k.Max)
	}
	switch {
	case k.Required:
		line("default", "none: it must be given")
	case k.Default != "":
		line("default", k.Default)
		line("reason", k.Why)
	default:
		line("default", "none")
	}
	line("example", k.Name+" = "+k.Example)
	s.helpValues(b, k.Values(), k.Meanings)
	b.WriteByte('\n')
}
