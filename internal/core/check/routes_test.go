package check

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kestrix/internal/core/config"
	"kestrix/internal/core/route"
)

// findings returns what some rules find in a configuration.
func findings(t *testing.T, text string, ids ...string) []string {
	c, read, err := config.Read([]config.File{{Name: "t.hcl", Source: []byte(text)}})
	require.NoError(t, err, text)
	require.Empty(t, read, text)
	var out []string
	for _, f := range Run(c, read, nil) {
		for _, id := range ids {
			if f.ID == id {
				out = append(out, strings.Trim(f.Message+" | "+f.Witness, "| "))
			}
		}
	}
	return out
}

// TestRedirectsAreFollowed as far as they lead to frontends of the configuration.
func TestRedirectsAreFollowed(t *testing.T) {
	front := func(name, port, more string, routes ...string) string {
		return fmt.Sprintf("frontend %q {\n listen = \"127.0.0.1:%s\"\n%s\n%s}\n", name, port, more, strings.Join(routes, ""))
	}
	const tls = "tls {\n certificate = \"c.pem\"\n key = \"c.key\"\n}"
	route := func(name, when, to string) string {
		if when != "" {
			when = "when {\n" + when + "\n}\n"
		}
		if to == "app" {
			return fmt.Sprintf(" route %q {\n%s send_to = upstream.u\n}\n", name, when)
		}
		return fmt.Sprintf(" route %q {\n%s redirect {\n to = %q\n}\n}\n", name, when, to)
	}
	const up = "upstream \"u\" {\n backends = { a = \"127.0.0.1:9001\" }\n}\n"
	app := route("app", "", "app")
	for name, c := range map[string]struct{ text, want string }{
		"to https, which is served": {front("a", "80", "", route("s", "", "https://{host}{path}")) + front("b", "443", tls, app), ""},
		"to https by mapped ports":  {front("a", "8080", "", route("s", "", "https://{host}{path}")) + front("b", "8443", tls, app), ""},
		"back and forth": {front("a", "8080", "", route("s", "", "https://{host}{path}")) + front("b", "8443", tls, route("shop", `path = "/shop/**"`, "http://{host}{path}"), app),
			`the redirect of "s" leads back to itself | GET http://tern.example/shop, then 308 to https://tern.example/shop, then 308 to http://tern.example/shop`},
		"to itself":             {front("a", "80", "", route("s", `path = "/a/**"`, "/a/b"), app), `the redirect of "s" leads back to itself | GET http://tern.example/a, then 308 to /a/b, then 308 to /a/b`},
		"over two routes":       {front("a", "80", "", route("s", `path = "/a"`, "/b"), route("r", `path = "/b"`, "/a"), app), `the redirect of "s" leads back to itself | GET http://tern.example/a, then 308 to /b, then 308 to /a`},
		"a doubled slash":       {front("a", "80", "", route("s", `path = "/a"`, "http://{host}/{path}"), app), `"s" redirects to a target that has a doubled slash, which {path} brings along | GET http://tern.example/a, then 308 to http://tern.example//a`},
		"no route":              {front("a", "80", "", route("s", `path = "/a"`, "/b"), route("c", `path = "/c"`, "app")), `"s" redirects to a target that no route takes | GET http://tern.example/a, then 308 to /b`},
		"some find no route":    {front("a", "80", "", route("s", "host = \"g.example\"\npath = \"/a/**\"", "http://h.example{path}"), route("c", "host = \"h.example\"\npath = \"/a/x\"", "app")), ""},
		"nothing listens":       {front("a", "80", "", route("s", "", "https://{host}{path}")), `"s" redirects to a target that is https, for which nothing listens here | GET http://tern.example/, then 308 to https://tern.example/`},
		"somebody in front":     {"trusted_proxies = [\"127.0.0.1\"]\n" + front("a", "80", "", route("s", "", "https://{host}{path}")), ""},
		"by a header of theirs": {front("a", "80", "", route("s", `header = { x-forwarded-proto = "http" }`, "https://{host}{path}"), app), ""},
		"to another site":       {front("a", "80", "", route("s", "", "http://new.example{path}")), ""},
		"to another host here":  {front("a", "80", "", route("s", `host = "a.example"`, "http://b.example{path}"), route("r", `host = "b.example"`, "http://a.example{path}")), `the redirect of "s" leads back to itself | GET http://a.example/, then 308 to http://b.example/, then 308 to http://a.example/`},
	} {
		got := findings(t, c.text+up, "KX116", "KX117")
		if c.want == "" {
			assert.Empty(t, got, name)
			continue
		}
		assert.Contains(t, got, c.want, name)
	}
}

