package peer

import (
	"net/netip"
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestWhoTheClientIs(t *testing.T) {
	trusted := []netip.Prefix{netip.MustParsePrefix("192.0.2.0/28"), netip.MustParsePrefix("2001:db8:1::/48")}
	for _, c := range []struct{ from, xff, forwarded, want string }{
		{"203.0.113.9", "6.6.6.6", `for=6.6.6.6`, "203.0.113.9"}, // nobody's word
		{"192.0.2.1", "203.0.113.9", `for=203.0.113.9`, "203.0.113.9"},
		{"192.0.2.1", "6.6.6.6, 203.0.113.9", `for=6.6.6.6, for=203.0.113.9;proto=https`, "203.0.113.9"},
		{"192.0.2.1", "203.0.113.9,192.0.2.5", `for=203.0.113.9,for="192.0.2.5:4711"`, "203.0.113.9"},
		{"192.0.2.1", "2001:db8:2::7, 2001:db8:1::1", `For="[2001:db8:2::7]:80", for="[2001:db8:1::1]"`, "2001:db8:2::7"},
		{"192.0.2.1", "192.0.2.3", `for=192.0.2.3`, "192.0.2.3"}, // all of them ours: the farthest
		{"192.0.2.1", "203.0.113.9, unknown", `for=203.0.113.9, for=_hidden`, "192.0.2.1"},
		{"192.0.2.1", "", ``, "192.0.2.1"},
		{"192.0.2.1", "203.0.113.9, ", `for=203.0.113.9, proto=http`, "192.0.2.1"},
		{"192.0.2.1", "203.0.113.9:4711", `by="a,b;for=6.6.6.6";for=203.0.113.9`, "203.0.113.9"},
	} {
		from := netip.MustParseAddr(c.from)
		assert.Equal(t, c.want, Client(from, trusted, XForwardedFor([]string{c.xff})).String(), "X-Forwarded-For: %s", c.xff)
		assert.Equal(t, c.want, Client(from, trusted, Forwarded([]string{c.forwarded})).String(), "Forwarded: %s", c.forwarded)
	}
	assert.False(t, Inside(trusted, netip.Addr{}))
}

func FuzzForwarded(f *testing.F) {
	f.Add(`for="[2001:db8::1]:80";by=x, for=_a\"b`)
	f.Fuzz(func(t *testing.T, s string) {
		assert.LessOrEqual(t, len(Forwarded([]string{s})), maxHops)
		assert.LessOrEqual(t, len(XForwardedFor([]string{s, s})), maxHops)
	})
}
