package config

import (
	"fmt"
	"sort"
	"strconv"
	"strings"

	"github.com/hashicorp/hcl/v2"
	"github.com/hashicorp/hcl/v2/hclsyntax"
	"github.com/zclconf/go-cty/cty"
)

// Node is a block as it was read: its keys hold values of the types that the
// table gives them, with defaults filled in.
type Node struct {
	inherited map[string]bool // keys that common gave; nil for none
	Def       *Block
	Label     Placed[string] // Value is empty for a block without a label
	Range     hcl.Range      // of its head: type and label
	values    map[string]Placed[any]
	Nodes     []*Node // the blocks inside, in source order
	shared    bool    // taken over from common
}

// Has reports whether the source itself gives a key.
func (n *Node) Has(key string) bool { _, ok := n.values[key]; return ok }

// At returns the place of a key's value, and that of the block's head for a key
// that is not given.
func (n *Node) At(key string) hcl.Range {
	if v, ok := n.values[key]; ok {
		return v.Range
	}
	return n.Range
}

// All returns the inner blocks of one type.
func (n *Node) All(block string) []*Node {
	var out []*Node
	for _, c := range n.Nodes {
		if c.Def.Name == block {
			out = append(out, c)
		}
	}
	return out
}

// One returns the inner block of a type that may stand once, nil if absent.
func (n *Node) One(block string) *Node {
	if all := n.All(block); len(all) > 0 {
		return all[0]
	}
	return nil
}

// child is One, or a block without keys where there is none, so that defaults
// can be read from it.
func (n *Node) child(block string) *Node {
	if c := n.One(block); c != nil {
		return c
	}
	return &Node{Def: n.Def.Block(block), Range: n.Range}
}

// Get returns a key's value, or its default from the table; the zero value for a
// key with neither.
func Get[T any](n *Node, key string) T {
	var zero T
	if v, ok := n.values[key]; ok {
		if t, ok := v.Value.(T); ok {
			return t
		}
	}
	k := n.Def.Key(key)
	if k == nil || k.Default == "" {
		return zero
	}
	if t, ok := defaultOf(k).(T); ok {
		return t
	}
	return zero
}

// defaultOf reads a default as source would be read, so that the table's text
// and what is done cannot differ.
func defaultOf(k *Key) any {
	k.once.Do(func() {
		expr, diags := hclsyntax.ParseExpression([]byte(k.Default), "default", hcl.InitialPos)
		if !diags.HasErrors() {
			k.read, _ = NewDecoder().value(k, expr)
		}
	})
	return k.read
}

// Decoder reads parsed source by a table and gathers what is wrong with it.
type Decoder struct {
	Context    *hcl.EvalContext
	Findings   Findings
	lets       map[string]bool  // which values of let were used
	brokenLets map[string]bool  // which could not be read
	secrets    []hcl.Range      // of values that are not to be shown
	mayHide    bool             // see World.Hidden
	hidden     []piece          // values that are not to be shown, wherever they come from
	pieces     []piece          // what comes from this machine, see Resolved
	dropped    bool             // a block was left out because of its label
	syntax     Findings         // where the syntax is broken, see spoiled
	logged     []Placed[string] // routes that access logs name
	readFile   func(name string) ([]byte, error)
	// attributesAt are the places of keys with their values, by those of the values.
	attributesAt map[hcl.Range]hcl.Range
	outside      bool // the value at hand was worked out, as from env, so that a number may be a text
}

// NewDecoder returns a decoder without values of its own.
func NewDecoder() *Decoder {
	return &Decoder{
		Context:    &hcl.EvalContext{Variables: map[string]cty.Value{"let": cty.EmptyObjectVal}, Functions: functions(World{})},
		lets:       map[string]bool{},
		brokenLets: map[string]bool{},
	}
}

// Add reports an error at a place.
func (d *Decoder) Add(id string, rng hcl.Range, message, hint string) {
	d.Findings = append(d.Findings, Finding{ID: id, Severity: Error, Range: rng, Message: message, Hint: hint})
}

// Decode reads a body by its table. broken says that the syntax had errors, so
// that missing things are not reported: they may only have been unreadable.
func (d *Decoder) Decode(def *Block, body *hclsyntax.Body, head hcl.Range, broken bool) *Node {
	n := &Node{Def: def, Range: head, values: map[string]Placed[any]{}}
	d.attributes(n, body)
	for _, b := range body.Blocks {
		d.block(n, b, broken)
	}
	if broken {
		return n
	}
	for _, k := range def.Keys {
		if _, ok := n.values[k.Name]; !ok && k.Required {
			d.Add(IDMissing, head, fmt.Sprintf("%s has no %s", title(def), k.Name), k.Name+" = "+k.Example)
		}
	}
	for _, c := range def.Blocks {
		if c.Required && n.One(c.Name) == nil {
			d.Add(IDMissing, head, fmt.Sprintf("%s has no %s", title(def), c.Name), c.Help)
		}
	}
	return n
}

