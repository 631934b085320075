package config

import (
	"fmt"
	"time"

	"github.com/hashicorp/hcl/v2"
	"github.com/hashicorp/hcl/v2/hclsyntax"
	"github.com/zclconf/go-cty/cty"
)

// Backend is one server of an upstream.
type Backend struct {
	Name        string
	Address     Address
	Weight      int // 0 gives it no new requests
	MaxInFlight int // 0 is no limit
	Tier        int // order of failover, 1 the first
	Zone        string
	Range       hcl.Range
	AddressAt   hcl.Range
	WeightAt    hcl.Range // of the whole entry where no weight is given
}

// members reads `backends`, in source order, and refuses a name given twice.
// What is not an object in braces, such as a for expression, is evaluated and
// taken in the order of its keys.
func (d *Decoder) members(k *Key, expr hclsyntax.Expression) (any, bool) {
	var out []Backend
	good := true
	seen := map[string]hcl.Range{}
	add := func(name string, at hcl.Range, b Backend, ok bool) {
		if !d.validBackend(name, at) {
			good = false
			return
		}
		if first, twice := seen[name]; twice {
			d.Add(IDTwice, at, fmt.Sprintf("the backend %q is given twice", name), fmt.Sprintf("the first stands on line %d", first.Start.Line))
			good = false
			return
		}
		seen[name] = at
		if !ok {
			good = false
			return
		}
		b.Name, b.Range = name, at
		out = append(out, b)
	}
	if cons, ok := expr.(*hclsyntax.ObjectConsExpr); ok {
		for _, item := range cons.Items {
			name, ok := d.itemName(item.KeyExpr)
			if !ok {
				good = false
				continue
			}
			b, ok := d.member(k, item.ValueExpr)
			add(name, item.KeyExpr.Range(), b, ok)
		}
	} else {
		v, ok := d.eval(expr)
		if !ok {
			return nil, false
		}
		if !v.Type().IsObjectType() && !v.Type().IsMapType() {
			d.Add(IDType, expr.Range(), fmt.Sprintf("backends is %s, not names with addresses", say(v)), d.expected(k))
			return nil, false
		}
		before := len(d.Findings)
		out = d.named(k, v, expr.Range())
		good = len(d.Findings) == before
	}
	if good && len(out) == 0 {
		d.Add(IDMissing, expr.Range(), "backends names none", d.expected(k))
		return out, false
	}
	// What could be read is given even where something could not, so that
	// rules still see the rest.
	return out, true
}

// itemName reads the key of an object's entry, a word or a text.
func (d *Decoder) itemName(expr hclsyntax.Expression) (string, bool) {
	if word := hcl.ExprAsKeyword(expr); word != "" {
		return word, true
	}
	v, ok := d.eval(expr)
	if !ok {
		return "", false
	}
	if v.Type() != cty.String {
		d.Add(IDType, expr.Range(), fmt.Sprintf("a name is expected here, not %s", say(v)), "")
		return "", false
	}
	return v.AsString(), true
}

func (d *Decoder) member(k *Key, expr hclsyntax.Expression) (Backend, bool) {
	if cons, ok := expr.(*hclsyntax.ObjectConsExpr); ok {
		n, good := d.fields(k.Fields, cons)
		if !good || !n.Has("address") {
			return Backend{}, false
		}
		a := Get[Placed[Address]](n, "address")
		return Backend{
			Address: a.Value, Weight: Get[int](n, "weight"), MaxInFlight: Get[int](n, "max_in_flight"),
			Tier: Get[int](n, "tier"), Zone: Get[string](n, "zone"),
			AddressAt: a.Range, WeightAt: n.At("weight"),
		}, true
	}
	v, ok := d.eval(expr)
	if !ok {
		return Backend{}, false
	}
	return d.memberValue(k, v, expr.Range())
}

// memberValue reads a backend that was computed: a text or an object.
func (d *Decoder) memberValue(k *Key, v cty.Value, rng hcl.Range) (Backend, bool) {
	b := Backend{Weight: 1, Tier: 1, AddressAt: rng, WeightAt: rng}
	if v.Type() == cty.String && !v.IsNull() {
		a, ok := d.scalar(k.Fields.Key("address"), Addr, v, rng)
		if !ok {
			return b, false
		}
		b.Address = a.(Placed[Address]).Value
		return b, true
	}
	if v.IsNull() || !v.Type().IsObjectType() {
		d.Add(IDType, rng, "a backend is an address or an object", d.expected(k))
		return b, false
	}
	n := &Node{Def: k.Fields, Range: rng, values: map[string]Placed[any]{}}
	good := true
	for it := v.ElementIterator(); it.Next(); {
		name, e := it.Element()
		f := k.Fields.Key(name.AsString())
		if f == nil {
			d.unknown(k.Fields, name.AsString(), rng, "key")
			good = false
			continue
		}
		if e.IsNull() {
			continue // as if it were not there
		}
		d.outside = true
		x, ok := d.scalar(f, f.Type, e, rng)
		d.outside = false
		if !ok {
			good = false
			continue
		}
		n.values[f.Name] = Placed[any]{x, rng}
	}
	if good && !n.Has("address") {
		d.Add(IDMissing, rng, "the backend has no address", d.expected(k))
		good = false
	}
	if !good {
		return b, false
	}
	b.Address = Get[Placed[Address]](n, "address").Value
	b.Weight, b.MaxInFlight = Get[int](n, "weight"), Get[int](n, "max_in_flight")
	b.Tier, b.Zone = Get[int](n, "tier"), Get[string](n, "zone")
	return b, true
}

