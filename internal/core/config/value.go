package config

import (
	"fmt"
	"math"
	"math/big"
	"net/netip"
	"strconv"
	"strings"
	"time"

	"github.com/hashicorp/hcl/v2"
	"github.com/hashicorp/hcl/v2/hclsyntax"
	"github.com/zclconf/go-cty/cty"
)

// Placed is a value with its place in the source.
type Placed[T any] struct {
	Value T
	Range hcl.Range
}

func (p Placed[T]) bare() any { return p.Value }

// value reads the expression of a key as the table says. ok is false when a
// finding was made instead.
func (d *Decoder) value(k *Key, expr hclsyntax.Expression) (any, bool) {
	switch k.Type {
	case UpRef:
		return d.reference(k, expr)
	case Members:
		return d.members(k, expr)
	case Block1:
		return d.object(k, expr)
	case Any:
		return hclsyntax.Expression(expr), true
	case Matches:
		return d.matches(k, expr)
	case FieldTable:
		return d.fieldTable(k, expr)
	case MatchTable:
		return d.matchTable(k, expr)
	case Addrs, Texts, Nets:
		return d.list(k, expr)
	case Dist:
		return d.dist(k, expr)
	}
	v, ok := d.eval(expr)
	if !ok {
		return nil, false
	}
	_, quoted := expr.(*hclsyntax.TemplateExpr)
	d.outside = !quoted
	x, ok := d.scalar(k, k.Type, v, expr.Range())
	d.outside = false
	return x, ok
}

// eval evaluates an expression with what `let` has given so far.
func (d *Decoder) eval(expr hclsyntax.Expression) (cty.Value, bool) {
	for _, t := range expr.Variables() {
		if !d.known(t) {
			return cty.NilVal, false
		}
	}
	if at := d.dividesByZero(expr); at != nil {
		d.Add(IDType, at.Range(), "this divides by 0", "")
		return cty.NilVal, false
	}
	v, diags := expr.Value(d.Context)
	if diags.HasErrors() {
		d.Findings = append(d.Findings, evalFindings(diags, expr)...)
		return cty.NilVal, false
	}
	v, _ = v.UnmarkDeep()
	if !v.IsWhollyKnown() || v.IsNull() {
		d.Add(IDType, expr.Range(), "null is no value here", "")
		return cty.NilVal, false
	}
	return v, true
}

// isNull reports whether an expression is null, which means the same as a key that is not written.
func (d *Decoder) isNull(expr hclsyntax.Expression) bool {
	if _, call := expr.(*hclsyntax.FunctionCallExpr); call {
		return false
	}
	for _, t := range expr.Variables() {
		if t.RootName() != "let" {
			return false
		}
	}
	v, diags := expr.Value(d.Context)
	return !diags.HasErrors() && v.IsKnown() && v.IsNull()
}

// dividesByZero returns the part of an expression that divides by 0, nil if there is none: the library takes the
// quotient for an infinite number, which is nobody's value.
func (d *Decoder) dividesByZero(expr hclsyntax.Expression) hclsyntax.Expression {
	var found hclsyntax.Expression
	_ = hclsyntax.VisitAll(expr, func(n hclsyntax.Node) hcl.Diagnostics {
		op, ok := n.(*hclsyntax.BinaryOpExpr)
		if !ok || found != nil || op.Op != hclsyntax.OpDivide && op.Op != hclsyntax.OpModulo {
			return nil
		}
		if by, diags := op.RHS.Value(d.Context); !diags.HasErrors() && by.Type() == cty.Number && by.IsKnown() && !by.IsNull() && by.AsBigFloat().Sign() == 0 {
			found = op
		}
		return nil
	})
	return found
}

// evalFindings returns what evaluating an expression found: at least one thing, at the expression if the library
// names no place.
func evalFindings(diags hcl.Diagnostics, expr hclsyntax.Expression) Findings {
	for _, d := range diags {
		if d.Subject == nil {
			at := expr.Range()
			d.Subject = &at
		}
	}
	out := fromSyntax(diags, nil)
	for i := range out {
		out[i].ID = IDType
	}
	if len(out) == 0 {
		out = append(out, Finding{ID: IDType, Severity: Error, Range: expr.Range(), Message: "this cannot be worked out"})
	}
	return out
}

