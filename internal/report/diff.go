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
		fmt.Fprintf(&b, "\n%s\n", s.bold("requests that are answered by somebody else"))
		for _, r := range d.Requests {
			fmt.Fprintf(&b, "  %s\n    %s\n", flow(r.Request, s.Width, 2), flow(fmt.Sprintf("at %s: was %s, is %s", r.Frontend, r.Old, r.New), s.Width, 4))
		}
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
