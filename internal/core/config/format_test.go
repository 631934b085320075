package config

import (
	"encoding/json"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

func TestFormat(t *testing.T) {
	for _, c := range []struct{ name, from, want string }{
		{"indents and aligns", "upstream \"a\" {\nalgorithm=\"random\"\n      backends = {\na=\"b:1\"\n  long-name = \"c:2\" # why\n}\n}", "upstream \"a\" {\n  algorithm = \"random\"\n  backends = {\n    a         = \"b:1\"\n    long-name = \"c:2\" # why\n  }\n}\n"},
		{"blank lines", "\n\n\nlet {\n\n\n  a = 1\n\n\n\n  b = 2\n}\n\n\n", "let {\n\n  a = 1\n\n  b = 2\n}\n"},
		{"comments stay", "# one\n// two\n/* three\n   four */\nlet {} # five", "# one\n// two\n/* three\n   four */\nlet {} # five\n"},
		{"line ends", "let {\r\n  a = 1\r\n}\r\n", "let {\n  a = 1\n}\n"},
		{"byte order mark", "\xef\xbb\xbflet {\n}\n", "let {\n}\n"},
	} {
		got, found, err := Format(File{Name: "f.hcl", Source: []byte(c.from)})
		require.NoError(t, err, c.name)
		require.Empty(t, said(found), c.name)
		assert.Equal(t, c.want, string(got), c.name)
	}
	_, found, err := Format(File{Name: "f.hcl", Source: []byte("let {\n")})
	require.NoError(t, err)
	assert.NotEmpty(t, found, "broken syntax is not touched")
	_, _, err = Format(File{Name: "f.hcl", Source: []byte(strings.Repeat("[", 200))})
	assert.Error(t, err)
}

// meaning is a configuration without the places of things.
func meaning(t require.TestingT, src []byte) string {
	c, _, err := Read([]File{{Name: "m.hcl", Source: src}})
	require.NoError(t, err)
	c.Files = nil
	text, err := json.Marshal(c)
	require.NoError(t, err)
	var tree any
	require.NoError(t, json.Unmarshal(text, &tree))
	drop(tree)
	text, err = json.Marshal(tree)
	require.NoError(t, err)
	return string(text)
}

// drop takes out whatever has a file name and a beginning: a range.
func drop(x any) {
	switch x := x.(type) {
	case map[string]any:
		for k, v := range x {
			if m, ok := v.(map[string]any); ok && m["Filename"] != nil {
				delete(x, k)
				continue
			}
			drop(v)
		}
	case []any:
		for _, v := range x {
			drop(v)
		}
	}
}

// TestFormatKeepsTheMeaningAndSettles lays configurations out at random and puts
// them right.
func TestFormatKeepsTheMeaningAndSettles(t *testing.T) {
	space := rapid.SampledFrom([]string{" ", "  ", "\t", " \t "})
	line := rapid.SampledFrom([]string{"\n", "\n\n", "\n\n\n\n", " # a comment\n", "\n# alone\n", "\r\n", " /* in */\n"})
	rapid.Check(t, func(t *rapid.T) {
		var b strings.Builder
		for i, l := range strings.Split(strings.TrimSpace(small+"let {\n a = 1\n bcd = \"x y\"\n}\n"), "\n") {
			if i > 0 {
				b.WriteString(line.Draw(t, "line"))
			}
			for _, w := range strings.Fields(l) {
				b.WriteString(space.Draw(t, "space"))
				b.WriteString(w)
			}
		}
		src := []byte(b.String())
		once, found, err := Format(File{Name: "f.hcl", Source: src})
		if err != nil || len(found) > 0 {
			t.Fatalf("%v %v", err, said(found))
		}
		twice, _, err := Format(File{Name: "f.hcl", Source: once})
		if err != nil || string(once) != string(twice) {
			t.Fatalf("formatting twice changes something:\n%q\n%q", once, twice)
		}
		if meaning(t, src) != meaning(t, once) {
			t.Fatalf("the meaning changed:\n%s\n%s", src, once)
		}
	})
}
