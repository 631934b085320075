package config

import (
	"fmt"

	"github.com/hashicorp/hcl/v2"
)

// FrontTLS says how a frontend ends TLS.
type FrontTLS struct {
	Range         hcl.Range
	Pairs         []Pair
	ACME          *ACME  // nil: none
	MinVersion    string // 1.0, 1.1, 1.2 or 1.3
	MinVersionAt  hcl.Range
	ALPN          []string
	ClientCA      Placed[string] // empty: clients show no certificate
	ClientRequire bool           // refuse those that have none
}

// Pair is a certificate and its key, as file names.
type Pair struct{ Certificate, Key Placed[string] }

// UpstreamTLS says how TLS is spoken with backends.
type UpstreamTLS struct {
	Range      hcl.Range
	Verify     bool
	VerifyAt   hcl.Range
	Name       string         // empty: the host of the backend's address
	CA         Placed[string] // empty: the machine's
	Pair       Pair           // empty: none is shown
	MinVersion string
}

func (d *Decoder) frontTLS(n *Node, protocol string) *FrontTLS {
	t := &FrontTLS{
		Range: n.Range, MinVersion: Get[string](n, "min_version"), MinVersionAt: n.At("min_version"),
		ClientCA: Placed[string]{Get[string](n, "client_ca"), n.At("client_ca")}, ClientRequire: Get[string](n, "client_certificate") == "require",
	}
	certificates, keys := Get[[]Placed[string]](n, "certificate"), Get[[]Placed[string]](n, "key")
	if len(certificates) != len(keys) && len(certificates)*len(keys) > 0 {
		d.Add(IDType, n.At("key"), fmt.Sprintf("there are %d certificates and %d keys", len(certificates), len(keys)), "one key for each certificate, in the same order")
	}
	if x := n.One("acme"); x != nil {
		t.ACME = d.acme(x)
	}
	switch given, required := n.Has("certificate"), n.Def.Key("certificate").Required; {
	case required: // it has been said if one is missing
	case given != n.Has("key"):
		d.Add(IDMissing, n.Range, "certificate and key belong together", "give both, or neither with acme { ... }")
	case !given && t.ACME == nil:
		d.Add(IDMissing, n.Range, "tls has no certificate", "certificate and key, or acme { ... }")
	}
	for i := range min(len(certificates), len(keys)) {
		t.Pairs = append(t.Pairs, Pair{certificates[i], keys[i]})
	}
	for _, p := range Get[[]Placed[string]](n, "alpn") {
		switch {
		case p.Value == "" || len(p.Value) > 255:
			d.Add(IDType, p.Range, "the name of a protocol has 1 to 255 characters", "like \"h2\"")
		case protocol == "http" && p.Value != "h2" && p.Value != "http/1.1":
			d.Add(IDChoice, p.Range, fmt.Sprintf("an http frontend does not speak %q", shorten(p.Value)), "h2 and http/1.1")
		}
		t.ALPN = append(t.ALPN, p.Value)
	}
	if protocol == "tcp" && !n.Has("alpn") {
		t.ALPN = nil // what is carried is not known
	}
	if n.Has("client_certificate") && !n.Has("client_ca") {
		d.Add(IDMissing, n.At("client_certificate"), "client_certificate without client_ca asks for nothing", "client_ca = \"crew-ca.pem\"")
	}
	return t
}

func (d *Decoder) upstreamTLS(n *Node) *UpstreamTLS {
	placed := func(key string) Placed[string] { return Placed[string]{Get[string](n, key), n.At(key)} }
	t := &UpstreamTLS{
		Range: n.Range, Verify: Get[bool](n, "verify"), VerifyAt: n.At("verify"), Name: Get[string](n, "name"),
		CA: placed("ca"), Pair: Pair{placed("certificate"), placed("key")}, MinVersion: Get[string](n, "min_version"),
	}
	if t.Name != "" {
		if err := hostName(t.Name); err != nil {
			d.Add(IDType, n.At("name"), err.Error(), "like \"app.inside.example\"")
		}
	}
	if n.Has("certificate") != n.Has("key") {
		d.Add(IDMissing, n.Range, "certificate and key belong together", "give both, or neither")
	}
	return t
}

// TLSOrSNI reports whether the frontend has to do with TLS: it ends it, or tells
// connections apart by it.
func (f *Frontend) TLSOrSNI() bool {
	for _, r := range f.Routes {
		if r.When.AsksSNI() {
			return true
		}
	}
	return f.TLS != nil
}
