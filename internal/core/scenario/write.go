package scenario

import (
	"bytes"
	"cmp"
	"fmt"
	"strconv"
	"strings"
	"time"

	"github.com/hashicorp/hcl/v2"
	"github.com/hashicorp/hcl/v2/hclsyntax"

	"kestrix/internal/core/config"
)

// With returns the source of the scenario with the seed, the instances and the load factor of
// another one, where these differ, and with further faults at its end, in canonical layout.
// Everything else stays as it is written.
func (s *Scenario) With(other *Scenario, faults []Fault) []byte {
	src := bytes.TrimPrefix(s.File.Source, []byte("\xef\xbb\xbf"))
	set := func(key, was, is string) {
		if was == is {
			return
		}
		line := key + " = " + is
		if at, ok := attribute(src, key); ok {
			src = append(append(bytes.Clone(src[:at.Start.Byte]), line...), src[at.End.Byte:]...)
		} else {
			src = append([]byte(line+"\n\n"), src...)
		}
	}
	number := func(x float64) string { return strconv.FormatFloat(x, 'g', -1, 64) }
	set("load_factor", number(cmp.Or(s.LoadFactor, 1)), number(cmp.Or(other.LoadFactor, 1)))
	set("instances", fmt.Sprint(s.Instances), fmt.Sprint(other.Instances))
	set("seed", fmt.Sprint(s.Seed), fmt.Sprint(other.Seed))
	var b strings.Builder
	b.Write(src)
	for i := range faults {
		b.WriteString("\n\n" + faults[i].Text())
	}
	out, _, err := config.Format(config.File{Name: s.File.Name, Source: []byte(b.String())})
	if err != nil || out == nil {
		return []byte(b.String()) // cannot be: the source was read
	}
	return out
}

// attribute returns where an attribute of the top level is written.
func attribute(src []byte, name string) (r hcl.Range, ok bool) {
	f, _ := hclsyntax.ParseConfig(src, "", hcl.InitialPos)
	if f == nil {
		return r, false
	}
	a := f.Body.(*hclsyntax.Body).Attributes[name]
	if a == nil {
		return r, false
	}
	return a.SrcRange, true
}

// Text returns the fault as a block of the language, with the keys that its kind has.
func (f *Fault) Text() string {
	var b strings.Builder
	fmt.Fprintf(&b, "fault %q {\n", f.Name)
	var names []string
	for _, p := range f.Backends {
		names = append(names, strconv.Quote(p.Value))
	}
	switch {
	case f.Proxy > 0:
		fmt.Fprintf(&b, "proxy = %d\n", f.Proxy)
	case len(f.Dependencies) > 0:
		fmt.Fprintf(&b, "dependency = %s\n", textList(quoted(f.Dependencies)))
	default:
		fmt.Fprintf(&b, "backend = %s\n", textList(names))
	}
	fmt.Fprintf(&b, "kind = %q\nat = %q\n", f.Kind, config.FormatDuration(f.At))
	if f.Until >= 0 {
		fmt.Fprintf(&b, "until = %q\n", config.FormatDuration(f.Until))
	}
	for _, key := range f.Of().Keys {
		switch key {
		case "status":
			fmt.Fprintf(&b, "status = %d\n", f.Status)
		case "rate":
			fmt.Fprintf(&b, "rate = \"%s%%\"\n", strconv.FormatFloat(100*f.Rate, 'g', 6, 64))
		case "after":
			if f.After >= 0 {
				fmt.Fprintf(&b, "after = %q\n", config.FormatDuration(f.After))
			}
		case "factor":
			fmt.Fprintf(&b, "factor = %s\n", strconv.FormatFloat(f.Factor, 'g', -1, 64))
		case "fails_for":
			fmt.Fprintf(&b, "fails_for = %q\n", config.FormatDuration(f.FailsFor))
		case "works_for":
			fmt.Fprintf(&b, "works_for = %q\n", config.FormatDuration(f.WorksFor))
		case "weight":
			fmt.Fprintf(&b, "weight = %d\n", f.Weight)
		case "moves_after":
			fmt.Fprintf(&b, "moves_after = %q\n", config.FormatDuration(max(f.MovesAfter, 0)))
		}
	}
	b.WriteString("}\n")
	return b.String()
}

// textList returns one text, or a list of several.
func textList(quoted []string) string {
	if len(quoted) == 1 {
		return quoted[0]
	}
	return "[" + strings.Join(quoted, ", ") + "]"
}

// quoted returns texts in quotation marks.
func quoted(texts []string) (out []string) {
	for _, t := range texts {
		out = append(out, strconv.Quote(t))
	}
	return out
}

// Named returns a fault with the values that a fault of the language has by default.
func Named(name, kind string, at, until time.Duration) Fault {
	return Fault{Name: name, Kind: kind, At: at, Until: until, Status: 503, Rate: 1, Factor: 10, FailsFor: 5 * time.Second, WorksFor: 15 * time.Second, After: -1}
}
