package scenario

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"github.com/hashicorp/hcl/v2"
	"github.com/hashicorp/hcl/v2/hclsyntax"
	"github.com/zclconf/go-cty/cty"

	"kestrix/internal/core/config"
)

// Renamed are the keys of a result that had another name before, with their name now.
var Renamed = map[string]string{
	"lost":           "sessions have misses, faults have exposed_failed",
	"met":            "faults have exposed",
	"open":           "rows of the timeline have in_flight",
	"sticky_refused": "session_refused",
	"assumed":        "the model of a replay is in model",
}

// keysHint is the hint where no key is near.
const keysHint = "kestrix replay -format json prints the keys"

// The finding for a function that is called with something else.
const (
	oneText     = "a function of expectations takes one text"
	oneTextHint = `like share("booking.auk") or before("auk is killed")`
)

// wrong returns the finding for an expectation that cannot be evaluated: for a key that the result does not have with the one
// that is likely meant.
func (e *Expect) wrong(ctx *hcl.EvalContext, diags hcl.Diagnostics, source []byte) *config.Finding {
	found := &config.Finding{ID: config.IDReference, Severity: config.Error, Range: e.That.Range(), Hint: keysHint}
	for _, t := range e.That.Variables() {
		root, known := ctx.Variables[t.RootName()]
		if !known {
			found.Range, found.Message, found.Hint = t.SourceRange(), fmt.Sprintf("there is no name %q in expectations", t.RootName()), nameHint(t.RootName(), []string{"result"})
			return found
		}
		if missing(found, root, t[1:], t.RootName()) {
			return found
		}
	}
	for _, call := range calls(e.That) {
		x, ok := call.(*hclsyntax.RelativeTraversalExpr)
		if !ok {
			continue
		}
		of, d := x.Source.Value(ctx)
		if !d.HasErrors() && missing(found, of, x.Traversal, string(x.Source.Range().SliceBytes(source))) {
			return found
		}
	}
	for _, d := range diags {
		if d.Severity != hcl.DiagError {
			continue
		}
		if d.Subject != nil {
			found.Range = *d.Subject
		}
		switch d.Summary {
		case "Call to unknown function":
			name, _, _ := strings.Cut(string(found.Range.SliceBytes(source)), "(")
			found.Message, found.Hint = fmt.Sprintf("there is no function %q in expectations", name), nameHint(name, []string{"share", "before", "during", "after"})
		case "Invalid function argument":
			_, after, _ := strings.Cut(strings.Join(strings.Fields(d.Detail), " "), "parameter: ")
			message, hint, _ := strings.Cut(strings.TrimSuffix(after, "."), "; ")
			found.Message, found.Hint = message, hint
			if hint == "" { // the library's text: a list, or null
				found.Message, found.Hint = oneText, oneTextHint
			}
		case "Not enough function arguments", "Too many function arguments":
			found.Message, found.Hint = oneText, oneTextHint
		default: // an operand of another type
			found.Message, found.Hint = "the expectation compares values of different types", "compare numbers with numbers, as in result.error_rate <= 0.002"
		}
		return found
	}
	return nil
}

// missing reports whether a step leads nowhere from a value, and words the first that does. path is the name of the value.
func missing(found *config.Finding, v cty.Value, steps hcl.Traversal, path string) bool {
	for _, step := range steps {
		next := v
		switch s := step.(type) {
		case hcl.TraverseAttr:
			if !v.Type().IsObjectType() || !v.Type().HasAttribute(s.Name) {
				found.Range = s.SrcRange
				found.Message = fmt.Sprintf("%s has no key %q", path, s.Name)
				found.Hint = keyHint(v, s.Name)
				return true
			}
			next, path = v.GetAttr(s.Name), path+"."+s.Name
		case hcl.TraverseIndex:
			x, d := hcl.Index(v, s.Key, &s.SrcRange)
			if d.HasErrors() {
				found.Range = s.SrcRange
				found.Message, found.Hint = noElement(v, s.Key, path)
				return true
			}
			next, path = x, path+indexText(s.Key)
		}
		v = next
	}
	return false
}

// keyHint returns what may be meant by a key that an object does not have.
func keyHint(v cty.Value, name string) string {
	if now, ok := Renamed[name]; ok {
		return name + " was renamed: " + now
	}
	if !v.Type().IsObjectType() {
		return "it is a value without keys"
	}
	var known []string
	for k := range v.Type().AttributeTypes() {
		known = append(known, k)
	}
	return nameHint(name, known)
}

// nameHint returns which of some names is likely meant; of few the list, of none near a pointer to the keys.
func nameHint(name string, known []string) string {
	slices.Sort(known)
	return cmp.Or(config.DidYouMean(name, known), keysHint)
}

// noElement words an index that a value does not have.
func noElement(v, key cty.Value, path string) (message, hint string) {
	if key.Type() == cty.String {
		return fmt.Sprintf("%s has no key %q", path, key.AsString()), keyHint(v, key.AsString())
	}
	if !v.Type().IsTupleType() && !v.Type().IsListType() {
		return path + " is not a list", keysHint
	}
	n := v.LengthInt()
	if n == 0 {
		return path + " is empty", keysHint
	}
	hint = "the only element is [0]"
	if n > 1 {
		hint = fmt.Sprintf("the elements are [0] to [%d]", n-1)
	}
	return fmt.Sprintf("%s has no element %s", path, indexText(key)), hint
}

// kindOf names the type of a value.
func kindOf(t cty.Type) string {
	switch {
	case t == cty.Number:
		return "a number"
	case t == cty.String:
		return "a text"
	case t.IsTupleType(), t.IsListType():
		return "a list"
	case t.IsObjectType():
		return "an object with keys"
	}
	return "without a value"
}

// indexText returns an index as it is written.
func indexText(key cty.Value) string {
	if key.Type() == cty.String {
		return fmt.Sprintf("[%q]", key.AsString())
	}
	f, _ := key.AsBigFloat().Int64()
	return fmt.Sprintf("[%d]", f)
}
