package report

import (
	"fmt"
	"strconv"
	"strings"

	"kestrix/internal/core/study"
)

// mapBackends is how many backends of an upstream a picture shows.
const mapBackends = 12

// Map draws a configuration as a text tree.
func (s Style) Map(p *study.Map) string {
	tee, end, arrow := "├─ ", "└─ ", "→"
	if !s.Unicode {
		tee, end, arrow = "|- ", "`- ", "->"
	}
	branch := func(i, n int) string {
		if i == n-1 {
			return end
		}
		return tee
	}
	var b strings.Builder
	for _, f := range p.Frontends {
		fmt.Fprintf(&b, "frontend %s%s%s%s%s\n", s.bold(f.Name), s.dot(), f.Protocol, s.dot(), strings.Join(f.Listen, ", "))
		wide, to := 0, 0
		for _, r := range f.Routes {
			wide, to = max(wide, visible(r.Name)), max(to, visible(leads(r)))
		}
		for i, r := range f.Routes {
			head := fmt.Sprintf("  %s%s  %s %s  ", branch(i, len(f.Routes)), padRight(r.Name, wide), arrow, padRight(s.bold(leads(r)), to))
			b.WriteString(head + flow(r.When, s.Width, visible(head)) + "\n")
		}
		b.WriteByte('\n')
	}
	for _, u := range p.Upstreams {
		line := strings.Join(append([]string{u.Name, u.Algorithm}, u.Settings...), s.dot())
		fmt.Fprintf(&b, "upstream %s\n", s.bold(u.Name)+strings.TrimPrefix(flow(line, s.Width, 9), u.Name))
		shown := u.Backends
		if len(shown) > 30 && !s.All {
			shown = shown[:10]
		}
		wide, addr := 0, 0
		for _, x := range shown {
			wide, addr = max(wide, visible(x.Name)), max(addr, visible(x.Address))
		}
		for i, x := range shown {
			fmt.Fprintf(&b, "  %s%s  %s  weight %d, %s\n", branch(i, len(shown)), s.bold(padRight(x.Name, wide)), padRight(x.Address, addr), x.Weight, percent(x.Share)+stands(&x))
		}
		if n := len(u.Backends) - len(shown); n > 0 {
			fmt.Fprintf(&b, "     and %d more (all with -all)\n", n)
		}
		b.WriteByte('\n')
	}
	return b.String()
}

// stands returns where a backend stands, as far as that counts.
func stands(b *study.MapBackend) string {
	words := ""
	if b.Tier > 0 {
		words = fmt.Sprintf(", tier %d", b.Tier)
	}
	if b.Zone != "" {
		words += ", " + b.Zone
	}
	return words
}

// leads returns where a route leads.
func leads(r study.MapRoute) string {
	if r.Answer != "" {
		return r.Answer
	}
	return r.SendTo
}

// MapDot writes a configuration as a graph in the dot language.
func MapDot(p *study.Map) string {
	var b strings.Builder
	q := strconv.Quote
	b.WriteString("digraph kestrix {\n  rankdir=LR;\n  node [shape=box, fontname=\"sans-serif\"];\n")
	for _, f := range p.Frontends {
		fmt.Fprintf(&b, "  %s [label=%s];\n", q("frontend."+f.Name), q(f.Name+"\n"+strings.Join(f.Listen, "\n")))
		for i, r := range f.Routes {
			to := "upstream." + r.SendTo
			if r.Answer != "" {
				to = r.Answer
			}
			fmt.Fprintf(&b, "  %s -> %s [label=%s];\n", q("frontend."+f.Name), q(to), q(fmt.Sprintf("%d %s: %s", i+1, r.Name, r.When)))
		}
	}
	for _, u := range p.Upstreams {
		fmt.Fprintf(&b, "  %s [label=%s];\n", q("upstream."+u.Name), q(u.Name+"\n"+u.Algorithm))
		for i, x := range u.Backends {
			if i == mapBackends && len(u.Backends) > mapBackends+1 {
				more := fmt.Sprintf("and %d more", len(u.Backends)-i)
				fmt.Fprintf(&b, "  %s -> %s;\n", q("upstream."+u.Name), q(u.Name+": "+more))
				break
			}
			fmt.Fprintf(&b, "  %s [label=%s];\n  %s -> %s [label=%s];\n", q(u.Name+"."+x.Name), q(x.Name+"\n"+x.Address+stands(&x)), q("upstream."+u.Name), q(u.Name+"."+x.Name), q(percent(x.Share)))
		}
	}
	b.WriteString("}\n")
	return b.String()
}
