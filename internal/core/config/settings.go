package config

import (
	"cmp"
	"fmt"
	"net/netip"
	"slices"
	"strconv"
	"strings"
	"time"
)

// Settings are what a block is set to, defaults included, in the order of the
// table.
type Settings struct {
	Block string // empty for the keys of the thing itself
	Keys  []Setting
}

// Setting is one key and its value as a reader would write it.
type Setting struct{ Key, Value string }

// settings lists what a node and the blocks in it are set to. A block that is
// not given is left out, unless its defaults hold all the same. What stands elsewhere in the model, such as backends and routes, is
// left out too.
func settings(n *Node, name string) []Settings {
	own := Settings{Block: name}
	if n.Label.Value != "" && name != "" && !n.Def.Told {
		own.Keys = append(own.Keys, Setting{n.Def.Label.Name, n.Label.Value})
	}
	own.Keys = append(own.Keys, keyTexts(n, "")...)
	out := []Settings{own}
	for _, def := range n.Def.Blocks {
		if def.Many {
			for i, c := range n.All(def.Name) {
				if def.Told {
					of := cmp.Or(c.Label.Value, strconv.Itoa(i+1))
					out = append(out, settings(c, strings.TrimPrefix(name+"."+def.Name+"."+of, "."))...)
				}
			}
			continue
		}
		c := n.One(def.Name)
		if c == nil && def.Always {
			c = n.child(def.Name)
		}
		if c != nil {
			out = append(out, settings(c, strings.TrimPrefix(name+"."+def.Name, "."))...)
		}
	}
	return out
}

func keyTexts(n *Node, prefix string) []Setting {
	var out []Setting
	for _, k := range n.Def.Keys {
		switch k.Type {
		case Members, UpRef, Addrs:
			continue
		}
		if k == withoutKey {
			continue // what is left is told
		}
		v, given := n.values[k.Name]
		if !given && k.Type == Block1 {
			v, given = Placed[any]{Value: &Node{Def: k.Fields}}, true
		}
		value := v.Value
		if !given {
			if k.Default == "" {
				continue
			}
			value = defaultOf(k)
		}
		if inner, ok := value.(*Node); ok {
			if inner != nil {
				out = append(out, keyTexts(inner, prefix+k.Name+".")...)
			}
			continue
		}
		text := valueText(k, value)
		if k.Secret {
			text = Hidden(text)
		}
		out = append(out, Setting{prefix + k.Name, text})
	}
	return out
}

// list joins the texts of a list, sorted unless their order counts, so that two lists that mean
// the same are written alike.
func (k *Key) list(all []string) string {
	if !k.Ordered {
		slices.Sort(all)
	}
	return strings.Join(all, ", ")
}

// valueText writes a value as a reader would say it.
func valueText(k *Key, v any) string {
	switch v := v.(type) {
	case time.Duration:
		return FormatDuration(v)
	case float64:
		switch k.Type {
		case Percent:
			return fmt.Sprintf("%g%%", 100*v)
		case Rate:
			return fmt.Sprintf("%g/s", v)
		}
		return fmt.Sprintf("%g", v)
	case int64:
		if k.Type == SizeRate {
			return FormatSize(v) + "/s"
		}
		return FormatSize(v)
	case []Placed[string]:
		var out []string
		for _, t := range v {
			out = append(out, t.Value)
		}
		return k.list(out)
	case []Placed[Address]:
		var out []string
		for _, a := range v {
			out = append(out, a.Value.String())
		}
		return strings.Join(out, ", ")
	case interface{ bare() any }: // its place is not part of a value
		return valueText(k, v.bare())
	case []netip.Prefix:
		var out []string
		for _, p := range v {
			out = append(out, strings.TrimSuffix(strings.TrimSuffix(p.String(), "/32"), "/128"))
		}
		return k.list(out)
	case []FieldPair:
		var out []string
		for _, p := range v {
			out = append(out, p.Name.Value+" = "+strconv.Quote(p.Value.Value))
		}
		return k.list(out)
	case string:
		if k.Name == "body" {
			return strconv.Quote(v)
		}
		return v
	}
	return fmt.Sprint(v)
}
