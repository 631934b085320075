package config

import (
	"fmt"
	"slices"
)

// withoutKey names what of common a frontend or upstream does not take.
var withoutKey = &Key{Name: "without", Type: Texts, Help: "blocks and keys of common that do not apply here", Example: `["probe", "retry"]`}

// commonBlock holds what frontends and upstreams start from. Its inner blocks
// are theirs, without what each must say for itself.
var commonBlock = &Block{
	Name: "common",
	Help: "defaults for every frontend and upstream; their own keys take precedence, key by key",
	Blocks: []*Block{
		sharedPart(frontendBlock, "for every frontend", "listen", "route"),
		sharedPart(upstreamBlock, "for every upstream", "backends", "backends_from"),
	},
}

// sharedPart is a block without its label and without some of what is in it.
func sharedPart(b *Block, help string, but ...string) *Block {
	out := &Block{Name: b.Name, Help: help, Like: b.Name, Except: but}
	for _, k := range b.Keys {
		if !slices.Contains(but, k.Name) && k.Name != withoutKey.Name {
			out.Keys = append(out.Keys, k)
		}
	}
	for _, c := range b.Blocks {
		if !slices.Contains(but, c.Name) {
			out.Blocks = append(out.Blocks, c)
		}
	}
	return out
}

// share gives frontends and upstreams what common says, before the model is
// made of them.
func (d *Decoder) share(roots []*Node) {
	var common *Node
	for _, root := range roots {
		for _, n := range root.All("common") {
			if common != nil {
				d.Add(IDTwice, n.Range, "common is given twice", fmt.Sprintf("the first is at %s:%d", common.Range.Filename, common.Range.Start.Line))
				continue
			}
			common = n
		}
	}
	for _, root := range roots {
		for _, n := range root.Nodes {
			if n.Def.Key(withoutKey.Name) == nil {
				continue
			}
			without := Get[[]Placed[string]](n, withoutKey.Name)
			for _, w := range without {
				if !slices.Contains(n.Def.names(), w.Value) {
					d.Add(IDChoice, w.Range, fmt.Sprintf("%s has no %q to do without", n.Def.Name, shorten(w.Value)), DidYouMean(w.Value, n.Def.names()))
				}
			}
			if common == nil {
				if len(without) > 0 {
					d.Add(IDMissing, n.At(withoutKey.Name), "there is no common block to do without", "remove it, or add common { ... } at the top")
				}
				continue
			}
			if from := common.One(n.Def.Name); from != nil {
				n.inherit(from, without)
			}
		}
	}
}

// inherit takes over what a node does not say itself. A block that stands in
// both with another label, such as a probe of another kind, is left as it is.
func (n *Node) inherit(from *Node, without []Placed[string]) {
	left := func(name string) bool {
		return slices.ContainsFunc(without, func(w Placed[string]) bool { return w.Value == name })
	}
	for key, v := range from.values {
		if !n.Has(key) && !left(key) {
			n.values[key] = v
			if n.inherited == nil {
				n.inherited = map[string]bool{}
			}
			n.inherited[key] = true
		}
	}
	for _, c := range from.Nodes {
		if left(c.Def.Name) {
			continue
		}
		own := n.One(c.Def.Name)
		if c.Def.Many { // one for each label
			own = n.labelled(c.Def.Name, c.Label.Value)
		}
		switch {
		case own == nil:
			taken := *c
			taken.shared = true
			n.Nodes = append(n.Nodes, &taken)
		case own.Label.Value == c.Label.Value:
			own.inherit(c, nil)
		}
	}
}

// labelled returns the inner block of a type and label, nil if absent.
func (n *Node) labelled(block, label string) *Node {
	for _, c := range n.All(block) {
		if c.Label.Value == label {
			return c
		}
	}
	return nil
}
