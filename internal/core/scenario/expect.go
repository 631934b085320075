package scenario

import (
	"encoding/json"
	"fmt"
	"slices"
	"strings"

	"github.com/hashicorp/hcl/v2"
	"github.com/hashicorp/hcl/v2/hclsyntax"
	"github.com/zclconf/go-cty/cty"
	"github.com/zclconf/go-cty/cty/function"

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
	ctx := &hcl.EvalContext{Variables: map[string]cty.Value{"result": toValue(tree)}, Functions: functions(tree)}
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
					Hint:    hintFor(string(rng.SliceBytes(s.File.Source))),
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
				verdict.Values[name] = goValue(x)
			}
		}
		for _, call := range calls(e.That) {
			r := call.Range()
			if x, d := call.Value(ctx); !d.HasErrors() {
				verdict.Values[string(r.SliceBytes(s.File.Source))] = goValue(x)
			}
		}
		out = append(out, verdict)
	}
	return out, findings
}

// Renamed are the keys of a result that had another name before, with their name now.
var Renamed = map[string]string{
	"lost":           "sessions have `misses`, faults have `exposed_failed`",
	"met":            "faults have `exposed`",
	"open":           "rows of the timeline have `in_flight`",
	"sticky_refused": "`session_refused`",
}

// hintFor returns what to do about a part of an expectation that names no key.
func hintFor(text string) string {
	if strings.Contains(text, ".assumed.") {
		return "what `assumed` held is in `model` now"
	}
	key := text[strings.LastIndexByte(text, '.')+1:]
	if now, ok := Renamed[key]; ok {
		return fmt.Sprintf("%s has another name now: %s", key, now)
	}
	return "the result's keys are those of `kestrix replay -format json`"
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

// FunctionHelp says what the functions of expectations do, in the order of the
// reference.
var FunctionHelp = []struct{ Call, Help string }{
	{`share("booking.auk")`, "the backend's share of the attempts that its upstream's backends were given"},
	{`before("auk loses power")`, "what came of the requests that arrived before the fault began: requests, answered, failed, error_rate and latency with mean, p50, p90, p95, p99, p999 and max, as in before(\"...\").latency.p95"},
	{`during("auk loses power")`, "the same of those that arrived while it lasted"},
	{`after("auk loses power")`, "the same of those that arrived after its end"},
}

// functions returns the functions of expectations over a result.
func functions(tree any) map[string]function.Function {
	root, _ := tree.(map[string]any)
	make1 := func(what string, look func(name string) (any, error)) function.Function {
		value := func(args []cty.Value) (cty.Value, error) {
			x, err := look(args[0].AsString())
			if err != nil {
				return cty.NilVal, function.NewArgError(0, err)
			}
			return toValue(x), nil
		}
		return function.New(&function.Spec{
			Params: []function.Parameter{{Name: what, Type: cty.String}},
			Type: func(args []cty.Value) (cty.Type, error) {
				v, err := value(args)
				return v.Type(), err
			},
			Impl: func(args []cty.Value, _ cty.Type) (cty.Value, error) { return value(args) },
		})
	}
	out := map[string]function.Function{"share": make1("backend", func(name string) (any, error) { return shareOf(root, name) })}
	for _, phase := range []string{"before", "during", "after"} {
		out[phase] = make1("fault", func(name string) (any, error) { return phaseOf(root, name, phase) })
	}
	return out
}

func shareOf(root map[string]any, name string) (any, error) {
	ups, _ := root["upstreams"].(map[string]any)
	var known []string
	for up, x := range ups {
		u, _ := x.(map[string]any)
		backends, _ := u["backends"].(map[string]any)
		for b, y := range backends {
			if up+"."+b == name {
				of, _ := y.(map[string]any)
				return of["share"], nil
			}
			known = append(known, up+"."+b)
		}
	}
	return nil, fmt.Errorf("no backend is called %q; %s", name, oneOf(name, known))
}

func phaseOf(root map[string]any, name, phase string) (any, error) {
	faults, _ := root["faults"].([]any)
	var known []string
	for _, x := range faults {
		f, _ := x.(map[string]any)
		title, _ := f["name"].(string)
		if title == name {
			return f[phase], nil
		}
		known = append(known, title)
	}
	return nil, fmt.Errorf("no fault is called %q; %s", name, oneOf(name, known))
}

func oneOf(name string, known []string) string {
	slices.Sort(known)
	switch s := config.Suggest(name, known); {
	case s != "":
		return fmt.Sprintf("did you mean %q?", s)
	case len(known) == 0:
		return "there are none"
	}
	return "there are " + strings.Join(known[:min(len(known), 10)], ", ")
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

// goValue makes a value fit for JSON and print.
func goValue(v cty.Value) any {
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