// TestConditionsThatNeverNarrow are found in lists, in whole and in any blocks.
func TestConditionsThatNeverNarrow(t *testing.T) {
	site := func(when string) string {
		return "frontend \"f\" {\n listen = \"127.0.0.1:80\"\n route \"r\" {\n when {\n" + when + "\n}\n send_to = upstream.u\n}\n route \"rest\" {\n send_to = upstream.u\n}\n}\nupstream \"u\" {\n backends = { a = \"127.0.0.1:9001\" }\n}\n"
	}
	for when, want := range map[string]string{
		`host = "**"`:                                                       `host ** of the route "r": every request has it`,
		`path = ["/a/**", "/a/b"]`:                                          `path /a/b of the route "r": the others of the list take all that it matches`,
		`path = ["/a/**", not("/b")]`:                                       `path not(/b) of the route "r": nothing that the rest matches is excluded by it`,
		`path = regexp(".*")`:                                               `path regexp(".*") of the route "r": every request has it`,
		`method = ["GET", not("POST")]`:                                     `method not(POST) of the route "r": nothing that the rest matches is excluded by it`,
		`client = ["0.0.0.0/0", "::/0"]`:                                    "",
		`client = ["10.0.0.0/8", "10.1.0.0/16"]`:                            `client 10.1.0.0/16 of the route "r": the others of the list take all that it matches`,
		`header = { accept = ["*json*", "text/json"] }`:                     `header accept: text/json of the route "r": the others of the list take all that it matches`,
		"any {\n path = \"/a\"\n}\nany {\n path = [\"/b\", not(\"/a\")]\n}": `path not(/a) of the route "r": nothing that the rest matches is excluded by it`,
		`header = { accept = "*" }`:                                         "", `path = ["/a", "/b"]`: "", `host = ["a.example", not("b.example")]`: `host not(b.example) of the route "r": nothing that the rest matches is excluded by it`,
		`path = "/a"`: "",
	} {
		got := findings(t, site(when), "KX115")
		if want == "" {
			assert.Empty(t, got, when)
			continue
		}
		assert.Equal(t, []string{want}, got, when)
	}
}

