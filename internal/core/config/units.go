package config

import (
	"fmt"
	"math"
	"net/netip"
	"strconv"
	"strings"
	"time"
)

// longestDuration bounds every duration of the language: ten years, beyond
// which a value is a slip and sums of times could overflow.
const longestDuration = 10 * 365 * 24 * time.Hour

// ParseDuration reads "250ms", "2s", "1m30s", "8h". It must not be negative
// and not be above ten years. The error says what was expected.
func ParseDuration(s string) (time.Duration, error) {
	d, err := time.ParseDuration(s)
	if err != nil {
		if _, numErr := strconv.ParseFloat(s, 64); numErr == nil {
			return 0, fmt.Errorf("%q has no unit; write \"%ss\" for seconds or \"%sms\" for milliseconds", s, s, s)
		}
		return 0, fmt.Errorf("%q is not a duration; write it like \"250ms\", \"2s\", \"1m30s\" or \"8h\"", s)
	}
	if d < 0 {
		return 0, fmt.Errorf("the duration %q is negative", s)
	}
	if d > longestDuration {
		return 0, fmt.Errorf("the duration %q is longer than ten years", s)
	}
	return d, nil
}

// ParsePercent reads "50%" and returns 0.5; the share must lie from 0 to 1.
func ParsePercent(s string) (float64, error) {
	num, ok := strings.CutSuffix(strings.TrimSpace(s), "%")
	if !ok {
		return 0, fmt.Errorf("%q is not a percentage; write it like \"50%%\"", s)
	}
	f, err := strconv.ParseFloat(strings.TrimSpace(num), 64)
	if err != nil || math.IsNaN(f) {
		return 0, fmt.Errorf("%q is not a percentage; write it like \"50%%\"", s)
	}
	if f < 0 || f > 100 {
		return 0, fmt.Errorf("%q lies outside 0%% to 100%%", s)
	}
	return f / 100, nil
}

// Address is where something listens or is reached: a host and port, or a
// unix socket. The zero value is no address.
type Address struct {
	Host string // IP address without brackets, or a name; empty for a unix socket
	Port int    // 1 to 65535; 0 for a unix socket
	Unix string // path of the socket, else empty
	// Service: Host is the name of a service in DNS (RFC 2782), and Port is 0. Only a backend
	// has such an address.
	Service bool
}

// ParseBackendAddress is ParseAddress, and reads a service as well, such as
// "srv:_http._tcp.app.example".
func ParseBackendAddress(s string) (Address, error) {
	name, ok := strings.CutPrefix(s, "srv:")
	if !ok {
		return ParseAddress(s)
	}
	if err := hostName(name); err != nil || name == "" {
		return Address{}, fmt.Errorf("%q names no service; like \"srv:_http._tcp.app.example\"", shorten(s))
	}
	return Address{Host: name, Service: true}, nil
}

// ParseAddress reads "192.0.2.11:8080", "[2001:db8::13]:8080", "name:8080" or
// "unix:/path".
func ParseAddress(s string) (Address, error) {
	if path, ok := strings.CutPrefix(s, "unix:"); ok {
		return parseSocket(s, path)
	}
	if strings.Contains(s, "://") {
		return Address{}, fmt.Errorf("%q is a URL; write only host:port", shorten(s))
	}
	if ip, err := netip.ParseAddr(s); err == nil {
		if ip.Is6() {
			return Address{}, fmt.Errorf("%q has no port; write \"[%s]:8080\"", s, s)
		}
		return Address{}, fmt.Errorf("%q has no port; write \"%s:8080\"", s, s)
	}
	i := strings.LastIndexByte(s, ':')
	if i < 0 {
		return Address{}, fmt.Errorf("%q has no port; write host:port, [v6]:port or unix:/path", shorten(s))
	}
	host, bracketed, err := splitHost(s, s[:i])
	if err != nil {
		return Address{}, err
	}
	portText := s[i+1:]
	port, err := strconv.Atoi(portText)
	if err != nil || port < 1 || port > 65535 {
		return Address{}, fmt.Errorf("the port %q in %q is not a number from 1 to 65535", shorten(portText), shorten(s))
	}
	if host == "" {
		return Address{}, fmt.Errorf("%q names no host; to listen everywhere write \"0.0.0.0:%d\" and \"[::]:%d\"", s, port, port)
	}
	if !bracketed {
		if err := hostName(host); err != nil {
			return Address{}, err
		}
	}
	return Address{Host: host, Port: port}, nil
}

// parseSocket reads the path of a unix socket.
func parseSocket(s, path string) (Address, error) {
	if !strings.HasPrefix(path, "/") || strings.ContainsRune(path, 0) {
		return Address{}, fmt.Errorf("%q names no socket; write an absolute path like \"unix:/run/app.sock\"", s)
	}
	if len(path) > 107 {
		return Address{}, fmt.Errorf("the socket path in %q is longer than the 107 bytes that Linux allows", shorten(s))
	}
	return Address{Unix: path}, nil
}

// splitHost takes the brackets off the host of an address, and reports whether it had
// some.
func splitHost(s, host string) (bare string, bracketed bool, err error) {
	switch {
	case strings.HasPrefix(host, "[") && strings.HasSuffix(host, "]") && len(host) > 2:
		bare = host[1 : len(host)-1]
		if ip, err := netip.ParseAddr(bare); err != nil || !ip.Is6() {
			return "", true, fmt.Errorf("%q in brackets is not an IPv6 address", shorten(bare))
		}
		return bare, true, nil
	case strings.HasPrefix(host, "["):
		return "", false, fmt.Errorf("%q has no port after the bracket; write [v6]:port", shorten(s))
	case strings.Contains(host, ":"):
		return "", false, fmt.Errorf("%q: an IPv6 address goes in brackets, like \"[2001:db8::13]:8080\"", shorten(s))
	}
	return host, false, nil
}

