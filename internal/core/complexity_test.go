package core

import (
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// mostComplex is the largest cyclomatic complexity (McCabe, 1976) that a function may
// have: its decisions, each && and || among them, plus one.
const mostComplex = 20

func TestFunctionsAreSimple(t *testing.T) {
	functions := 0
	err := filepath.WalkDir("../..", func(name string, e fs.DirEntry, err error) error {
		require.NoError(t, err)
		if e.IsDir() || !strings.HasSuffix(name, ".go") || strings.HasSuffix(name, "_test.go") {
			return nil
		}
		files := token.NewFileSet()
		f, err := parser.ParseFile(files, name, nil, 0)
		require.NoError(t, err)
		for _, d := range f.Decls {
			if d, ok := d.(*ast.FuncDecl); ok && d.Body != nil {
				functions++
				n := complexity(d.Body)
				assert.LessOrEqual(t, n, mostComplex, "%s: %s has %d decisions; split it", files.Position(d.Pos()), d.Name.Name, n-1)
			}
		}
		return nil
	})
	require.NoError(t, err)
	assert.Greater(t, functions, 1000, "the walk must find the project's functions")
}

func complexity(body ast.Node) int {
	n := 1
	ast.Inspect(body, func(x ast.Node) bool {
		switch x := x.(type) {
		case *ast.IfStmt, *ast.ForStmt, *ast.RangeStmt:
			n++
		case *ast.CaseClause:
			if x.List != nil {
				n++
			}
		case *ast.CommClause:
			if x.Comm != nil {
				n++
			}
		case *ast.BinaryExpr:
			if x.Op == token.LAND || x.Op == token.LOR {
				n++
			}
		}
		return true
	})
	return n
}

func TestComplexityCountsDecisions(t *testing.T) {
	x, err := parser.ParseExpr("func() { if a && b || c { for range d { switch { case e: default: } } }; select { case <-f: default: } }")
	require.NoError(t, err)
	assert.Equal(t, 1+3+1+1+1, complexity(x))
}