// TestGuardsWithGaps finds conditions that keep nobody out, and refusals beside which a request
// passes.
func TestGuardsWithGaps(t *testing.T) {
	route := func(name, when, does string) string {
		return fmt.Sprintf(" route %q {\n when {\n%s\n}\n%s\n}\n", name, when, does)
	}
	const app, no = "send_to = upstream.u", "reply {\n status = 403\n}"
	site := func(routes ...string) string {
		return "frontend \"f\" {\n listen = \"127.0.0.1:80\"\n" + strings.Join(routes, "") + " route \"rest\" {\n send_to = upstream.u\n}\n}\nupstream \"u\" {\n backends = { a = \"127.0.0.1:9001\" }\n}\nupstream \"v\" {\n backends = { a = \"127.0.0.1:9002\" }\n}\n"
	}
	for name, c := range map[string]struct {
		routes []string
		want   string
	}{
		"clients":                 {[]string{route("office", "path = \"/a/**\"\nclient = \"10.0.0.0/8\"", app)}, `"rest" sends the clients that "office" excludes to the same upstream "u"`},
		"clients, not":            {[]string{route("office", "path = \"/a/**\"\nclient = not(\"10.0.0.0/8\")", app)}, `GET http://tern.example/a from 10.0.0.1 goes to "u" by "rest"`},
		"clients in any":          {[]string{route("office", "path = \"/a/**\"\nany {\n client = \"10.0.0.0/8\"\n}\nany {\n header = { x = \"y\" }\n}", app)}, `that "office" excludes`},
		"clients, and a refusal":  {[]string{route("office", "path = \"/a/**\"\nclient = \"10.0.0.0/8\"", app), route("others", `path = "/a/**"`, no)}, ""},
		"clients, elsewhere":      {[]string{route("office", "path = \"/a/**\"\nclient = \"10.0.0.0/8\"", "send_to = upstream.v")}, ""},
		"clients, other limits":   {[]string{route("office", "path = \"/a/**\"\nclient = \"10.0.0.0/8\"", app+"\nlimits {\n rate = \"5/s\"\n}")}, ""},
		"a folder's files":        {[]string{route("no", `path = "/a/*"`, no)}, `"no" refuses /a/*, and other paths below /a/ reach "u" | GET http://tern.example/a goes to "rest"`},
		"a folder alone":          {[]string{route("no", `path = "/a"`, no)}, `GET http://tern.example/a/ goes to "rest"`},
		"a whole folder":          {[]string{route("no", `path = "/a/**"`, no)}, ""},
		"in two patterns":         {[]string{route("no", `path = ["/a", "/a/", "/a/*", "/a/*/**"]`, no)}, ""},
		"a file":                  {[]string{route("no", `path = "/wp-login.php"`, no)}, ""},
		"an exception before it":  {[]string{route("yes", `path = "/a/*/**"`, app), route("no", `path = ["/a", "/a/*"]`, no)}, ""},
		"an exception behind it":  {[]string{route("no", `path = ["/a", "/a/*"]`, no), route("yes", `path = "/a/b/**"`, app), route("more", `path = "/a/**"`, no)}, ""},
		"another host":            {[]string{route("no", "host = \"a.example\"\npath = \"/a/**\"", no)}, `requests that "no" refuses reach "u" with other hosts than a.example | GET http://tern.example/a goes to "u" by "rest"`},
		"another host, asked for": {[]string{route("no", "host = \"a.example\"\npath = \"/a/**\"", no), route("inside", "host = not(\"a.example\")", app)}, ""},
		"a whole host":            {[]string{route("no", "host = \"a.example\"", no)}, ""},
		"another letter case":     {[]string{route("no", `header = { x = "ab" }`, no)}, `with header x in another letter case | GET http://tern.example/ with x: `},
		"another case, redirect":  {[]string{route("go", `cookie = { x = "a" }`, "redirect {\n to = \"/a\"\n}")}, `with cookie x in another letter case`},
		"any letter case":         {[]string{route("no", `header = { x = regexp("(?i)ab") }`, no)}, ""},
		"no letters":              {[]string{route("no", `header = { x = "1*" }`, no)}, ""},
		"another case, asked for": {[]string{route("no", `header = { x = "a" }`, no), route("yes", `header = { x = "*" }`, app), route("none", `path = "/**"`, no)}, ""},
		"a page that is not here": {[]string{route("gone", `path = "/a/*"`, "reply {\n status = 200\n}")}, ""},
	} {
		got := strings.Join(findings(t, site(c.routes...), "KX118", "KX119", "KX120", "KX121"), "\n")
		if c.want == "" {
			assert.Empty(t, got, name)
			continue
		}
		assert.Contains(t, got, c.want, name)
	}
}

