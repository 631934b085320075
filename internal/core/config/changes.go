package config

import (
	"slices"
	"strings"

	"github.com/hashicorp/hcl/v2"
)

// Change is something that the language of configurations changed between two versions of
// the program. A key that is renamed or removed, a default or a meaning that becomes another,
// gets an entry in Changes in the same commit.
type Change struct {
	Since string // the version of the program with which it begins
	Kind  ChangeKind
	What  string
	Fix   string // what to write instead, or what keeps the former behaviour; empty: nothing does
	// found returns where a block is affected.
	found func(c *Config, n *Node) (at hcl.Range, is bool)
}

// ChangeKind says what became of a part of the language.
type ChangeKind string

// The kinds of changes. With the first two a configuration is refused.
const (
	ChangeRemoved ChangeKind = "removed"
	ChangeRenamed ChangeKind = "renamed"
	ChangeDefault ChangeKind = "default"
	ChangeMeaning ChangeKind = "meaning"
)

// Refused reports whether a configuration that uses it is refused.
func (k ChangeKind) Refused() bool { return k == ChangeRemoved || k == ChangeRenamed }

// Changes are all of them, the oldest first.
var Changes = []Change{
	{
		Since: "0.2.0", Kind: ChangeRemoved, What: "to = \"syslog:HOST:PORT\" of access_log is removed",
		Fix: "to = \"syslog\", and at the top syslog { ... } with transport and address",
		found: func(_ *Config, n *Node) (hcl.Range, bool) {
			return n.At("to"), n.Def.Name == "access_log" && strings.HasPrefix(Get[string](n, "to"), "syslog:")
		},
	},
	{
		Since: "0.2.0", Kind: ChangeMeaning, What: "the field reason of access_log is why the backend was chosen; why a request failed is the field cause",
		Fix: "the field cause, where programs read failures from the log",
		found: func(_ *Config, n *Node) (hcl.Range, bool) {
			reads := func(p FieldPair) bool { return p.Value.Value == "reason" }
			return n.At("fields"), n.Def.Name == "access_log" && slices.ContainsFunc(Get[[]FieldPair](n, "fields"), reads)
		},
	},
	{
		Since: "0.2.0", Kind: ChangeMeaning, What: "a line of the access log in the form combined ends with a further value, the cause",
		found: func(c *Config, n *Node) (hcl.Range, bool) {
			if n.Def == Language { // without the block there are such lines as well
				return n.Range, !c.AccessLog.Given && n == c.nodes[0]
			}
			return n.At("format"), n.Def.Name == "access_log" && !n.Has("line") && Get[string](n, "format") == "combined" && Get[string](n, "to") != "off"
		},
	},
	{
		Since: "0.2.0", Kind: ChangeDefault, What: "spill_below is 80%, and was 70%", Fix: "spill_below = \"70%\" in failover",
		found: func(_ *Config, n *Node) (hcl.Range, bool) {
			return n.Range, n.Def.Name == "failover" && !n.Has("spill_below")
		},
	},
	{
		Since: "0.2.0", Kind: ChangeDefault, What: "a connection to a backend ends when it is 10 minutes old; it had no limit", Fix: "connection_age = \"0s\" in timeouts",
		found: func(_ *Config, n *Node) (hcl.Range, bool) {
			return n.Range, n.Def.Name == "upstream" && !n.child("timeouts").Has("connection_age")
		},
	},
	{
		Since: "0.2.0", Kind: ChangeDefault, What: "a backend from which no client got a first byte for the answer timeout is suspended", Fix: "silent_after = \"0s\" in suspend",
		found: func(_ *Config, n *Node) (hcl.Range, bool) {
			return n.Range, n.Def.Name == "suspend" && !n.Has("silent_after")
		},
	},
	{
		Since: "0.2.0", Kind: ChangeMeaning, What: "with resolve = \"each\" names are looked up again when their TTL ends, and resolve_every is the longest interval", Fix: "resolve_floor equal to resolve_every",
		found: func(_ *Config, n *Node) (hcl.Range, bool) {
			return n.At("resolve"), n.Def.Name == "upstream" && Get[string](n, "resolve") == "each" && !n.Has("resolve_floor")
		},
	},
	{
		Since: "0.2.0", Kind: ChangeDefault, What: "a path that equals drop_prefix is redirected to the same with a slash behind it; it was forwarded as /", Fix: "bare_prefix = \"serve\" in rewrite",
		found: func(_ *Config, n *Node) (hcl.Range, bool) {
			return n.At("drop_prefix"), n.Def.Name == "rewrite" && n.Has("drop_prefix") && !n.Has("bare_prefix")
		},
	},
}

// Changed is a place of a configuration that a change affects.
type Changed struct {
	*Change
	At hcl.Range
}

// Changed returns the places that changes affect, in the order of Changes. A syntax error may
// hide some.
func (c *Config) Changed() []Changed {
	var out []Changed
	for i := range Changes {
		for _, n := range c.nodes {
			n.walk(func(n *Node) {
				if at, is := Changes[i].found(c, n); is {
					out = append(out, Changed{&Changes[i], at})
				}
			})
		}
	}
	return out
}

// walk visits a block and those in it.
func (n *Node) walk(visit func(*Node)) {
	visit(n)
	for _, x := range n.Nodes {
		if x.Def.Name != "common" { // what it says, the others have inherited
			x.walk(visit)
		}
	}
}
