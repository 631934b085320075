package config

import (
	"strings"
	"sync"
)

// Type is what the value of a key must be.
type Type int

// The types of the language.
const (
	Text       Type = iota
	Whole           // a whole number
	Number          // a number
	Switch          // true or false
	Duration        // "2s"
	Percent         // "50%"
	Addr            // one address
	Addrs           // one address or a list of them
	Texts           // one text or a list of them
	Matches         // one pattern or a list of them, with regexp("...") and not(...)
	MatchTable      // names to patterns: { name = "pattern" }
	FieldTable      // names to texts: { "X-Quay" = "north" }
	UpRef           // a reference such as upstream.booking
	Members         // the backends of an upstream
	Block1          // an object that is checked like a block: expect = { ... }
	Dist            // a distribution: "40ms" or lognormal("40ms", 0.6)
	Any             // an expression that is kept and evaluated later
	Size            // "8MiB"
	Rate            // "200/s"
	SizeRate        // "1KiB/s"
	Nets            // one address or network, or a list of them
)

// String returns what a type is in the words of the reference and of errors.
func (t Type) String() string {
	return [...]string{
		"text", "a whole number", "a number", "true or false", "a duration", "a percentage",
		"an address", "an address or a list of addresses", "text or a list of texts",
		"a pattern, regexp(\"...\"), not(...), or a list of them", "a table of names and patterns", "a table of names and texts", "a reference like upstream.booking", "the backends",
		"an object", "a distribution", "an expression", "a size", "a rate", "a size a second", "an address or network, or a list of them",
	}[t]
}

// Key is one line of the language's table: a setting, what it may be, and what
// it means. The table drives decoding, errors and the reference.
type Key struct {
	Name     string
	Type     Type
	Unit     string   // of a number; empty where the type says it
	Default  string   // as written in source; empty for none
	Why      string   // the reason for Default
	Allowed  []string // if given, the only values
	Known    []string // values that have a meaning, among others that are allowed; not together with Allowed
	Meanings []string // of the values in Allowed or Known, in their order; none where the names say enough
	Min, Max string   // limits as written in source; empty for none
	Required bool
	Empty    bool   // of a list: it may be []
	Ordered  bool   // of a list: the order of its texts counts
	Services bool   // of an address: it may be that of a service
	Secret   bool   // never shown, not even where settings are compared
	Traced   bool   // of a distribution: from_trace() may stand, as records have it
	Fields   *Block // for Block1 and Members: the keys inside
	Help     string // one line
	Example  string // as written in source

	once sync.Once // of what Default reads as
	read any
}

// Label is a name that stands between a block's type and its brace.
type Label struct {
	Name     string
	Allowed  []string // if given, the only values
	Meanings []string // of the values, in their order
}

// Variable is a name that is replaced where a text has it in braces.
type Variable struct{ Name, Doc string }

// variableNames returns the names in braces.
func variableNames(all []Variable) []string {
	names := make([]string, len(all))
	for i, v := range all {
		names[i] = "{" + v.Name + "}"
	}
	return names
}

// Block is a part of the language that holds keys and other blocks.
type Block struct {
	Name     string
	Label    *Label // nil for none
	Many     bool   // whether it may be given more than once
	Required bool
	Free     bool     // whether any key may stand in it (let)
	Like     string   // the block whose keys and blocks these are, for the reference
	Except   []string // but for these
	Always   bool     // its defaults hold even where it is not given
	Told     bool     // of Many: it is among the settings of the block around it
	Keys     []*Key
	Blocks   []*Block
	Help     string

	Variables []Variable // of the texts in it
}

// Values returns the values that are listed in the reference.
func (k *Key) Values() []string {
	if k.Allowed != nil {
		return k.Allowed
	}
	return k.Known
}

// Key returns the key of that name, nil if the block has none.
func (b *Block) Key(name string) *Key {
	for _, k := range b.Keys {
		if k.Name == name {
			return k
		}
	}
	return nil
}

// Block returns the inner block of that name, nil if there is none.
func (b *Block) Block(name string) *Block {
	for _, c := range b.Blocks {
		if c.Name == name {
			return c
		}
	}
	return nil
}

// names lists what may stand in the block, for "did you mean".
func (b *Block) names() []string {
	var out []string
	for _, k := range b.Keys {
		out = append(out, k.Name)
	}
	for _, c := range b.Blocks {
		out = append(out, c.Name)
	}
	return out
}

// orList joins values as "a, b or c".
func orList(values []string) string {
	if len(values) < 2 {
		return strings.Join(values, "")
	}
	return strings.Join(values[:len(values)-1], ", ") + " or " + values[len(values)-1]
}
