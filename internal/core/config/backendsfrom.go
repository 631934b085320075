package config

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"

	"github.com/hashicorp/hcl/v2"
	"github.com/hashicorp/hcl/v2/hclsyntax"
	ctyjson "github.com/zclconf/go-cty/cty/json"
)

// backendsFrom reads the backends of an upstream from its file, and holds it to one of the two
// keys that give them.
func (d *Decoder) backendsFrom(n *Node, u *Upstream) {
	const key = "backends_from"
	switch {
	case !n.Has(key) && !n.Has("backends"):
		if len(d.syntax) == 0 {
			d.Add(IDMissing, n.Range, fmt.Sprintf("upstream %q has no backends", u.Name), "backends = "+n.Def.Key("backends").Example)
		}
		return
	case !n.Has(key):
		return
	case n.Has("backends"):
		d.Add(IDTwice, n.At(key), "backends and backends_from both give the backends", "remove one of them")
		return
	}
	u.From = Placed[string]{Get[string](n, key), n.At(key)}
	u.BackendsAt, u.Partial = u.From.Range, true // until it has been read
	bad := func(text string) {
		d.Add(IDType, u.From.Range, fmt.Sprintf("%s: %s", shorten(u.From.Value), text), `a JSON object like { "auk": "192.0.2.11:8080", "gannet": { "address": "192.0.2.12:8080", "weight": 2 } }`)
	}
	if u.From.Value == "" || d.readFile == nil {
		bad("it cannot be read here")
		return
	}
	text, err := d.readFile(u.From.Value)
	switch {
	case err != nil:
		bad(fmt.Sprintf("it cannot be read: %v", err))
		return
	case len(text) > MaxSource:
		bad("it is larger than a configuration may be")
		return
	}
	if at, why := wrongJSON(text); why != "" {
		line, column := 1+bytes.Count(text[:at], []byte("\n")), at-bytes.LastIndexByte(text[:at], '\n')
		bad(fmt.Sprintf("line %d, column %d: %s", line, column, why))
		return
	}
	kind, err := ctyjson.ImpliedType(text)
	if err != nil || !kind.IsObjectType() {
		bad("it is no JSON object with the backends by name")
		return
	}
	v, err := ctyjson.Unmarshal(text, kind)
	if err != nil {
		bad(err.Error())
		return
	}
	before := len(d.Findings)
	list := d.named(n.Def.Key("backends"), v, u.From.Range)
	for i := range d.Findings[before:] {
		f := &d.Findings[before+i]
		f.Message = u.From.Value + ": " + f.Message
	}
	if len(list) == 0 && len(d.Findings) == before {
		bad("it names no backend")
		return
	}
	u.Backends, u.Partial = list, len(d.Findings) > before
	if at, ok := d.attributesAt[u.From.Range]; ok {
		d.pieces = append(d.pieces, piece{at, "backends = " + inLanguage(list)})
	}
}

// wrongJSON returns where a text is no JSON value, and why; an empty reason for one that is. An
// object with a name twice is none that could be meant.
func wrongJSON(text []byte) (at int, why string) {
	dec := json.NewDecoder(bytes.NewReader(text))
	var names [][]string // of the objects around, in their order
	var keys []bool      // whether a name comes next
	for {
		token, err := dec.Token()
		at = min(int(dec.InputOffset()), len(text))
		var syntax *json.SyntaxError
		switch {
		case errors.Is(err, io.EOF) && len(names) == 0 && len(bytes.TrimSpace(text)) > 0:
			return 0, ""
		case errors.As(err, &syntax):
			return min(int(syntax.Offset), len(text)), syntax.Error()
		case err != nil:
			return at, "it ends too early"
		}
		depth := len(names) - 1
		switch t := token.(type) {
		case json.Delim:
			if t == '{' || t == '[' {
				names, keys = append(names, nil), append(keys, t == '{')
				continue
			}
			names, keys = names[:depth], keys[:depth]
		case string:
			if depth >= 0 && keys[depth] && len(names[depth])%2 == 0 {
				for i := 0; i < len(names[depth]); i += 2 {
					if names[depth][i] == t {
						return at, fmt.Sprintf("the name %q is given twice", shorten(t))
					}
				}
			}
		}
		if depth = len(names) - 1; depth >= 0 && keys[depth] { // names and values by turns
			word, _ := token.(string)
			names[depth] = append(names[depth], word)
		}
	}
}

// inLanguage writes backends as the language has them.
func inLanguage(list []Backend) string {
	parts := make([]string, 0, len(list))
	for _, b := range list {
		fields := []string{"address = " + literal(b.Address.String())}
		for _, f := range []struct {
			key        string
			value, std int
		}{{"weight", b.Weight, 1}, {"max_in_flight", b.MaxInFlight, 0}, {"tier", b.Tier, 1}} {
			if f.value != f.std {
				fields = append(fields, f.key+" = "+strconv.Itoa(f.value))
			}
		}
		if b.Zone != "" {
			fields = append(fields, "zone = "+literal(b.Zone))
		}
		parts = append(parts, b.Name+" = { "+strings.Join(fields, ", ")+" }")
	}
	return "{ " + strings.Join(parts, ", ") + " }"
}

// attributeOf notes where the key stands whose value an expression is, for what is written in
// the place of both.
func (d *Decoder) attributeOf(a *hclsyntax.Attribute) {
	if d.attributesAt == nil {
		d.attributesAt = map[hcl.Range]hcl.Range{}
	}
	d.attributesAt[a.Expr.Range()] = a.SrcRange
}

// FilesOfBackends returns the files that give backends.
func (c *Config) FilesOfBackends() []Placed[string] {
	var out []Placed[string]
	for _, u := range c.Upstreams {
		if u.From.Value != "" && !slices.ContainsFunc(out, func(p Placed[string]) bool { return p.Value == u.From.Value }) {
			out = append(out, u.From)
		}
	}
	return out
}
