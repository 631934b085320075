package config

import (
	"cmp"
	"slices"

	"github.com/hashicorp/hcl/v2"
)

// Severity says how bad a finding is.
type Severity int

// An error means the configuration cannot be used as it stands; a warning that
// it will not do what it seems to; advice that there is a better way.
const (
	Error Severity = iota
	Warning
	Advice
)

func (s Severity) String() string {
	return [...]string{"error", "warning", "advice"}[s]
}

// Finding is one thing to say about a configuration, with its place.
type Finding struct {
	ID       string    // stable name of the rule, such as KX102
	Severity Severity  //
	Range    hcl.Range // the tight place that is marked in the source
	Message  string    // what is wrong, for this case
	Hint     string    // stands beside the mark: what was expected, or a likely meaning
	Why      string    // why it matters; may be empty
	Witness  string    // a request or number that shows it; may be empty
	Fix      string    // how to fix it; may be empty
	Edits    []Edit    // edits that fix it; nil where nobody can know them
}

// Edit puts a text in the place of a range of a source, as it was read, without a byte order mark.
type Edit struct {
	Range hcl.Range
	Text  string
}

// Findings is a list of them.
type Findings []Finding

// Sort puts findings in source order: file, line, column, then id.
func (f Findings) Sort() {
	slices.SortStableFunc(f, func(a, b Finding) int {
		return cmp.Or(
			cmp.Compare(a.Range.Filename, b.Range.Filename),
			cmp.Compare(a.Range.Start.Byte, b.Range.Start.Byte),
			cmp.Compare(a.ID, b.ID),
			cmp.Compare(a.Message, b.Message),
		)
	})
}

// Count returns the number of findings of one severity.
func (f Findings) Count(s Severity) int {
	n := 0
	for i := range f {
		if f[i].Severity == s {
			n++
		}
	}
	return n
}

// The ids of findings that reading itself makes. Those of the check rules
// stand beside their rules.
const (
	IDSyntax    = "KX001" // not the language's syntax
	IDUnknown   = "KX002" // a key or block the language does not have
	IDType      = "KX003" // a value that cannot be read as what the key needs
	IDLimit     = "KX004" // a number or time outside its limits
	IDMissing   = "KX005" // a key or block that must be there
	IDTwice     = "KX006" // something given twice
	IDChoice    = "KX007" // not one of the values that are allowed
	IDReference = "KX101" // a name that is not defined
)
