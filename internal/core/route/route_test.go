package route

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
)

func TestPatterns(t *testing.T) {
	for _, c := range []struct {
		make func(string) Pattern
		text string
		yes  []string
		no   []string
	}{
		{Path, "/live", []string{"/live"}, []string{"/live/", "/liv", "/LIVE", ""}},
		{Path, "/live/**", []string{"/live", "/live/", "/live/a", "/live/a/b"}, []string{"/livery", "/", "/a/live"}},
		{Path, "/**", []string{"/", "/a", "/a/b", ""}, nil},
		{Path, "/*", []string{"/", "/a"}, []string{"/a/b"}},
		{Path, "/seats/*/hold", []string{"/seats/12/hold"}, []string{"/seats/hold", "/seats/1/2/hold", "/seats/12/hold/"}},
		{Path, "/seats/*/**", []string{"/seats/12", "/seats/12/a/b"}, []string{"/seats", "/other/12"}},
		{Path, "/img-*.png", []string{"/img-1.png", "/img-.png"}, []string{"/img-1.jpg", "/img-a/b.png"}},
		{Path, "/a*b*c", []string{"/abc", "/axxbyyc"}, []string{"/ab", "/acb"}},
		{Host, "board.tern.example", []string{"board.tern.example"}, []string{"tern.example", "x.board.tern.example"}},
		{Host, "*.tern.example", []string{"a.tern.example"}, []string{"tern.example", "a.b.tern.example"}},
		{Host, "**.tern.example", []string{"a.tern.example", "a.b.tern.example", "tern.example"}, []string{"ern.example", "tern.example.evil.example"}},
		{Host, "**", []string{"a", "a.b", ""}, nil},
		{Host, "Tern.Example", []string{"tern.example"}, nil},
		{Host, "quay-*.tern.example", []string{"quay-7.tern.example"}, []string{"quay.tern.example"}},
		{Plain, "*json*", []string{"application/json; q=1", "json"}, []string{"jso"}},
		{Plain, "north", []string{"north"}, []string{"North", "northern"}},
		{Plain, "*", []string{"", "x"}, nil},
	} {
		p := c.make(c.text)
		for _, s := range c.yes {
			assert.True(t, p.Match(s), "%q fits %q", s, c.text)
		}
		for _, s := range c.no {
			assert.False(t, p.Match(s), "%q does not fit %q", s, c.text)
		}
		assert.True(t, p.Match(p.Sample()), "the sample %q of %q fits it", p.Sample(), c.text)
		assert.True(t, p.Covers(&p), "%q covers itself", c.text)
	}
}

// TestCoversNeverPromisesTooMuch holds Covers to its word on random patterns
// and texts.
func TestCoversNeverPromisesTooMuch(t *testing.T) {
	segment := rapid.SampledFrom([]string{"a", "b", "ab", "*", "a*", "*b", "a*b", "**"})
	word := rapid.SampledFrom([]string{"a", "b", "ab", "axb", "", "c"})
	covered, fitted := 0, 0
	rapid.Check(t, func(t *rapid.T) {
		make := func(name string) Pattern {
			parts := rapid.SliceOfN(segment, 1, 4).Draw(t, name)
			for i, p := range parts {
				if p == "**" && i != len(parts)-1 {
					parts[i] = "*"
				}
			}
			return Path("/" + strings.Join(parts, "/"))
		}
		q := make("q")
		p := make("p")
		if rapid.Bool().Draw(t, "related") { // a pattern made from the other, so that covering happens
			parts := strings.Split(q.text[1:], "/")
			for i := range parts {
				if parts[i] != "**" && rapid.Bool().Draw(t, "widen") {
					parts[i] = "*"
				}
			}
			p = Path("/" + strings.Join(parts, "/"))
		}
		// A text that fits q, more often than not.
		parts := strings.Split(q.text[1:], "/")
		for i := range parts {
			parts[i] = strings.ReplaceAll(parts[i], "*", word.Draw(t, "word"))
		}
		s := "/" + strings.Join(parts, "/")
		if p.Covers(&q) {
			covered++
			if q.Match(s) {
				fitted++
				if !p.Match(s) {
					t.Fatalf("%q is said to cover %q, but %q fits only the second", p.text, q.text, s)
				}
			}
		}
		if !q.Match(q.Sample()) {
			t.Fatalf("the sample %q does not fit %q", q.Sample(), q.text)
		}
	})
	assert.Positive(t, covered)
	assert.Positive(t, fitted, "the property was put to the test")
}

