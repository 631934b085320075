package scenario

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"github.com/zclconf/go-cty/cty"
	"github.com/zclconf/go-cty/cty/function"

	"kestrix/internal/core/config"
)

// FunctionHelp says what the functions of expectations do, in the order of the
// reference.
var FunctionHelp = []struct{ Call, Help string }{
	{`share("booking.auk")`, "share of the upstream's attempts that the backend received"},
	{`before("auk loses power")`, "figures of the requests that arrived before the fault: requests, answered, failed, error_rate, and latency with mean, p50, p90, p95, p99, p999 and max, as in before(\"...\").latency.p95"},
	{`during("auk loses power")`, "the same figures of the requests that arrived during the fault"},
	{`after("auk loses power")`, "the same figures of the requests that arrived after the fault"},
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
	shares := map[string]any{}
	for up, x := range ups {
		u, _ := x.(map[string]any)
		backends, _ := u["backends"].(map[string]any)
		for b, y := range backends {
			of, _ := y.(map[string]any)
			shares[up+"."+b] = of["share"]
		}
	}
	known := slices.Sorted(maps.Keys(shares))
	full, several := config.FullName(name, known)
	if len(several) > 1 {
		return nil, fmt.Errorf("several backends are called %q; write one of %s", name, strings.Join(several, ", "))
	}
	if full == "" {
		return nil, fmt.Errorf("no backend is called %q; %s", name, config.DidYouMean(name, slices.Sorted(slices.Values(known))))
	}
	return shares[full], nil
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
	return nil, fmt.Errorf("no fault is called %q; %s", name, config.DidYouMean(name, slices.Sorted(slices.Values(known))))
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
