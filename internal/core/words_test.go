package core

import (
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// wrongWords are phrases that are always wrong in what users read: each has a word of the trade, or a plain one.
var wrongWords = regexp.MustCompile(`(?i)\b(foretell\w*|foretold|mend|mends|mended|nobody|nobody's|somebody|whoever|customer|customers|for want of|for good|as told|what is left out|of one's own|not its turn|stands in for what)\b`)

// TestWordsThatUsersRead looks at every text in the program, in README and in docs.
func TestWordsThatUsersRead(t *testing.T) {
	look := func(where, text string) {
		for _, at := range wrongWords.FindAllStringIndex(text, -1) {
			assert.Fail(t, "a word that is always wrong", "%s: ...%s...", where, text[max(0, at[0]-40):min(len(text), at[1]+40)])
		}
	}
	err := filepath.WalkDir("..", func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
			return err
		}
		file, err := parser.ParseFile(token.NewFileSet(), path, nil, parser.SkipObjectResolution)
		require.NoError(t, err)
		ast.Inspect(file, func(n ast.Node) bool {
			if l, ok := n.(*ast.BasicLit); ok && l.Kind == token.STRING {
				text, err := strconv.Unquote(l.Value)
				require.NoError(t, err, path)
				look(path, text)
			}
			return true
		})
		return nil
	})
	require.NoError(t, err)
	docs, err := filepath.Glob("../../docs/*.md")
	require.NoError(t, err)
	require.Greater(t, len(docs), 20)
	for _, name := range append(docs, "../../README.md") {
		text, err := os.ReadFile(name)
		require.NoError(t, err)
		look(name, strings.ReplaceAll(string(text), "| `mend` of a finding and of a rule |", "")) // a key that was renamed
	}
}
