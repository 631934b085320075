package report

import (
	"fmt"
	"strings"

	"kestrix/internal/core/study"
)

// DiffMarkdown writes what a change of configuration does as Markdown (CommonMark, with the
// tables that code hosts read), for a comment on a review.
func DiffMarkdown(old, now string, d *study.Diff) string {
	var b strings.Builder
	fmt.Fprintf(&b, "### %s to %s\n\n", code(old), code(now))
	switch {
	case !d.Changed():
		b.WriteString("Every request goes the same way, which is proved, and no setting differs.\n")
	case len(d.Requests) == 0 && len(d.Undecided) == 0:
		b.WriteString(capital(whereCompared(d)+"every request goes the same way, which is proved.") + "\n")
	case len(d.Requests) == 0:
		b.WriteString("It is not decided whether every request goes the same way.\n")
	case len(d.Undecided) == 0:
		fmt.Fprintf(&b, "These requests are answered differently; %sall others go the same way, which is proved.\n", whereCompared(d))
	default:
		b.WriteString("These requests are answered differently; of others it is not decided.\n")
	}
	if t := d.Trace; t != nil {
		fmt.Fprintf(&b, "\n%s of %s requests of the %s are answered differently.\n", count(t.Different), count(t.Requests), t.Of)
	}
	for i := range d.Requests {
		r := &d.Requests[i]
		fmt.Fprintf(&b, "\n- **%s**: %s\n", escaped(r.Frontend), code(r.Where))
		fmt.Fprintf(&b, "  - was %s\n  - is %s\n  - like %s\n", code(routeAnd(r.OldRoute, r.Old)), code(routeAnd(r.NewRoute, r.New)), code(r.Request))
		if r.Clients != nil {
			fmt.Fprintf(&b, "  - moves %s\n", escaped(movedWords(r.Clients)))
		}
		if d.Trace != nil {
			fmt.Fprintf(&b, "  - %s: %s\n", d.Trace.Of, escaped(shareWords(d, r)))
		}
	}
	for _, u := range d.Undecided {
		fmt.Fprintf(&b, "\n- **not decided, %s**: %s: %s\n", escaped(u.Frontend), escaped(u.What), escaped(u.Why))
	}
	table := func(title string, list []study.Change) {
		if len(list) == 0 {
			return
		}
		fmt.Fprintf(&b, "\n**%s**\n\n| what | was | is |\n|---|---|---|\n", title)
		for _, c := range list {
			fmt.Fprintf(&b, "| %s | %s | %s |\n", tableCode(c.What), tableCode(c.Old), tableCode(c.New))
		}
	}
	table("where traffic enters", d.Listeners)
	table("backends", d.Backends)
	for _, c := range d.Clients {
		fmt.Fprintf(&b, "\n%s: %s.\n", code(c.Upstream), escaped(movedWords(&c)))
	}
	table("settings", d.Settings)
	table("called otherwise, and the same", d.Renamed)
	return b.String()
}

// routeAnd words a route and where it leads.
func routeAnd(name, to string) string {
	if name == "" {
		return to
	}
	return name + ", " + to
}

// code writes a text that Markdown must leave alone: between one more backtick than it has in
// a row.
func code(s string) string {
	most, n := 0, 0
	for _, c := range s {
		if n++; c != '`' {
			n = 0
		}
		most = max(most, n)
	}
	fence := strings.Repeat("`", most+1)
	if strings.HasPrefix(s, "`") || strings.HasSuffix(s, "`") {
		s = " " + s + " "
	}
	return fence + strings.Join(strings.Fields(s), " ") + fence
}

// tableCode is code for a table, in which a bar ends a cell.
func tableCode(s string) string {
	if s == "" {
		return ""
	}
	return strings.ReplaceAll(code(s), "|", `\|`)
}

// escaped has what means something to Markdown stand for itself.
func escaped(s string) string {
	var b strings.Builder
	for _, c := range s {
		if strings.ContainsRune("\\`*_[]<>#|", c) {
			b.WriteByte('\\')
		}
		b.WriteRune(c)
	}
	return b.String()
}
