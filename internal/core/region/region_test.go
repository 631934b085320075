package region

import (
	"fmt"
	"net/netip"
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"kestrix/internal/core/config"
	"kestrix/internal/core/request"
	"kestrix/internal/core/route"
)

// frontend makes a table of routes, which lead to one upstream.
func frontend(t require.TestingT, routes string) *route.Table {
	text := "frontend \"f\" {\n listen = \"127.0.0.1:1\"\n tls {\n certificate = \"c.pem\"\n key = \"k.pem\"\n }\n" + routes + "}\nupstream \"u\" {\n backends = { a = \"127.0.0.1:2\" }\n}\n"
	c, found, err := config.Read([]config.File{{Name: "t.hcl", Source: []byte(text)}})
	require.NoError(t, err, text)
	require.Empty(t, found, text)
	return route.Compile(c.Frontends[0])
}

// when writes a route.
func when(i int, condition string) string {
	if condition != "" {
		condition = "when {\n" + condition + "}\n"
	}
	return fmt.Sprintf("route \"r%d\" {\n%ssend_to = upstream.u\n}\n", i, condition)
}

// drawn are values from a small and nasty alphabet, in the forms in which conditions name them
// and in those that requests have.
var drawn = map[string][2][]string{
	"host": {
		{`"a.x"`, `"*.x"`, `"**.x"`, `"**"`, `"x"`, `"A*.x"`, `regexp("[ab]\\.x")`, `regexp(".*")`, `regexp("(?i)A.x|b")`, `"[::1]"`, `not("a.x")`, `not("**.x")`, `not(regexp("a.*"))`},
		{"a.x", "b.x", "x", "a.b.x", "ab.x", "", "b", "[::1]", "a.x.", "A.X", "c", ".x", "a.x:80", "axx"},
	},
	"path": {
		{`"/"`, `"/**"`, `"/*"`, `"/a/**"`, `"/a/*"`, `"/a"`, `"/a/"`, `"/a*b/**"`, `"/*/b"`, `"/a;b"`, `"/a%2Fb"`, `"/é"`, `"*"`, `"/a/./b"`, `"/%61"`, `regexp("/a.*")`, `regexp("^/[ab]$")`, `regexp("/(a|b)+/?")`, `regexp("/a\\b.*")`,
			`regexp("(?i)/A/.*")`, `regexp("/.{2,4}")`, `regexp("/a/[^/]*")`, `regexp("/%[0-9A-F]{2}")`, `not("/a/b")`, `not("/a/**")`, `not(regexp(".*b"))`},
		{"/", "/a", "/b", "/a/", "/a/b", "/a/b/c", "/ab", "/axb/c", "/a;b", "/a%2Fb", "/a//b", "/%61", "/a/../b", "/a/./b", "/é", "*", "/A/", "/..", "/.../a", "/a%20", "/aa/b", "/a-b", "/%2f", "/a\\b", "/%zz"},
	},
	"method": {{`"GET"`, `"POST"`, `not("GET")`, `"OPTIONS"`, `not("OPTIONS")`}, {"GET", "POST", "PUT", "OPTIONS", "HEAD"}},
	"client": {
		{`"10.0.0.0/8"`, `"10.1.0.0/16"`, `"10.0.0.1"`, `"2001:db8::/32"`, `not("10.0.0.0/9")`, `"0.0.0.0/0"`, `"::/0"`, `"255.255.255.255"`},
		{"10.0.0.1", "10.1.2.3", "10.200.0.1", "192.0.2.1", "2001:db8::1", "::1", "255.255.255.255", "0.0.0.0"},
	},
	"sni":    {{`"a.x"`, `"*.x"`, `not("a.x")`, `regexp(".*")`, `regexp("a.x|")`}, {"", "a.x", "b.x", "c"}},
	"header": {{`"a"`, `"*"`, `"a*"`, `not("*")`, `not("a")`, `regexp("[a-c]+")`, `"*é*"`, `regexp("\\w+")`, `["a", "b", not("ab")]`}, {"", "a", "b", "ab", "é", "aé", "d e", "\x00absent"}},
}

// condition draws one.
func condition(t *rapid.T, name string) string {
	var b strings.Builder
	one := func(kind string) string { return rapid.SampledFrom(drawn[kind][0]).Draw(t, name+" "+kind) }
	for _, kind := range []string{"host", "path", "method", "client", "sni"} {
		switch rapid.IntRange(0, 5).Draw(t, name+" asks "+kind) {
		case 0, 1:
			fmt.Fprintf(&b, "%s = %s\n", kind, one(kind))
		case 2:
			fmt.Fprintf(&b, "%s = [%s, %s]\n", kind, one(kind), one(kind))
		}
	}
	for _, field := range []string{"header", "query", "cookie"} {
		if rapid.IntRange(0, 5).Draw(t, name+" asks "+field) == 0 {
			fmt.Fprintf(&b, "%s = { x = %s, y = %s }\n", field, one("header"), one("header"))
		}
	}
	return b.String()
}

