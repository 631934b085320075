package status

import (
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kestrix/internal/core/health"
)

// TestEventKindsAreInTheTable holds every constant to a row, and every row to a use: the
// reference lists no kind that no event has, and no event has a kind that it does not list.
func TestEventKindsAreInTheTable(t *testing.T) {
	constants := map[string]EventKind{}
	f, err := parser.ParseFile(token.NewFileSet(), "event.go", nil, 0)
	require.NoError(t, err)
	ast.Inspect(f, func(n ast.Node) bool {
		if v, ok := n.(*ast.ValueSpec); ok && strings.HasPrefix(v.Names[0].Name, "Event") && v.Names[0].Name != "EventKinds" {
			constants[v.Names[0].Name] = EventKind(strings.Trim(v.Values[0].(*ast.BasicLit).Value, `"`))
		}
		return true
	})
	require.Len(t, constants, len(EventKinds))
	assert.True(t, slices.IsSortedFunc(EventKinds, func(a, b EventDescription) int { return strings.Compare(string(a.Kind), string(b.Kind)) }), "by kind")
	used := map[string]bool{}
	for _, dir := range []string{"../../live", "../../cli", "../../report"} {
		literalKinds(t, dir, used)
	}
	for name, kind := range constants {
		assert.True(t, slices.ContainsFunc(EventKinds, func(d EventDescription) bool { return d.Kind == kind && d.Of != "" && d.Doc != "" }), "%s has no row", name)
		assert.True(t, used[name], "no event is of the kind %s", name)
	}
	for _, s := range health.States {
		assert.False(t, slices.ContainsFunc(EventKinds, func(d EventDescription) bool { return d.Kind == StateEvent(s.State) }), "%s is a state", s.State)
	}
	assert.Len(t, health.States, int(health.Parked)+1)
}

// literalKinds notes the kinds that the files of a folder name, and refuses kinds that are
// written as text: the compiler takes any text for an EventKind.
func literalKinds(t *testing.T, dir string, used map[string]bool) {
	at := map[string]int{"Addf": 1, "Limited": 1, "Event": 1, "of": 1, "happened": 1, "tell": 1, "say": 0, "told": 0}
	err := filepath.WalkDir(dir, func(name string, e fs.DirEntry, err error) error {
		require.NoError(t, err)
		if e.IsDir() || !strings.HasSuffix(name, ".go") || strings.HasSuffix(name, "_test.go") {
			return nil
		}
		set := token.NewFileSet()
		f, err := parser.ParseFile(set, name, nil, 0)
		require.NoError(t, err)
		ast.Inspect(f, func(n ast.Node) bool {
			switch n := n.(type) {
			case *ast.SelectorExpr:
				used[n.Sel.Name] = true
			case *ast.CallExpr:
				called := ""
				switch fun := n.Fun.(type) {
				case *ast.SelectorExpr:
					called = fun.Sel.Name
				case *ast.Ident:
					called = fun.Name
				}
				i, ok := at[called]
				if !ok || len(n.Args) <= i+1 {
					return true
				}
				if text, is := n.Args[i].(*ast.BasicLit); is && text.Kind == token.STRING {
					assert.Fail(t, "a kind is a constant of package status", "%s: %s(... %s", set.Position(n.Pos()), called, text.Value)
				}
			}
			return true
		})
		return nil
	})
	require.NoError(t, err)
}
