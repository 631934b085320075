package config

import (
	"encoding/base64"
	"fmt"
	"net/netip"
	"net/url"
	"strings"

	"github.com/hashicorp/hcl/v2"
)

// ACME says how a frontend obtains certificates by itself (RFC 8555).
type ACME struct {
	Range       hcl.Range
	Names       []Placed[string] // hosts, in small letters; each gets a certificate of its own
	Directory   Placed[string]   // URL
	Storage     Placed[string]   // a folder
	Contact     string           // an address of electronic mail; empty: none
	DirectoryCA Placed[string]   // empty: the machine's authorities
	TermsAgreed bool             // with what the directory has as its terms of service
	AccountID   string           // of an external account (section 7.3.4); empty: none
	AccountKey  []byte           // its MAC key
}

// File returns the name of the file in Storage that holds the certificate of a name, and its key.
func (a *ACME) File(name string) string { return strings.TrimSuffix(a.Storage.Value, "/") + "/" + name }

var acmeBlock = &Block{
	Name: "acme",
	Help: "certificates that the proxy obtains and renews by itself, by ACME (RFC 8555). It answers the challenges tls-alpn-01 here (RFC 8737) and http-01 on all http frontends; the server must reach one of them on port 443 or 80",
	Keys: []*Key{
		{Name: "names", Ordered: true, Type: Texts, Required: true, Help: "hosts, each with a certificate of its own; wildcards and addresses are not possible. A client without SNI, or with another name, gets the first certificate of the tls block, or else that of the first name", Example: `["tickets.tern.example", "board.tern.example"]`},
		{Name: "directory", Type: Text, Required: true, Help: "URL of the directory of the ACME server", Example: `"https://ca.tern.example/directory"`},
		{Name: "storage", Type: Text, Required: true, Help: "folder of the account key, the certificates and their keys, relative to the folder of the configuration. Proxies that share it also share certificates and challenges", Example: `"/var/lib/kestrix/acme"`},
		{Name: "contact", Type: Text, Help: "mail address that the ACME server may write to", Example: `"harbour@tern.example"`},
		{Name: "terms_agreed", Type: Switch, Default: "false", Why: "terms bind you, so that consent is explicit", Help: "whether you agree to the terms of service that the directory names; without that a server that has some issues no certificate", Example: "true"},
		{Name: "directory_ca", Type: Text, Help: "PEM file of the CA bundle for the directory's own certificate, instead of the system's", Example: `"harbour-ca.pem"`},
		{Name: "account_id", Type: Text, Help: "key identifier of an existing account, where the ACME server requires external account binding (RFC 8555 section 7.3.4)", Example: `"harbour-7"`},
		{Name: "account_key", Type: Text, Secret: true, Help: "MAC key of that account, in base64url", Example: `env("ACME_ACCOUNT_KEY")`},
	},
}

func (d *Decoder) acme(n *Node) *ACME {
	placed := func(key string) Placed[string] { return Placed[string]{Get[string](n, key), n.At(key)} }
	a := &ACME{
		Range: n.Range, Directory: placed("directory"), Storage: placed("storage"), Contact: Get[string](n, "contact"), DirectoryCA: placed("directory_ca"),
		TermsAgreed: Get[bool](n, "terms_agreed"), AccountID: Get[string](n, "account_id"),
	}
	d.acmeNames(n, a)
	if text := a.Directory.Value; text != "" {
		u, err := url.Parse(text)
		switch {
		case err == nil && u.User != nil: // not repeated: it may hold a password
			d.Add(IDType, a.Directory.Range, "the URL of the directory has a user name, and ACME has no use for one", "remove it; account_id and account_key bind an existing account")
		case err != nil || u.Scheme != "https" || u.Host == "" || u.Fragment != "":
			d.Add(IDType, a.Directory.Range, fmt.Sprintf("%q is not the URL of a directory", shorten(text)), "like \"https://ca.tern.example/directory\"; RFC 8555 section 6.1 requires https")
		}
	}
	if n.Has("storage") && strings.TrimSpace(a.Storage.Value) == "" {
		d.Add(IDType, a.Storage.Range, "storage has no name", "like \"/var/lib/kestrix/acme\"")
	}
	if n.Has("contact") && (!strings.Contains(strings.Trim(a.Contact, "@"), "@") || strings.ContainsAny(a.Contact, " ,;?<>:\t\r\n")) {
		d.Add(IDType, n.At("contact"), fmt.Sprintf("%q is not a mail address", shorten(a.Contact)), "one address, like \"harbour@tern.example\"")
	}
	if n.Has("account_id") != n.Has("account_key") {
		d.Add(IDMissing, n.Range, "account_id and account_key belong together", "give both, or neither")
	}
	if text := Get[string](n, "account_key"); text != "" {
		key, err := base64.RawURLEncoding.DecodeString(strings.TrimRight(text, "="))
		switch {
		case err != nil:
			d.Add(IDType, n.At("account_key"), "account_key is not base64url", "the MAC key as the ACME server gave it, RFC 4648 section 5")
		case len(key) < 32: // RFC 7518 section 3.2
			d.Add(IDLimit, n.At("account_key"), fmt.Sprintf("account_key has %d bytes, and HS256 needs 32", len(key)), "the whole MAC key as the ACME server gave it")
		}
		a.AccountKey = key
	}
	return a
}

// acmeNames reads the hosts that certificates are for.
func (d *Decoder) acmeNames(n *Node, a *ACME) {
	seen := map[string]bool{}
	for _, x := range Get[[]Placed[string]](n, "names") {
		x.Value = strings.ToLower(x.Value)
		_, notIP := netip.ParseAddr(x.Value)
		switch err := hostName(x.Value); {
		case strings.Contains(x.Value, "*"):
			d.Add(IDType, x.Range, fmt.Sprintf("%q has a wildcard, and its challenge (dns-01) is not supported", shorten(x.Value)), "list each host")
		case err != nil:
			d.Add(IDType, x.Range, err.Error(), "like \"tickets.tern.example\"; names beyond ASCII as xn--")
		case strings.Contains(x.Value, "_"):
			d.Add(IDType, x.Range, fmt.Sprintf("%q has a _, and certificates are for hosts", x.Value), "like \"tickets.tern.example\"")
		case notIP == nil:
			d.Add(IDType, x.Range, fmt.Sprintf("%q is an address", x.Value), "a host, like \"tickets.tern.example\"")
		case !strings.Contains(x.Value, "."):
			d.Add(IDType, x.Range, fmt.Sprintf("%q has no domain", x.Value), "like \"tickets.tern.example\"")
		case seen[x.Value]:
			d.Add(IDTwice, x.Range, fmt.Sprintf("%q is given twice", x.Value), "remove one of them")
		default:
			seen[x.Value] = true
			a.Names = append(a.Names, x)
		}
	}
}

// ACMEs returns the blocks of all frontends.
func (c *Config) ACMEs() []*ACME {
	var out []*ACME
	for _, f := range c.Frontends {
		if f.TLS != nil && f.TLS.ACME != nil {
			out = append(out, f.TLS.ACME)
		}
	}
	return out
}
