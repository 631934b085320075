package study

import (
	"fmt"
	"net/netip"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"kestrix/internal/core/config"
	"kestrix/internal/core/request"
	"kestrix/internal/core/route"
)

// site makes a configuration of routes with conditions; each leads to an upstream of its own.
func site(t require.TestingT, conditions []string) *config.Config {
	var b strings.Builder
	b.WriteString("frontend \"web\" {\n  listen = \"127.0.0.1:80\"\n")
	for i, c := range conditions {
		if c != "" {
			c = "    when {\n" + c + "\n    }\n"
		}
		fmt.Fprintf(&b, "  route \"r%d\" {\n%s    send_to = upstream.u%d\n  }\n", i, c, i%3)
	}
	b.WriteString("}\n")
	for i := range 3 {
		fmt.Fprintf(&b, "upstream \"u%d\" {\n  backends = { a = \"127.0.0.1:%d\" }\n}\n", i, 9000+i)
	}
	c, found, err := config.Read([]config.File{{Name: "t.hcl", Source: []byte(b.String())}})
	require.NoError(t, err, b.String())
	require.Empty(t, found, b.String())
	return c
}

// TestAChangeOfOneConditionIsSeen changes one condition each, of a route before one that takes
// everything. What is the same in other words changes nothing.
func TestAChangeOfOneConditionIsSeen(t *testing.T) {
	for _, c := range []struct {
		old, now string
		like     string // one of the requests; empty: nothing changes
	}{
		{`path = "/a/**"`, `path = "/a/*"`, "GET http://tern.example/a"},
		{`path = "/a/**"`, `path = ["/a/**", not("/a/b")]`, "GET http://tern.example/a/b"},
		{`path = "/a/**"`, `path = ["/a/**", not("/c")]`, ""},
		{`path = "/a/**"`, `path = ["/a", "/a/*", "/a/*/**"]`, ""},
		{`path = "/a/**"`, `path = regexp("/a(/.*)?")`, ""},
		{`path = "/a/**"`, `path = regexp("/a/.*")`, "GET http://tern.example/a"},
		{`path = "/a/**"`, `path = regexp("/a.*")`, "GET http://tern.example/ax"},
		{`path = "/a*"`, `path = "/a*b"`, "GET http://tern.example/a"},
		{`path = "/*/b"`, `path = "/*/*"`, "GET http://tern.example/x/y"},
		{`path = "/caf%C3%A9"`, `path = "/café"`, ""},
		{`path = "/%61"`, `path = "/a"`, ""},
		{`path = "/a"`, `path = "/A"`, "GET http://tern.example/A"},
		{`path = regexp("/[0-9]+")`, `path = regexp("/\\d+")`, ""},
		{`path = regexp("/[0-9]+")`, `path = regexp("/[0-9]{1,8}")`, "GET http://tern.example/000000000"},
		{`path = regexp("/[0-9]+")`, `path = regexp("/[0-8]+")`, "GET http://tern.example/9"},
		{`path = regexp("/(a|b)")`, `path = ["/b", "/a"]`, ""},
		{`path = regexp("(?i)/a")`, `path = ["/a", "/A"]`, ""},
		{`path = regexp("/a\\b.*")`, `path = regexp("/a|/a[^a-zA-Z0-9_].*")`, ""},
		{`path = not("/a/**")`, `path = [not("/a"), not("/a/**")]`, ""},
		{`path = not("/a/**")`, `path = not("/a")`, "GET http://tern.example/a/"},
		{`path = "/a"`, "", "GET http://tern.example/"},
		{`host = "tern.example"`, `host = "*.tern.example"`, "GET http://tern.example/"},
		{`host = "**.tern.example"`, `host = ["tern.example", "**.tern.example"]`, ""},
		{`host = "**.tern.example"`, `host = "*.tern.example"`, "GET http://tern.example/"},
		{`host = "Tern.example"`, `host = "tern.EXAMPLE"`, ""},
		{`host = "a.example"`, `host = not("a.example")`, "GET http://a.example/"},
		{`host = "**"`, "", ""},
		{`host = regexp("[a-c]\\.example")`, `host = ["a.example", "b.example", "c.example"]`, ""},
		{`client = "203.0.113.0/24"`, `client = "203.0.0.0/16"`, "GET http://tern.example/ from 203.0.0.1"},
		{`client = "10.0.0.0/8"`, `client = ["10.0.0.0/9", "10.128.0.0/9"]`, ""},
		{`client = "10.0.0.0/8"`, `client = ["10.0.0.0/8", not("10.1.0.0/16")]`, "GET http://tern.example/ from 10.1.0.1"},
		{`client = ["0.0.0.0/0", "::/0"]`, "", ""},
		{`client = "0.0.0.0/0"`, "", "GET http://tern.example/ from 2001:db8::9"},
		{`client = "10.0.0.0/8"`, `client = not("10.0.0.0/8")`, "GET http://tern.example/ from 203.0.113.9"},
		{`client = "2001:db8::/32"`, `client = "2001:db8::/33"`, "GET http://tern.example/ from 2001:db8:8000::1"},
		{`method = "GET"`, `method = ["GET", "HEAD"]`, "HEAD http://tern.example/"},
		{`method = ["GET", "HEAD"]`, `method = ["HEAD", "GET"]`, ""},
		{`method = not("GET")`, `method = ["POST", "PUT"]`, "PATCH http://tern.example/"},
		{`method = "GET"`, `method = ["GET", "TRACE"]`, ""},
		{`header = { accept = "*json*" }`, `header = { Accept = "*json*" }`, ""},
		{`header = { accept = "*json*" }`, `header = { accept = ["*json*", "*xml*"] }`, "GET http://tern.example/ with accept: xml"},
		{`header = { accept = "*json*" }`, `header = { accept = "*json" }`, "GET http://tern.example/ with accept: jsonx"},
		{`header = { accept = "*" }`, `header = { accept = regexp(".*") }`, ""},
		{`header = { accept = "*" }`, `header = { accept = "*", x = not("*") }`, "GET http://tern.example/ with accept: x with x: x"},
		{`header = { accept = not("a") }`, `header = { accept = [not("a"), not("b")] }`, "GET http://tern.example/ with accept: b"},
		{`query = { q = "1" }`, `query = { q = "*" }`, "GET http://tern.example/?q=x"},
		{`query = { q = "1" }`, `query = { Q = "1" }`, "GET http://tern.example/?q=1"},
		{`query = { q = "*" }`, `query = { q = regexp(".*") }`, "GET http://tern.example/?q=%0A"},
		{`query = { q = "é" }`, `query = { q = regexp("\\x{e9}") }`, ""},
		{`query = { q = regexp("[^a]") }`, `query = { q = regexp("[^aЖ]") }`, "GET http://tern.example/?q=%D0%96"},
		{`cookie = { beta = "on" }`, `cookie = { beta = ["on", "off"] }`, "GET http://tern.example/ with the cookie beta=off"},
		{`cookie = { beta = not("*") }`, "", "GET http://tern.example/ with the cookie beta=x"},
		{"any {\n path = \"/a\"\n}\nany {\n path = \"/b\"\n}", `path = ["/a", "/b"]`, ""},
		{"any {\n path = \"/a\"\n}\nany {\n method = \"POST\"\n}", `path = "/a"`, "POST http://tern.example/"},
		{"path = \"/a\"\nany {\n method = \"GET\"\n}\nany {\n method = not(\"GET\")\n}", `path = "/a"`, ""},
		{"path = \"/a/**\"\nany {\n path = \"/a/b\"\n}", `path = "/a/b"`, ""},
		{"path = \"/a\"\nmethod = \"GET\"", "path = \"/a\"\nmethod = \"POST\"", "GET http://tern.example/a"},
		{"path = \"/a\"\nmethod = \"GET\"", "method = \"GET\"\npath = \"/a\"", ""},
		{"path = \"/a\"\nhost = \"h\"", `path = "/a"`, "GET http://tern.example/a"},
		{`path = "/a;b"`, `path = "/a"`, "GET http://tern.example/a"},
		{`path = ["/**"]`, "", ""},
		{`path = "*"`, "", "GET http://tern.example/"},
		{`path = "/a//b"`, `path = "/a/b"`, "GET http://tern.example/a/b"},
		{`path = regexp("/x|/y")`, `path = regexp("/x|/y|/./..")`, "GET http://tern.example/x/xx"},
		{`path = "/a/./b"`, `path = "/a/../b"`, ""}, // neither is ever asked for
	} {
		d := Compare(site(t, []string{c.old, ""}), site(t, []string{c.now, ""}))
		assert.Empty(t, d.Undecided, "%s | %s", c.old, c.now)
		var like []string
		for _, m := range d.Requests {
			like = append(like, m.Request)
		}
		if c.like == "" {
			assert.Empty(t, like, "%s | %s", c.old, c.now)
			assert.False(t, d.Changed())
			continue
		}
		assert.Contains(t, like, c.like, "%s | %s", c.old, c.now)
	}
}

