package rewrite

import (
	"net/netip"
	"net/url"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"

	"kestrix/internal/core/config"
)

func TestPaths(t *testing.T) {
	for _, c := range []struct{ drop, prepend, from, to string }{
		{"", "", "/a", "/a"},
		{"/app", "", "/app", "/"},
		{"/app", "", "/app/", "/"},
		{"/app", "", "/app/seats/7", "/seats/7"},
		{"/app", "", "/apple", "/apple"}, // whole segments only
		{"/app", "", "/other", "/other"},
		{"", "/v2", "/a", "/v2/a"},
		{"", "/v2", "/", "/v2/"},
		{"/app", "/v2/x", "/app/a%2Fb", "/v2/x/a%2Fb"}, // escapes stay as they came
		{"/a%20b", "", "/a%20b/c", "/c"},
	} {
		assert.Equal(t, c.to, Path(&config.Rewrite{DropPrefix: c.drop, Prepend: c.prepend}, c.from), "%+v", c)
	}
	assert.Equal(t, "/a", Path(nil, "/a"))
	substitute := &config.Rewrite{DropPrefix: "/app", Prepend: "/v2", Substitute: []config.Substitution{
		{Pattern: regexp.MustCompile("^(?:/seat/([0-9]+)(/.*)?)$"), With: "/seats/${1}$2"},
		{Pattern: regexp.MustCompile("^(?:/seat/.*)$"), With: "/odd"},
	}}
	for from, to := range map[string]string{
		"/app/seat/7": "/v2/seats/7", "/seat/7/plan": "/v2/seats/7/plan", "/app/seat/x": "/v2/odd", "/app/other/seat/7": "/v2/other/seat/7",
	} {
		assert.Equal(t, to, Path(substitute, from), "the first that matches counts, and it must match the whole path")
	}
}

func TestEditsForCertainClientsOnly(t *testing.T) {
	e := &config.FieldEdits{Set: []config.FieldValue{{Name: "Tern-Backend", Value: "{backend}"}}, Clients: []netip.Prefix{netip.MustParsePrefix("203.0.113.0/24"), netip.MustParsePrefix("2001:db8::/32")}}
	for client, want := range map[string]string{"203.0.113.9": "auk", "2001:db8::1": "auk", "::ffff:203.0.113.9": "auk", "198.51.100.1": "", "-": "", "": ""} {
		h := map[string][]string{}
		Fields(h, e, &Facts{Backend: "auk", Client: client})
		assert.Equal(t, want, strings.Join(h["Tern-Backend"], ""), client)
	}
}

var hosts = Hosts{Client: "tickets.tern.example:8443", Backend: "app.inside.example", Address: "192.0.2.1:80", Scheme: "https", Spoken: "http"}

func TestLocationsAreMappedBack(t *testing.T) {
	r := &config.Rewrite{DropPrefix: "/app", Prepend: "/v2", Host: "app.inside.example", MapLocation: true}
	for from, to := range map[string]string{
		"/v2/login":                          "/app/login",
		"/v2":                                "/app/",
		"/v2/a%2Fb?c=d#e":                    "/app/a%2Fb?c=d#e",
		"/login":                             "/login", // outside of what the backend was asked for
		"http://app.inside.example/v2/x":     "https://tickets.tern.example:8443/app/x",
		"http://APP.inside.example/v2/x":     "https://tickets.tern.example:8443/app/x",
		"http://192.0.2.1:80/v2/x":           "https://tickets.tern.example:8443/app/x",
		"http://192.0.2.1/v2/x":              "https://tickets.tern.example:8443/app/x",
		"//app.inside.example/v2/x":          "//tickets.tern.example:8443/app/x",
		"https://app.inside.example/v2/x":    "https://app.inside.example/v2/x", // it was not addressed so
		"http://app.inside.example:81/v2/x":  "http://app.inside.example:81/v2/x",
		"https://tickets.tern.example:8443/": "https://tickets.tern.example:8443/",
		"http://tickets.tern.example/v2/x":   "http://tickets.tern.example/app/x", // another scheme, and meant so
		"https://elsewhere.example/v2/x":     "https://elsewhere.example/v2/x",
		"relative/path":                      "relative/path",
		"mailto:kim@tern.example":            "mailto:kim@tern.example",
		"":                                   "",
		"http://[bad":                        "http://[bad",
	} {
		assert.Equal(t, to, Location(r, hosts, from), from)
	}
	assert.Equal(t, "/v2/x", Location(nil, hosts, "/v2/x"))
	assert.Equal(t, "/app/", Location(&config.Rewrite{DropPrefix: "/app", MapLocation: true}, hosts, "/"))
	assert.Equal(t, "/app", Location(&config.Rewrite{DropPrefix: "/app", MapLocation: true, ServeBare: true}, hosts, "/"))
	assert.Equal(t, "/v2/x", Location(&config.Rewrite{DropPrefix: "/app", MapCookies: true}, hosts, "/v2/x"), "an application that knows")

	// The host is passed on as it was asked for.
	for _, c := range []struct{ client, scheme, spoken, from, to string }{
		{"site", "http", "http", "https://site/x", "https://site/app/x"}, // an application that needs https gets it
		{"site", "http", "http", "http://site/x", "http://site/app/x"},
		{"site:8080", "http", "http", "http://site:8080/x", "http://site:8080/app/x"},
		{"site:8080", "http", "http", "http://site/x", "http://site/app/x"},
		{"site", "https", "http", "http://site/x", "https://site/app/x"}, // one that does not know of TLS
		{"site", "https", "http", "https://site/x", "https://site/app/x"},
		{"site", "https", "https", "http://site/x", "http://site/app/x"},
		{"site:80", "http", "http", "http://site/x", "http://site:80/app/x"},
		{"site", "http", "http", "https://other/x", "https://other/x"},
	} {
		r := &config.Rewrite{DropPrefix: "/app", MapLocation: true}
		assert.Equal(t, c.to, Location(r, Hosts{Client: c.client, Scheme: c.scheme, Backend: c.client, Address: "192.0.2.1:80", Spoken: c.spoken}, c.from), "%+v", c)
	}
}

