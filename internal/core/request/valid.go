package request

import (
	"net/netip"
	"net/url"
	"strconv"
	"strings"
)

// Refusal is why a request is refused before it is routed.
type Refusal struct {
	Status int    // of the answer
	Why    string // what the request has, such as "a target with a fragment"
}

// Valid returns why a request with this method, Host field and target is refused,
// nil if it is not (RFC 9112 section 3.2).
func Valid(method, host, target string) *Refusal {
	if host != "" && !ValidHost(host) {
		return &Refusal{400, "a Host that is none"}
	}
	if r := ValidTarget(method, target); r != nil {
		return r
	}
	switch method {
	case "PRI":
		return &Refusal{400, "the method PRI, which begins HTTP/2 and nothing else (RFC 9113 section 3.4)"}
	case "CONNECT", "TRACE":
		return &Refusal{501, "the method " + method + ", which is not served"}
	}
	return nil
}

// ValidTarget returns what is wrong with the target of a request, nil for nothing.
func ValidTarget(method, target string) *Refusal {
	if target == "" || !all(target, &visible) {
		return &Refusal{400, "a request without a proper target"}
	}
	if strings.IndexByte(target, '#') >= 0 {
		return &Refusal{400, "a target with a fragment"}
	}
	for i := strings.IndexByte(target, '%'); i >= 0 && i < len(target); i++ {
		if target[i] == '%' && (i+2 >= len(target) || !hexDigit[target[i+1]] || !hexDigit[target[i+2]]) {
			return &Refusal{400, "a target with a broken escape"}
		}
	}
	switch {
	case method == "CONNECT":
		if _, port, _ := splitHost(target); port == "" || !ValidHost(target) {
			return &Refusal{400, "a CONNECT target that is not HOST:PORT"}
		}
	case target[0] == '/':
	case target == "*":
		if method != "OPTIONS" {
			return &Refusal{400, "the target *, which belongs to OPTIONS"}
		}
	default:
		return validURL(target)
	}
	return nil
}

// validURL looks at a target in absolute form (RFC 9112 section 3.2.2).
func validURL(target string) *Refusal {
	scheme, rest, ok := strings.Cut(target, "://")
	if !ok || scheme == "" {
		return &Refusal{400, "a target that is neither a path nor a URL"}
	}
	if !strings.EqualFold(scheme, "http") && !strings.EqualFold(scheme, "https") {
		return &Refusal{421, "a target whose scheme is neither http nor https"} // RFC 9110 section 15.5.20
	}
	host := rest
	if end := strings.IndexAny(rest, "/?"); end >= 0 {
		host = rest[:end]
	}
	if !ValidHost(host) {
		return &Refusal{400, "a target whose host is none"}
	}
	if _, err := url.ParseRequestURI(target); err != nil {
		return &Refusal{400, "a target that is no URL"}
	}
	return nil
}

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
	return all(name, &hostName)
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

// What bytes may be: of a target, where those beyond ASCII are no URL but mean one
// thing only; of an escape; of a name in Host.
var visible, hexDigit, hostName = func() (v, x, n [256]bool) {
	for i := range 256 {
		c := byte(i)
		v[i] = c > ' ' && c != 0x7f
		x[i] = c >= '0' && c <= '9' || c >= 'a' && c <= 'f' || c >= 'A' && c <= 'F'
		n[i] = c >= '0' && c <= '9' || c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c == '-' || c == '_' || c == '.'
	}
	return v, x, n
}()

func all(s string, of *[256]bool) bool {
	for i := range len(s) {
		if !of[s[i]] {
			return false
		}
	}
	return true
}
