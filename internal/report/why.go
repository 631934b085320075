package report

import (
	"fmt"
	"strings"

	"kestrix/internal/core/study"
)

// Why writes where a request goes, and why, as text.
func (s Style) Why(request string, a *study.Answer) string {
	return s.fitted(func(s Style) string { return s.whyText(request, a) })
}

func (s Style) whyText(request string, a *study.Answer) string {
	var b strings.Builder
	fmt.Fprintf(&b, "%s\n\n", s.bold(request))
	fmt.Fprintf(&b, "frontend  %s, on %s\n", s.bold(a.Frontend), a.Listener)
	if a.Unreached != "" {
		b.WriteString("          " + s.warn(flow(a.Unreached+": what follows is as if the request had come to "+a.Listener, s.Width, 10)) + "\n")
	}
	for _, r := range a.Routes {
		word := "no match"
		if r.Matches {
			word = "takes it"
		}
		name := padRight(r.Route, 12)
		if r.Matches {
			name = s.bold(name)
		}
		fmt.Fprintf(&b, "route     %s  %-8s  %s\n", name, word, flow(r.Why, s.Width, 34))
	}
	if a.Upstream == "" {
		reason := a.Reason
		if a.Route == "" {
			reason = s.red(reason)
		}
		fmt.Fprintf(&b, "\n%s\n", flow(reason, s.Width, 0))
		return b.String()
	}
	fmt.Fprintf(&b, "upstream  %s\n", s.bold(a.Upstream))
	if a.Backend == "" {
		fmt.Fprintf(&b, "\n%s\n", s.red(a.Reason))
	} else {
		fmt.Fprintf(&b, "backend   %s: %s\n", s.bold(a.Backend), flow(a.Reason, s.Width, 10))
	}
	if a.Shares != "" {
		fmt.Fprintf(&b, "shares    %s\n", flow(a.Shares, s.Width, 10))
	}
	if p := a.Passed; p != nil {
		fmt.Fprintf(&b, "sees      %s http://%s%s\n", p.Method, p.Host, p.Path)
		for _, f := range p.Own {
			fmt.Fprintf(&b, "          %s\n", f)
		}
		for _, f := range p.Set {
			fmt.Fprintf(&b, "          %s\n", f)
		}
		for _, f := range p.Removed {
			fmt.Fprintf(&b, "          without %s\n", f)
		}
	}
	b.WriteByte('\n')
	var rows [][]string
	for i, c := range a.Considered {
		if i == 30 && !s.All {
			rows = append(rows, []string{fmt.Sprintf("and %d more", len(a.Considered)-30), "", "", "", ""})
			break
		}
		name := c.Backend
		if c.Chosen {
			name = s.bold(name)
		}
		rows = append(rows, []string{name, c.Address, c.State, fmt.Sprint(c.Weight), c.Why})
	}
	b.WriteString(s.table([]column{
		{name: "backend", left: true}, {name: "address", left: true, drop: 2}, {name: "state", left: true}, {name: "weight", drop: 3}, {name: "why", left: true, drop: 1},
	}, rows, 2))
	if len(a.Series) > 1 {
		b.WriteString("\n" + s.bold(fmt.Sprintf("asked %d times in a row", len(a.Series))) + "\n")
		var rows [][]string
		for i, p := range a.Series {
			name := p.Backend
			if name == "" {
				name = "-"
			}
			rows = append(rows, []string{fmt.Sprint(i + 1), s.bold(name), p.Address, p.Why})
		}
		b.WriteString(s.table([]column{{name: "#"}, {name: "backend", left: true}, {name: "address", left: true, drop: 2}, {name: "why", left: true, drop: 1}}, rows, 2))
	}
	return b.String()
}

// Matches writes which requests a route takes.
func (s Style) Matches(m *study.Matches) string {
	return s.fitted(func(s Style) string { return s.matchesText(m) })
}

func (s Style) matchesText(m *study.Matches) string {
	var b strings.Builder
	fmt.Fprintf(&b, "%s\n\n", s.bold(m.Frontend+"/"+m.Route))
	fmt.Fprintf(&b, "when      %s\n", flow(m.When, s.Width, 10))
	switch {
	case len(m.Examples) > 0:
		for i, x := range m.Examples {
			fmt.Fprintf(&b, "%-10s%s\n", map[bool]string{true: "takes"}[i == 0], flow(x, s.Width, 10))
		}
	case len(m.Undecided) > 0:
		b.WriteString("takes     " + s.warn("not decided whether there is such a request") + "\n")
	case !m.Matches:
		b.WriteString("takes     " + s.red("nothing: no request has all that it asks for") + "\n")
	default:
		b.WriteString("takes     " + s.red("nothing: routes before it take all that it asks for") + "\n")
	}
	for _, u := range m.Undecided {
		fmt.Fprintf(&b, "unknown   %s\n", flow(u+": its automaton has too many states", s.Width, 10))
	}
	if len(m.Less) > 0 {
		fmt.Fprintf(&b, "\n%s\n", s.bold("what it asks for, and a route before it takes"))
		var rows [][]string
		for _, l := range m.Less {
			rows = append(rows, []string{l.Route, l.Example, l.When})
		}
		b.WriteString(s.table([]column{{name: "route", left: true}, {name: "example", left: true}, {name: "when", left: true}}, rows, 2))
	}
	return b.String()
}
