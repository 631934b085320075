package config

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestWhatChangedInTheLanguage: each change is found where it is used, and no more once its
// fix is written; what is said to be refused is refused, and nothing else.
func TestWhatChangedInTheLanguage(t *testing.T) {
	const site = `
access_log {
  format = "json"
  LOG
}
frontend "web" {
  listen = "127.0.0.1:8080"
  route "app" {
    send_to = upstream.app
    ROUTE
  }
}
upstream "app" {
  backends = { a = "192.0.2.1:80" }
  timeouts {
    connection_age = "1m"
  }
  UPSTREAM
}
`
	in := func(place, text string) string {
		s := strings.Replace(site, place, text, 1)
		return strings.NewReplacer("  LOG\n", "", "    ROUTE\n", "", "  UPSTREAM\n", "").Replace(s)
	}
	table := []struct{ what, was, now string }{
		{"syslog:HOST", in("LOG", `to = "syslog:192.0.2.9:514"`), in("LOG", `to = "syslog"`)},
		{"the field reason", in("LOG", `fields = { why = "reason" }`), in("LOG", `fields = { why = "cause" }`)},
		{"in the form combined", strings.Replace(in("", ""), `"json"`, `"combined"`, 1), in("", "")},
		{"spill_below", in("UPSTREAM", "failover {\n}"), in("UPSTREAM", "failover {\n spill_below = \"70%\"\n}")},
		{"10 minutes", strings.Replace(in("", ""), "connection_age", "answer", 1), in("", "")},
		{"no client got a first byte", in("UPSTREAM", "suspend {\n}"), in("UPSTREAM", "suspend {\n silent_after = \"0s\"\n}")},
		{"TTL", in("UPSTREAM", `resolve = "each"`), in("UPSTREAM", "resolve = \"each\"\nresolve_floor = \"30s\"")},
		{"drop_prefix", in("ROUTE", "rewrite {\n drop_prefix = \"/a\"\n}"), in("ROUTE", "rewrite {\n drop_prefix = \"/a\"\n bare_prefix = \"serve\"\n}")},
	}
	require.Len(t, table, len(Changes))
	for i, x := range table {
		read := func(src string) ([]Changed, int) {
			c, found, err := Read([]File{{Name: "site.hcl", Source: []byte(src)}})
			require.NoError(t, err)
			return c.Changed(), found.Count(Error)
		}
		changed, errors := read(x.was)
		require.Len(t, changed, 1, x.what)
		assert.Contains(t, changed[0].What, x.what)
		assert.Same(t, &Changes[i], changed[0].Change)
		assert.Equal(t, changed[0].Kind.Refused(), errors > 0, x.what)
		assert.NotZero(t, changed[0].At.Start.Line)
		changed, errors = read(x.now)
		assert.Empty(t, changed, x.what)
		assert.Zero(t, errors, x.what)
	}
	// Through common too, once for each upstream; and a log that was not asked for has lines.
	c, _, err := Read([]File{{Name: "site.hcl", Source: []byte("common {\n upstream {\n suspend {\n }\n timeouts {\n connection_age = \"1m\"\n }\n }\n}\nupstream \"a\" {\n}\nupstream \"b\" {\n}\n")}})
	require.NoError(t, err)
	var what []string
	for _, x := range c.Changed() {
		what = append(what, x.What[:8])
	}
	assert.Equal(t, []string{"a line o", "a backen", "a backen"}, what)
}
