package request

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"
)

func TestPathsAreComparedInNormalForm(t *testing.T) {
	for path, want := range map[string]string{
		"/admin": "/admin", "/%61dm%69n": "/admin", "/x/../admin": "/admin", "/x/%2e%2E/admin/": "/admin/", "/./admin/./": "/admin/", "/../../admin": "/admin", "/a/..": "/", "/a/.": "/a/",
		"/a%2fb": "/a%2Fb", "/caf\u00e9": "/caf%C3%A9", "/caf%c3%a9": "/caf%C3%A9", "/100%": "/100%25", "/%zz%4": "/%25zz%254", "/a.b/.c/..d": "/a.b/.c/..d", "//a": "//a", "": "", "*": "*", "/%25%36%31": "/%2561", "/a|b^{c}\\": "/a%7Cb%5E%7Bc%7D%5C", "/;a=1,b:@!$&'()*+": "/;a=1,b:@!$&'()*+",
	} {
		assert.Equal(t, want, Path(path), path)
		assert.Equal(t, want, Path(want), "of what is in it already: %s", path)
	}
	rapid.Check(t, func(t *rapid.T) {
		path := "/" + strings.Join(rapid.SliceOf(rapid.SampledFrom([]string{"a", "/", ".", "..", "%2e", "%2F", "%61", "\u00e9", "%", "%4"})).Draw(t, "path"), "")
		once := Path(path)
		assert.Equal(t, once, Path(once))
		assert.NotContains(t, once+"/", "/../")
		assert.True(t, strings.HasPrefix(once, "/"))
	})
}