// routes draws up to twelve.
func routes(t *rapid.T, name string) string {
	var b strings.Builder
	for i := range rapid.IntRange(1, 12).Draw(t, name) {
		c := condition(t, fmt.Sprint(name, i))
		for k := range rapid.SampledFrom([]int{0, 0, 0, 1, 2, 3}).Draw(t, "any") {
			if x := condition(t, fmt.Sprint(name, i, "any", k)); x != "" {
				c += "any {\n" + x + "}\n"
			}
		}
		b.WriteString(when(i, c))
	}
	return b.String()
}

// aRequest draws one of those that conditions are made for.
func aRequest(t *rapid.T) request.Request {
	pick := func(kind string) string { return rapid.SampledFrom(drawn[kind][1]).Draw(t, kind) }
	q, _ := request.Of(pick("method"), pick("host"), pick("path"))
	if q.Path == "*" {
		q.Method = "OPTIONS"
	}
	q.Client, q.SNI = netip.MustParseAddr(pick("client")), pick("sni")
	look := func() request.Lookup {
		values := map[string]string{}
		for _, name := range []string{"x", "y"} {
			if v := pick("header"); v != "\x00absent" {
				values[name] = v
			}
		}
		return func(name string) (string, bool) { v, ok := values[name]; return v, ok }
	}
	q.Header, q.Query, q.Cookie = look(), look(), look()
	return q
}

// TestWhatADiagramSaysIsWhatARouterDoes draws configurations and requests: the diagram sends
// each where the router sends it, and every witness goes where it is said to.
func TestWhatADiagramSaysIsWhatARouterDoes(t *testing.T) {
	requests := 200
	if os.Getenv("KESTRIX_LONG") != "" {
		requests = 10_000
	}
	rapid.Check(t, func(rt *rapid.T) {
		text := routes(rt, "routes")
		table := frontend(rt, text)
		p, err := New(table)
		require.NoError(rt, err)
		require.False(rt, p.TooLarge)
		require.Empty(rt, p.Undecided)
		parts := map[int]bool{}
		for _, x := range p.Parts() {
			parts[x.Routes[0]] = true
			q := x.Witness.Request()
			require.Nil(rt, request.Valid(q.Method, "", q.Path), "%s", x.Witness)
			if got, _ := table.Match(&q); got != x.Routes[0] && table.Ambiguous(&q) == "" {
				rt.Fatalf("%s is said to go to %d and goes to %d in\n%s", x.Witness, x.Routes[0], got, text)
			}
		}
		for range requests {
			q := aRequest(rt)
			if table.Ambiguous(&q) != "" {
				continue
			}
			want, _ := table.Match(&q)
			got := p.At(&q)
			if len(got) != 1 || got[0] != want {
				rt.Fatalf("%+v x=%v goes to %d and is said to go to %v in\n%s", q, fields(&q), want, got, text)
			}
			if !parts[want] {
				rt.Fatalf("%d takes %+v and is said to take nothing in\n%s", want, q, text)
			}
		}
	})
}

// fields writes what a request has in fields.
func fields(q *request.Request) string {
	var out []string
	for _, l := range []request.Lookup{q.Header, q.Query, q.Cookie} {
		for _, name := range []string{"x", "y"} {
			v, ok := l(name)
			out = append(out, fmt.Sprintf("%q/%v", v, ok))
		}
	}
	return strings.Join(out, " ")
}

