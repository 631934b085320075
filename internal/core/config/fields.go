package config

import (
	"fmt"
	"slices"
	"strings"
)

// ProxyFields are the request header fields by which applications believe their
// proxy: who the client is, and what was asked for. From peers that are not
// trusted they are removed.
var ProxyFields = []string{"X-Real-IP", "True-Client-IP", "X-Original-URL", "X-Original-Host", "X-Rewrite-URL", "Proxy"}

// passFields reads which fields clients may set.
func (d *Decoder) passFields(n *Node) []Placed[string] {
	var fields []Placed[string]
	for _, f := range Get[[]Placed[string]](n, "pass_fields") {
		if !slices.ContainsFunc(ProxyFields, func(name string) bool { return SameField(name, f.Value) }) {
			d.Add(IDChoice, f.Range, fmt.Sprintf("pass_fields has no effect on %q, which is always passed", shorten(f.Value)), orList(ProxyFields))
			continue
		}
		fields = append(fields, f)
	}
	return fields
}

// SameField reports whether two names of header fields are the same to
// applications that read "_" as "-".
func SameField(a, b string) bool {
	return strings.EqualFold(strings.ReplaceAll(a, "_", "-"), strings.ReplaceAll(b, "_", "-"))
}

// onlyHTTP reports keys of a tcp frontend that have no effect there. Those that
// common gives to every frontend are meant for the others.
func (d *Decoder) onlyHTTP(n *Node, keys ...string) {
	for _, key := range keys {
		if n.Has(key) && !n.inherited[key] && !n.shared {
			d.Add(IDUnknown, n.At(key), key+" belongs to frontends of http; tcp carries bytes", "remove it")
		}
	}
}
