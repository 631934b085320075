package scenario

import (
	"encoding/json"
	"math"
	"slices"

	"github.com/hashicorp/hcl/v2"
	"github.com/hashicorp/hcl/v2/hclsyntax"
	"github.com/zclconf/go-cty/cty"

	"kestrix/internal/core/config"
)

// Verdict is what came of an expectation. The keys are documented and stable.
type Verdict struct {
	Name     string                `json:"name"`
	Met      bool                  `json:"met"`
	That     string                `json:"that"`
	Values   map[string]any        `json:"values"`    // of every name in it, with the first seed
	Ranges   map[string][2]float64 `json:"ranges"`    // the least and the most of those that are numbers, where seeds differ
	Seeds    int                   `json:"seeds"`     // with which it was judged
	SeedsMet int                   `json:"seeds_met"` // with which it was met
	Share    float64               `json:"share"`     // of the seeds that it must be met with; 0: with the first
	Close    bool                  `json:"close"`     // a value is within 10 % of its bound, or one seed decides
}

// near is the part of a bound within which a value is close to it.
const near = 0.1

// Judge holds results with different seeds against the expectations of a scenario.
type Judge struct {
	scenario *Scenario
	all      bool // each expectation is judged by all results
	verdicts []Verdict
	results  int
	findings config.Findings
}

// Judge returns a judge of results of this scenario.
func (s *Scenario) Judge() *Judge { return &Judge{scenario: s, verdicts: []Verdict{}} }

// JudgeAll is Judge, but each expectation must be met with its share of all results,
// however many seeds it asks for.
func (s *Scenario) JudgeAll() *Judge { return &Judge{scenario: s, verdicts: []Verdict{}, all: true} }

// HasExpectations reports whether there is anything to judge.
func (j *Judge) HasExpectations() bool { return len(j.scenario.Expects) > 0 }

// Seeds returns with how many seeds the scenario must be replayed for its expectations.
func (s *Scenario) Seeds() int {
	n := 1
	for _, e := range s.Expects {
		n = max(n, e.Seeds)
	}
	return n
}

// Add takes the result of the next seed, given as JSON. Values are those of the first.
func (j *Judge) Add(result []byte) {
	var tree any
	if err := json.Unmarshal(result, &tree); err != nil {
		tree = map[string]any{}
	}
	j.results++
	ctx := &hcl.EvalContext{Variables: map[string]cty.Value{"result": toValue(tree)}, Functions: functions(tree)}
	for i := range j.scenario.Expects {
		e := &j.scenario.Expects[i]
		if j.results == 1 {
			j.verdicts = append(j.verdicts, Verdict{Name: e.Name, That: e.Text, Values: map[string]any{}, Ranges: map[string][2]float64{}})
		}
		if e.Seeds == 1 || j.results <= e.Seeds || j.all {
			j.hear(e, &j.verdicts[i], ctx)
		}
	}
}

// hear has the verdict of an expectation take one more result into account.
func (j *Judge) hear(e *Expect, v *Verdict, ctx *hcl.EvalContext) {
	source := j.scenario.File.Source
	met, found := e.eval(ctx, source)
	first := j.results == 1
	if found != nil && first {
		j.findings = append(j.findings, *found)
	}
	v.Seeds++
	if found != nil {
		return // with a later seed the list that it looks into may be shorter: it is not met
	}
	if met {
		v.SeedsMet++
	}
	if first {
		v.Met, v.Close = met, e.close(ctx)
		if e.Seeds > 1 || j.all {
			v.Share = e.Share
		}
	}
	for name, x := range e.values(ctx, source) {
		if first {
			v.Values[name] = x
		}
		if f, ok := x.(float64); ok {
			v.widen(name, f)
		}
	}
}

// widen has the range of a value hold one more.
func (v *Verdict) widen(name string, f float64) {
	r, some := v.Ranges[name]
	if !some {
		r = [2]float64{f, f}
	}
	v.Ranges[name] = [2]float64{math.Min(r[0], f), math.Max(r[1], f)}
}

