package config

import (
	"fmt"
	"regexp"
)

// Identity is by what a proxy and its requests are known in logs, and what of them is not
// shown.
type Identity struct {
	Proxy Placed[string] // name of this proxy; empty: the host name
	// RequestField is the header field that carries the request id to backends, and from
	// trusted proxies; empty: none does.
	RequestField string
	// Masked are the query parameters whose values appear in no log, trace or list.
	Masked []string
}

var identityKeys = []*Key{
	{Name: "proxy_name", Type: Text, Help: "name of this proxy in logs and in its status; the host name if not given", Example: `"quay-1"`},
	{Name: "request_id_field", Type: Text, Default: `"X-Request-Id"`, Why: "many applications log this field", Help: "header field with the id of each request, for backends. The id of a trusted proxy is kept, one of other clients is replaced. \"\" is no field", Example: `"Tern-Request"`},
	{Name: "mask_query", Type: Texts, Help: "query parameters whose values are replaced by MASKED in access logs, recorded traces, spans and the lists of requests; backends receive them. A replay of such a log cannot route or hash by them", Example: `["token", "email"]`},
}

var proxyName = regexp.MustCompile(`^[A-Za-z0-9][A-Za-z0-9._-]{0,62}$`)

// identity reads the keys of identityKeys at the top.
func (d *Decoder) identity(n *Node) Identity {
	i := Identity{Proxy: Placed[string]{Get[string](n, "proxy_name"), n.At("proxy_name")}, RequestField: Get[string](n, "request_id_field")}
	if n.Has("proxy_name") && !proxyName.MatchString(i.Proxy.Value) {
		d.Add(IDType, n.At("proxy_name"), fmt.Sprintf("%q is no name of a proxy", shorten(i.Proxy.Value)), "up to 63 letters, digits, \".\", \"_\" and \"-\", such as \"quay-1\"")
	}
	if i.RequestField != "" {
		i.RequestField = d.fieldName(Placed[string]{i.RequestField, n.At("request_id_field")}, "a field of its own carries the request id")
	}
	for _, p := range Get[[]Placed[string]](n, "mask_query") {
		if p.Value == "" {
			d.Add(IDType, p.Range, "a query parameter has no name", "such as \"token\"")
			continue
		}
		i.Masked = append(i.Masked, p.Value)
	}
	return i
}
