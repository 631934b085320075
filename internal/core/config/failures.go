package config

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"github.com/hashicorp/hcl/v2"

	"kestrix/internal/core/cause"
)

// Failures are the words that say which outcomes of an attempt count, in
// `suspend` and `retry`; a status such as "502" may stand beside them, and one of gRPC such
// as "grpc:unavailable".
var Failures = []string{"connect", "timeout", "reset"}

// failureDocs are what Failures mean.
var failureDocs = []string{"the backend did not accept a connection", "the backend did not answer in time", "the backend closed the connection before the response ended"}

// FailureSet says which outcomes of an attempt count.
type FailureSet struct {
	Range                   hcl.Range // of the list; no place where it is the default
	Connect, Timeout, Reset bool
	Status                  [1000]bool                   // by HTTP status
	RPC                     [len(cause.RPCStatuses)]bool // by status of gRPC
}

// Given reports whether the list was written.
func (s *FailureSet) Given() bool { return s.Range.Filename != "" }

// Words lists what is in the set, as on has it.
func (s *FailureSet) Words() []string {
	var out []string
	for i, yes := range []bool{s.Connect, s.Timeout, s.Reset} {
		if yes {
			out = append(out, Failures[i])
		}
	}
	for status, yes := range s.Status {
		if yes {
			out = append(out, strconv.Itoa(status))
		}
	}
	for status, yes := range s.RPC {
		if yes {
			out = append(out, cause.RPCPrefix+cause.RPCStatuses[status])
		}
	}
	return out
}

// failures reads `on`.
func (d *Decoder) failures(n *Node) *FailureSet {
	set := &FailureSet{}
	if n.Has("on") {
		set.Range = n.At("on")
	}
	for _, t := range Get[[]Placed[string]](n, "on") {
		switch t.Value {
		case "connect":
			set.Connect = true
		case "timeout":
			set.Timeout = true
		case "reset":
			set.Reset = true
		default:
			if word, rpc := strings.CutPrefix(t.Value, cause.RPCPrefix); rpc {
				d.rpcStatus(set, t, word)
				continue
			}
			status, ok := parseStatus(t.Value)
			if !ok {
				hint := prefixed("did you mean \"", Suggest(t.Value, Failures), "\"?")
				if hint == "" {
					hint = "expected " + orList(quoted(Failures)) + ", a status like \"503\", or one of gRPC like \"grpc:unavailable\""
				}
				d.Add(IDChoice, t.Range, fmt.Sprintf("on cannot hold %q", shorten(t.Value)), hint)
				continue
			}
			set.Status[status] = true
		}
	}
	return set
}

// rpcStatus takes a status of gRPC into a set.
func (d *Decoder) rpcStatus(set *FailureSet, t Placed[string], word string) {
	names := cause.RPCStatuses[1:] // ok is no failure
	i := slices.Index(names, word)
	if i < 0 {
		hint := prefixed("did you mean \""+cause.RPCPrefix, Suggest(strings.ToLower(word), names), "\"?")
		if hint == "" {
			hint = "expected a status of gRPC, like \"grpc:unavailable\" or \"grpc:deadline_exceeded\""
		}
		d.Add(IDChoice, t.Range, fmt.Sprintf("on cannot hold %q", shorten(t.Value)), hint)
		return
	}
	set.RPC[i+1] = true
}