// TestNoChangeIsOverlooked changes one condition of a random configuration, and asks both for
// everything that a small alphabet has: what is answered differently, diff tells of, and what
// diff tells of is answered differently.
func TestNoChangeIsOverlooked(t *testing.T) {
	conditions := []string{
		`path = "/a/**"`, `path = "/a/*"`, `path = "/a"`, `path = "/**"`, `path = ["/a", "/b"]`, `path = not("/a")`, `path = regexp("/[ab]+")`, `path = regexp("/a?b?/?")`, `path = "/a;b"`, `path = regexp("/(a/)*b?")`,
		`host = "a.x"`, `host = "*.x"`, `host = "**.x"`, `host = not("a.x")`, `host = regexp("[a-b]?\\.?x")`, `method = "GET"`, `method = not("GET")`, `method = ["GET", "POST"]`,
		`client = "10.0.0.0/8"`, `client = "10.1.0.0/16"`, `client = not("10.1.0.0/16")`, `client = "::/0"`, `header = { v = "a" }`, `header = { v = "*" }`, `header = { v = not("*") }`, `header = { v = ["a", "b"] }`, `header = { v = regexp("a*") }`,
		"any {\n path = \"/a\"\n}\nany {\n method = \"POST\"\n}", "any {\n host = \"a.x\"\n}\nany {\n header = { v = \"a\" }\n}", "",
	}
	var asked []request.Request
	for _, host := range []string{"a.x", "b.x", "x", "a.a.x", ""} {
		for _, path := range []string{"/", "/a", "/b", "/a/", "/a/b", "/ab", "/ba", "/a/a/b", "/a;b", "//a", "/a%2Fb", "/c", "/a//", "/b/"} {
			for _, method := range []string{"GET", "POST", "PUT"} {
				for _, client := range []string{"10.1.0.1", "10.2.0.1", "192.0.2.1", "2001:db8::1"} {
					for _, value := range []string{"", "a", "b", "aa", "none"} {
						q, _ := request.Of(method, host, path)
						q.Client = netip.MustParseAddr(client)
						q.Header = func(name string) (string, bool) { return value, name == "v" && value != "none" }
						asked = append(asked, q)
					}
				}
			}
		}
	}
	changed := 0
	rapid.Check(t, func(rt *rapid.T) {
		old := rapid.SliceOfN(rapid.SampledFrom(conditions), 1, 5).Draw(rt, "routes")
		now := append([]string{}, old...)
		now[rapid.IntRange(0, len(now)-1).Draw(rt, "changed")] = rapid.SampledFrom(conditions).Draw(rt, "to")
		a, b := site(rt, old), site(rt, now)
		d := Compare(a, b)
		was, is := route.Compile(a.Frontends[0]), route.Compile(b.Frontends[0])
		different := func(q *request.Request) bool { return answers(was, q, nil) != answers(is, q, nil) }
		for i := range asked {
			if different(&asked[i]) {
				changed++
				if !d.Changed() {
					rt.Fatalf("%q to %q changes %s %s %s from %s, and diff says that nothing does", old, now, asked[i].Method, asked[i].Host, asked[i].Path, asked[i].Client)
				}
				break
			}
		}
		if len(d.Undecided) > 0 && !strings.Contains(d.Undecided[0].What, "several ways") {
			rt.Fatalf("%q to %q: %+v", old, now, d.Undecided)
		}
	})
	assert.Positive(t, changed)
}
