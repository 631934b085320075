package route

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"

	"kestrix/internal/core/config"
)

func TestPathsAreComparedInNormalForm(t *testing.T) {
	for path, want := range map[string]string{
		"/admin": "/admin", "/%61dm%69n": "/admin", "/x/../admin": "/admin", "/x/%2e%2E/admin/": "/admin/", "/./admin/./": "/admin/", "/../../admin": "/admin", "/a/..": "/", "/a/.": "/a/",
		"/a%2fb": "/a%2Fb", "/caf\u00e9": "/caf%C3%A9", "/caf%c3%a9": "/caf%C3%A9", "/100%": "/100%25", "/%zz%4": "/%25zz%254", "/a.b/.c/..d": "/a.b/.c/..d", "//a": "//a", "": "", "*": "*", "/%25%36%31": "/%2561",
	} {
		assert.Equal(t, want, Normal(path), path)
		assert.Equal(t, want, Normal(want), "of what is in it already: %s", path)
	}
	rapid.Check(t, func(t *rapid.T) {
		path := "/" + strings.Join(rapid.SliceOf(rapid.SampledFrom([]string{"a", "/", ".", "..", "%2e", "%2F", "%61", "\u00e9", "%", "%4"})).Draw(t, "path"), "")
		once := Normal(path)
		assert.Equal(t, once, Normal(once))
		assert.NotContains(t, once+"/", "/../")
		assert.True(t, strings.HasPrefix(once, "/"))
	})
	// Whichever way it is written, a request cannot pass a route by.
	f := &config.Frontend{Routes: []*config.Route{{When: config.When{Path: []config.Match{{Text: "/admin/**"}, {Text: "/caf\u00e9"}}}}, {}}}
	table := Compile(f)
	for path, want := range map[string]int{"/admin": 0, "/%61dmin/x": 0, "/x/..%2Fadmin": 1, "/x/../admin/y": 0, "/caf%c3%A9": 0, "/admins": 1} {
		q := &Request{Method: "GET", Path: path}
		got, _ := table.Match(q)
		assert.Equal(t, want, got, path)
		assert.Equal(t, path, q.Path, "what was asked is left as it is")
		assert.Equal(t, want == 0, table.Explain(q)[0].Fits)
	}
}