// TestRoutesThatTakeNothing are found whatever takes their requests.
func TestRoutesThatTakeNothing(t *testing.T) {
	for _, c := range []struct {
		name   string
		routes []string // the last is asked about
		by     string   // -: it takes something
		like   string   // the witness
	}{
		{"everything first", []string{"", `path = "/a"`}, "[0]", "GET http://tern.example/a"},
		{"the union of two", []string{`method = "GET"`, `method = not("GET")`, `path = "/a"`}, "[0 1]", "GET http://tern.example/a"},
		{"wider path", []string{`path = "/a/**"`, `path = ["/a/b", "/a/c/**"]`}, "[0]", "GET http://tern.example/a/b"},
		{"narrower first", []string{`path = "/a/b"`, `path = "/a/**"`}, "-", ""},
		{"a regular expression", []string{`path = regexp("/a.*")`, `path = regexp("/ab")`}, "[0]", "GET http://tern.example/ab"},
		{"two expressions together", []string{`path = regexp("/[a-m].*")`, `path = regexp("/[^a-m].*|/")`, `path = "/**"`}, "-", ""}, // OPTIONS *
		{"networks together", []string{`client = "10.0.0.0/9"`, `client = "10.128.0.0/9"`, `client = "10.0.0.0/8"`}, "[0 1]", "GET http://tern.example/ from 10.0.0.1"},
		{"a condition that nothing matches", []string{`path = ["/a", not("/a")]`}, "[]", ""},
		{"a path that is never so", []string{`path = "/a/../b"`}, "[]", ""},
		{"a method that is never routed", []string{`method = "TRACE"`}, "[]", ""},
		{"any", []string{"any {\npath = \"/a\"\n}\nany {\nmethod = \"POST\"\n}", "path = \"/a\"\nmethod = \"PUT\""}, "[0]", "PUT http://tern.example/a"},
		{"headers", []string{`header = { accept = "*json*" }`, `header = { accept = not("*json*") }`, `path = "/x"`}, "[0 1]", "GET http://tern.example/x"},
	} {
		var text strings.Builder
		for i, w := range c.routes {
			if w != "" {
				w += "\n"
			}
			text.WriteString(when(i, w))
		}
		table := frontend(t, text.String())
		got, err := Nevers(table)
		require.NoError(t, err, c.name)
		if c.by == "-" {
			assert.Empty(t, got, c.name)
			continue
		}
		if !assert.Len(t, got, 1, c.name) {
			continue
		}
		assert.Equal(t, c.by, fmt.Sprint(got[0].By), c.name)
		if c.like != "" {
			assert.Equal(t, c.like, got[0].Witness.String(), c.name)
		}
	}
}

// TestOverlapsComeWithARequestThatFitsBoth, which the first of the two takes.
func TestOverlapsComeWithARequestThatFitsBoth(t *testing.T) {
	for _, c := range []struct{ first, second, witness string }{
		{`path = "/a/**"`, `method = "POST"`, "POST http://tern.example/a"},
		{"path = \"/a/**\"\nmethod = \"POST\"", "path = \"/a/b/**\"", "POST http://tern.example/a/b"},
		{"host = \"*.tern.example\"\nmethod = \"GET\"", "host = \"board.tern.example\"\npath = \"/x\"", "GET http://board.tern.example/x"},
		{`path = regexp("/a.*")`, `path = regexp(".*b")`, "GET http://tern.example/ab"},
		{"path = [\"/a/**\", not(\"/a/**\")]", `method = "POST"`, ""},
		{`path = "/a"`, `path = "/b"`, ""},
		{`path = "/a/**"`, `path = "/a/b"`, ""},
		{`path = "/a"`, "", ""},
	} {
		if c.second != "" {
			c.second += "\n"
		}
		got, err := Overlaps(frontend(t, when(0, c.first+"\n")+when(1, c.second)))
		require.NoError(t, err)
		if c.witness == "" {
			assert.Empty(t, got, "%s | %s", c.first, c.second)
			continue
		}
		if assert.Len(t, got, 1, "%s | %s", c.first, c.second) {
			assert.Equal(t, c.witness, got[0].Witness.String())
		}
	}
}

// TestWhatHasTooManyStatesIsNotDecided, by name, and the rest is.
func TestWhatHasTooManyStatesIsNotDecided(t *testing.T) {
	table := frontend(t, when(0, "path = regexp(\"/(a|b)*a(a|b){18}\")\n")+when(1, "path = \"/a/**\"\n")+when(2, "path = \"/a/b\"\n")+when(3, ""))
	p, err := New(table)
	require.NoError(t, err)
	assert.Equal(t, []string{`path regexp("/(a|b)*a(a|b){18}")`}, p.Undecided)
	got, err := Nevers(table)
	require.NoError(t, err)
	require.Len(t, got, 1)
	assert.Equal(t, 2, got[0].Route)
	maybe := map[int]bool{}
	for _, x := range p.Parts() {
		maybe[x.Routes[0]] = x.Maybe
	}
	assert.Equal(t, map[int]bool{0: true, 1: true, 3: true}, maybe)
}

// TestTooManySetsAreNotToldApart: of routes that each ask for other fields than the rest there may be
// more sets than can be told apart, and nothing is said then.
func TestTooManySetsAreNotToldApart(t *testing.T) {
	var text strings.Builder
	for n := range 60 {
		text.WriteString(when(n, fmt.Sprintf("header = { a%d = \"a\", b%d = \"%d\", c%d = \"c\" }\n", n%7, n*5%9, n%4, n*3%8)))
	}
	table := frontend(t, text.String())
	p, err := New(table)
	require.NoError(t, err)
	assert.True(t, p.TooLarge)
	never, err := Nevers(table)
	require.NoError(t, err)
	assert.Empty(t, never)
}
