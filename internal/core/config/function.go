package config

import (
	"fmt"
	"strings"
	"unicode/utf8"

	"github.com/zclconf/go-cty/cty"
	"github.com/zclconf/go-cty/cty/function"
	"github.com/zclconf/go-cty/cty/function/stdlib"
)

// World is what a configuration may ask of the machine it is read on. The core
// is handed it and never looks for itself; what is nil is not there.
type World struct {
	Env  func(name string) (value string, ok bool) // a variable of the environment
	File func(name string) ([]byte, error)         // a file, relative to the configuration's folder
	// Hidden: digests may stand for secrets, as in what Resolved returns. It is only to be compared.
	Hidden bool
}

// FunctionHelp says what the functions of the language do, in the order of the
// reference.
var FunctionHelp = []struct{ Call, Help string }{
	{`range(1, 4)`, "the numbers 1, 2, 3; at most 1,024 of them"},
	{`format("app%02d", 7)`, "a text made from a pattern, here app07"},
	{`env("TERN_SECRET", "default")`, "a variable of the environment, or the default; without one it must be set"},
	{`file("secret.txt")`, "the text of a file, relative to the folder of the configuration, without the newline at its end"},
	{`regexp("/seats/[0-9]+")`, "in `when`: the whole text must fit (RE2 syntax)"},
	{`not("/live/**")`, "in `when`: it must not fit"},
}

// functions returns those that stand for a value anywhere.
func functions(w World) map[string]function.Function {
	return map[string]function.Function{"range": stdlib.RangeFunc, "format": stdlib.FormatFunc, "env": envFunction(w.Env), "file": fileFunction(w.File)}
}

func envFunction(env func(string) (string, bool)) function.Function {
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

func fileFunction(read func(string) ([]byte, error)) function.Function {
	return function.New(&function.Spec{
		Params: []function.Parameter{{Name: "name", Type: cty.String}},
		Type:   function.StaticReturnType(cty.String),
		Impl: func(args []cty.Value, _ cty.Type) (cty.Value, error) {
			name := args[0].AsString()
			if read == nil {
				return cty.NilVal, function.NewArgErrorf(0, "files cannot be read here")
			}
			text, err := read(name)
			switch {
			case err != nil:
				return cty.NilVal, function.NewArgErrorf(0, "%s cannot be read: %v", name, err)
			case len(text) > MaxSource:
				return cty.NilVal, function.NewArgErrorf(0, "%s is larger than a configuration may be", name)
			case !utf8.Valid(text):
				return cty.NilVal, function.NewArgErrorf(0, "%s is not UTF-8 text", name)
			}
			return cty.StringVal(strings.TrimSuffix(strings.TrimSuffix(string(text), "\n"), "\r")), nil
		},
	})
}
