package trace

import (
	"bytes"
	"fmt"
	"strings"
)

// csv reads comma-separated values with a header row (RFC 4180) that names the
// columns by the keys of the record; semicolons and tabs separate as well.
type csv struct {
	columns   []field
	separator byte
	scratch   []byte
	row       []byte // a row that goes over several lines
}

// newCSV reads a header row. Nil without a reason says that the line is none.
func newCSV(line []byte, names *renames) (*csv, string) {
	for _, separator := range []byte{',', ';', '\t'} {
		c := &csv{separator: separator}
		seen := map[string]bool{}
		useful, keys := 0, 0
		twice := ""
		for i := 0; i <= len(line); {
			v, end, why := c.cell(line, i)
			if why != "" {
				break
			}
			i = end + 1
			name := strings.TrimSpace(string(v))
			f, ok := names.look(name)
			if !ok {
				f, ok = names.look(strings.ToLower(name))
			}
			if ok {
				useful++
				if seen[name] {
					twice = name
				}
				if f.kind != fieldRequest {
					keys++
				}
			} else {
				f = field{}
			}
			seen[name] = true
			c.columns = append(c.columns, f)
		}
		// One column alone is a header only if a key is all that stands there.
		if keys == 0 {
			continue
		}
		if twice != "" {
			return nil, fmt.Sprintf("the header names the column %q twice", twice)
		}
		return c, ""
	}
	return nil, ""
}

// cell reads the cell that begins at i and returns where it ends.
func (c *csv) cell(line []byte, i int) (v []byte, end int, why string) {
	if i >= len(line) || line[i] != '"' {
		if k := bytes.IndexByte(line[i:], c.separator); k >= 0 {
			return line[i : i+k], i + k, ""
		}
		return line[i:], len(line), ""
	}
	from := len(c.scratch)
	for k := i + 1; k < len(line); k++ {
		if line[k] != '"' {
			c.scratch = append(c.scratch, line[k])
			continue
		}
		if k+1 < len(line) && line[k+1] == '"' {
			c.scratch = append(c.scratch, '"')
			k++
			continue
		}
		if k+1 < len(line) && line[k+1] != c.separator {
			return nil, k + 1, "after the closing quote of a cell its separator is expected; a quote inside is written twice"
		}
		return c.scratch[from:len(c.scratch):len(c.scratch)], k + 1, ""
	}
	return nil, i, openQuote
}

const openQuote = "the quote that opens this cell is never closed"

// parse reads one row; see combined.parse.
func (c *csv) parse(line []byte, r *Record) (int, string) {
	c.scratch = c.scratch[:0]
	n := 0
	for i := 0; ; n++ {
		v, end, why := c.cell(line, i)
		if why != "" {
			return end + 1, why
		}
		if n >= len(c.columns) {
			return i + 1, fmt.Sprintf("the row has more cells than the header's %d", len(c.columns))
		}
		if i < len(line) && line[i] != '"' {
			v = bytes.TrimSpace(v)
		}
		if why := c.columns[n].set(r, v); why != "" {
			return i + 1, why
		}
		if end >= len(line) {
			break
		}
		i = end + 1
	}
	if n++; n < len(c.columns) {
		return len(line) + 1, fmt.Sprintf("the row has %d cells, the header %d", n, len(c.columns))
	}
	return 0, ""
}

// wholeRow adds the lines that a cell in quotes goes on over.
func (r *Reader) wholeRow(line []byte) []byte {
	if bytes.IndexByte(line, '"') < 0 || !r.csv.open(line) {
		return line
	}
	r.csv.row = append(r.csv.row[:0], line...)
	for r.csv.open(r.csv.row) && len(r.csv.row) < maxLine {
		next, tooLong, err := r.lines.next()
		if tooLong || err != nil {
			break // what is open is told as such; an error of reading comes again
		}
		r.csv.row = append(append(r.csv.row, '\n'), next...)
	}
	return r.csv.row
}

// open reports whether a row ends inside quotes.
func (c *csv) open(row []byte) bool {
	c.scratch = c.scratch[:0]
	for i := 0; i <= len(row); {
		_, end, why := c.cell(row, i)
		if why != "" {
			return why == openQuote
		}
		i = end + 1
	}
	return false
}
