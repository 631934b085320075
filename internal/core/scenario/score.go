package scenario

import (
	"encoding/json"
	"math"
	"slices"

	"github.com/hashicorp/hcl/v2"
	"github.com/hashicorp/hcl/v2/hclsyntax"
	"github.com/zclconf/go-cty/cty"
)

// Score is how far one result is from the bound of an expectation.
type Score struct {
	Broken bool // the expectation is not met
	// Past is how far a value lies past its bound, as a share of the larger of the two: from -1,
	// nothing of it, over 0, at the bound, to 1. It is ±1 where nothing is compared.
	Past float64
}

// Scores holds a result, given as JSON, against each expectation in their order. One that cannot
// be evaluated, as it looks into a list that is shorter than it was, is broken.
func (s *Scenario) Scores(result []byte) []Score {
	var tree any
	if err := json.Unmarshal(result, &tree); err != nil {
		tree = map[string]any{}
	}
	ctx := &hcl.EvalContext{Variables: map[string]cty.Value{"result": toValue(tree)}, Functions: functions(tree)}
	out := make([]Score, len(s.Expects))
	for i := range s.Expects {
		e := &s.Expects[i]
		met, found := e.eval(ctx, s.File.Source)
		out[i] = Score{Broken: !met, Past: past(e.That, ctx)}
		if found != nil {
			out[i].Past = 1
		}
	}
	return out
}

// past returns how far what an expression compares is past its bound. Of several conditions the
// worst counts, and of alternatives the best.
func past(e hclsyntax.Expression, ctx *hcl.EvalContext) float64 {
	switch x := e.(type) {
	case *hclsyntax.ParenthesesExpr:
		return past(x.Expression, ctx)
	case *hclsyntax.UnaryOpExpr:
		if x.Op == hclsyntax.OpLogicalNot {
			return -past(x.Val, ctx)
		}
	case *hclsyntax.BinaryOpExpr:
		switch x.Op {
		case hclsyntax.OpLogicalAnd:
			return max(past(x.LHS, ctx), past(x.RHS, ctx))
		case hclsyntax.OpLogicalOr:
			return min(past(x.LHS, ctx), past(x.RHS, ctx))
		case hclsyntax.OpLessThan, hclsyntax.OpLessThanOrEqual:
			return apart(x.LHS, x.RHS, ctx)
		case hclsyntax.OpGreaterThan, hclsyntax.OpGreaterThanOrEqual:
			return apart(x.RHS, x.LHS, ctx)
		case hclsyntax.OpEqual:
			if d := math.Abs(apart(x.LHS, x.RHS, ctx)); d > 0 {
				return d
			}
			return -1
		}
	}
	if v, d := e.Value(ctx); !d.HasErrors() && v.IsKnown() && !v.IsNull() && v.Type() == cty.Bool && v.True() {
		return -1
	}
	return 1
}

// apart returns by how much one side is more than the other, as a share of the larger.
func apart(more, less hclsyntax.Expression, ctx *hcl.EvalContext) float64 {
	a, b := number(more, ctx), number(less, ctx)
	switch {
	case math.IsNaN(a) || math.IsNaN(b):
		return 1
	case a == b:
		return 0
	case math.IsInf(a, 0) || math.IsInf(b, 0):
		return math.Copysign(1, a-b)
	}
	return max(min((a-b)/max(math.Abs(a), math.Abs(b)), 1), -1)
}

// number returns what an operand is, infinities as they are and NaN for what is no number.
func number(e hclsyntax.Expression, ctx *hcl.EvalContext) float64 {
	v, d := e.Value(ctx)
	if d.HasErrors() || v.IsNull() || !v.IsKnown() || v.Type() != cty.Number {
		return math.NaN()
	}
	f, _ := v.AsBigFloat().Float64()
	return f
}

// Reads returns the keys of a result that the expectations look at, such as latency.
func (s *Scenario) Reads() map[string]bool {
	out := map[string]bool{}
	for i := range s.Expects {
		for _, t := range s.Expects[i].That.Variables() {
			if len(t) > 1 {
				if a, ok := t[1].(hcl.TraverseAttr); ok {
					out[a.Name] = true
				}
			}
		}
	}
	return out
}

// CannotFail returns the expectations that no result breaks: they look at nothing of it, or a
// share is compared with a bound that no share passes.
func (s *Scenario) CannotFail() (out []*Expect) {
	for i := range s.Expects {
		if e := &s.Expects[i]; !canBe(e.That, false) {
			out = append(out, e)
		}
	}
	return out
}

