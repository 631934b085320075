package check

import "embed"

// files holds for each rule examples/ID/bad.hcl, with a comment that begins with
// "# want:" on the line of the finding, and examples/ID/good.hcl, which is clean.
//
//go:embed examples
var files embed.FS

// Examples returns a rule's failing and clean configuration.
func (r *Rule) Examples() (bad, good string) {
	b, _ := files.ReadFile("examples/" + r.ID + "/bad.hcl") // a test sees to it that both are there
	g, _ := files.ReadFile("examples/" + r.ID + "/good.hcl")
	return string(b), string(g)
}
