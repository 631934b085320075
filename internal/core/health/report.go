package health

import (
	"fmt"
	"strconv"
	"strings"
)

// Report is what a backend says of itself.
type Report struct {
	Down   bool
	Wishes Operator // In, Drained or ParkedOut
	Share  float64  // of its weight, 0 to 1
}

// ParseReport reads a line such as `state=draining share=50`: words of the form
// name=value, in any order, of which unknown names are passed over. What is not
// said is state=up and share=100. The error says what cannot be understood.
func ParseReport(line string) (Report, error) {
	r := Report{Share: 1}
	words := strings.Fields(line)
	if len(words) == 0 {
		return r, fmt.Errorf("it said nothing")
	}
	for _, w := range words {
		name, value, ok := strings.Cut(w, "=")
		if !ok {
			return r, fmt.Errorf("it said %q, where a word like state=up is expected", cut(w))
		}
		switch name {
		case "state":
			switch value {
			case "up":
				r.Down, r.Wishes = false, In
			case "down":
				r.Down, r.Wishes = true, In
			case "draining":
				r.Down, r.Wishes = false, Drained
			case "parked":
				r.Down, r.Wishes = false, ParkedOut
			default:
				return r, fmt.Errorf("it reported state=%s; known: up, draining, parked, down", cut(value))
			}
		case "share":
			n, err := strconv.Atoi(strings.TrimSuffix(value, "%"))
			if err != nil || n < 0 || n > 100 {
				return r, fmt.Errorf("it said share=%s; a whole number from 0 to 100 is expected", cut(value))
			}
			r.Share = float64(n) / 100
		}
	}
	return r, nil
}

// cut keeps what a stranger wrote readable.
func cut(s string) string {
	if len(s) > 40 {
		s = s[:40]
	}
	return strings.ToValidUTF8(s, "?")
}
