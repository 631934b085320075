// Package check holds the rules that a configuration is checked against. A rule is a
// value in the table Rules; a new one is written in the file of its family and entered
// there.
//
// The command check and the tests of examples run it, and package inspect adds what
// only the machine can tell. It must never touch files or the network: what it needs to
// know of them is handed in as facts.
package check

import (
	"slices"
	"strings"

	"github.com/hashicorp/hcl/v2"
	"github.com/hashicorp/hcl/v2/hclsyntax"

	"kestrix/internal/core/config"
)

// Rule is one thing that is looked for. Run is nil for what reading the
// language itself finds.
type Rule struct {
	ID       string // stable; KX0.. syntax, KX1.. names and structure, KX2.. health, KX3.. balancing, KX4.. sessions, KX5.. timeouts, KX6.. forwarding, KX7.. security, KX9.. suppression
	Severity config.Severity
	Title    string // what is found, in a few words
	Why      string // why it matters
	Fix      string // how to fix it
	Run      func(*Pass)
}

// Pass is one rule at work on one configuration.
type Pass struct {
	Config   *config.Config
	Facts    *Facts // nil where nothing is known of the world
	rule     *Rule
	reading  config.Findings
	findings *config.Findings
	trees    *trees
}

// broken reports whether reading has found something wrong with the value at a
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
	Fix     string // where the rule's own words can be put more exactly
	Edits   []config.Edit
}

// Report makes a finding.
func (p *Pass) Report(f Finding) {
	fix := f.Fix
	if fix == "" {
		fix = p.rule.Fix
	}
	*p.findings = append(*p.findings, config.Finding{
		ID: p.rule.ID, Severity: p.rule.Severity, Range: f.Range,
		Message: f.Message, Hint: f.Hint, Why: p.rule.Why, Witness: f.Witness, Fix: fix, Edits: f.Edits,
	})
}

// Rules is the table of all rules, by id. It is read only.
var Rules = func() []*Rule {
	var all []*Rule
	all = append(all, readingRules...)
	all = append(all, nameRules...)
	all = append(all, conditionRules...)
	all = append(all, guardRules...)
	all = append(all, narrowRules...)
	all = append(all, redirectRules...)
	all = append(all, structureRules...)
	all = append(all, unseenRules...)
	all = append(all, healthRules...)
	all = append(all, probingRules...)
	all = append(all, failoverRules...)
	all = append(all, spillRules...)
	all = append(all, balanceRules...)
	all = append(all, sessionRules...)
	all = append(all, seatRules...)
	all = append(all, timeoutRules...)
	all = append(all, failureRules...)
	all = append(all, forwardRules...)
	all = append(all, prefixRules...)
	all = append(all, clientRules...)
	all = append(all, protocolRules...)
	all = append(all, placeRules...)
	all = append(all, securityRules...)
	all = append(all, acmeRules...)
	all = append(all, logRules...)
	all = append(all, allowRules...)
	slices.SortFunc(all, func(a, b *Rule) int { return strings.Compare(a.ID, b.ID) })
	return all
}()

// Run holds a configuration against every rule and returns what was found, with
// what reading it found, in source order. A configuration whose syntax is
// broken is not held against rules that would see only half of it. facts are what is
// known of the world besides, nil for nothing: rules that need them say nothing without.
func Run(c *config.Config, reading config.Findings, facts *Facts) config.Findings {
	found, _ := RunAll(c, reading, facts)
	return found
}

// RunAll is Run, and returns what comments allow as well.
func RunAll(c *config.Config, reading config.Findings, facts *Facts) (config.Findings, []Allowed) {
	return run(c, reading, facts, func(*Rule) bool { return true })
}

// Errors is Run for callers that need to know only why a configuration cannot be used: it applies the rules that find
// errors, and returns nothing else.
func Errors(c *config.Config, reading config.Findings, facts *Facts) config.Findings {
	found, _ := run(c, reading, facts, func(r *Rule) bool { return r.Severity == config.Error })
	return slices.DeleteFunc(found, func(f config.Finding) bool { return f.Severity != config.Error })
}

