package route

import (
	"net/netip"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

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
		{Plain, "/**", []string{"/", "/x/y"}, []string{"", "x"}},
	} {
		p := c.make(c.text)
		for _, s := range c.yes {
			assert.True(t, p.Match(s), "%q matches %q", s, c.text)
		}
		for _, s := range c.no {
			assert.False(t, p.Match(s), "%q does not match %q", s, c.text)
		}
	}
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
		{"the whole text must match", Request{Path: "/seats/12", Client: home}, "numbers"},
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

// TestOneOfSeveralAnyBlocksMustFit, beside what stands next to them; lists of a field likewise.
func TestOneOfSeveralAnyBlocksMustFit(t *testing.T) {
	tab := table(t, rule1("r", "host = \"h\"\nany {\n path = \"/a/**\"\n method = \"GET\"\n}\nany {\n header = { v = [\"1\", \"2\", not(\"22\")] }\n}"))
	v := func(value string) Lookup { return func(string) (string, bool) { return value, value != "" } }
	for _, c := range []struct {
		q    Request
		fits bool
		why  string
	}{
		{Request{Host: "h", Path: "/a", Method: "GET"}, true, "all conditions match: host, path, method, header"},
		{Request{Host: "h", Path: "/b", Method: "GET", Header: v("2")}, true, "all conditions match: host, path, method, header"},
		{Request{Host: "g", Path: "/a", Method: "GET", Header: v("2")}, false, `host "g" is not h`},
		{Request{Host: "h", Path: "/a", Method: "PUT"}, false, "no any block matches: method PUT is not GET; the header field v is absent"},
		{Request{Host: "h", Path: "/b", Method: "GET", Header: v("22")}, false, `no any block matches: path "/b" is not /a/**; the header field v is "22", not 1 or 2 but not 22`},
		{Request{Host: "h", Path: "/b", Method: "GET", Header: v("3")}, false, `no any block matches: path "/b" is not /a/**; the header field v is "3", not 1 or 2 but not 22`},
		{Request{Host: "h", Path: "/a", Method: "GET", Unknown: AskHeader}, true, "all conditions match: host, path, method, header"},
		{Request{Host: "h", Path: "/b", Method: "GET", Unknown: AskHeader}, false, `no any block matches: path "/b" is not /a/**; it asks for the header, which is not known`},
	} {
		i, missed := tab.Match(&c.q)
		assert.Equal(t, c.fits, i == 0, "%+v", c.q)
		steps := tab.Explain(&c.q)
		assert.Equal(t, Step{"r", c.fits, c.why}, steps[0])
		assert.Equal(t, !c.fits && c.q.Unknown != 0, missed != 0)
	}
	assert.Equal(t, AskHost|AskPath|AskMethod|AskHeader, tab.Asks)
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