func table(t *testing.T, routes string) *Table {
	text := "frontend \"f\" {\n listen = \"127.0.0.1:1\"\n" + routes + "}\nupstream \"u\" {\n backends = { a = \"127.0.0.1:2\" }\n}\n"
	c, found, err := config.Read([]config.File{{Name: "r.hcl", Source: []byte(text)}})
	require.NoError(t, err)
	require.Empty(t, found)
	return Compile(c.Frontends[0])
}

func rule1(name, when string) string {
	if when != "" {
		when = "when {\n" + when + "\n}\n"
	}
	return "route \"" + name + "\" {\n" + when + "send_to = upstream.u\n}\n"
}

func TestTheFirstRouteThatFitsDecides(t *testing.T) {
	tab := table(t, rule1("host", `host = ["board.tern.example", "*.quay.example"]`)+
		rule1("both", "path = \"/live/**\"\nmethod = [\"GET\", \"HEAD\"]")+
		rule1("client", `client = ["203.0.113.0/24", "2001:db8::/32"]`)+
		rule1("header", `header = { accept = "*json*", "X-Quay" = "north" }`)+
		rule1("rest", ""))
	fields := map[string]string{"accept": "text/json", "x-quay": "north"}
	for _, c := range []struct {
		q    Request
		want string
	}{
		{Request{Host: "board.tern.example", Path: "/live/x", Method: "GET"}, "host"},
		{Request{Host: "n.quay.example"}, "host"},
		{Request{Host: "x", Path: "/live/x", Method: "GET"}, "both"},
		{Request{Host: "x", Path: "/live/x", Method: "POST"}, "rest"},
		{Request{Host: "x", Path: "/", Client: netip.MustParseAddr("203.0.113.200")}, "client"},
		{Request{Host: "x", Path: "/", Client: netip.MustParseAddr("2001:db8::1")}, "client"},
		{Request{Host: "x", Path: "/", Client: netip.MustParseAddr("198.51.100.1")}, "rest"},
		{Request{Host: "x", Header: func(n string) (string, bool) { v, ok := fields[strings.ToLower(n)]; return v, ok }}, "header"},
		{Request{Host: "x", Header: func(n string) (string, bool) { return "", false }}, "rest"},
	} {
		i, missed := tab.Match(&c.q)
		require.GreaterOrEqual(t, i, 0)
		assert.Equal(t, c.want, tab.Frontend.Routes[i].Name, "%+v", c.q)
		assert.Zero(t, missed)
		steps := tab.Explain(&c.q)
		last := steps[len(steps)-1]
		assert.True(t, last.Fits)
		assert.Equal(t, c.want, last.Route, "Explain agrees with Match")
		for _, s := range steps {
			assert.NotEmpty(t, s.Why)
		}
	}
}

func TestNegationRegularExpressionsQueryAndCookies(t *testing.T) {
	tab := table(t, rule1("numbers", `path = regexp("/seats/[0-9]+")`)+
		rule1("not-posts", "path = [\"/a/**\", not(\"/a/secret/**\")]\nmethod = not(\"POST\")")+
		rule1("abroad", `client = ["203.0.113.0/24", not("203.0.113.9")]`)+
		rule1("finnish", `query = { lang = "fi", debug = not("*") }`)+
		rule1("beta", `cookie = { beta = "on" }`)+
		rule1("no-agent", `header = { "User-Agent" = not("*") }`))
	look := func(pairs ...string) Lookup {
		return func(name string) (string, bool) {
			for i := 0; i < len(pairs); i += 2 {
				if pairs[i] == name {
					return pairs[i+1], true
				}
			}
			return "", false
		}
	}
	agent := look("User-Agent", "x")
	home := netip.MustParseAddr("203.0.113.9")
	for _, c := range []struct {
		name string
		q    Request
		want string
	}{
		{"the whole text must fit", Request{Path: "/seats/12", Client: home}, "numbers"},
		{"not a part of it", Request{Path: "/seats/12/x", Client: home, Header: agent}, ""},
		{"one of the list", Request{Path: "/a/b", Method: "GET", Client: home}, "not-posts"},
		{"none of the excluded", Request{Path: "/a/secret/b", Method: "GET", Client: home, Header: agent}, ""},
		{"excluded method", Request{Path: "/a/b", Method: "POST", Client: home, Header: agent}, ""},
		{"in the network", Request{Path: "/", Client: netip.MustParseAddr("203.0.113.8"), Header: agent}, "abroad"},
		{"query", Request{Path: "/", Client: home, Header: agent, Query: look("lang", "fi")}, "finnish"},
		{"a parameter that must be absent", Request{Path: "/", Client: home, Header: agent, Query: look("lang", "fi", "debug", "")}, ""},
		{"cookie", Request{Path: "/", Client: home, Header: agent, Cookie: look("beta", "on")}, "beta"},
		{"a field that is absent", Request{Path: "/", Client: home}, "no-agent"},
	} {
		got := ""
		if i, _ := tab.Match(&c.q); i >= 0 {
			got = tab.Frontend.Routes[i].Name
		}
		assert.Equal(t, c.want, got, c.name)
		steps := tab.Explain(&c.q)
		assert.Equal(t, c.want != "", steps[len(steps)-1].Fits, c.name)
	}
	steps := tab.Explain(&Request{Path: "/", Client: home, Header: agent, Query: look("lang", "sv"), Cookie: look("beta", "off")})
	assert.Equal(t, `path "/" is not regexp("/seats/[0-9]+")`, steps[0].Why)
	assert.Equal(t, `the query parameter lang is "sv", not fi`, steps[3].Why)
	assert.Equal(t, `the cookie beta is "off", not on`, steps[4].Why)
	assert.Equal(t, `the header field User-Agent is "x", which not(*) excludes`, steps[5].Why)
}

