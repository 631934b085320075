// Package peer finds the address of a client: that of its connection, or, where the
// connection comes from a trusted proxy, the one that the proxy names.
//
// The proxy, why and the checker use it. It must never trust a header field of a peer
// that is not configured as trusted, and imports nothing of the project.
package peer

import (
	"net/netip"
	"strings"
)

// Client returns the address of who asks. chain holds the addresses that the
// believed header field names, the first client first; they are gone through
// from the end, as long as they belong to trusted proxies. What stands before
// the first that is not trusted, anybody may have written.
func Client(from netip.Addr, trusted []netip.Prefix, chain []netip.Addr) netip.Addr {
	client := from
	for i := len(chain) - 1; i >= 0 && Inside(trusted, client); i-- {
		if !chain[i].IsValid() {
			break // an obfuscated or unknown hop: nothing before it can be held against it
		}
		client = chain[i]
	}
	return client
}

// Inside reports whether an address lies in one of the networks.
func Inside(nets []netip.Prefix, a netip.Addr) bool {
	if !a.IsValid() {
		return false
	}
	for _, n := range nets {
		if n.Contains(a) {
			return true
		}
	}
	return false
}

// maxHops bounds the chain that is read; what stands farther from the end is of
// no account.
const maxHops = 32

// XForwardedFor reads the values of X-Forwarded-For fields, in order.
func XForwardedFor(values []string) []netip.Addr {
	var out []netip.Addr
	for _, v := range values {
		for part := range strings.SplitSeq(v, ",") {
			out = append(out, node(strings.TrimSpace(part)))
		}
	}
	return out[max(0, len(out)-maxHops):]
}

// Forwarded reads the `for` parameters of Forwarded fields, in order (RFC 7239
// section 4). An element that has none counts as an unknown hop.
func Forwarded(values []string) []netip.Addr {
	var out []netip.Addr
	for _, v := range values {
		for _, element := range split(v, ',') {
			at := netip.Addr{}
			for _, pair := range split(element, ';') {
				name, value, _ := strings.Cut(strings.TrimSpace(pair), "=")
				if strings.EqualFold(name, "for") {
					at = node(strings.Trim(value, `"`))
				}
			}
			out = append(out, at)
		}
	}
	return out[max(0, len(out)-maxHops):]
}

// split cuts at a separator outside of quotes.
func split(s string, sep byte) []string {
	var out []string
	quoted, from := false, 0
	for i := 0; i < len(s); i++ {
		switch {
		case s[i] == '\\' && quoted:
			i++
		case s[i] == '"':
			quoted = !quoted
		case s[i] == sep && !quoted:
			out = append(out, s[from:i])
			from = i + 1
		}
	}
	return append(out, s[from:])
}

// node reads an address with or without a port (RFC 7239 section 6); the zero
// Addr is an unknown or obfuscated one.
func node(s string) netip.Addr {
	if host, ok := strings.CutPrefix(s, "["); ok {
		s, _, _ = strings.Cut(host, "]")
	} else if strings.Count(s, ":") == 1 {
		s, _, _ = strings.Cut(s, ":")
	}
	a, err := netip.ParseAddr(s)
	if err != nil {
		return netip.Addr{}
	}
	return a.Unmap().WithZone("")
}

// Node writes an address as Forwarded wants it: an IPv6 one stands in
// brackets and quotes (RFC 7239 section 6).
func Node(client string) string {
	ip, err := netip.ParseAddr(client)
	switch {
	case err != nil:
		return "unknown"
	case ip.Is6():
		return `"[` + client + `]"`
	}
	return client
}

// Quote puts a value that is no token (RFC 9110 section 5.6.2) in quotes.
func Quote(s string) string {
	if strings.ContainsFunc(s, func(r rune) bool {
		return !(r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || r >= '0' && r <= '9' || strings.ContainsRune("!#$%&'*+-.^_`|~", r))
	}) {
		return `"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`).Replace(s) + `"`
	}
	return s
}
