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
		m := maker{name: name, files: files, file: f}
		ast.Inspect(f, m.visit)
		out = append(out, m.out...)
	}
	return out, nil
}

// maker makes the mutants of a file.
type maker struct {
	name  string
	files *token.FileSet
	file  *ast.File
	out   []mutant
}

// change makes a change, keeps the text, and undoes it.
func (m *maker) change(at ast.Node, what string, do, undo func()) {
	do()
	var b bytes.Buffer
	err := format.Node(&b, m.files, m.file)
	undo()
	if err == nil {
		m.out = append(m.out, mutant{m.name, m.files.Position(at.Pos()).Line, what, b.Bytes()})
	}
}

// swap changes an operator to its other, where it has one.
func (m *maker) swap(at ast.Node, op *token.Token) {
	from := *op
	if to, ok := turned[from]; ok {
		m.change(at, fmt.Sprintf("%s becomes %s", from, to), func() { *op = to }, func() { *op = from })
	}
}

// word changes a name or number to another.
func (m *maker) word(at ast.Node, text *string, to string) {
	from := *text
	m.change(at, from+" becomes "+to, func() { *text = to }, func() { *text = from })
}

// visit makes the changes of a node. It returns whether to look inside.
func (m *maker) visit(n ast.Node) bool {
	switch n := n.(type) {
	case *ast.GenDecl:
		return n.Tok == token.VAR || n.Tok == token.CONST
	case *ast.BinaryExpr:
		if !isText(n.X) && !isText(n.Y) {
			m.swap(n, &n.Op)
		}
	case *ast.IncDecStmt:
		m.swap(n, &n.Tok)
	case *ast.AssignStmt:
		m.swap(n, &n.Tok)
	case *ast.BasicLit:
		if v, err := strconv.ParseInt(n.Value, 0, 64); n.Kind == token.INT && err == nil && v < 1<<31 {
			m.word(n, &n.Value, fmt.Sprint(v+1))
		}
	case *ast.Ident:
		if other := map[string]string{"true": "false", "false": "true"}[n.Name]; other != "" {
			m.word(n, &n.Name, other)
		}
	case *ast.IfStmt:
		cond := n.Cond
		m.change(n, "the condition is negated", func() { n.Cond = &ast.UnaryExpr{Op: token.NOT, X: &ast.ParenExpr{X: cond}} }, func() { n.Cond = cond })
	case *ast.BlockStmt:
		m.leaveOut(n)
	}
	return true
}

// leaveOut leaves out each statement of a block that can be.
func (m *maker) leaveOut(b *ast.BlockStmt) {
	for i, s := range b.List {
		if leavesOut(s) {
			m.change(s, "a statement is left out", func() { b.List[i] = &ast.EmptyStmt{Semicolon: s.Pos()} }, func() { b.List[i] = s })
		}
	}
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
