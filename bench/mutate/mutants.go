package main

import (
	"bytes"
	"fmt"
	"go/ast"
	"go/format"
	"go/parser"
	"go/token"
	"path/filepath"
	"sort"
	"strconv"
	"strings"
)

// mutant is one change of a file.
type mutant struct {
	file string
	line int
	what string // in words
	text []byte // of the changed file
}

func (m mutant) String() string { return fmt.Sprintf("%s:%d: %s", m.file, m.line, m.what) }

// turned has what a comparison or a sign becomes.
var turned = map[token.Token]token.Token{
	token.LSS: token.LEQ, token.LEQ: token.LSS, token.GTR: token.GEQ, token.GEQ: token.GTR, token.EQL: token.NEQ, token.NEQ: token.EQL,
	token.LAND: token.LOR, token.LOR: token.LAND, token.ADD: token.SUB, token.SUB: token.ADD, token.MUL: token.QUO, token.QUO: token.MUL,
	token.ADD_ASSIGN: token.SUB_ASSIGN, token.SUB_ASSIGN: token.ADD_ASSIGN, token.INC: token.DEC, token.DEC: token.INC,
}

// mutants returns all changes that the operators can make to the files of a package, in
// the order of the files and their lines.
func mutants(dir string) ([]mutant, error) {
	names, err := filepath.Glob(filepath.Join(dir, "*.go"))
	if err != nil {
		return nil, err
	}
	sort.Strings(names)
	var out []mutant
	for _, name := range names {
		if strings.HasSuffix(name, "_test.go") {
			continue
		}
		files := token.NewFileSet()
		f, err := parser.ParseFile(files, name, nil, parser.ParseComments)
		if err != nil {
			return nil, err
		}
		// change makes a change, keeps the text, and undoes it.
		change := func(at ast.Node, what string, do, undo func()) {
			do()
			var b bytes.Buffer
			err := format.Node(&b, files, f)
			undo()
			if err == nil {
				out = append(out, mutant{name, files.Position(at.Pos()).Line, what, b.Bytes()})
			}
		}
		ast.Inspect(f, func(n ast.Node) bool {
			switch n := n.(type) {
			case *ast.GenDecl:
				return n.Tok == token.VAR || n.Tok == token.CONST
			case *ast.BinaryExpr:
				if to, ok := turned[n.Op]; ok && !isText(n.X) && !isText(n.Y) {
					from := n.Op
					change(n, fmt.Sprintf("%s becomes %s", from, to), func() { n.Op = to }, func() { n.Op = from })
				}
			case *ast.IncDecStmt:
				from := n.Tok
				change(n, fmt.Sprintf("%s becomes %s", from, turned[from]), func() { n.Tok = turned[from] }, func() { n.Tok = from })
			case *ast.AssignStmt:
				if to, ok := turned[n.Tok]; ok {
					from := n.Tok
					change(n, fmt.Sprintf("%s becomes %s", from, to), func() { n.Tok = to }, func() { n.Tok = from })
				}
			case *ast.BasicLit:
				if v, err := strconv.ParseInt(n.Value, 0, 64); n.Kind == token.INT && err == nil && v < 1<<31 {
					from := n.Value
					change(n, fmt.Sprintf("%s becomes %d", from, v+1), func() { n.Value = fmt.Sprint(v + 1) }, func() { n.Value = from })
				}
			case *ast.Ident:
				if other := map[string]string{"true": "false", "false": "true"}[n.Name]; other != "" {
					from := n.Name
					change(n, from+" becomes "+other, func() { n.Name = other }, func() { n.Name = from })
				}
			case *ast.IfStmt:
				cond := n.Cond
				change(n, "the condition is negated", func() { n.Cond = &ast.UnaryExpr{Op: token.NOT, X: &ast.ParenExpr{X: cond}} }, func() { n.Cond = cond })
			case *ast.BlockStmt:
				for i, s := range n.List {
					if leavesOut(s) {
						change(s, "a statement is left out", func() { n.List[i] = &ast.EmptyStmt{Semicolon: s.Pos()} }, func() { n.List[i] = s })
					}
				}
			}
			return true
		})
	}
	return out, nil
}

// leavesOut reports whether a statement can be left out: a call, or an assignment to what
// is there already.
func leavesOut(s ast.Stmt) bool {
	switch s := s.(type) {
	case *ast.ExprStmt:
		return true
	case *ast.AssignStmt:
		return s.Tok == token.ASSIGN
	case *ast.IncDecStmt:
		return true
	}
	return false
}

// isText reports whether an expression is a text by its looks: a sum of texts has no
// difference.
func isText(e ast.Expr) bool {
	lit, ok := e.(*ast.BasicLit)
	return ok && lit.Kind == token.STRING
}
