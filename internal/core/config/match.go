package config

import (
	"fmt"
	"net/netip"
	"regexp"
	"strconv"
	"strings"

	"github.com/hashicorp/hcl/v2"
	"github.com/hashicorp/hcl/v2/hclsyntax"
	"github.com/zclconf/go-cty/cty"
)

// Match is what a condition wants of a text: a pattern with wildcards, or a
// regular expression, or that it does not fit one.
type Match struct {
	Text   string         // as written between the quotes
	Regexp *regexp.Regexp // nil for a pattern with wildcards; it must fit the whole text
	Not    bool
	Range  hcl.Range
}

// String writes the match as source.
func (m Match) String() string {
	s := m.Text
	if m.Regexp != nil {
		s = "regexp(" + strconv.Quote(m.Text) + ")"
	}
	if m.Not {
		return "not(" + s + ")"
	}
	return s
}

// List writes matches as source.
func List(all []Match) string {
	var out []string
	for _, m := range all {
		out = append(out, m.String())
	}
	return strings.Join(out, ", ")
}

// Words joins what a condition wants of a text: what fits by "or", and after it
// what must not.
func Words(all []Match) string {
	var fits, not []string
	for _, m := range all {
		if m.Not {
			m.Not = false
			not = append(not, m.String())
		} else {
			fits = append(fits, m.String())
		}
	}
	switch {
	case len(not) == 0:
		return strings.Join(fits, " or ")
	case len(fits) == 0:
		return "anything but " + strings.Join(not, " or ")
	}
	return strings.Join(fits, " or ") + " but not " + strings.Join(not, " or ")
}

// MatchPair is what a condition wants of a named field: as of a list, one of those that are not
// Not, and none of the others.
type MatchPair struct {
	Name    Placed[string]
	Matches []Match
}

// ClientMatch is what a condition wants of a client's address.
type ClientMatch struct {
	Prefix netip.Prefix
	Not    bool
	Range  hcl.Range
}

// maxRegexp bounds the source of a regular expression, in bytes.
const maxRegexp = 1000

// matches reads one match or a list of them.
func (d *Decoder) matches(k *Key, expr hclsyntax.Expression) (any, bool) {
	exprs := []hclsyntax.Expression{expr}
	if tuple, ok := expr.(*hclsyntax.TupleConsExpr); ok {
		exprs = tuple.Exprs
	}
	var out []Match
	good := true
	for _, e := range exprs {
		m, ok := d.match(k, e)
		good = good && ok
		out = append(out, m...)
	}
	if good && len(out) == 0 {
		d.Add(IDMissing, expr.Range(), k.Name+" is an empty list", d.expected(k))
		return nil, false
	}
	return out, good
}

// match reads a text, regexp("...") or not(...); a value of one's own may be a
// list of texts.
func (d *Decoder) match(k *Key, expr hclsyntax.Expression) ([]Match, bool) {
	if call, ok := expr.(*hclsyntax.FunctionCallExpr); ok {
		if _, known := d.Context.Functions[call.Name]; !known {
			return d.matchCall(k, call)
		}
	}
	v, ok := d.eval(expr)
	if !ok {
		return nil, false
	}
	if t := v.Type(); t.IsTupleType() || t.IsListType() || t.IsSetType() {
		var out []Match
		for it := v.ElementIterator(); it.Next(); {
			_, e := it.Element()
			if e.IsNull() || e.Type() != cty.String {
				d.Add(IDType, expr.Range(), fmt.Sprintf("%s holds something that is not text", k.Name), d.expected(k))
				return nil, false
			}
			out = append(out, Match{Text: e.AsString(), Range: expr.Range()})
		}
		return out, true
	}
	if v.Type() != cty.String {
		d.Add(IDType, expr.Range(), fmt.Sprintf("%s is %s, not %s", k.Name, say(v), k.Type), d.expected(k))
		return nil, false
	}
	return []Match{{Text: v.AsString(), Range: expr.Range()}}, true
}

func (d *Decoder) matchCall(k *Key, call *hclsyntax.FunctionCallExpr) ([]Match, bool) {
	if call.Name != "regexp" && call.Name != "not" {
		d.Add(IDUnknown, call.NameRange, fmt.Sprintf("there is no function %q here", call.Name), DidYouMean(call.Name, []string{"regexp", "not"}))
		return nil, false
	}
	if len(call.Args) != 1 {
		d.Add(IDType, call.Range(), fmt.Sprintf("%s takes one argument, not %d", call.Name, len(call.Args)), "like "+call.Name+"(\"/live/**\")")
		return nil, false
	}
	inner, ok := d.match(k, call.Args[0])
	if !ok {
		return nil, false
	}
	for i := range inner {
		m := &inner[i]
		m.Range = call.Range()
		switch {
		case call.Name == "not" && m.Not:
			d.Add(IDType, call.Range(), "not(not(...)) says the same as nothing", "leave both out")
			return nil, false
		case call.Name == "not":
			m.Not = true
		case m.Not || m.Regexp != nil:
			d.Add(IDType, call.Range(), "regexp takes a text", "not(regexp(\"...\")) stands the other way round")
			return nil, false
		case len(m.Text) > maxRegexp:
			d.Add(IDLimit, call.Range(), fmt.Sprintf("the regular expression is longer than %d characters", maxRegexp), "")
			return nil, false
		default:
			re, err := regexp.Compile("^(?:" + m.Text + ")$")
			if err != nil {
				d.Add(IDType, call.Range(), fmt.Sprintf("%q is not a regular expression", shorten(m.Text)), "the syntax is RE2's; a backslash is written twice: \"\\\\d+\"")
				return nil, false
			}
			m.Regexp = re
		}
	}
	return inner, true
}

// FieldPair is a name with a text, in source order.
type FieldPair struct{ Name, Value Placed[string] }

// fieldTable reads names with texts.
func (d *Decoder) fieldTable(k *Key, expr hclsyntax.Expression) (any, bool) {
	all, ok := d.matchTable(k, expr)
	if !ok {
		return nil, false
	}
	var out []FieldPair
	for _, p := range all.([]MatchPair) {
		m := p.Matches[0]
		if len(p.Matches) > 1 || m.Not || m.Regexp != nil {
			d.Add(IDType, m.Range, k.Name+" needs texts, not patterns", d.expected(k))
			return nil, false
		}
		out = append(out, FieldPair{p.Name, Placed[string]{m.Text, m.Range}})
	}
	return out, true
}

// matchTable reads names with a match or a list of them each, in source order.
func (d *Decoder) matchTable(k *Key, expr hclsyntax.Expression) (any, bool) {
	cons, ok := expr.(*hclsyntax.ObjectConsExpr)
	if !ok {
		d.Add(IDType, expr.Range(), k.Name+" needs names with texts", d.expected(k))
		return nil, false
	}
	var out []MatchPair
	seen := map[string]bool{}
	for _, item := range cons.Items {
		name, ok := d.itemName(item.KeyExpr)
		if !ok {
			return nil, false
		}
		if seen[name] {
			d.Add(IDTwice, item.KeyExpr.Range(), fmt.Sprintf("%q is given twice", name), "remove one of them")
			return nil, false
		}
		seen[name] = true
		m, ok := d.matches(k, item.ValueExpr)
		if !ok {
			return nil, false
		}
		out = append(out, MatchPair{Placed[string]{name, item.KeyExpr.Range()}, m.([]Match)})
	}
	return out, true
}
