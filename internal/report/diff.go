package report

import (
	"fmt"
	"strings"

	"kestrix/internal/core/study"
)

// Diff writes what a change of configuration does, as text.
func (s Style) Diff(old, now string, d *study.Diff) string {
	var b strings.Builder
	fmt.Fprintf(&b, "%s\n", s.bold(old+" to "+now))
	if !d.Changed() {
		b.WriteString("nothing changes for traffic\n")
		if t := d.Trace; t != nil {
			fmt.Fprintf(&b, "  all %s requests of the trace are answered as before\n", count(t.Requests))
		}
		return b.String()
	}
	changes := func(title string, list []study.Change) {
		if len(list) == 0 {
			return
		}
		fmt.Fprintf(&b, "\n%s\n", s.bold(title))
		wide := 0
		for _, c := range list {
			wide = max(wide, visible(c.What))
		}
		for _, c := range list {
			text := c.Old + " becomes " + c.New
			switch {
			case c.Old == "":
				text = "new: " + c.New
			case c.New == "":
				text = "gone: " + c.Old
			}
			fmt.Fprintf(&b, "  %s  %s\n", padRight(c.What, wide), flow(text, s.Width, wide+4))
		}
	}
	changes("where traffic enters", d.Listeners)
	if len(d.Requests) > 0 {
		fmt.Fprintf(&b, "\n%s\n", s.bold("requests that are answered differently"))
		for _, r := range d.Requests {
			fmt.Fprintf(&b, "  %s\n    %s\n", flow(r.Request, s.Width, 2), flow(fmt.Sprintf("at %s: was %s, is %s", r.Frontend, r.Old, r.New), s.Width, 4))
		}
	}
	if d.Trace != nil {
		s.traceMoves(&b, d.Trace)
	}
	changes("backends", d.Backends)
	if len(d.Clients) > 0 {
		fmt.Fprintf(&b, "\n%s\n", s.bold("clients that are given another backend"))
		for _, c := range d.Clients {
			fmt.Fprintf(&b, "  %s  %s of them: %s\n", c.Upstream, percent(c.Share), c.Why)
		}
	}
	changes("settings", d.Settings)
	return b.String()
}

// traceMoves returns how many requests of a trace go elsewhere.
func (s Style) traceMoves(b *strings.Builder, t *study.TraceMoves) {
	fmt.Fprintf(b, "\n%s\n", s.bold("requests of the trace"))
	if t.Different == 0 {
		fmt.Fprintf(b, "  all %s are answered as before\n", count(t.Requests))
	} else {
		fmt.Fprintf(b, "  %s of %s (%s) are answered differently\n", count(t.Different), count(t.Requests), percent(float64(t.Different)/float64(t.Requests)))
	}
	if t.Unknown > 0 {
		fmt.Fprintf(b, "  %s\n", flow(plural(t.Unknown, "request")+" met a route that asks for what the trace does not record, so that it did not fit; -host names the host of records that name none", s.Width, 2))
	}
	for _, m := range t.Moves {
		text := fmt.Sprintf("at %s: was %s, is %s; first in line %d: %s", m.Frontend, m.Old, m.New, m.Line, m.Example)
		fmt.Fprintf(b, "  %s  %s\n", padLeft(count(m.Requests), 9), flow(text, s.Width, 13))
	}
}