func TestAnUnknownFieldDoesNotFitAndIsCounted(t *testing.T) {
	tab := table(t, rule1("host", `host = "board.tern.example"`)+rule1("path", `path = "/a"`))
	i, missed := tab.Match(&Request{Path: "/a", Unknown: AskHost})
	assert.Equal(t, 1, i)
	assert.Equal(t, AskHost, missed)
	i, missed = tab.Match(&Request{Unknown: AskHost | AskPath})
	assert.Equal(t, -1, i)
	assert.Equal(t, AskHost|AskPath, missed)
	steps := tab.Explain(&Request{Path: "/a", Unknown: AskHost})
	assert.Contains(t, steps[0].Why, "host, which is not known")
}

// TestTheSearchForShadowsLeavesNothingOut compares with trying every pair.
func TestTheSearchForShadowsLeavesNothingOut(t *testing.T) {
	host := rapid.SampledFrom([]string{"", `"a.example"`, `["a.example", "b.example"]`, `"*.example"`, `not("a.example")`, `regexp("a.*")`})
	path := rapid.SampledFrom([]string{"", `"/a/**"`, `["/a", "/b/**"]`, `"/*"`, `"/a/b"`, `"/**"`, `regexp("/a.*")`, `not("/b")`})
	found := 0
	rapid.Check(t, func(rt *rapid.T) {
		var text strings.Builder
		for i := range rapid.IntRange(2, 8).Draw(rt, "routes") {
			w := ""
			if h := host.Draw(rt, "host"); h != "" {
				w += "host = " + h + "\n"
			}
			if p := path.Draw(rt, "path"); p != "" {
				w += "path = " + p + "\n"
			}
			text.WriteString(rule1(fmt.Sprintf("r%d", i), w))
		}
		tab := table(t, text.String())
		var want []Shadow
		for j := range tab.rules {
			for i := range j {
				if tab.rules[i].covers(&tab.rules[j]) {
					q, words := tab.rules[j].sample()
					if by, _ := tab.Match(&q); by >= 0 && by < j && tab.rules[j].fails(&q) == 0 {
						want = append(want, Shadow{j, by, words})
					}
					break
				}
			}
		}
		got := tab.Shadows()
		found += len(got)
		if fmt.Sprint(got) != fmt.Sprint(want) {
			rt.Fatalf("%v, want %v in\n%s", got, want, text.String())
		}
	})
	least := 20
	if testing.Short() { // which draws a fifth of the cases
		least = 3
	}
	assert.Greater(t, found, least, "the property was put to the test")
}

