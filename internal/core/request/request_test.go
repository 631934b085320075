package request

import (
	"net/netip"
	"testing"

	"github.com/stretchr/testify/assert"

	"kestrix/internal/core/config"
)

func TestTargetsAndHostsHaveOneForm(t *testing.T) {
	for target, want := range map[string][2]string{
		"/a?b=c?d": {"/a", "b=c?d"}, "/": {"/", ""}, "*": {"*", ""}, "http://x": {"/", ""}, "http://x?q": {"/", "q"}, "https://x:1/a/b?q": {"/a/b", "q"}, "": {"", ""},
	} {
		path, query := Target(target)
		assert.Equal(t, want, [2]string{path, query}, target)
	}
	for host, want := range map[string]string{
		"Board.Tern.Example:8080": "board.tern.example", "a.example.": "a.example", "a.example.:80": "a.example", "[2001:DB8::1]:80": "[2001:db8::1]", "[::1]": "[::1]", "": "", ".": ".",
	} {
		assert.Equal(t, want, Host(host), host)
		assert.Equal(t, want, Host(want), host)
	}
	q, query := Of("GET", "A:1", "/x/../%61?b")
	assert.Equal(t, []string{"GET", "a", "/a", "b"}, []string{q.Method, q.Host, q.Path, query})
	assert.Equal(t, "gate.example", OfConnection(netip.Addr{}, "Gate.Example").SNI)
}

func TestFieldsByName(t *testing.T) {
	v, ok := Joined([]string{"a", "b, c"})
	assert.Equal(t, "a, b, c", v)
	assert.True(t, ok)
	_, ok = Joined(nil)
	assert.False(t, ok)
	look := Cookies([]string{"a=1; b=\"two\"; a=2", "c=3;d"})
	for name, want := range map[string]string{"a": "1", "b": "two", "c": "3"} {
		v, ok := look(name)
		assert.True(t, ok, name)
		assert.Equal(t, want, v, "the first of a name")
	}
	_, ok = look("d")
	assert.False(t, ok)
	query := Query("a=1&a=2&b=%20&%zz=1&c")
	v, _ = query("a")
	assert.Equal(t, "1", v)
	v, ok = query("c")
	assert.Equal(t, "", v)
	assert.True(t, ok)
	_, ok = query("d")
	assert.False(t, ok)
	assert.True(t, Idempotent("DELETE"))
	assert.False(t, Idempotent("PATCH"))
	assert.False(t, Idempotent("get"))
}

func TestKeysOfHashes(t *testing.T) {
	look := func(want string) Lookup {
		return func(name string) (string, bool) { return "v", name == want }
	}
	q := Request{Client: netip.MustParseAddr("203.0.113.9"), Path: "/a", Header: look("X-Tenant"), Cookie: look("c"), Query: look("q")}
	by := func(key, name string) uint64 { return HashKey(&config.Hash{Key: key, Name: name}, &q, 7) }
	assert.EqualValues(t, 7, HashKey(nil, &q, 7))
	assert.EqualValues(t, 7, by("client", ""))
	assert.EqualValues(t, 7, by("header", "X-Other"), "without the field the address counts")
	assert.EqualValues(t, 7, HashKey(&config.Hash{Key: "cookie", Name: "c"}, &Request{}, 7), "and where there are none")
	assert.Equal(t, by("header", "X-Tenant"), by("cookie", "c"))
	assert.Equal(t, by("header", "X-Tenant"), by("query", "q"))
	assert.NotEqual(t, by("path", ""), by("client", ""))
	prefix := func(a string) uint64 {
		return HashKey(&config.Hash{Key: "client-prefix"}, &Request{Client: netip.MustParseAddr(a)}, 7)
	}
	assert.Equal(t, prefix("203.0.113.9"), prefix("::ffff:203.0.113.200"), "one /24")
	assert.NotEqual(t, prefix("203.0.113.9"), prefix("203.0.112.9"))
	assert.Equal(t, prefix("2001:db8:0:1::1"), prefix("2001:db8:0:1:ffff::2"), "one /64")
	assert.EqualValues(t, 7, HashKey(&config.Hash{Key: "client-prefix"}, &Request{}, 7), "an address that is not known")
}
