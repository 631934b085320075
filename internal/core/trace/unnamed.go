package trace

import (
	"bytes"
	"strings"
)

// Unnamed is a field at the end of log lines that may be a duration and that nothing names.
type Unnamed struct {
	Example string `json:"example"` // what stands in it
	Fields  string `json:"fields"`  // what -fields would be, if it is in microseconds
}

// unnamedLines is how many lines are looked at for a field without a name.
const unnamedLines = 100

// findUnnamed looks at the beginning of a file for log lines that end in a whole number
// behind their quoted texts. One that is a decimal number is taken for a duration as it is.
func findUnnamed(head []byte) (u Unnamed, found bool) {
	n, whole := 0, 0
	for line := range bytes.Lines(head) {
		if n == unnamedLines || !bytes.HasSuffix(line, []byte("\n")) {
			break
		}
		n++
		line = bytes.TrimRight(line, "\r\n ")
		further := furtherFields(line)
		if len(further) == 0 {
			continue
		}
		if _, ok := shortFraction(further[0]); ok {
			continue
		}
		if text := further[len(further)-1]; len(text) <= 12 && digits(text) {
			whole++
			u = Unnamed{string(text), strings.Repeat("-,", len(further)-1) + "duration/us"}
		}
	}
	return u, n > 0 && whole*10 >= n*9
}

// furtherFields returns what stands behind the user agent of a Combined line: behind the
// third text in quotes.
func furtherFields(line []byte) [][]byte {
	var c combined
	c.escapes = true
	for range 3 {
		at := bytes.IndexByte(line, '"')
		if at < 0 {
			return nil
		}
		_, end, ok := c.quoted(line, at)
		if !ok {
			return nil
		}
		line = line[end:]
	}
	var out [][]byte
	for i := skipSpace(line, 0); i < len(line); i = skipSpace(line, i) {
		end := bareEnd(line, i)
		if line[i] == '"' {
			var ok bool
			if _, end, ok = c.quoted(line, i); !ok {
				return nil
			}
		}
		out = append(out, line[i:end])
		i = end
	}
	return out
}
