package report

import (
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"path/filepath"
	"reflect"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// headsAlone are heads of columns that are no key of a result: the two that are shortened, and those of lists that have no
// JSON of their own.
var headsAlone = map[string]bool{"": true, "peak": true, "out": true, "#": true, "variant": true, "arrived": true, "last 5 minutes": true}

// TestColumnsAreNamedLikeKeys holds the heads of all tables to the keys of the JSON results, so that a thing has one name.
func TestColumnsAreNamedLikeKeys(t *testing.T) {
	keys := map[string]bool{}
	heads := map[string]string{}
	err := filepath.WalkDir("..", func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
			return err
		}
		file, err := parser.ParseFile(token.NewFileSet(), path, nil, parser.SkipObjectResolution)
		require.NoError(t, err)
		ast.Inspect(file, func(n ast.Node) bool {
			switch x := n.(type) {
			case *ast.Field:
				if x.Tag != nil {
					tag, _ := strconv.Unquote(x.Tag.Value)
					name, _, _ := strings.Cut(reflect.StructTag(tag).Get("json"), ",")
					keys[name] = true
				}
			case *ast.KeyValueExpr:
				if id, ok := x.Key.(*ast.Ident); ok && id.Name == "name" && filepath.Base(filepath.Dir(path)) == "report" {
					if l, ok := x.Value.(*ast.BasicLit); ok && l.Kind == token.STRING {
						head, _ := strconv.Unquote(l.Value)
						heads[strings.TrimSpace(head)] = path
					}
				}
			}
			return true
		})
		return nil
	})
	require.NoError(t, err)
	require.Greater(t, len(heads), 20)
	var known func(words []string) bool
	known = func(words []string) bool {
		for n := len(words); n > 0; n-- {
			if w := strings.Join(words[:n], "_"); (keys[w] || keys[w+"s"]) && (n == len(words) || known(words[n:])) {
				return true
			}
		}
		return false
	}
	for head, path := range heads {
		assert.True(t, headsAlone[head] || known(strings.Fields(head)), "%s: the column %q has no key of that name", path, head)
	}
}
