package config

import (
	"net/netip"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const shared = `common {
  frontend {
    limits {
      rate = "5/s"
    }
    timeouts {
      idle = "1m"
    }
  }
  upstream {
    algorithm = "random"
    probe "http" {
      path  = "/ready"
      every = "7s"
    }
    retry {
      attempts = 3
    }
  }
}
`

func TestCommonIsWhereOthersStart(t *testing.T) {
	c, found := read(t, shared+strings.Replace(small, "  backends = {", "  probe \"http\" {\n    every = \"2s\"\n  }\n  without = [\"retry\"]\n  backends = {", 1)+
		"upstream \"b\" {\n  algorithm = \"hash\"\n  probe \"tcp\" {\n  }\n  backends = { x = \"127.0.0.1:1\" }\n}\n")
	require.Empty(t, said(found))
	a, b := c.Upstreams[0], c.Upstreams[1]
	assert.Equal(t, "random", a.Algorithm)
	assert.Equal(t, 2*time.Second, a.Probe.Every, "what it says itself comes first")
	assert.Equal(t, "/ready", a.Probe.Path, "and what it does not say is taken from common")
	assert.Nil(t, a.Retry)
	assert.Equal(t, "hash", b.Algorithm)
	assert.Equal(t, "tcp", b.Probe.Kind, "a probe of another kind is its own")
	assert.Equal(t, 5*time.Second, b.Probe.Every)
	assert.Equal(t, 3, b.Retry.Attempts)
	assert.Equal(t, []any{5.0, time.Minute, 10 * time.Second}, []any{c.Frontends[0].Limits.Rate, c.Frontends[0].Timeouts.Idle, c.Frontends[0].Timeouts.RequestHeader})

	_, found = read(t, strings.Replace(shared, "    retry {", "    hash {\n      method = \"modulo\"\n    }\n    retry {", 1)+small)
	assert.Empty(t, said(found), "what does not concern one upstream is no mistake of common")

	for from, want := range map[string]string{
		`path  = "/ready"`: "13:15 KX003 the path \"ready\" does not begin with / or contains a space | like \"/ready\"",
		`attempts = 3`:     "17:5 KX002 there is no key \"attempt\" in retry | did you mean attempts?",
	} {
		to := map[string]string{`path  = "/ready"`: `path  = "ready"`, `attempts = 3`: `attempt = 3`}[from]
		_, found = read(t, strings.Replace(shared, from, to, 1)+small+"upstream \"b\" {\n  backends = { x = \"127.0.0.1:1\" }\n}\n")
		assert.Equal(t, 1, len(found), "said once, whoever takes it over: %v", said(found))
		assert.Contains(t, said(found)[0], want[strings.Index(want, "KX"):])
	}
	for _, x := range []struct{ text, want string }{
		{shared + shared + small, "common is given twice"},
		{strings.Replace(shared+small, "  backends = {", "  without = \"prob\"\n  backends = {", 1), `upstream has no "prob" to do without | did you mean probe?`},
		{strings.Replace(small, "  backends = {", "  without = \"probe\"\n  backends = {", 1), "there is no common block to do without"},
		{strings.Replace(shared, "    algorithm = \"random\"", "    backends = {}", 1) + small, `there is no key "backends" in upstream`},
	} {
		_, found = read(t, x.text)
		assert.Contains(t, strings.Join(said(found), "\n"), x.want)
	}
}

func TestEachAddressOfAName(t *testing.T) {
	c, found := read(t, strings.Replace(strings.Replace(small, "backends = {", "failover {\n  }\n  resolve = \"each\"\n  backends = {", 1), "auk = \"127.0.0.1:9001\"", "auk = { address = \"birds.example:80\", weight = 2 }\n    shag = \"192.0.2.9:80\"\n    skua = \"gone.example:80\"\n    knot = \"srv:_http._tcp.birds.example\"", 1))
	require.Empty(t, said(found))
	u := c.Upstreams[0].Each(func(a Address) []Member {
		switch a.String() {
		case "birds.example:80":
			return []Member{{Addr: netip.MustParseAddr("192.0.2.1")}, {Addr: netip.MustParseAddr("2001:db8::1")}}
		case "srv:_http._tcp.birds.example":
			return []Member{{Addr: netip.MustParseAddr("192.0.2.7"), Port: 8080, Weight: 3, Rank: 1}}
		}
		return nil
	})
	var got []string
	for _, b := range u.Backends {
		got = append(got, b.Name+" "+b.Address.String())
	}
	assert.Equal(t, []string{"auk-192.0.2.1 192.0.2.1:80", "auk-2001:db8::1 [2001:db8::1]:80", "shag 192.0.2.9:80", "knot-192.0.2.7-8080 192.0.2.7:8080"}, got)
	assert.Equal(t, []int{3, 2}, []int{u.Backends[3].Weight, u.Backends[3].Tier})
	assert.Equal(t, 2, u.Backends[1].Weight)
	assert.Len(t, c.Upstreams[0].Backends, 4, "the configuration itself stays")
}

func TestSecretsAreNotShown(t *testing.T) {
	for _, bom := range []string{"", "\xef\xbb\xbf"} {
		src := bom + "control {\n  listen = \"unix:/run/k.sock\"\n  user \"mary\" {\n    password = \"hunter2 is no hash\"\n  }\n}\n" + strings.Replace(small, "  backends = {", "  sticky {\n    by     = \"cookie\"\n    secret = \"a line that nobody\u00fc knows\"\n  }\n  backends = {", 1)
		c, found := read(t, src)
		assert.Contains(t, strings.Join(said(found), "\n"), "the password is not a bcrypt hash")
		shown := string(c.Files[0].Source)
		assert.NotContains(t, shown, "hunter2")
		assert.NotContains(t, shown, "nobody")
		assert.Len(t, shown, len(src), "what stands where stays the same")
		assert.Contains(t, shown, "    password = \"******************\"\n")
		assert.Equal(t, "a line that nobody\u00fc knows", c.Upstreams[0].Sticky.Secret)
	}
}

// TestCommonMeansThoseThatItFits: a key for http that common gives to every frontend
// is no mistake of one that carries tcp.
func TestCommonMeansThoseThatItFits(t *testing.T) {
	c, found := read(t, "common {\n frontend {\n pass_fields = [\"Proxy\"]\n limits {\n body_rate = \"2KiB/s\"\n}\n}\n}\n"+strings.Replace(small, "  route", "  protocol = \"tcp\"\n  limits {\n rate = \"9/s\"\n}\n  route", 1))
	assert.Empty(t, found)
	assert.Empty(t, c.Frontends[0].PassFields)
}
