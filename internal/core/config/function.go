package config

import (
	"fmt"
	"maps"
	"slices"
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
	{`range(1, 4)`, "the numbers 1, 2, 3, without the end; at most 1,024 numbers"},
	{`format("app%02d", 7)`, "a text from a template, here app07"},
	{`env("TERN_SECRET", "default")`, "an environment variable, or the default; without a default the variable must be set"},
	{`file("secret.txt")`, "the text of a file, relative to the folder of the configuration, without the final newline"},
	{`concat(["auk"], ["gannet"])`, "one list from several"},
	{`merge({ a = 1 }, { b = 2 })`, "one object from several; of equal names the last counts"},
	{`join(", ", ["a", "b"])`, "a text from a list, here a, b"},
	{`split(",", env("QUAYS", "north,south"))`, "a list from a text"},
	{`length(["a", "b"])`, "the number of elements of a list or object, or of characters of a text"},
	{`keys({ auk = 1 })`, "the names of an object, sorted"},
	{`values({ auk = 1 })`, "the values of an object, in the order of its names"},
	{`number(env("WEIGHT", "2"))`, "the number in a text; not needed for texts of env and file in keys of numbers"},
	{`lower("Tern")`, "a text in lower case"},
	{`replace("north-quay", "-", "_")`, "a text in which each occurrence is replaced"},
	{`regexp("/seats/[0-9]+")`, "in when: a regular expression (RE2 syntax) that must match the whole text"},
	{`not("/live/**")`, "in when: matches everything except this pattern"},
}

// functionNames lists those that stand for a value anywhere.
func functionNames() string {
	return strings.Join(slices.Sorted(maps.Keys(functions(World{}))), ", ")
}

// functions returns those that stand for a value anywhere.
func functions(w World) map[string]function.Function {
	all := map[string]function.Function{
		"range": stdlib.RangeFunc, "format": stdlib.FormatFunc, "env": envFunction(w.Env), "file": fileFunction(w.File),
		"concat": stdlib.ConcatFunc, "merge": stdlib.MergeFunc, "join": stdlib.JoinFunc, "split": stdlib.SplitFunc, "length": lengthFunction, "keys": stdlib.KeysFunc, "values": stdlib.ValuesFunc,
		"number": numberFunction, "lower": stdlib.LowerFunc, "replace": stdlib.ReplaceFunc,
	}
	for name, f := range all {
		all[name] = bounded(name, f)
	}
	return all
}

// mostElements and mostText bound what a function returns: values that are made of each other may double
// with each line.
const (
	mostElements = 50_000
	mostText     = 1 << 20
)

// bounded is a function whose values have a bound.
func bounded(name string, f function.Function) function.Function {
	return function.New(&function.Spec{
		Params: f.Params(), VarParam: f.VarParam(),
		Type: func(args []cty.Value) (cty.Type, error) { return f.ReturnTypeForValues(args) },
		Impl: func(args []cty.Value, _ cty.Type) (cty.Value, error) {
			v, err := f.Call(args)
			if err != nil || !v.IsKnown() || v.IsNull() {
				return v, err
			}
			switch t := v.Type(); {
			case t == cty.String && len(v.AsString()) > mostText:
				return cty.NilVal, fmt.Errorf("%s makes a text of more than %d MiB", name, mostText>>20)
			case (t.IsCollectionType() || t.IsTupleType() || t.IsObjectType()) && v.LengthInt() > mostElements:
				return cty.NilVal, fmt.Errorf("%s makes more than %d values", name, mostElements)
			}
			return v, nil
		},
	})
}

// lengthFunction counts what is in a list or an object, or the characters of a text.
var lengthFunction = function.New(&function.Spec{
	Params: []function.Parameter{{Name: "of", Type: cty.DynamicPseudoType}},
	Type:   function.StaticReturnType(cty.Number),
	Impl: func(args []cty.Value, _ cty.Type) (cty.Value, error) {
		switch t := args[0].Type(); {
		case t == cty.String:
			return cty.NumberIntVal(int64(utf8.RuneCountInString(args[0].AsString()))), nil
		case t.IsCollectionType() || t.IsTupleType() || t.IsObjectType():
			return cty.NumberIntVal(int64(args[0].LengthInt())), nil
		}
		return cty.NilVal, function.NewArgErrorf(0, "length takes a list, an object or a text")
	},
})

// numberFunction reads a number that is written as a text.
var numberFunction = function.New(&function.Spec{
	Params: []function.Parameter{{Name: "text", Type: cty.String}},
	Type:   function.StaticReturnType(cty.Number),
	Impl: func(args []cty.Value, _ cty.Type) (cty.Value, error) {
		v, err := cty.ParseNumberVal(strings.TrimSpace(args[0].AsString()))
		if err != nil {
			return cty.NilVal, function.NewArgErrorf(0, "%q is not a number", shorten(args[0].AsString()))
		}
		return v, nil
	},
})

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
			return cty.NilVal, function.NewArgErrorf(0, "the environment variable %s is not set; a default is env(%q, \"...\")", args[0].AsString(), args[0].AsString())
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
