package report

import (
	"slices"
	"strings"
)

// column is one of a table. On a terminal that is too narrow, those with the highest drop are hidden first.
type column struct {
	name string
	left bool // aligned left; numbers are aligned right
	drop int  // 0 is never hidden
}

// fit calls render until no table needs to hide a further column, and returns the names of the hidden ones. A column that
// one table hides is hidden in all, so that the tables of a report have the same columns.
func (s Style) fit(render func(Style)) (hidden []string) {
	for {
		var more []string
		s.hide, s.hidden = hidden, &more
		render(s)
		if len(more) == 0 {
			return hidden
		}
		hidden = append(hidden, more...)
	}
}

// fitted renders a report so that its tables fit, and lists the hidden columns in its last line.
func (s Style) fitted(render func(Style) string) string {
	if s.hidden != nil { // a part of a report that is fitted as a whole
		return render(s)
	}
	text := ""
	hidden := s.fit(func(s Style) { text = render(s) })
	if len(hidden) == 0 {
		return text
	}
	return text + "\n" + flow(hiddenNote(hidden), s.Width, 2) + "\n"
}

// hiddenNote lists hidden columns.
func hiddenNote(hidden []string) string {
	return "hidden: terminal too narrow (" + strings.Join(hidden, ", ") + ")"
}

// table writes rows under headings. On a terminal it hides columns that do not fit, see fit; in a file or a pipe it never
// does.
func (s Style) table(cols []column, rows [][]string, indent int) string {
	keep, widths := s.columnsThatFit(cols, rows, indent)
	var b strings.Builder
	line := func(cells []string) {
		var l strings.Builder
		l.WriteString(strings.Repeat(" ", indent-2))
		for i := range cols {
			if !keep[i] {
				continue
			}
			l.WriteString("  ")
			if cols[i].left {
				l.WriteString(padRight(cells[i], widths[i]))
			} else {
				l.WriteString(padLeft(cells[i], widths[i]))
			}
		}
		b.WriteString(strings.TrimRight(l.String(), " "))
		b.WriteByte('\n')
	}
	heads := make([]string, len(cols))
	for i, c := range cols {
		heads[i] = c.name
	}
	line(heads)
	for _, r := range rows {
		line(r)
	}
	return b.String()
}

// columnsThatFit returns which columns a table shows, and how wide each is.
func (s Style) columnsThatFit(cols []column, rows [][]string, indent int) (keep []bool, widths []int) {
	keep = make([]bool, len(cols))
	widths = make([]int, len(cols))
	for i, c := range cols {
		keep[i] = c.drop == 0 || !slices.Contains(s.hide, strings.TrimSpace(c.name))
		widths[i] = visible(c.name)
		for _, r := range rows {
			widths[i] = max(widths[i], visible(r[i]))
		}
	}
	total := func() int {
		n := indent - 2
		for i := range cols {
			if keep[i] {
				n += widths[i] + 2
			}
		}
		return n
	}
	for s.Terminal && total() > s.Width {
		worst := -1
		for i, c := range cols {
			if keep[i] && c.drop > 0 && (worst < 0 || c.drop > cols[worst].drop) {
				worst = i
			}
		}
		if worst < 0 {
			break
		}
		keep[worst] = false
		if s.hidden != nil && !slices.Contains(*s.hidden, strings.TrimSpace(cols[worst].name)) {
			*s.hidden = append(*s.hidden, strings.TrimSpace(cols[worst].name))
		}
	}
	return keep, widths
}

// without takes a column away.
func without(name string, cols []column, rows [][]string) ([]column, [][]string) {
	at := slices.IndexFunc(cols, func(c column) bool { return c.name == name })
	for i := range rows {
		rows[i] = slices.Delete(rows[i], at, at+1)
	}
	return slices.Delete(cols, at, at+1), rows
}
