package report

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"github.com/hashicorp/hcl/v2"

	"kestrix/internal/core/config"
)

// Compatibility is what a version of the program has against a configuration that was written
// for an earlier one, or for a later one.
type Compatibility struct {
	Version       string         `json:"version"`
	Configuration string         `json:"configuration"`
	Partial       bool           `json:"partial"` // a syntax error may hide more
	Refused       []Incompatible `json:"refused"` // removed or renamed since, or not known
	Changed       []Incompatible `json:"changed"` // accepted, with another meaning or default
}

// Incompatible is one of these, with all places.
type Incompatible struct {
	Since string   `json:"since,omitempty"` // the version that began it; empty: what refuses it is no change that is known
	Kind  string   `json:"kind"`            // removed, renamed, default, meaning or error
	What  string   `json:"what"`
	Fix   string   `json:"fix,omitempty"`
	At    []string `json:"at"` // FILE:LINE:COLUMN
}

// NewCompatibility holds a configuration against what the language changed. The findings are
// those of reading it.
func NewCompatibility(version, name string, c *config.Config, found config.Findings) *Compatibility {
	out := &Compatibility{Version: version, Configuration: name, Partial: c.Broken, Refused: []Incompatible{}, Changed: []Incompatible{}}
	told := map[string]bool{}
	add := func(to *[]Incompatible, x Incompatible, at hcl.Range) {
		place := fmt.Sprintf("%s:%d:%d", at.Filename, at.Start.Line, at.Start.Column)
		told[place] = true
		for i := range *to {
			if o := &(*to)[i]; o.What == x.What {
				o.At = append(o.At, place)
				return
			}
		}
		x.At = []string{place}
		*to = append(*to, x)
	}
	for _, x := range c.Changed() {
		to := &out.Changed
		if x.Kind.Refused() {
			to = &out.Refused
		}
		add(to, Incompatible{Since: x.Since, Kind: string(x.Kind), What: x.What, Fix: x.Fix}, x.At)
	}
	for _, f := range found {
		place := fmt.Sprintf("%s:%d:%d", f.Range.Filename, f.Range.Start.Line, f.Range.Start.Column)
		if f.Severity == config.Error && !told[place] {
			add(&out.Refused, Incompatible{Kind: "error", What: f.Message, Fix: cmp.Or(f.Fix, f.Hint)}, f.Range)
		}
	}
	return out
}

// Compatibility writes it as text.
func (s Style) Compatibility(x *Compatibility) string {
	var b strings.Builder
	part := func(title, fix string, all []Incompatible) {
		if len(all) == 0 {
			return
		}
		fmt.Fprintf(&b, "%s\n", s.bold(title))
		for _, i := range all {
			line := i.What
			if i.Since != "" {
				line = i.Since + " " + i.Kind + ": " + line
			}
			fmt.Fprintf(&b, "  %s\n", flow(s.printable(line), s.Width, 4))
			if i.Fix != "" {
				fmt.Fprintf(&b, "    %-4s  %s\n", fix, flowFrom(s.printable(i.Fix), s.Width, 10, 10))
			}
			at, more := i.At, ""
			if len(at) > 5 {
				at, more = at[:5], fmt.Sprintf(" and %d more", len(at)-5)
			}
			fmt.Fprintf(&b, "    at    %s\n", flowFrom(s.printable(strings.Join(at, ", "))+more, s.Width, 10, 10))
		}
		b.WriteString("\n")
	}
	fmt.Fprintf(&b, "%s with kestrix %s\n\n", s.printable(x.Configuration), x.Version)
	part("refused", "fix", x.Refused)
	part("accepted, and changed", "keep", x.Changed)
	known := func(i Incompatible) bool { return i.Since != "" }
	switch removed := slices.ContainsFunc(x.Refused, known); {
	case x.Partial:
		b.WriteString("a syntax error may hide more: correct it, and ask again")
	case removed:
		b.WriteString("it uses what was renamed or removed")
	case len(x.Refused) > 0:
		b.WriteString("it uses nothing that is known to be renamed or removed, and is refused for other reasons")
	default:
		b.WriteString("it uses nothing that was renamed or removed")
	}
	fmt.Fprintf(&b, "; defaults and meanings changed: %d\n", len(x.Changed))
	return b.String()
}