// attributes reads the keys of a body.
func (d *Decoder) attributes(n *Node, body *hclsyntax.Body) {
	def := n.Def
	for _, a := range sortedAttributes(body) {
		k := def.Key(a.Name)
		if k == nil {
			if c := def.Block(a.Name); c != nil {
				d.Add(IDUnknown, a.NameRange, fmt.Sprintf("%s is a block; it takes no =", a.Name), "write "+a.Name+" { ... }")
				continue
			}
			d.unknown(def, a.Name, a.NameRange, "key")
			continue
		}
		if d.spoiled(a.SrcRange) {
			n.values[k.Name] = Placed[any]{nil, a.Expr.Range()}
			continue
		}
		if d.isNull(a.Expr) {
			continue // as if it were not written
		}
		if k.Name == "backends_from" {
			d.attributeOf(a)
		}
		if _, literal := a.Expr.(*hclsyntax.TemplateExpr); literal && k.Secret {
			d.secrets = append(d.secrets, a.Expr.Range())
		}
		if v, ok := d.value(k, a.Expr); ok {
			if text, isText := v.(string); isText && k.Secret {
				d.hidden = append(d.hidden, piece{a.Expr.Range(), text})
				if isHidden(text) && !d.mayHide {
					d.Add(IDType, a.Expr.Range(), k.Name+" is what stands for a secret where a proxy shows its configuration", "the secret itself, of which this is a digest")
				}
			}
			n.values[k.Name] = Placed[any]{v, a.Expr.Range()}
		} else {
			n.values[k.Name] = Placed[any]{nil, a.Expr.Range()}
		}
	}
}

// spoiled reports whether the syntax is broken inside a range, so that what was
// made of it means nothing. That has a finding of its own.
func (d *Decoder) spoiled(rng hcl.Range) bool {
	for _, f := range d.syntax {
		if f.Range.Filename == rng.Filename && f.Range.Start.Line >= rng.Start.Line && f.Range.Start.Line <= rng.End.Line {
			return true
		}
	}
	return false
}

// Syntax takes what was found while parsing.
func (d *Decoder) Syntax(found Findings) {
	d.syntax = append(d.syntax, found...)
	d.Findings = append(d.Findings, found...)
}

func (d *Decoder) block(n *Node, b *hclsyntax.Block, broken bool) {
	def := n.Def.Block(b.Type)
	if def == nil {
		if k := n.Def.Key(b.Type); k != nil {
			d.Add(IDUnknown, b.TypeRange, fmt.Sprintf("%s is a key, not a block", b.Type), "write "+b.Type+" = "+k.Example)
			return
		}
		d.unknown(n.Def, b.Type, b.TypeRange, "block")
		return
	}
	if !def.Many {
		if first := n.One(def.Name); first != nil {
			d.Add(IDTwice, b.DefRange(), fmt.Sprintf("%s is given twice", def.Name), fmt.Sprintf("the first stands on line %d", first.Range.Start.Line))
			return
		}
	}
	label := Placed[string]{}
	switch {
	case def.Label == nil && len(b.Labels) > 0:
		d.Add(IDUnknown, b.LabelRanges[0], fmt.Sprintf("%s takes no name", def.Name), "write "+def.Name+" {")
	case def.Label != nil && len(b.Labels) == 0:
		example := `"booking"`
		if len(def.Label.Allowed) > 0 {
			example = strconv.Quote(def.Label.Allowed[0])
		}
		d.Add(IDMissing, b.TypeRange, fmt.Sprintf("%s has no %s", def.Name, def.Label.Name), "write "+def.Name+" "+example+" {")
		return
	case def.Label != nil:
		label = Placed[string]{b.Labels[0], b.LabelRanges[0]}
		if len(b.Labels) > 1 {
			d.Add(IDUnknown, b.LabelRanges[1], fmt.Sprintf("%s takes one %s only", def.Name, def.Label.Name), "")
		}
		if !d.label(def, label) {
			d.dropped = true
			return
		}
	}
	var inner *Node
	if def.Free {
		inner = d.letBlock(def, b)
	} else {
		inner = d.decodeLabelled(def, b.Body, b.DefRange(), label, broken)
	}
	n.Nodes = append(n.Nodes, inner)
}

// decodeLabelled is Decode for a block with a label, so that messages can name it.
func (d *Decoder) decodeLabelled(def *Block, body *hclsyntax.Body, head hcl.Range, label Placed[string], broken bool) *Node {
	before := len(d.Findings)
	n := d.Decode(def, body, head, broken)
	n.Label = label
	for i := before; i < len(d.Findings); i++ {
		f := &d.Findings[i]
		if f.ID == IDMissing && f.Range == head && label.Value != "" {
			f.Message = fmt.Sprintf("%s %q%s", def.Name, label.Value, f.Message[len(def.Name):])
		}
	}
	return n
}