// known reports whether a traversal names a value that exists, and reports it if
// not.
func (d *Decoder) known(t hcl.Traversal) bool {
	root := t.RootName()
	if _, ok := d.Context.Variables[root]; !ok {
		var roots []string
		for name := range d.Context.Variables {
			roots = append(roots, name)
		}
		hint := DidYouMean(root, roots)
		if root == "upstream" {
			hint = "a reference to an upstream stands in send_to only"
		}
		if len(t) == 1 && Suggest(root, roots) == "" && root != "upstream" {
			hint = fmt.Sprintf("quote a text: %q", root)
		}
		d.Add(IDReference, t.SourceRange(), fmt.Sprintf("there is no value called %q", root), hint)
		return false
	}
	if root != "let" || len(t) < 2 {
		return true
	}
	step, ok := t[1].(hcl.TraverseAttr)
	if !ok {
		return true
	}
	d.lets[step.Name] = true
	if v := d.Context.Variables["let"]; !v.Type().HasAttribute(step.Name) {
		var names []string
		for name := range v.Type().AttributeTypes() {
			names = append(names, name)
		}
		if d.brokenLets[step.Name] {
			return false // its own finding says why it has no value
		}
		d.Add(IDReference, t.SourceRange(), fmt.Sprintf("let has no value called %q", step.Name), prefixed("did you mean let.", Suggest(step.Name, names), "?"))
		return false
	}
	return true
}

func prefixed(before, s, after string) string {
	if s == "" {
		return ""
	}
	return before + s + after
}

// scalar reads one value as a type.
func (d *Decoder) scalar(k *Key, as Type, v cty.Value, rng hcl.Range) (any, bool) {
	var x any
	var problem string
	id := IDType
	if d.outside && v.Type() == cty.String {
		v = meantBy(as, v)
	}
	switch {
	case as == Whole || as == Number:
		x, id, problem = number(k, as, v)
	case as == Switch && v.Type() != cty.Bool:
		problem = fmt.Sprintf("%s is %s, not true or false", k.Name, say(v))
	case as == Switch:
		return v.True(), true
	case v.Type() != cty.String:
		problem = fmt.Sprintf("%s is %s, not %s", k.Name, say(v), as)
	case as == Texts:
		return d.choice(k, v.AsString(), rng)
	case as == Addr || as == Addrs:
		parse := ParseAddress
		if k.Services {
			parse = ParseBackendAddress
		}
		a, err := parse(v.AsString())
		if err != nil {
			problem = fmt.Sprintf("%s: %v", k.Name, err)
		}
		x = Placed[Address]{a, rng}
	case written[as] != nil:
		x, id, problem = measure(k, as, v.AsString())
	default:
		p, ok := d.choice(k, v.AsString(), rng)
		if !ok {
			return nil, false
		}
		return p.(Placed[string]).Value, true
	}
	if problem != "" {
		hint := d.expected(k)
		if one := onlyOne(v); one != "" {
			hint = "expected one value, as " + k.Name + " = " + one
		}
		d.Add(id, rng, problem, hint)
		return nil, false
	}
	return x, true
}

// meantBy returns the number or the switch that a text stands for which comes from outside, where a key wants one.
func meantBy(as Type, text cty.Value) cty.Value {
	switch s := strings.TrimSpace(text.AsString()); as {
	case Whole, Number:
		if n, err := cty.ParseNumberVal(s); err == nil {
			return n
		}
	case Switch:
		if s == "true" || s == "false" {
			return cty.BoolVal(s == "true")
		}
	}
	return text
}

// onlyOne returns the first text of a list as it would be written alone; empty if it is no list of texts.
func onlyOne(v cty.Value) string {
	if !v.Type().IsTupleType() || v.LengthInt() == 0 {
		return ""
	}
	first := v.Index(cty.NumberIntVal(0))
	if first.Type() != cty.String || first.IsNull() {
		return ""
	}
	return strconv.Quote(shorten(first.AsString()))
}