func run(c *config.Config, reading config.Findings, facts *Facts, wanted func(*Rule) bool) (config.Findings, []Allowed) {
	out := append(config.Findings(nil), reading...)
	if !c.Broken {
		sources := &trees{files: c.Files}
		for _, r := range Rules {
			if r.Run != nil && wanted(r) {
				r.Run(&Pass{c, facts, r, reading, &out, sources})
			}
		}
	}
	out = restingOnErrors(c, reading, out)
	suggested(c, out)
	out, allowed := suppress(c, out)
	out.Sort()
	return out, allowed
}

// restingOnErrors takes out what rules say of a place that holds an error, or of a block within a frontend or upstream
// that does: they see a default in its place, and a mistake is told once.
func restingOnErrors(c *config.Config, reading, found config.Findings) config.Findings {
	if reading.Count(config.Error) == 0 {
		return found
	}
	blocks := innerBlocks(c)
	return slices.DeleteFunc(found, func(f config.Finding) bool {
		if r := Find(f.ID); r == nil || r.Run == nil {
			return false
		}
		return slices.ContainsFunc(reading, func(e config.Finding) bool {
			if e.Severity != config.Error || e.Range.Filename != f.Range.Filename {
				return false
			}
			if e.Range.Start.Byte >= f.Range.Start.Byte && e.Range.End.Byte <= f.Range.End.Byte {
				return true
			}
			return slices.ContainsFunc(blocks[f.Range.Filename], func(b hcl.Range) bool {
				return f.Range.Start.Byte == b.Start.Byte && e.Range.Start.Byte >= b.Start.Byte && e.Range.End.Byte <= b.End.Byte
			})
		})
	})
}

// innerBlocks returns, by file, where blocks within blocks begin and end; routes are left out, of which many things
// are said that do not rest on each other.
func innerBlocks(c *config.Config) map[string][]hcl.Range {
	out := map[string][]hcl.Range{}
	for _, f := range c.Files {
		body, _, err := config.Parse(f)
		if err != nil {
			continue
		}
		var walk func(b *hclsyntax.Body, depth int)
		walk = func(b *hclsyntax.Body, depth int) {
			for _, x := range b.Blocks {
				if depth > 0 && x.Type != "route" {
					out[f.Name] = append(out[f.Name], hcl.RangeBetween(x.TypeRange, x.CloseBraceRange))
				}
				walk(x.Body, depth+1)
			}
		}
		walk(body, 0)
	}
	return out
}

// Find returns the rule of an id, nil if there is none.
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
	{ID: config.IDSyntax, Title: "a syntax error",
		Why: "text that cannot be read may hide further mistakes", Fix: "look at the mark and at the line before it: a quote, brace or bracket may be missing"},
	{ID: config.IDUnknown, Title: "an unknown key or block",
		Why: "a misspelt setting has no effect, which shows only when it is needed", Fix: "kestrix help config lists all keys"},
	{ID: config.IDType, Title: "a value of the wrong type",
		Why: "a guess would be right only most of the time", Fix: "the hint beside the mark shows an example"},
	{ID: config.IDLimit, Title: "a number or time outside its limits",
		Why: "beyond its limits a setting has no sensible effect", Fix: "the hint beside the mark shows the limits"},
	{ID: config.IDMissing, Title: "a missing key or block",
		Why: "no default is right for every site", Fix: "the hint beside the mark shows the missing part"},
	{ID: config.IDTwice, Title: "something is given twice",
		Why: "only one of the two can apply", Fix: "remove one of them"},
	{ID: config.IDChoice, Title: "a value that is not allowed",
		Why: "a misspelt value must not become another one", Fix: "the hint beside the mark lists the allowed values"},
	{ID: config.IDReference, Title: "an undefined name",
		Why: "the name refers to nothing", Fix: "define it, or correct its spelling"},
}
