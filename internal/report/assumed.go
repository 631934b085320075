package report

import (
	"strings"

	"kestrix/internal/core/result"
)

// times writes times of a result, with a ~ before each that rests on an assumption.
type times bool

func timesOf(r *result.Replay) times { return times(r.Assumed.OfTimes()) }

// of writes a time in seconds.
func (t times) of(sec float64) string {
	if t {
		return "~" + span(sec)
	}
	return span(sec)
}

// orDash is of, with - where nothing was answered.
func (t times) orDash(sec float64) string {
	if sec == 0 {
		return "-"
	}
	return t.of(sec)
}

// percentiles writes those of a latency that a line of totals has.
func (t times) percentiles(l *result.Latency) []string {
	return []string{"p50 " + t.of(l.P50), "p95 " + t.of(l.P95), "p99 " + t.of(l.P99), "max " + t.of(l.Max)}
}

// assumptions words what is not from the trace: a line for each that matters, with its
// reason and its cure, and one for the others together.
func assumptions(all result.Assumptions) []string {
	var out, rest []string
	for _, a := range all {
		text := a.Value
		if a.What == result.ServiceTimes || a.What == result.Backends && a.Times {
			text = a.What + ": " + text
		}
		switch {
		case a.Times:
			out = append(out, "~ "+text+": "+a.Because+"; "+a.Instead)
		case a.What == result.LastField || a.What == result.Waiting:
			out = append(out, text+": "+a.Because+"; "+a.Instead)
		default:
			rest = append(rest, text)
		}
	}
	if rest != nil {
		out = append(out, strings.Join(rest, "; "))
	}
	return out
}

// assumed is the part of a report that says what of it is not from the trace; ~ is before
// what its times rest on.
func (s Style) assumed(all result.Assumptions) string {
	var b strings.Builder
	for _, l := range assumptions(all) {
		line := flow("assumed  "+l, s.Width, 9) + "\n"
		if strings.HasPrefix(l, "~") {
			line = s.warn(line)
		}
		b.WriteString(line)
	}
	return b.String()
}
