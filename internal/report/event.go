package report

import (
	"fmt"
	"time"
)

// Event writes one line of news: when, who, what, and in words.
func (s Style) Event(at time.Time, who, what, text string) string {
	head := fmt.Sprintf("%s  %s  %s", at.Format("15:04:05.000"), s.bold(padRight(who, 16)), padRight(what, 10))
	switch what {
	case "down", "suspended", "refused", "empty":
		head = fmt.Sprintf("%s  %s  %s", at.Format("15:04:05.000"), s.bold(padRight(who, 16)), s.red(padRight(what, 10)))
	}
	return head + "  " + text + "\n"
}
