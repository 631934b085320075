package config

import (
	"os"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// FuzzBackends reads any text as a file of backends. What can be used is the same where a proxy
// shows its configuration, on a machine without the file.
func FuzzBackends(f *testing.F) {
	for _, text := range []string{
		`{"auk": "192.0.2.11:8080", "gannet": {"address": "192.0.2.12:8080", "weight": 2, "tier": 2, "zone": "north \"quay\"", "max_in_flight": 9}}`,
		`{"auk": "unix:/run/a.sock", "knot": "srv:_http._tcp.app.example"}`, `{"auk": 1}`, `[]`, `{"a": "b`, `{"a": "1.2.3.4:5", "a": "1.2.3.4:6"}`, `{"a": {"address": null}}`, `{} {}`, "\xff", ``, `{"a":{"address":"192.0.2.1:1","weight":1e99}}`,
	} {
		f.Add([]byte(text))
	}
	const source = "frontend \"web\" {\n listen = \"127.0.0.1:8080\"\n route \"all\" {\n send_to = upstream.app\n }\n}\nupstream \"app\" {\n resolve = \"each\"\n failover {\n prefer = \"zone\"\n }\n backends_from = \"b.json\"\n}\nzone = \"x\"\n"
	f.Fuzz(func(t *testing.T, text []byte) {
		read := func(files []File, w World) (*Config, Findings) {
			c, found, err := ReadIn(files, w)
			require.NoError(t, err)
			return c, found
		}
		c, found := read([]File{{Name: "x.hcl", Source: []byte(source)}}, World{File: func(string) ([]byte, error) { return text, nil }})
		if len(found) > 0 {
			return
		}
		require.NotEmpty(t, c.Upstreams[0].Backends)
		again, found := read(c.Resolved(), World{File: func(string) ([]byte, error) { return nil, os.ErrNotExist }})
		require.Empty(t, found, "%s", c.Resolved()[0].Source)
		require.Len(t, again.Upstreams[0].Backends, len(c.Upstreams[0].Backends))
		for i, b := range c.Upstreams[0].Backends {
			o := again.Upstreams[0].Backends[i]
			assert.Equal(t, []any{b.Name, b.Address, b.Weight, b.Tier, b.Zone, b.MaxInFlight}, []any{o.Name, o.Address, o.Weight, o.Tier, o.Zone, o.MaxInFlight})
		}
	})
}