// fields reads an object in braces by a table, as a block would be.
func (d *Decoder) fields(def *Block, cons *hclsyntax.ObjectConsExpr) (*Node, bool) {
	n := &Node{Def: def, Range: cons.OpenRange, values: map[string]Placed[any]{}}
	good := true
	for _, item := range cons.Items {
		name, ok := d.itemName(item.KeyExpr)
		if !ok {
			good = false
			continue
		}
		at := item.KeyExpr.Range()
		f := def.Key(name)
		if f == nil {
			d.unknown(def, name, at, "key")
			good = false
			continue
		}
		if n.Has(name) {
			d.Add(IDTwice, at, fmt.Sprintf("%s is given twice", name), "remove one of them")
			good = false
			continue
		}
		if d.isNull(item.ValueExpr) {
			continue // as if it were not written
		}
		v, ok := d.value(f, item.ValueExpr)
		good = good && ok
		n.values[name] = Placed[any]{v, item.ValueExpr.Range()}
	}
	for _, f := range def.Keys {
		if f.Required && !n.Has(f.Name) {
			d.Add(IDMissing, cons.Range(), fmt.Sprintf("the %s has no %s", def.Name, f.Name), f.Name+" = "+f.Example)
			good = false
		}
	}
	return n, good
}

func (d *Decoder) object(k *Key, expr hclsyntax.Expression) (any, bool) {
	cons, ok := expr.(*hclsyntax.ObjectConsExpr)
	if !ok {
		d.Add(IDType, expr.Range(), k.Name+" needs an object in braces", d.expected(k))
		return nil, false
	}
	return d.fields(k.Fields, cons)
}

// Distribution is how long something takes. The zero value takes no time.
type Distribution struct {
	Kind string        // fixed, exponential, lognormal, or from_trace: what the trace says
	Mean time.Duration // not for from_trace
	CV   float64       // coefficient of variation of lognormal: standard deviation over mean
}

// String writes the distribution as source.
func (x Distribution) String() string {
	switch x.Kind {
	case "from_trace":
		return "from_trace()"
	case "lognormal":
		return fmt.Sprintf("lognormal(%q, %g)", x.Mean, x.CV)
	default:
		return fmt.Sprintf("%s(%q)", x.Kind, x.Mean)
	}
}

// dist reads "40ms", fixed("40ms"), exponential("40ms"), lognormal("40ms", 0.6)
// or from_trace().
func (d *Decoder) dist(k *Key, expr hclsyntax.Expression) (any, bool) {
	needs := map[string]int{"fixed": 1, "exponential": 1, "lognormal": 2, "from_trace": 0}
	call, ok := expr.(*hclsyntax.FunctionCallExpr)
	if !ok {
		v, ok := d.eval(expr)
		if !ok {
			return nil, false
		}
		x, ok := d.scalar(k, Duration, v, expr.Range())
		if !ok {
			return nil, false
		}
		return Distribution{Kind: "fixed", Mean: x.(time.Duration)}, true
	}
	n, known := needs[call.Name]
	if !known {
		names := []string{"exponential", "fixed", "from_trace", "lognormal"}
		d.Add(IDUnknown, call.NameRange, fmt.Sprintf("there is no distribution %q", call.Name), DidYouMean(call.Name, names))
		return nil, false
	}
	if call.Name == "from_trace" && !k.Traced {
		d.Add(IDType, expr.Range(), k.Name+" cannot be from_trace()", d.expected(k))
		return nil, false
	}
	if len(call.Args) != n {
		d.Add(IDType, expr.Range(), fmt.Sprintf("%s takes %d arguments, not %d", call.Name, n, len(call.Args)), d.expected(k))
		return nil, false
	}
	x := Distribution{Kind: call.Name}
	if n >= 1 {
		v, ok := d.eval(call.Args[0])
		if !ok {
			return nil, false
		}
		mean, ok := d.scalar(k, Duration, v, call.Args[0].Range())
		if !ok {
			return nil, false
		}
		x.Mean = mean.(time.Duration)
	}
	if n == 2 {
		v, ok := d.eval(call.Args[1])
		if !ok {
			return nil, false
		}
		cv, ok := d.scalar(&Key{Name: "the coefficient of variation", Min: "0", Max: "100", Type: Number}, Number, v, call.Args[1].Range())
		if !ok {
			return nil, false
		}
		x.CV = cv.(float64)
	}
	return x, true
}

func (d *Decoder) validBackend(name string, at hcl.Range) bool {
	if hclsyntax.ValidIdentifier(name) {
		return true
	}
	d.Add(IDType, at, fmt.Sprintf("%q cannot be the name of a backend", shorten(name)), "letters, digits, - and _, beginning with a letter")
	return false
}

// named reads backends that were computed, or stand in a file, in the order of their names.
// What could be read is given even where something could not.
func (d *Decoder) named(k *Key, v cty.Value, at hcl.Range) (out []Backend) {
	for it := v.ElementIterator(); it.Next(); {
		name, e := it.Element()
		if b, ok := d.memberValue(k, e, at); d.validBackend(name.AsString(), at) && ok {
			b.Name, b.Range = name.AsString(), at
			out = append(out, b)
		}
	}
	return out
}