func TestShadowedRoutesComeWithARequestThatShowsIt(t *testing.T) {
	for _, c := range []struct {
		name, first, second string
		shadowed            bool
	}{
		{"everything first", "", `path = "/a"`, true},
		{"same", `path = "/a"`, `path = "/a"`, true},
		{"wider path", `path = "/a/**"`, `path = ["/a/b", "/a/c/**"]`, true},
		{"only one of the list", `path = "/a/**"`, `path = ["/a/b", "/c"]`, false},
		{"narrower first", `path = "/a/b"`, `path = "/a/**"`, false},
		{"asks for more", "path = \"/a/**\"\nmethod = \"GET\"", `path = "/a/b"`, false},
		{"methods", `method = ["GET", "HEAD"]`, "method = \"GET\"\npath = \"/x\"", true},
		{"networks", `client = "203.0.113.0/24"`, `client = "203.0.113.128/25"`, true},
		{"other network", `client = "203.0.113.0/24"`, `client = "198.51.100.0/25"`, false},
		{"headers", `header = { accept = "*json*" }`, "header = { Accept = \"text/json\" }\npath = \"/x\"", true},
		{"another header", `header = { accept = "json" }`, `header = { accept = "text" }`, false},
		{"hosts", `host = "*.tern.example"`, `host = "board.tern.example"`, true},
		{"excluded alike", `path = ["/a/**", not("/a/b/**")]`, `path = ["/a/c", not("/a/b/**")]`, true},
		{"excludes more", `path = ["/a/**", not("/a/b/**")]`, `path = "/a/**"`, false},
		{"wider exclusion", `host = not("a.example")`, `host = not("*.example")`, true},
		{"methods excluded", `method = not("POST")`, "method = [\"GET\", not(\"POST\")]", true},
		{"networks excluded", `client = not("203.0.113.9")`, `client = ["198.51.100.0/24", not("203.0.113.0/24")]`, true},
		{"query", `query = { lang = "*" }`, "query = { lang = \"fi\", x = \"y\" }", true},
		{"query by another name", `query = { lang = "*" }`, `query = { Lang = "fi" }`, false},
		{"absent", `cookie = { beta = not("*") }`, "cookie = { beta = not(\"*\") }\npath = \"/x\"", true},
		{"regular expressions claim nothing", `path = regexp("/a.*")`, `path = regexp("/ab")`, false},
		{"everything before a regular expression", "", `path = regexp("/[x]")`, true},
		{"rest of hosts", `host = "**.tern.example"`, `host = "*.quay.tern.example"`, true},
	} {
		t.Run(c.name, func(t *testing.T) {
			tab := table(t, rule1("first", c.first)+rule1("second", c.second))
			got := tab.Shadows()
			if !c.shadowed {
				assert.Empty(t, got)
				return
			}
			require.Len(t, got, 1)
			assert.Equal(t, 1, got[0].Route)
			assert.Equal(t, 0, got[0].By)
			assert.True(t, strings.HasPrefix(got[0].Witness, "GET http://"), got[0].Witness)
		})
	}
}

// TestOverlapsComeWithARequestThatFitsBoth, which the first of the two takes.
func TestOverlapsComeWithARequestThatFitsBoth(t *testing.T) {
	for _, c := range []struct{ first, second, witness string }{
		{`path = "/a/**"`, `method = "POST"`, "POST http://tern.example/a/x"},
		{"path = \"/a/**\"\nmethod = \"POST\"", "path = \"/a/b/**\"", "POST http://tern.example/a/b/x"},
		{`path = "/a/b/**"`, "path = \"/a/**\"\nmethod = \"POST\"", "POST http://tern.example/a/b/x"},
		{"host = \"*.tern.example\"\nmethod = \"GET\"", "host = \"board.tern.example\"\npath = \"/x\"", "GET http://board.tern.example/x"},
		{"method = [\"GET\", \"POST\"]\npath = \"/x\"", `method = "POST"`, "POST http://tern.example/x"},
		{"client = \"203.0.113.0/24\"\npath = \"/x\"", `client = "203.0.113.128/25"`, "GET http://tern.example/x from 203.0.113.128"},
		{`path = "/x"`, `host = "a.example"`, "GET http://a.example/x"},
		{`path = "/x"`, `client = "203.0.113.128/25"`, "GET http://tern.example/x from 203.0.113.128"},
		{`path = not("/")`, `method = "POST"`, "POST http://tern.example/x"},
		{`method = "POST"`, `path = not("/")`, "POST http://tern.example/x"},
		{"path = [\"/a/**\", not(\"/a/**\")]", `method = "POST"`, ""},
		{`path = "/a"`, `path = "/b"`, ""},
		{`path = "/a/**"`, `path = "/a/b"`, ""}, // one takes all of the other: a shadow
		{`path = "/a"`, "", ""},
		{"", `path = "/a"`, ""},
	} {
		got := table(t, rule1("first", c.first)+rule1("second", c.second)).Overlaps()
		if c.witness == "" {
			assert.Empty(t, got, "%s | %s", c.first, c.second)
			continue
		}
		if assert.Len(t, got, 1, "%s | %s", c.first, c.second) {
			assert.Equal(t, Overlap{0, 1, c.witness}, got[0])
		}
	}
	var many strings.Builder
	for i := range maxOverlaps {
		fmt.Fprint(&many, rule1(fmt.Sprint("r", i), fmt.Sprintf("path = \"/%d\"", i)))
	}
	last := rule1("last", `method = "POST"`)
	assert.Empty(t, table(t, many.String()+last).Overlaps(), "of so many routes none are looked for")
	assert.Len(t, table(t, rule1("one", "path = \"/a\"")+rule1("two", "path = \"/b\"")+last).Overlaps(), 1, "of a route the first is told")
}