// label holds a block's name against what a name may be.
func (d *Decoder) label(def *Block, label Placed[string]) bool {
	if allowed := def.Label.Allowed; len(allowed) > 0 {
		for _, a := range allowed {
			if a == label.Value {
				return true
			}
		}
		hint := prefixed("did you mean \"", Suggest(label.Value, allowed), "\"?")
		if hint == "" {
			hint = "expected " + orList(quoted(allowed))
		}
		d.Add(IDChoice, label.Range, fmt.Sprintf("there is no %s of the %s %q", def.Name, def.Label.Name, shorten(label.Value)), hint)
		return false
	}
	if def.Label.Name == "name" && !hclsyntax.ValidIdentifier(label.Value) {
		d.Add(IDType, label.Range, fmt.Sprintf("%q cannot be a name", shorten(label.Value)), "letters, digits, - and _, beginning with a letter")
		return false
	}
	return true
}

// ValidName reports whether a text can name a frontend, route, upstream or backend.
func ValidName(s string) bool { return hclsyntax.ValidIdentifier(s) }

// unknown reports a key or block that the table does not have.
func (d *Decoder) unknown(def *Block, name string, rng hcl.Range, what string) {
	where := "in " + def.Name
	if strings.HasPrefix(title(def), "the ") {
		where = "at the top"
	}
	hint := DidYouMean(name, def.names())
	switch homes := homesOf(name); {
	case where != "at the top" && Language.Block(name) != nil:
		hint = name + " stands at the top; is a } missing above?"
	case len(homes) > 0 && len(homes) <= 4:
		hint = name + " belongs to " + orList(homes)
	}
	d.Add(IDUnknown, rng, fmt.Sprintf("there is no %s %q %s", what, shorten(name), where), hint)
}

// homesOf returns the blocks of the language that have a key or block of a name, as a reader would write them.
func homesOf(name string) []string {
	var out []string
	var walk func(b *Block, within string)
	walk = func(b *Block, within string) {
		for _, c := range b.Blocks {
			if c.Name == "common" || c.Name == "any" { // which have again what others have
				continue
			}
			inside := strings.TrimSpace(within + " " + c.Name)
			if c.Key(name) != nil || c.Block(name) != nil {
				out = append(out, inside+" { }")
			}
			walk(c, inside+" {")
		}
	}
	walk(Language, "")
	for i, s := range out {
		out[i] = s + strings.Repeat(" }", strings.Count(s, "{")-1)
	}
	return out
}

// letBlock reads values of one's own, in source order, so that later ones may
// use earlier ones.
func (d *Decoder) letBlock(def *Block, b *hclsyntax.Block) *Node {
	n := &Node{Def: def, Range: b.DefRange(), values: map[string]Placed[any]{}}
	for _, inner := range b.Body.Blocks {
		d.Add(IDUnknown, inner.TypeRange, "let holds values only, no blocks", "")
	}
	for _, a := range sortedAttributes(b.Body) {
		let := d.Context.Variables["let"].AsValueMap()
		if _, ok := let[a.Name]; ok {
			d.Add(IDTwice, a.NameRange, fmt.Sprintf("let has %q twice", a.Name), "remove one of them")
			continue
		}
		if d.spoiled(a.SrcRange) {
			d.brokenLets[a.Name] = true
			continue
		}
		v, ok := cty.NullVal(cty.DynamicPseudoType), d.isNull(a.Expr)
		if !ok {
			v, ok = d.eval(a.Expr)
		}
		if !ok {
			d.brokenLets[a.Name] = true
			continue
		}
		grown := map[string]cty.Value{a.Name: v}
		for name, old := range let {
			grown[name] = old
		}
		d.Context.Variables["let"] = cty.ObjectVal(grown)
		n.values[a.Name] = Placed[any]{v, a.NameRange}
	}
	return n
}

// title names a block in a message; its label is put in by decodeLabelled.
func title(def *Block) string {
	if def.Label == nil && (def.Name == "configuration" || def.Name == "scenario") {
		return "the " + def.Name
	}
	return def.Name
}

// sortedAttributes returns the keys of a body in source order; the parser keeps
// them in a map.
func sortedAttributes(body *hclsyntax.Body) []*hclsyntax.Attribute {
	out := make([]*hclsyntax.Attribute, 0, len(body.Attributes))
	for _, a := range body.Attributes {
		out = append(out, a)
	}
	sort.Slice(out, func(i, j int) bool { return out[i].SrcRange.Start.Byte < out[j].SrcRange.Start.Byte })
	return out
}
