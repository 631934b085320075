package check

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kestrix/internal/core/config"
)

// TestStatusesOfRPCsInLists: the rules know them as they know those of HTTP, and what they take out leaves the rest.
func TestStatusesOfRPCsInLists(t *testing.T) {
	for _, c := range []struct{ protocol, block, id, says, keeps string }{
		{"http", `retry`, "KX509", `100 calls that end with grpc:not_found are sent 200 times`, `["connect", "grpc:unavailable"]`},
		{"http", `suspend`, "KX220", `"app" suspends backends that answer grpc:not_found`, `["connect", "grpc:unavailable"]`},
		{"tcp", `retry`, "KX511", `retry of "app" needs the status grpc:not_found`, `["connect"]`},
	} {
		text := "frontend \"web\" {\n  listen = \"0.0.0.0:8080\"\n  protocol = \"" + c.protocol + "\"\n  route \"all\" {\n    send_to = upstream.app\n  }\n}\n" +
			"upstream \"app\" {\n  backends = { auk = \"192.0.2.11:8080\", gannet = \"192.0.2.12:8080\" }\n  http_version = \"2\"\n  " + c.block + " {\n    on = [\"connect\", \"grpc:not_found\", \"grpc:unavailable\"]\n  }\n}\n"
		cfg, found, err := config.Read([]config.File{{Name: "a.hcl", Source: []byte(text)}})
		require.NoError(t, err)
		hit := false
		for _, f := range Run(cfg, found, nil) {
			if f.ID != c.id {
				continue
			}
			hit = true
			assert.Contains(t, strings.Join([]string{f.Message, f.Witness}, " | "), c.says)
			if assert.Len(t, f.Edits, 1, c.id) {
				assert.Equal(t, c.keeps, f.Edits[0].Text, c.id)
			}
		}
		assert.True(t, hit, c.id)
	}
}
