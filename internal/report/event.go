package report

import "kestrix/internal/core/status"

// Event writes an event as one line: its time (RFC 3339, UTC), object, kind and text. A
// line may be read weeks later beside those of machines elsewhere.
func (s Style) Event(e status.Event) string {
	kind := padRight(string(e.Kind), 11)
	switch e.Kind {
	case "down", "suspended", status.EventRefused, status.EventUnavailable, status.EventOverloaded:
		kind = s.red(kind)
	}
	return e.At.UTC().Format("2006-01-02T15:04:05.000Z") + "  " + s.bold(padRight(e.Object, 16)) + "  " + kind + "  " + e.Text + "\n"
}