func TestCookiesAreMappedBack(t *testing.T) {
	r := &config.Rewrite{DropPrefix: "/app", Host: "app.inside.example:8080", MapCookies: true}
	h := hosts
	h.Backend = "app.inside.example:8080"
	for from, to := range map[string]string{
		"a=b":                                     "a=b",
		"a=b; Path=/; HttpOnly":                   "a=b; Path=/app; HttpOnly",
		"a=b; path=/seats":                        "a=b; Path=/app/seats",
		"a=b; Domain=app.inside.example; Secure":  "a=b; Secure",
		"a=b; Domain=.App.inside.example; Path=/": "a=b; Path=/app",
		"a=b; Domain=tern.example":                "a=b; Domain=tern.example",
		"a=\"x;y\"; Path=relative":                "a=\"x;y\"; Path=relative",
	} {
		assert.Equal(t, to, Cookie(r, h, from), from)
	}
	assert.Equal(t, "__Host-a=b; Path=/; Secure", Cookie(r, h, "__Host-a=b; Path=/; Secure"), "which clients take for / only")
	assert.Equal(t, "a=b; Path=/", Cookie(&config.Rewrite{DropPrefix: "/app", MapLocation: true}, h, "a=b; Path=/"))
}

// TestRewritingAndMappingBackAreInverse maps a path to the backend and what the backend says of it
// back.
func TestRewritingAndMappingBackAreInverse(t *testing.T) {
	prefix := rapid.SampledFrom([]string{"", "/app", "/a/b", "/v2"})
	segment := rapid.SampledFrom([]string{"a", "b", "app", "v2", "x%2Fy", "%C3%BC"})
	rapid.Check(t, func(t *rapid.T) {
		r := &config.Rewrite{DropPrefix: prefix.Draw(t, "drop"), Prepend: prefix.Draw(t, "prepend"), MapLocation: true}
		path := r.DropPrefix + "/" + strings.Join(rapid.SliceOfN(segment, 1, 4).Draw(t, "path"), "/")
		to := Path(r, path)
		if !strings.HasPrefix(to, r.Prepend+"/") {
			t.Fatalf("%q became %q", path, to)
		}
		if got := Location(r, hosts, to); got != path {
			t.Fatalf("%q became %q and came back as %q", path, to, got)
		}
		if _, err := url.Parse(to); err != nil {
			t.Fatal(err)
		}
	})
}

func TestEveryVariableIsReplaced(t *testing.T) {
	facts := &Facts{Backend: "x", Route: "x", Upstream: "x", Reason: "x", Cause: "x", Client: "x", Host: "x", Attempts: "x", RequestID: "x"}
	for _, v := range config.HeaderVariables {
		assert.Equal(t, "x", Expand("{"+v.Name+"}", facts), v.Name)
	}
}

func TestFieldsAreRemovedSetAndAdded(t *testing.T) {
	h := map[string][]string{"Server": {"x"}, "Vary": {"a"}, "X-Old": {"1", "2"}}
	facts := &Facts{Backend: "auk", Route: "rest", Upstream: "booking", Reason: "seat", Cause: "reset", Client: "203.0.113.9", Host: "t.example", Attempts: "2"}
	Fields(h, &config.FieldEdits{
		Remove: []string{"Server", "X-None"},
		Set:    []config.FieldValue{{Name: "X-Old", Value: "{upstream}.{backend} by {reason}"}},
		Add:    []config.FieldValue{{Name: "Vary", Value: "b"}, {Name: "X-All", Value: "{route} {client} {host} {attempts} {other}"}},
	}, facts)
	assert.Equal(t, map[string][]string{"Vary": {"a", "b"}, "X-Old": {"booking.auk by seat"}, "X-All": {"rest 203.0.113.9 t.example 2 {other}"}}, h)
	Fields(h, nil, facts)
	assert.Len(t, h, 3)
}
