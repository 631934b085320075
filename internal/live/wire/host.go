package wire

import (
	"net/http"
	"net/netip"
	"net/url"
	"strconv"
	"strings"
)

// ValidHost reports whether s is a host with an optional port, as Host and
// :authority have it (RFC 9110 section 7.2, RFC 3986 section 3.2): a name of
// letters, digits, "-", "_" and ".", an IPv4 address, or an IPv6 address in
// brackets; the port is empty or from 1 to 65535. What RFC 3986 allows in names
// beyond that (escapes, "*", "'" and other delimiters) stands in no name that
// resolves, and is read by servers in more than one way.
func ValidHost(s string) bool {
	name, port, ok := splitHost(s)
	if !ok || name == "" || len(name) > 255 {
		return false
	}
	if port != "" {
		n, err := strconv.ParseUint(port, 10, 16)
		if err != nil || n == 0 || port[0] == '+' {
			return false
		}
	}
	if name[0] == '[' {
		a, err := netip.ParseAddr(name[1 : len(name)-1])
		return err == nil && a.Is6() && a.Zone() == ""
	}
	return allText(name, hostByte)
}

// splitHost splits a host from its port, and reports whether brackets and colons
// stand where they may.
func splitHost(s string) (name, port string, ok bool) {
	if strings.HasPrefix(s, "[") {
		end := strings.IndexByte(s, ']')
		if end < 0 {
			return "", "", false
		}
		name, s = s[:end+1], s[end+1:]
		if s == "" {
			return name, "", true
		}
		return name, s[1:], s[0] == ':'
	}
	name, port, _ = strings.Cut(s, ":")
	return name, port, strings.IndexByte(port, ':') < 0
}

// SameHost reports whether two hosts are the same for a scheme: letters in either
// case, and the scheme's own port given or not (RFC 9110 section 4.2.3).
func SameHost(a, b, scheme string) bool {
	aName, aPort, _ := splitHost(a)
	bName, bPort, _ := splitHost(b)
	usual := "80"
	if scheme == "https" {
		usual = "443"
	}
	if aPort == "" {
		aPort = usual
	}
	if bPort == "" {
		bPort = usual
	}
	return strings.EqualFold(aName, bName) && aPort == bPort
}

// checkTarget reports what is wrong with the target of a request (RFC 9112
// section 3.2), nil if nothing is.
func checkTarget(method, target string) error {
	if target == "" || !allText(target, urlByte) {
		return malformed("a request without a proper target")
	}
	if strings.IndexByte(target, '#') >= 0 {
		return malformed("a target with a fragment")
	}
	for i := strings.IndexByte(target, '%'); i >= 0 && i < len(target); i++ {
		if target[i] == '%' && (i+2 >= len(target) || kinds[target[i+1]]&kinds[target[i+2]]&hexByte == 0) {
			return malformed("a target with a broken escape")
		}
	}
	switch {
	case method == "CONNECT":
		if _, port, _ := splitHost(target); port == "" || !ValidHost(target) {
			return malformed("a CONNECT target that is not HOST:PORT")
		}
	case target[0] == '/':
	case target == "*":
		if method != "OPTIONS" {
			return malformed("the target *, which belongs to OPTIONS")
		}
	default:
		return checkAbsolute(target)
	}
	return nil
}

// checkAbsolute looks at a target in absolute form (RFC 9112 section 3.2.2).
func checkAbsolute(target string) error {
	scheme, rest, ok := strings.Cut(target, "://")
	if !ok || scheme == "" || !allText(scheme, tokenByte) {
		return malformed("a target that is neither a path nor a URL")
	}
	if !strings.EqualFold(scheme, "http") && !strings.EqualFold(scheme, "https") {
		return &refusal{http.StatusMisdirectedRequest, "a target whose scheme is neither http nor https"} // RFC 9110 section 15.5.20
	}
	host := rest
	if end := strings.IndexAny(rest, "/?"); end >= 0 {
		host = rest[:end]
	}
	if !ValidHost(host) {
		return malformed("a target whose host is none")
	}
	if _, err := url.ParseRequestURI(target); err != nil {
		return malformed("a target that is no URL")
	}
	return nil
}

// refusal is an error with a status of its own; errors without one are answered
// with 400.
type refusal struct {
	status int
	what   string
}

func (e *refusal) Error() string { return e.what }
