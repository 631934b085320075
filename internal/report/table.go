package report

import (
	"slices"
	"strings"
)

// column is one of a table. Those with a higher drop are left out first where
// the width does not do.
type column struct {
	name string
	left bool // aligned left; numbers are aligned right
	drop int  // 0 is never left out
}

// table prints rows under headings within a width, leaving columns out if need
// be and saying so.
func (s Style) table(cols []column, rows [][]string, indent int) string {
	keep := make([]bool, len(cols))
	widths := make([]int, len(cols))
	for i, c := range cols {
		keep[i] = true
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
	var dropped []string
	for total() > s.Width {
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
		dropped = append(dropped, strings.TrimSpace(cols[worst].name))
	}
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
	if len(dropped) > 0 {
		note := "(hidden: terminal too narrow: " + strings.Join(dropped, ", ") + ")"
		b.WriteString(strings.Repeat(" ", indent) + flow(note, s.Width, indent) + "\n")
	}
	return b.String()
}

// without takes a column away.
func without(name string, cols []column, rows [][]string) ([]column, [][]string) {
	at := slices.IndexFunc(cols, func(c column) bool { return c.name == name })
	for i := range rows {
		rows[i] = slices.Delete(rows[i], at, at+1)
	}
	return slices.Delete(cols, at, at+1), rows
}
