package config

import (
	"fmt"

	"github.com/zclconf/go-cty/cty"
	"github.com/zclconf/go-cty/cty/function"
	"github.com/zclconf/go-cty/cty/function/stdlib"
)

// Env looks a variable of the environment up. The core is handed one and never
// asks for itself.
type Env func(name string) (value string, ok bool)

// FunctionHelp says what the functions of the language do, in the order of the
// reference.
var FunctionHelp = []struct{ Call, Help string }{
	{`range(1, 4)`, "the numbers 1, 2, 3; at most 1,024 of them"},
	{`format("app%02d", 7)`, "a text made from a pattern, here app07"},
	{`env("TERN_SECRET", "default")`, "a variable of the environment, or the default; without one it must be set"},
	{`regexp("/seats/[0-9]+")`, "in `when`: the whole text must fit (RE2 syntax)"},
	{`not("/live/**")`, "in `when`: it must not fit"},
}

// functions gives those that stand for a value anywhere.
func functions(env Env) map[string]function.Function {
	return map[string]function.Function{"range": stdlib.RangeFunc, "format": stdlib.FormatFunc, "env": envFunction(env)}
}

func envFunction(env Env) function.Function {
	return function.New(&function.Spec{
		Params:   []function.Parameter{{Name: "name", Type: cty.String}},
		VarParam: &function.Parameter{Name: "default", Type: cty.String},
		Type: func(args []cty.Value) (cty.Type, error) {
			if len(args) > 2 {
				return cty.String, fmt.Errorf("env takes a name and a default, not %d arguments", len(args))
			}
			return cty.String, nil
		},
		Impl: func(args []cty.Value, _ cty.Type) (cty.Value, error) {
			if env != nil {
				if v, ok := env(args[0].AsString()); ok {
					return cty.StringVal(v), nil
				}
			}
			if len(args) == 2 {
				return args[1], nil
			}
			return cty.NilVal, function.NewArgErrorf(0, "the environment has no %s; give a default: env(%q, \"...\")", args[0].AsString(), args[0].AsString())
		},
	})
}