// number reads a number, or returns what is wrong with it, and the rule that says so.
func number(k *Key, as Type, v cty.Value) (x any, id, problem string) {
	if v.Type() != cty.Number {
		return nil, IDType, fmt.Sprintf("%s is %s, not %s", k.Name, say(v), as)
	}
	f := v.AsBigFloat()
	n, exact := f.Int64()
	out, _ := f.Float64()
	switch {
	case as == Whole && !f.IsInt():
		return nil, IDType, fmt.Sprintf("%s is %s, not a whole number", k.Name, say(v))
	case as == Whole && exact != big.Exact, math.IsInf(out, 0), !inLimits(out, k):
		return nil, IDLimit, fmt.Sprintf("%s = %s is outside its limits", k.Name, say(v))
	case as == Whole:
		return int(n), "", ""
	}
	return out, "", ""
}

// written has how values are read that are written as text. size is what Min and Max
// of a key go by, not a number where they do not apply.
var written = map[Type]func(s string) (x any, size float64, err error){
	Duration: func(s string) (any, float64, error) {
		x, err := ParseDuration(s)
		return x, x.Seconds(), err
	},
	Size: func(s string) (any, float64, error) {
		x, err := ParseSize(s)
		return x, float64(x), err
	},
	Percent:  func(s string) (any, float64, error) { return unlimited(ParsePercent(s)) },
	SizeRate: func(s string) (any, float64, error) { return unlimited(ParseSizeRate(s)) },
	Rate:     func(s string) (any, float64, error) { return unlimited(ParseRate(s)) },
	Nets: func(s string) (any, float64, error) {
		x, err := parsePrefix(s)
		if err != nil {
			err = fmt.Errorf("%q is not an address or network", shorten(s))
		}
		return unlimited(x, err)
	},
}

func unlimited[T any](x T, err error) (any, float64, error) { return x, math.NaN(), err }

// measure reads a value that is written as text, or returns what is wrong with it, and
// the rule that says so.
func measure(k *Key, as Type, s string) (x any, id, problem string) {
	x, size, err := written[as](s)
	switch {
	case err != nil:
		return nil, IDType, fmt.Sprintf("%s: %v", k.Name, err)
	case !math.IsNaN(size) && !inLimits(size, k):
		return nil, IDLimit, fmt.Sprintf("%s = %q is outside its limits", k.Name, s)
	}
	return x, "", ""
}

// choice holds a text against the values that are allowed.
func (d *Decoder) choice(k *Key, s string, rng hcl.Range) (any, bool) {
	if len(k.Allowed) > 0 {
		found := false
		for _, a := range k.Allowed {
			found = found || a == s
		}
		if !found {
			hint := prefixed("did you mean \"", Suggest(s, k.Allowed), "\"?")
			if hint == "" {
				hint = "expected " + orList(quoted(k.Allowed))
			}
			d.Add(IDChoice, rng, fmt.Sprintf("%s cannot be %q; it is %s", k.Name, shorten(s), orList(quoted(k.Allowed))), hint)
			return nil, false
		}
	}
	return Placed[string]{s, rng}, true
}

func quoted(values []string) []string {
	out := make([]string, len(values))
	for i, v := range values {
		out[i] = strconv.Quote(v)
	}
	return out
}

