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
		b.WriteString("every request goes the same way, which is proved, and no setting differs\n")
		if t := d.Trace; t != nil {
			fmt.Fprintf(&b, "  all %s requests of the %s are answered as before\n", count(t.Requests), t.Of)
		}
		s.renamed(&b, d)
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
	s.requestMoves(&b, d)
	if d.Trace != nil {
		s.traceMoves(&b, d.Trace)
	}
	changes("backends", d.Backends)
	if len(d.Clients) > 0 {
		fmt.Fprintf(&b, "\n%s\n", s.bold("clients that are given another backend"))
		for _, c := range d.Clients {
			fmt.Fprintf(&b, "  %s  %s\n", c.Upstream, flow(movedWords(&c), s.Width, visible(c.Upstream)+4))
		}
	}
	changes("settings", d.Settings)
	s.renamed(&b, d)
	return b.String()
}

// requestMoves writes which requests are answered differently, and what is not decided.
func (s Style) requestMoves(b *strings.Builder, d *study.Diff) {
	if len(d.Requests) == 0 && len(d.Undecided) == 0 {
		fmt.Fprintf(b, "\n%severy request goes the same way, which is proved\n", whereCompared(d))
		return
	}
	if len(d.Requests) > 0 {
		fmt.Fprintf(b, "\n%s\n", s.bold("requests that are answered differently"+others(d)))
	}
	for i := range d.Requests {
		r := &d.Requests[i]
		fmt.Fprintf(b, "  %s: %s\n", s.bold(r.Frontend), flow(r.Where, s.Width, 4))
		fmt.Fprintf(b, "    was   %s\n    is    %s\n    like  %s\n", flow(routeAnd(r.OldRoute, r.Old), s.Width, 10), flow(routeAnd(r.NewRoute, r.New), s.Width, 10), flow(r.Request, s.Width, 10))
		if r.Clients != nil {
			fmt.Fprintf(b, "    moves %s\n", flow(movedWords(r.Clients), s.Width, 10))
		}
		if d.Trace != nil {
			fmt.Fprintf(b, "    %s%s\n", padRight(d.Trace.Of, 6), flow(shareWords(d, r), s.Width, 10))
		}
	}
	if len(d.Undecided) > 0 {
		fmt.Fprintf(b, "\n%s\n", s.warn("not decided"))
	}
	for _, u := range d.Undecided {
		fmt.Fprintf(b, "  %s: %s\n", s.bold(u.Frontend), flow(u.What+": "+u.Why, s.Width, 4))
	}
}

// movedWords words what becomes of clients that were bound to a backend.
func movedWords(c *study.ClientMove) string {
	share := "about " + percent(c.Share) + " of"
	if c.Share == 1 {
		share = "all"
	}
	return share + " clients to another server: " + c.Why
}

// shareWords words how much of a trace or a load is in a set of requests.
func shareWords(d *study.Diff, r *study.RequestMove) string {
	x := d.Example(r)
	if x == nil {
		return "none of its requests"
	}
	text := fmt.Sprintf("%s of %s (%s)", count(x.Requests), plural(d.Trace.Requests, "request"), percent(float64(x.Requests)/float64(d.Trace.Requests)))
	if x.Clients > 0 {
		text += " of " + plural(x.Clients, "client")
	}
	if x.Clients == study.MostClients {
		text += " or more"
	}
	return text + fmt.Sprintf(", first in line %d: %s", x.Line, x.Example)
}

// whereCompared says of which frontends something is proved, where it is not of all.
func whereCompared(d *study.Diff) string {
	if len(d.Listeners) == 0 {
		return ""
	}
	return "at frontends that are on both sides and speak the same, "
}

// others says what is proved of the requests that are not told.
func others(d *study.Diff) string {
	if len(d.Undecided) > 0 {
		return ""
	}
	return " · " + whereCompared(d) + "all others go the same way, which is proved"
}

// renamed writes what is only called otherwise.
func (s Style) renamed(b *strings.Builder, d *study.Diff) {
	if len(d.Renamed) == 0 {
		return
	}
	fmt.Fprintf(b, "\n%s\n", s.bold("called otherwise, and the same"))
	for _, c := range d.Renamed {
		fmt.Fprintf(b, "  %s %s is called %s\n", c.What, c.Old, c.New)
	}
}

// traceMoves returns how many requests of a trace go elsewhere.
func (s Style) traceMoves(b *strings.Builder, t *study.TraceMoves) {
	fmt.Fprintf(b, "\n%s\n", s.bold("requests of the "+t.Of))
	if t.Different == 0 {
		fmt.Fprintf(b, "  all %s are answered as before\n", count(t.Requests))
	} else {
		fmt.Fprintf(b, "  %s of %s (%s) are answered differently\n", count(t.Different), count(t.Requests), percent(float64(t.Different)/float64(t.Requests)))
	}
	if t.Unknown > 0 {
		fmt.Fprintf(b, "  %s\n", flow(plural(t.Unknown, "request")+" did not match a route with a condition on what the trace does not record; -host names the host for records without one", s.Width, 2))
	}
}
