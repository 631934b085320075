package proxy

import (
	"net"
	"net/http"
	"net/netip"
	"strings"
)

// hopByHop are the fields that belong to one connection and are not passed on
// (RFC 9110 section 7.6.1), besides those that Connection names.
var hopByHop = []string{
	"Connection", "Keep-Alive", "Proxy-Connection", "Proxy-Authenticate", "Proxy-Authorization", "Te", "Trailer", "Transfer-Encoding", "Upgrade",
}

func removeHopByHop(h http.Header) {
	for _, line := range h["Connection"] {
		for name := range strings.SplitSeq(line, ",") {
			if name = strings.TrimSpace(name); name != "" {
				h.Del(name)
			}
		}
	}
	for _, name := range hopByHop {
		delete(h, name)
	}
}

// forwarded writes who asked, for whom the backend would otherwise take this
// proxy. Nothing that a client says of itself is believed: fields it sent are
// replaced.
func forwarded(h http.Header, client, host, proto string) {
	for name := range h {
		if name == "Forwarded" || strings.HasPrefix(name, "X-Forwarded-") {
			delete(h, name)
		}
	}
	if client == "-" {
		client = "unknown" // of a unix socket
	}
	h["X-Forwarded-For"] = []string{client}
	if host != "" {
		h["X-Forwarded-Host"] = []string{host}
	}
	h["X-Forwarded-Proto"] = []string{proto}
	// RFC 7239 section 4: an IPv6 address stands in brackets and quotes.
	node := client
	if ip, err := netip.ParseAddr(client); err == nil && ip.Is6() {
		node = `"[` + client + `]"`
	} else if err != nil {
		node = "unknown"
	}
	value := "for=" + node + ";proto=" + proto
	if host != "" {
		value += ";host=" + quoteToken(host)
	}
	h["Forwarded"] = []string{value}
}

// quoteToken puts a value that is no token (RFC 9110 section 5.6.2) in quotes.
func quoteToken(s string) string {
	if strings.ContainsFunc(s, func(r rune) bool {
		return !(r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || r >= '0' && r <= '9' || strings.ContainsRune("!#$%&'*+-.^_`|~", r))
	}) {
		return `"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`).Replace(s) + `"`
	}
	return s
}

// addVia notes that a message went through here (RFC 9110 section 7.6.3).
func addVia(h http.Header, major, minor int) {
	version := "1.1"
	if major == 1 && minor == 0 {
		version = "1.0"
	} else if major == 2 {
		version = "2"
	}
	via := version + " kestrix"
	if old := h["Via"]; len(old) > 0 {
		via = strings.Join(old, ", ") + ", " + via
	}
	h["Via"] = []string{via}
}

// clientAddress is the address of who asks, without port.
func clientAddress(remote string) (string, netip.Addr) {
	host, _, err := net.SplitHostPort(remote)
	if err != nil {
		return "-", netip.Addr{} // a unix socket has none
	}
	ip, err := netip.ParseAddr(host)
	if err != nil {
		return host, netip.Addr{}
	}
	ip = ip.Unmap().WithZone("")
	return ip.String(), ip
}