// canBe reports whether a condition can have a value. It says yes where it does not know.
func canBe(e hclsyntax.Expression, value bool) bool {
	switch x := e.(type) {
	case *hclsyntax.ParenthesesExpr:
		return canBe(x.Expression, value)
	case *hclsyntax.UnaryOpExpr:
		if x.Op == hclsyntax.OpLogicalNot {
			return canBe(x.Val, !value)
		}
	case *hclsyntax.BinaryOpExpr:
		switch {
		case x.Op == hclsyntax.OpLogicalAnd && !value, x.Op == hclsyntax.OpLogicalOr && value:
			return canBe(x.LHS, value) || canBe(x.RHS, value)
		case x.Op == hclsyntax.OpLogicalAnd, x.Op == hclsyntax.OpLogicalOr:
			return canBe(x.LHS, value) && canBe(x.RHS, value)
		}
		if can, known := comparisonCanBe(x, value); known {
			return can
		}
	}
	if len(e.Variables())+len(calls(e)) > 0 {
		return true
	}
	v, d := e.Value(nil)
	return d.HasErrors() || v.Type() != cty.Bool || v.True() == value
}

// comparisonCanBe is canBe for a comparison of a key of the result with a bound; known is false for
// any other.
func comparisonCanBe(x *hclsyntax.BinaryOpExpr, value bool) (can, known bool) {
	key, bound, op := x.LHS, x.RHS, x.Op
	if len(key.Variables())+len(calls(key)) == 0 {
		key, bound = bound, key
		op = mirrored[op]
	}
	least, most, ok := rangeOf(key)
	b := number(bound, nil)
	if !ok || len(bound.Variables())+len(calls(bound)) > 0 || math.IsNaN(b) {
		return false, false
	}
	if !value {
		op = opposite[op]
	}
	switch op {
	case hclsyntax.OpLessThan:
		return least < b, true
	case hclsyntax.OpLessThanOrEqual:
		return least <= b, true
	case hclsyntax.OpGreaterThan:
		return most > b, true
	case hclsyntax.OpGreaterThanOrEqual:
		return most >= b, true
	case hclsyntax.OpEqual:
		return least <= b && b <= most, true
	}
	return true, op == hclsyntax.OpNotEqual
}

// rangeOf returns between what a key of the result lies: nothing but failed_more is below 0, and
// shares end at 1. It is not ok for what is no key, or no number.
func rangeOf(e hclsyntax.Expression) (least, most float64, ok bool) {
	t, isKey := e.(*hclsyntax.ScopeTraversalExpr)
	if !isKey {
		return 0, 0, false
	}
	last, isAttr := t.Traversal[len(t.Traversal)-1].(hcl.TraverseAttr)
	switch {
	case !isAttr || last.Name == "failed_more":
		return 0, 0, false
	case slices.Contains([]string{"error_rate", "share", "busy"}, last.Name):
		return 0, 1, true
	}
	return 0, math.Inf(1), true
}

// mirrored has for each comparison the one that says the same with its sides exchanged.
var mirrored = map[*hclsyntax.Operation]*hclsyntax.Operation{
	hclsyntax.OpLessThan: hclsyntax.OpGreaterThan, hclsyntax.OpLessThanOrEqual: hclsyntax.OpGreaterThanOrEqual,
	hclsyntax.OpGreaterThan: hclsyntax.OpLessThan, hclsyntax.OpGreaterThanOrEqual: hclsyntax.OpLessThanOrEqual,
	hclsyntax.OpEqual: hclsyntax.OpEqual, hclsyntax.OpNotEqual: hclsyntax.OpNotEqual,
}

// opposite has for each comparison the one that is true where it is false.
var opposite = map[*hclsyntax.Operation]*hclsyntax.Operation{
	hclsyntax.OpLessThan: hclsyntax.OpGreaterThanOrEqual, hclsyntax.OpLessThanOrEqual: hclsyntax.OpGreaterThan,
	hclsyntax.OpGreaterThan: hclsyntax.OpLessThanOrEqual, hclsyntax.OpGreaterThanOrEqual: hclsyntax.OpLessThan,
	hclsyntax.OpEqual: hclsyntax.OpNotEqual, hclsyntax.OpNotEqual: hclsyntax.OpEqual,
}