// Verdicts returns what came of the expectations. What cannot be evaluated, such as a key
// the result does not have, comes as findings, and there are no verdicts then.
func (j *Judge) Verdicts() ([]Verdict, config.Findings) {
	if len(j.findings) > 0 {
		return []Verdict{}, j.findings
	}
	out := slices.Clone(j.verdicts)
	for i := range out {
		v := &out[i]
		for name, r := range v.Ranges {
			if r[0] == r[1] {
				delete(v.Ranges, name)
			}
		}
		if v.Share > 0 {
			needed := int(math.Ceil(v.Share*float64(v.Seeds) - 1e-9))
			v.Met = v.SeedsMet >= needed
			v.Close = v.Close || v.SeedsMet != v.Seeds && (v.SeedsMet == needed || v.SeedsMet == needed-1)
		}
	}
	return out, nil
}

// eval evaluates the expectation. The finding says that this cannot be done; nil if it can.
func (e *Expect) eval(ctx *hcl.EvalContext, source []byte) (met bool, found *config.Finding) {
	v, diags := e.That.Value(ctx)
	if diags.HasErrors() {
		return false, e.wrong(ctx, diags, source)
	}
	if v.IsNull() || !v.IsKnown() || v.Type() != cty.Bool {
		return false, &config.Finding{
			ID: config.IDType, Severity: config.Error, Range: e.That.Range(),
			Message: "an expectation is true or false; this is " + kindOf(v.Type()),
			Hint:    "compare it, as in result.error_rate <= 0.002",
		}
	}
	return v.True(), nil
}

// values returns what the names and function calls of the expectation are.
func (e *Expect) values(ctx *hcl.EvalContext, source []byte) map[string]any {
	out := map[string]any{}
	for _, t := range e.That.Variables() {
		if x, d := t.TraverseAbs(ctx); !d.HasErrors() {
			out[string(t.SourceRange().SliceBytes(source))] = goValue(x)
		}
	}
	for _, call := range calls(e.That) {
		if x, d := call.Value(ctx); !d.HasErrors() {
			out[string(call.Range().SliceBytes(source))] = goValue(x)
		}
	}
	return out
}

// close reports whether in a comparison of the expectation a value is within a tenth of its
// bound: the side without names, else the right one. A bound of 0 has nothing close to it.
func (e *Expect) close(ctx *hcl.EvalContext) bool {
	found := false
	_ = hclsyntax.VisitAll(e.That, func(n hclsyntax.Node) hcl.Diagnostics {
		x, ok := n.(*hclsyntax.BinaryOpExpr)
		if !ok || !slices.Contains([]*hclsyntax.Operation{hclsyntax.OpLessThan, hclsyntax.OpLessThanOrEqual, hclsyntax.OpGreaterThan, hclsyntax.OpGreaterThanOrEqual}, x.Op) {
			return nil
		}
		value, bound := numberOf(x.LHS, ctx), numberOf(x.RHS, ctx)
		if len(x.LHS.Variables())+len(calls(x.LHS)) == 0 {
			value, bound = bound, value
		}
		if math.Abs(value-bound) <= near*math.Abs(bound) && bound != 0 { // false for what is infinite or no number
			found = true
		}
		return nil
	})
	return found
}

// numberOf returns what an operand is, NaN for what is no finite number.
func numberOf(e hclsyntax.Expression, ctx *hcl.EvalContext) float64 {
	v, d := e.Value(ctx)
	if d.HasErrors() {
		return math.NaN()
	}
	if f, ok := goValue(v).(float64); ok {
		return f
	}
	return math.NaN()
}

// calls returns the function calls of an expression, each with the key that is
// taken of what it gives.
func calls(e hclsyntax.Expression) []hclsyntax.Expression {
	var out []hclsyntax.Expression
	inner := map[hclsyntax.Node]bool{}
	_ = hclsyntax.VisitAll(e, func(n hclsyntax.Node) hcl.Diagnostics { // gives what the function gives: nothing
		switch x := n.(type) {
		case *hclsyntax.RelativeTraversalExpr:
			if _, ok := x.Source.(*hclsyntax.FunctionCallExpr); ok {
				inner[x.Source] = true
				out = append(out, x)
			}
		case *hclsyntax.FunctionCallExpr:
			if !inner[x] {
				out = append(out, x)
			}
		}
		return nil
	})
	return out
}

// Names returns the names of a verdict's values in order.
func (v *Verdict) Names() []string {
	names := make([]string, 0, len(v.Values))
	for n := range v.Values {
		names = append(names, n)
	}
	slices.Sort(names)
	return names
}
