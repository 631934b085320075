// Package check holds the rules that a configuration is held to. A rule is a
// value in the table Rules; to add one, write it in a file of its family and
// enter it there.
package check

import (
	"github.com/hashicorp/hcl/v2"

	"kestrix/internal/core/config"
)

// Rule is one thing that is looked for. Run is nil for what reading the
// language itself finds.
type Rule struct {
	ID       string // stable; KX0.. syntax, KX1.. names and structure, KX2.. health, KX3.. balancing, KX4.. sessions, KX5.. timeouts, KX9.. suppression
	Severity config.Severity
	Title    string // what is found, in a few words
	Why      string // why it matters
	Mend     string // how to mend it
	Run      func(*Pass)
}

// Pass is one rule at work on one configuration.
type Pass struct {
	Config   *config.Config
	rule     *Rule
	reading  config.Findings
	findings *config.Findings
}

// broken says whether reading has found something wrong with the value at a
// place, so that what a rule would say of it rests on a default.
func (p *Pass) broken(at hcl.Range) bool {
	for _, f := range p.reading {
		if f.Range.Filename == at.Filename && f.Range.Start.Byte >= at.Start.Byte && f.Range.End.Byte <= at.End.Byte {
			return true
		}
	}
	return false
}

// Finding is what a rule says of one place.
type Finding struct {
	Range   hcl.Range
	Message string
	Hint    string // beside the mark
	Witness string
	Mend    string // where the rule's own words can be put more exactly
}

// Report makes a finding.
func (p *Pass) Report(f Finding) {
	mend := f.Mend
	if mend == "" {
		mend = p.rule.Mend
	}
	*p.findings = append(*p.findings, config.Finding{
		ID: p.rule.ID, Severity: p.rule.Severity, Range: f.Range,
		Message: f.Message, Hint: f.Hint, Why: p.rule.Why, Witness: f.Witness, Mend: mend,
	})
}

// Rules is the table of all rules, by id. It is read only.
var Rules = func() []*Rule {
	var all []*Rule
	all = append(all, readingRules...)
	all = append(all, nameRules...)
	all = append(all, structureRules...)
	all = append(all, healthRules...)
	all = append(all, balanceRules...)
	all = append(all, sessionRules...)
	all = append(all, timeoutRules...)
	all = append(all, allowRules...)
	return all
}()

// Run holds a configuration against every rule and gives what was found, with
// what reading it found, in source order. A configuration whose syntax is
// broken is not held against rules that would see only half of it.
func Run(c *config.Config, reading config.Findings) config.Findings {
	out := append(config.Findings(nil), reading...)
	if !c.Broken {
		for _, r := range Rules {
			if r.Run != nil {
				r.Run(&Pass{c, r, reading, &out})
			}
		}
	}
	out = suppress(c, out)
	out.Sort()
	return out
}

// Find gives the rule of an id, nil if there is none.
func Find(id string) *Rule { return find(Rules, id) }

func find(rules []*Rule, id string) *Rule {
	for _, r := range rules {
		if r.ID == id {
			return r
		}
	}
	return nil
}

// readingRules are found while the language is read; they stand here so that
// the table is whole.
var readingRules = []*Rule{
	{ID: config.IDSyntax, Title: "not the language's syntax"},
	{ID: config.IDUnknown, Title: "a key or block that the language does not have"},
	{ID: config.IDType, Title: "a value that cannot be read as what its key wants"},
	{ID: config.IDLimit, Title: "a number or time outside its limits"},
	{ID: config.IDMissing, Title: "something that must be there is not"},
	{ID: config.IDTwice, Title: "something is given twice"},
	{ID: config.IDChoice, Title: "not one of the values that are allowed"},
	{ID: config.IDReference, Title: "a name that is not defined"},
}
