package report

import "time"

// Event writes one line of news: when (RFC 3339, UTC), who, what, and in words. A line
// may be read weeks later beside those of machines elsewhere.
func (s Style) Event(at time.Time, who, what, text string) string {
	kind := padRight(what, 10)
	switch what {
	case "down", "suspended", "refused", "empty":
		kind = s.red(kind)
	}
	return at.UTC().Format("2006-01-02T15:04:05.000Z") + "  " + s.bold(padRight(who, 16)) + "  " + kind + "  " + text + "\n"
}