// hostName accepts an IPv4 address or a host name (RFC 1123 section 2.1, with
// the underscore that service names use).
func hostName(host string) error {
	if _, err := netip.ParseAddr(host); err == nil {
		return nil
	}
	if len(host) > 253 {
		return fmt.Errorf("the host name %q is longer than 253 characters", shorten(host))
	}
	digits := true
	for _, label := range strings.Split(host, ".") {
		if label == "" || len(label) > 63 {
			return fmt.Errorf("%q is not a host name or IP address", shorten(host))
		}
		for _, c := range label {
			isDigit := c >= '0' && c <= '9'
			digits = digits && isDigit
			if !isDigit && !(c >= 'a' && c <= 'z') && !(c >= 'A' && c <= 'Z') && c != '-' && c != '_' {
				return fmt.Errorf("%q is not a host name or IP address: %q cannot stand in one", shorten(host), string(c))
			}
		}
	}
	if digits {
		return fmt.Errorf("%q is not an IPv4 address: four numbers from 0 to 255 are expected", shorten(host))
	}
	return nil
}

// String writes the address as ParseAddress reads it.
func (a Address) String() string {
	if a.Unix != "" {
		return "unix:" + a.Unix
	}
	if a.Service {
		return "srv:" + a.Host
	}
	if strings.Contains(a.Host, ":") {
		return "[" + a.Host + "]:" + strconv.Itoa(a.Port)
	}
	return a.Host + ":" + strconv.Itoa(a.Port)
}

// IP returns the address where Host is one rather than a name.
func (a Address) IP() (netip.Addr, bool) {
	ip, err := netip.ParseAddr(a.Host)
	return ip, err == nil
}

// Contains reports whether an address is every one of a machine's, of IPv4 or of IPv6,
// and another one of them, of the same port.
func (a Address) Contains(other Address) bool {
	x, ok := a.IP()
	y, okToo := other.IP()
	return ok && okToo && a.Unix == "" && other.Unix == "" && a.Port == other.Port && a != other && x.Is4() == y.Is4() && x.IsUnspecified()
}

// shorten keeps a quoted piece of input readable in a message.
func shorten(s string) string {
	const most = 60
	if len(s) <= most {
		return s
	}
	cut := most
	for cut > 0 && s[cut]&0xc0 == 0x80 {
		cut--
	}
	return s[:cut] + "…"
}

// ParseRate reads "200/s", "30/m" or "1000/h" and returns events a second. It must
// be above 0.
func ParseRate(s string) (float64, error) {
	num, per, ok := strings.Cut(s, "/")
	f, err := strconv.ParseFloat(strings.TrimSpace(num), 64)
	unit := map[string]float64{"s": 1, "m": 60, "h": 3600}[strings.TrimSpace(per)]
	if !ok || err != nil || unit == 0 || math.IsNaN(f) || math.IsInf(f, 0) || f <= 0 {
		return 0, fmt.Errorf("%q is not a rate above 0; write it like \"200/s\" or \"30/m\"", shorten(s))
	}
	return f / unit, nil
}

// ParseSize reads "512B", "64KiB", "8MiB" or "1GiB" and returns bytes.
func ParseSize(s string) (int64, error) {
	wrong := fmt.Errorf("%q is not a size; write it like \"512B\", \"64KiB\", \"8MiB\" or \"1GiB\"", shorten(s))
	i := strings.IndexFunc(s, func(r rune) bool { return r < '0' || r > '9' })
	if i <= 0 {
		return 0, wrong
	}
	n, err := strconv.ParseInt(s[:i], 10, 64)
	unit := map[string]int64{"B": 1, "KiB": 1 << 10, "MiB": 1 << 20, "GiB": 1 << 30}[strings.TrimSpace(s[i:])]
	if err != nil || unit == 0 {
		return 0, wrong
	}
	if n > math.MaxInt64/unit {
		return 0, fmt.Errorf("the size %q is too large", shorten(s))
	}
	return n * unit, nil
}

// ParseSizeRate parses "1KiB/s" or "2MiB/s" and returns bytes a second; "0B/s" is 0.
func ParseSizeRate(s string) (int64, error) {
	size, ok := strings.CutSuffix(s, "/s")
	n, err := ParseSize(size)
	if !ok || err != nil {
		return 0, fmt.Errorf("%q is not a size a second; write it like \"512B/s\", \"1KiB/s\" or \"2MiB/s\"", shorten(s))
	}
	return n, nil
}

// FormatSize writes bytes as ParseSize reads them.
func FormatSize(n int64) string {
	for _, u := range []struct {
		name string
		size int64
	}{{"GiB", 1 << 30}, {"MiB", 1 << 20}, {"KiB", 1 << 10}} {
		if n >= u.size && n%u.size == 0 {
			return fmt.Sprintf("%d%s", n/u.size, u.name)
		}
	}
	return fmt.Sprintf("%dB", n)
}

// FormatDuration writes a duration without the zeros at its end: 8h, 1m30s.
func FormatDuration(d time.Duration) string {
	s := d.String()
	if strings.HasSuffix(s, "m0s") {
		s = strings.TrimSuffix(s, "0s")
	}
	if strings.HasSuffix(s, "h0m") {
		s = strings.TrimSuffix(s, "0m")
	}
	return s
}