// list reads one value or a list of them.
func (d *Decoder) list(k *Key, expr hclsyntax.Expression) (any, bool) {
	var parts []cty.Value
	var ranges []hcl.Range
	if tuple, ok := expr.(*hclsyntax.TupleConsExpr); ok {
		for _, e := range tuple.Exprs {
			v, ok := d.eval(e)
			if !ok {
				return nil, false
			}
			parts, ranges = append(parts, v), append(ranges, e.Range())
		}
	} else {
		v, ok := d.eval(expr)
		if !ok {
			return nil, false
		}
		if t := v.Type(); t.IsTupleType() || t.IsListType() || t.IsSetType() {
			for it := v.ElementIterator(); it.Next(); {
				_, e := it.Element()
				parts, ranges = append(parts, e), append(ranges, expr.Range())
			}
		} else {
			parts, ranges = []cty.Value{v}, []hcl.Range{expr.Range()}
		}
	}
	if len(parts) == 0 && !k.Empty {
		d.Add(IDMissing, expr.Range(), k.Name+" is an empty list", d.expected(k))
		return nil, false
	}
	var addrs []Placed[Address]
	var texts []Placed[string]
	var nets []netip.Prefix
	good := true
	for i, p := range parts {
		if p.IsNull() {
			d.Add(IDType, ranges[i], "null is no value here", "")
			return nil, false
		}
		x, ok := d.scalar(k, k.Type, p, ranges[i])
		if !ok {
			good = false
			continue
		}
		switch k.Type {
		case Addrs:
			addrs = append(addrs, x.(Placed[Address]))
		case Nets:
			nets = append(nets, x.(netip.Prefix))
		default:
			texts = append(texts, x.(Placed[string]))
		}
	}
	switch k.Type {
	case Addrs:
		return addrs, good
	case Nets:
		return nets, good
	}
	return texts, good
}

// reference reads upstream.NAME.
func (d *Decoder) reference(k *Key, expr hclsyntax.Expression) (any, bool) {
	t, diags := hcl.AbsTraversalForExpr(expr)
	if !diags.HasErrors() && len(t) == 2 && t.RootName() == "upstream" {
		if step, ok := t[1].(hcl.TraverseAttr); ok {
			return Placed[string]{step.Name, expr.Range()}, true
		}
	}
	hint := d.expected(k)
	if !diags.HasErrors() && len(t) == 1 {
		hint = "write upstream." + t.RootName()
	} else if v, vd := expr.Value(nil); !vd.HasErrors() && v.Type() == cty.String && v.IsKnown() && !v.IsNull() && hclsyntax.ValidIdentifier(v.AsString()) {
		hint = "write upstream." + v.AsString() + " without quotes"
	}
	d.Add(IDType, expr.Range(), k.Name+" needs a reference to an upstream", hint)
	return nil, false
}

// expected words what a key wants, for the place beside the mark.
func (d *Decoder) expected(k *Key) string {
	var b strings.Builder
	b.WriteString("expected " + k.Type.String())
	switch {
	case k.Min != "" && k.Max != "":
		fmt.Fprintf(&b, " from %s to %s", k.Min, k.Max)
	case k.Min != "":
		fmt.Fprintf(&b, " of at least %s", k.Min)
	}
	if k.Example != "" {
		b.WriteString(", like " + k.Example)
	}
	return b.String()
}

// inLimits holds a number, or a duration in seconds, against Min and Max.
func inLimits(x float64, k *Key) bool {
	return (k.Min == "" || x >= limit(k.Min)) && (k.Max == "" || x <= limit(k.Max))
}

func limit(s string) float64 {
	if unq, err := strconv.Unquote(s); err == nil {
		if n, err := ParseSize(unq); err == nil {
			return float64(n)
		}
		d, _ := time.ParseDuration(unq)
		return d.Seconds()
	}
	f, _ := strconv.ParseFloat(s, 64)
	return f
}

// say names a value as a reader would.
func say(v cty.Value) string {
	switch {
	case v.Type() == cty.String:
		return strconv.Quote(shorten(v.AsString()))
	case v.Type() == cty.Number:
		f := v.AsBigFloat()
		if f.IsInt() && f.MantExp(nil) < 60 {
			return f.Text('f', 0)
		}
		return f.Text('g', 6)
	case v.Type() == cty.Bool:
		return strconv.FormatBool(v.True())
	case v.Type().IsObjectType() || v.Type().IsMapType():
		return "an object"
	case v.Type().IsTupleType() || v.Type().IsListType():
		return "a list"
	}
	return "a " + v.Type().FriendlyName()
}