// TestSamplesAreMadeForEachThingThatARouteNames: hosts, paths, methods and networks.
func TestSamplesAreMadeForEachThingThatARouteNames(t *testing.T) {
	var words []string
	for _, s := range table(t, rule1("r", "host = [\"a.example\", \"b.example\"]\npath = [\"/x\", \"/y/**\"]\nmethod = [\"GET\", \"POST\", \"PUT\"]\nclient = [\"203.0.113.0/24\", \"198.51.100.7\"]")).Samples() {
		words = append(words, s.Words)
	}
	assert.Equal(t, []string{
		"GET http://a.example/x from 203.0.113.0", "GET http://b.example/x from 203.0.113.0", "GET http://a.example/y/x from 203.0.113.0",
		"POST http://a.example/x from 203.0.113.0", "PUT http://a.example/x from 203.0.113.0", "GET http://a.example/x from 198.51.100.7",
	}, words)
	words = nil
	for _, s := range table(t, "protocol = \"tcp\"\n"+rule1("r", "sni = [\"a.example\", \"b.example\"]")).Samples() {
		words = append(words, s.Words)
	}
	assert.Equal(t, []string{"a connection with a.example in its TLS handshake", "a connection with b.example in its TLS handshake"}, words)
}

// TestNoSpellingPassesARouteBy: whichever way a path is written, the same route
// takes it.
func TestNoSpellingPassesARouteBy(t *testing.T) {
	f := &config.Frontend{Routes: []*config.Route{{When: config.When{Path: []config.Match{{Text: "/admin/**"}, {Text: "/caf\u00e9"}, {Text: "/a|b"}}}}, {}}}
	table := Compile(f)
	for path, want := range map[string]int{"/admin": 0, "/%61dmin/x": 0, "/x/..%2Fadmin": -1, "/x/../admin/y": 0, "/caf%c3%A9": 0, "/admins": 1, "/a|b": 0, "/a%7cb": 0} {
		q, _ := request.Of("GET", "", path)
		got, _ := table.Match(&q)
		assert.Equal(t, want, got, path)
		assert.Equal(t, want == 0, table.Explain(&q)[0].Fits)
	}
}

// TestAPathThatIsReadInTwoWaysTakesNoRoute: where it matters.
func TestAPathThatIsReadInTwoWaysTakesNoRoute(t *testing.T) {
	f := &config.Frontend{Routes: []*config.Route{{When: config.When{Path: []config.Match{{Text: "/admin/**"}}}}, {When: config.When{Path: []config.Match{{Text: "/files/**"}}}}, {}}}
	table := Compile(f)
	for path, want := range map[string]int{
		"//admin": -1, "///admin/x": -1, "/x//admin": 2, "/admin;x": -1, "/admin;x/y": -1, "/..;/admin": -1, "/x/..;/admin": -1, "/x/..%2Fadmin": -1, "/x/..%5cadmin": -1, "/x/..\\admin": -1,
		"/%2fadmin": -1, "/%2F..;a=b//admin": -1, "/a%2Fb": 2, "/files/a%2Fb;c=d//e": 1, "/files/..%2Fx": -1, "/admin//x;y": 0, "/x;y": 2, "/a%25b": 2,
	} {
		q, _ := request.Of("GET", "", path)
		got, _ := table.Match(&q)
		assert.Equal(t, want, got, path)
		assert.Equal(t, want < 0, table.Ambiguous(&q) != "", path)
	}
	// Without a condition on paths nothing depends on how they are read.
	q, _ := request.Of("GET", "", "//admin;x")
	got, _ := Compile(&config.Frontend{Routes: []*config.Route{{}}}).Match(&q)
	assert.Zero(t, got)
}
