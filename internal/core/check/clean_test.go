package check

import (
	"cmp"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kestrix/internal/core/config"
)

// secrets is what the environment of the clean configurations holds.
func secrets(name string) (string, bool) {
	v, ok := map[string]string{"SEAT_SECRET": "pQ7v-2mLx9-dT4kRw8z", "TALK_SECRET": "Hn3c-8sJb5-yV6fGq1e"}[name]
	return v, ok
}

// clean returns the configurations of testdata/clean, which are as they should be, by name.
func clean(t *testing.T) map[string]string {
	names, err := filepath.Glob("testdata/clean/*.hcl")
	require.NoError(t, err)
	require.Len(t, names, 12)
	out := map[string]string{}
	for _, name := range names {
		text, err := os.ReadFile(name)
		require.NoError(t, err)
		out[filepath.Base(name)] = string(text)
	}
	return out
}

// TestNothingIsFoundInCleanConfigurations, of twelve kinds of sites, but KX307: whether requests come in pairs no
// configuration tells.
func TestNothingIsFoundInCleanConfigurations(t *testing.T) {
	for name, text := range clean(t) {
		c, found, err := config.ReadIn([]config.File{{Name: name, Source: []byte(text)}}, config.World{Env: secrets})
		require.NoError(t, err)
		for _, f := range Run(c, found, nil) {
			if f.ID == "KX307" {
				continue
			}
			assert.Fail(t, f.Message, "%s:%d %s %s", name, f.Range.Start.Line, f.ID, f.Witness)
		}
	}
}

// TestMendsOfAlgorithmsEnd: whoever does what KX307, KX310 and KX312 say comes to a configuration of which none of
// them says anything.
func TestMendsOfAlgorithmsEnd(t *testing.T) {
	named := regexp.MustCompile(`algorithm = "([a-z-]+)"|^(round-robin) does`)
	for _, first := range []string{"round-robin", "least-connections", "two-choices", "random", "least-latency", "first-fit"} {
		for _, weight := range []int{1, 2, 3} {
			for _, backends := range []int{2, 3} {
				for _, answer := range []string{"300ms", "10s"} {
					algorithm, room := first, 0
					for step := 0; ; step++ {
						require.Less(t, step, 3, "%s comes back to %s", first, algorithm)
						text := fmt.Sprintf("frontend \"f\" {\n listen = \"192.0.2.1:80\"\n route \"r\" {\n send_to = upstream.u\n}\n}\nupstream \"u\" {\n algorithm = %q\n timeouts {\n answer = %q\n}\n backends = {\n", algorithm, answer)
						for i := range backends {
							w := 1
							if i == 0 && algorithm != "first-fit" {
								w = weight
							}
							text += fmt.Sprintf("b%d = { address = \"192.0.2.1%d:80\", weight = %d, max_in_flight = %d }\n", i, i, w, room)
						}
						c, found, err := config.Read([]config.File{{Name: "t.hcl", Source: []byte(text + "}\n}\n")}})
						require.NoError(t, err)
						require.Empty(t, found)
						next := ""
						for _, f := range Run(c, nil, nil) {
							switch f.ID {
							case "KX310":
								room, next = 10, algorithm
							case "KX307", "KX312":
								m := named.FindStringSubmatch(f.Fix)
								require.NotNil(t, m, f.Fix)
								next = cmp.Or(m[1], m[2])
							}
						}
						if next == "" {
							break
						}
						algorithm = next
					}
				}
			}
		}
	}
}

// TestAMistakeIsToldOnce: rules say nothing of a block that holds an error, for they would see a default in its place.
func TestAMistakeIsToldOnce(t *testing.T) {
	shop := clean(t)["shop.hcl"]
	for _, c := range []struct{ was, is, want string }{
		{`ttl     = "8h"`, `ttl     = "8x"`, "KX003"},
		{`secret  = env("SEAT_SECRET")`, `secret  = 7`, "KX003"},
		{`every      = "2s"`, `every      = "2"`, "KX003"},
		{`keep  = "50%"`, `keep  = "150%"`, "KX003"},
		{`attempts = 2`, `attempts = "two"`, "KX003"},
		{`algorithm = "two-choices"`, `algorithm = "choices"`, "KX007"},
		{`host = "board.tern.example"`, `host = "board.tern.example:80"`, "KX003"},
		{`path   = ["/sailings/**", "/assets/**"]`, `path   = "sailings"`, "KX003"},
	} {
		require.Contains(t, shop, c.was)
		cfg, found, err := config.ReadIn([]config.File{{Name: "s.hcl", Source: []byte(strings.Replace(shop, c.was, c.is, 1))}}, config.World{Env: secrets})
		require.NoError(t, err)
		var ids []string
		for _, f := range Run(cfg, found, nil) {
			if f.ID != "KX307" {
				ids = append(ids, f.ID)
			}
		}
		assert.Equal(t, []string{c.want}, ids, c.is)
	}
}
