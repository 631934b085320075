package pool

import (
	"fmt"
	"strings"

	"kestrix/internal/core/config"
)

// firstFailure returns the text of the event for a backend whose first probe fails: the probe, the result, and what to change.
// A backend that was well once needs no such text, as its configuration fits.
func firstFailure(b *Backend, p *config.Probe, why string) string {
	text := fmt.Sprintf("its first probe failed: %s: %s", p.Of().What(p), why)
	place := fmt.Sprintf("the probe at %s:%d", p.Range.Filename, p.Range.Start.Line)
	status, isStatus := strings.CutPrefix(why, "status ")
	switch {
	case isStatus:
		return fmt.Sprintf("%s, expected %s; name another path in %s, or allow the status with expect = { status = [%q] }", text, statuses(p), place, status)
	case why == "connection refused":
		return fmt.Sprintf("%s; nothing listens at %s, start the backend or correct its address", text, b.Address)
	case strings.HasPrefix(why, "no answer within"):
		return fmt.Sprintf("%s; start the backend, or set a longer timeout in %s", text, place)
	}
	return fmt.Sprintf("%s; check the backend and %s", text, place)
}

// statuses returns the statuses that pass, as the configuration has them.
func statuses(p *config.Probe) string {
	var out []string
	for _, r := range p.Status {
		if r.From == r.To {
			out = append(out, fmt.Sprint(r.From))
			continue
		}
		out = append(out, fmt.Sprintf("%d-%d", r.From, r.To))
	}
	return strings.Join(out, ", ")
}
