package report

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"kestrix/internal/core/status"
)

// Requests writes the kept requests of a running proxy in the order in which they began.
func (s Style) Requests(x *status.Requests) string {
	var b strings.Builder
	failed, slow := 0, 0
	for _, r := range slices.Backward(x.Requests) {
		b.WriteString(s.Request(&r) + "\n")
		if keptAsFailed(&r) {
			failed++
		}
		if r.Slow {
			slow++
		}
	}
	fmt.Fprintf(&b, "%s failed, %s slow (from %s on). Of each route the latest %d failed and the latest %d slow requests are kept.\n",
		count(int64(failed)), count(int64(slow)), span(x.SlowFrom), x.Most, x.Most)
	return b.String()
}

// keptAsFailed reports whether a request failed; one whose client left did not.
func keptAsFailed(r *status.Request) bool { return r.Cause != "" && r.Cause != "client_left" }

// Request writes a request with its attempts.
func (s Style) Request(r *status.Request) string {
	what := statusOrNone(r.Status)
	if r.Cause != "" {
		what += " " + r.Cause
	}
	if keptAsFailed(r) {
		what = s.red(what)
	}
	asked := strings.TrimSpace(r.Method + " " + r.Host + r.Path)
	out := fmt.Sprintf("%s  %s  %s  %s  %s\n", r.At.UTC().Format("2006-01-02T15:04:05.000Z"), s.bold(r.Frontend+"/"+cmp.Or(r.Route, "(no route)")), what, span(r.Duration), s.printable(cmp.Or(asked, r.Protocol)))
	out += "  client " + r.Client + s.dot() + "request " + r.RequestID
	if r.ID != nil {
		out += s.dot() + fmt.Sprintf("id %d", *r.ID)
	}
	if r.TraceID != "" {
		out += s.dot() + "trace " + r.TraceID
	}
	out += "\n"
	for i, a := range r.Attempts {
		out += fmt.Sprintf("  %d  %s\n", i+1, attemptText(r, &a))
	}
	if len(r.Attempts) == 0 {
		out += "  no backend was asked\n"
	}
	return out
}

// attemptText says in words what became of an attempt.
func attemptText(r *status.Request, a *status.RequestAttempt) string {
	text := fmt.Sprintf("%s.%s at %s, chosen by %s: ", r.Upstream, a.Backend, a.Address, cmp.Or(a.Reason, "nothing that is known"))
	switch {
	case a.Status > 0 && a.Cause != "":
		text += fmt.Sprintf("%d (%s)", a.Status, a.Cause)
	case a.Status > 0:
		text += fmt.Sprint(a.Status)
	case a.Cause != "":
		text += a.Cause
	default:
		text += "ended"
	}
	text += " after " + span(a.Duration)
	var parts []string
	if a.Connect > 0 && !slices.Contains([]string{"refused", "unreachable", "connect_timeout", "tls_failed"}, a.Cause) {
		parts = append(parts, "connected in "+span(a.Connect))
	}
	if a.FirstByte > 0 && r.Method != "" {
		parts = append(parts, "header after "+span(a.FirstByte))
	}
	if parts != nil {
		text += " (" + strings.Join(parts, ", ") + ")"
	}
	return text
}

func statusOrNone(code int) string {
	if code == 0 {
		return "no status"
	}
	return fmt.Sprint(code)
}
