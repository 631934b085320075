package scenario

import (
	"encoding/json"
	"fmt"
	"slices"
	"strings"

	"github.com/hashicorp/hcl/v2"
	"github.com/zclconf/go-cty/cty"

	"kestrix/internal/core/config"
)

// Verdict is what came of an expectation. The keys are documented and stable.
type Verdict struct {
	Name   string         `json:"name"`
	Met    bool           `json:"met"`
	That   string         `json:"that"`
	Values map[string]any `json:"values"` // of every name in it
}

// Judge holds a result, given as JSON, against the expectations. What cannot be
// evaluated, such as a key the result does not have, comes as findings.
func (s *Scenario) Judge(result []byte) ([]Verdict, config.Findings) {
	var tree any
	if err := json.Unmarshal(result, &tree); err != nil {
		tree = map[string]any{}
	}
	ctx := &hcl.EvalContext{Variables: map[string]cty.Value{"result": toValue(tree)}}
	out := []Verdict{}
	var findings config.Findings
	for _, e := range s.Expects {
		v, diags := e.That.Value(ctx)
		if diags.HasErrors() {
			for _, d := range diags {
				rng := e.That.Range()
				if d.Subject != nil {
					rng = *d.Subject
				}
				message := strings.TrimSuffix(strings.Join(strings.Fields(d.Detail), " "), ".")
				findings = append(findings, config.Finding{
					ID: config.IDReference, Severity: config.Error, Range: rng,
					Message: "the expectation cannot be evaluated: " + message,
					Hint:    "the result's keys are those of `kestrix replay -format json`",
				})
			}
			continue
		}
		if v.IsNull() || !v.IsKnown() || v.Type() != cty.Bool {
			findings = append(findings, config.Finding{
				ID: config.IDType, Severity: config.Error, Range: e.That.Range(),
				Message: "an expectation is true or false; this is " + v.Type().FriendlyName(),
				Hint:    "compare it with something, like result.error_rate <= 0.002",
			})
			continue
		}
		verdict := Verdict{Name: e.Name, Met: v.True(), That: e.Text, Values: map[string]any{}}
		for _, t := range e.That.Variables() {
			name := string(t.SourceRange().SliceBytes(s.File.Source))
			if x, d := t.TraverseAbs(ctx); !d.HasErrors() {
				verdict.Values[name] = plain(x)
			}
		}
		out = append(out, verdict)
	}
	return out, findings
}

// Names gives the names of a verdict's values in order.
func (v *Verdict) Names() []string {
	names := make([]string, 0, len(v.Values))
	for n := range v.Values {
		names = append(names, n)
	}
	slices.Sort(names)
	return names
}

// toValue makes a value of JSON. null, a moment that never came, is infinite,
// so that "within 10 s" is not met by what never happened.
func toValue(x any) cty.Value {
	switch x := x.(type) {
	case map[string]any:
		if len(x) == 0 {
			return cty.EmptyObjectVal
		}
		m := map[string]cty.Value{}
		for k, v := range x {
			m[k] = toValue(v)
		}
		return cty.ObjectVal(m)
	case []any:
		if len(x) == 0 {
			return cty.EmptyTupleVal
		}
		var l []cty.Value
		for _, v := range x {
			l = append(l, toValue(v))
		}
		return cty.TupleVal(l)
	case string:
		return cty.StringVal(x)
	case float64:
		return cty.NumberFloatVal(x)
	case bool:
		return cty.BoolVal(x)
	}
	return cty.PositiveInfinity
}

// plain makes a value fit for JSON and print.
func plain(v cty.Value) any {
	switch {
	case v.IsNull() || !v.IsKnown():
		return nil
	case v.Type() == cty.Number:
		if v.RawEquals(cty.PositiveInfinity) {
			return nil
		}
		f, _ := v.AsBigFloat().Float64()
		return f
	case v.Type() == cty.String:
		return v.AsString()
	case v.Type() == cty.Bool:
		return v.True()
	}
	return fmt.Sprintf("a %s", v.Type().FriendlyName())
}