// TestPrefixes that no request has, or some, that are dropped before they are wanted, or by one of two
// routes.
func TestPrefixes(t *testing.T) {
	route := func(name, when, rewrite string) string {
		if rewrite != "" {
			rewrite = "rewrite {\n" + rewrite + "\n}\n"
		}
		return fmt.Sprintf(" route %q {\n when {\n%s\n}\n%ssend_to = upstream.u\n}\n", name, when, rewrite)
	}
	for name, c := range map[string]struct {
		routes []string
		want   string
	}{
		"as it should be":      {[]string{route("a", `path = "/a/**"`, `drop_prefix = "/a"`)}, ""},
		"another":              {[]string{route("a", `path = "/b/**"`, `drop_prefix = "/a"`)}, `no path of "a" begins with /a | GET http://tern.example/b is passed on as /b`},
		"by an expression":     {[]string{route("a", `path = regexp("/ab.*")`, `drop_prefix = "/a"`)}, `no path of "a" begins with /a | GET http://tern.example/ab is passed on as /ab`},
		"not where it is gone": {[]string{route("first", `path = "/a/**"`, ""), route("a", `path = ["/a/**", "/b"]`, `drop_prefix = "/a"`)}, "\"first\" forwards the prefix /a, which \"a\" drops for the same upstream \"u\" | GET http://tern.example/a is passed on as /a\nno path of \"a\" begins with /a | GET http://tern.example/b is passed on as /b"},
		"of every path":        {[]string{route("a", `method = "GET"`, `drop_prefix = "/a"`)}, `not every path of "a" begins with /a | GET http://tern.example/ is passed on as /`},
		"not decided":          {[]string{route("a", `path = regexp("/(a|b)*a(a|b){18}")`, `drop_prefix = "/x"`)}, ""},
		"a substitution":       {[]string{route("a", `path = "/a/**"`, "drop_prefix = \"/a\"\nsubstitute = { \"/b\" = \"/c\" }")}, ""},
		"a bare path":          {[]string{route("a", `path = "/a"`, "drop_prefix = \"/a\"\nsubstitute = { \"/\" = \"/c\" }")}, ""},
		"wanted and dropped":   {[]string{route("a", `path = "/a/**"`, "drop_prefix = \"/a\"\nsubstitute = { \"/a/(.*)\" = \"/c/$1\" }")}, `no request of "a" matches "/a/(.*)", but one that begins with /a/a: drop_prefix takes /a off before | GET http://tern.example/a/ is passed on as /`},
		"taken by the first":   {[]string{route("a", `path = "/a/**"`, "substitute = { \"/a/(.*)\" = \"/c/$1\", \"/a/b\" = \"/d\" }")}, `no request of "a" matches "/a/b" | GET http://tern.example/a is passed on as /a`},
		"in one route":         {[]string{route("b", `path = "/a/b/**"`, ""), route("a", `path = "/a/**"`, `drop_prefix = "/a"`)}, `"b" forwards the prefix /a, which "a" drops for the same upstream "u" | GET http://tern.example/a/b is passed on as /a/b`},
	} {
		got := strings.Join(findings(t, "frontend \"f\" {\n listen = \"127.0.0.1:80\"\n"+strings.Join(c.routes, "")+"}\nupstream \"u\" {\n backends = { a = \"127.0.0.1:9001\" }\n}\n", "KX604", "KX609", "KX610", "KX611"), "\n")
		if c.want == "" {
			assert.Empty(t, got, name)
			continue
		}
		assert.Equal(t, c.want, got, name)
	}
}

// TestConditionsApart: no request fits both of two conditions that are told apart by how their hosts and
// paths begin.
func TestConditionsApart(t *testing.T) {
	hosts := []string{"", `host = "a.x"`, `host = ["A.x.", "b.x"]`, `host = "*.x"`, `host = not("a.x")`, `host = regexp("a.*")`, `host = "b.x"`}
	paths := []string{"", `path = "/a/**"`, `path = "/a"`, `path = "/a*"`, `path = ["/b", "/%61/c"]`, `path = "/ab/*"`, `path = "**"`, `path = "*"`, `path = regexp("/a.*")`, `path = not("/a")`, `path = "/a/"`, `path = "/a/./b"`, `path = "/b/*/**"`}
	var text strings.Builder
	for i, h := range hosts {
		for k, p := range paths {
			fmt.Fprintf(&text, " route \"r%d-%d\" {\n", i, k)
			if h+p != "" {
				fmt.Fprintf(&text, "when {\n%s\n%s\n}\n", h, p)
			}
			text.WriteString("send_to = upstream.u\n}\n")
		}
	}
	c, found, err := config.Read([]config.File{{Name: "t.hcl", Source: []byte("frontend \"f\" {\n listen = \"127.0.0.1:80\"\n" + text.String() + "}\nupstream \"u\" {\n backends = { a = \"127.0.0.1:9001\" }\n}\n")}})
	require.NoError(t, err)
	require.Empty(t, found)
	told := 0
	for i, r := range c.Frontends[0].Routes {
		for _, other := range c.Frontends[0].Routes[:i] {
			if !apart(&r.When, &other.When) {
				continue
			}
			told++
			both := *c.Frontends[0]
			both.Routes = []*config.Route{other}
			d, err := asked(route.Compile(&both), r.When)
			require.NoError(t, err)
			for _, x := range d.Parts() {
				assert.False(t, x.Routes[0] == 0 && x.Routes[1] == 0, "%s matches %v and %v", x.Witness, r.When, other.When)
			}
		}
	}
	assert.Greater(t, told, 500, "of 4,095 pairs")
}
