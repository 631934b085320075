package core

import (
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// allowed says which of the project's packages a package may import, by the
// beginning of its path: arrows point one way.
var allowed = map[string][]string{
	"internal/core": {"internal/core"},
	"internal/live": {"internal/core", "internal/live"},
	"internal/live/proxy": { // neither the replay nor the checker
		"internal/core/cause", "internal/core/config", "internal/core/limit", "internal/core/peer", "internal/core/request", "internal/core/rewrite", "internal/core/route", "internal/core/status",
		"internal/core/tick", "internal/core/trace", "internal/core/upstream", "internal/live/accesslog", "internal/live/control", "internal/live/events", "internal/live/journal", "internal/live/measure", "internal/live/names", "internal/live/pool",
		"internal/live/socket", "internal/live/tracing", "internal/live/wire", "internal/live/certificates",
	},
	"internal/live/tracing": {"internal/core/cause", "internal/core/config", "internal/live/accesslog"},
	"internal/live/control": { // a proxy by its interface alone
		"internal/core/config", "internal/core/limit", "internal/core/status", "internal/live/events", "internal/live/metrics", "internal/live/pool", "internal/live/socket",
	},
	"internal/live/metrics": {"internal/core/health", "internal/core/status", "internal/live/measure"},
	"internal/live/pool": { // no proxy
		"internal/core/cause", "internal/core/config", "internal/core/health", "internal/core/request", "internal/core/route", "internal/core/status", "internal/core/sticky", "internal/core/tick", "internal/core/upstream",
		"internal/live/journal", "internal/live/measure", "internal/live/names", "internal/live/socket", "internal/live/wire",
	},
	"internal/live/measure":      {},
	"internal/live/certificates": {"internal/core/config", "internal/core/status", "internal/core/units", "internal/live/socket"},
	"internal/live/names":        {},
	"internal/live/syslog":       {"internal/core/config", "internal/live/socket"},
	"internal/live/accesslog":    {"internal/core/cause", "internal/core/config", "internal/core/template", "internal/core/trace"},
	"internal/live/journal":      {"internal/core/config", "internal/core/tick", "internal/core/upstream"},
	"internal/report":            {"internal/core", "internal/report"},
	"internal/cli":               {"packaging", "internal/core", "internal/live", "internal/report", "internal/cli", "examples"},
	"cmd/kestrix":                {"internal/cli"},
	"examples/harbour":           {},
	"bench/closedforms":          {"internal/core"}, // holds the replay against theory
	"internal/core/tick":         {},
	"internal/core/cause":        {},
	"internal/core/rng":          {},
	"internal/core/queue":        {"internal/core/tick"},
	"internal/core/config":       {"internal/core/balance", "internal/core/cause", "internal/core/template"},
	"internal/core/request":      {"internal/core/config"},
	"internal/core/route":        {"internal/core/config", "internal/core/request"},
	"internal/core/region":       {"internal/core/config", "internal/core/request", "internal/core/route"},
	"internal/core/trace":        {"internal/core/rng", "internal/core/template", "internal/core/trace/scan"},
	"internal/core/template":     {},
	"internal/core/health":       {"internal/core/tick"},
	"internal/core/rewrite":      {"internal/core/config", "internal/core/peer", "internal/core/request"},
	"internal/core/peer":         {},
	"internal/core/limit":        {"internal/core/config", "internal/core/tick"},
	"internal/core/sticky":       {"internal/core/tick"},
	"internal/core/result":       {"internal/core/cause", "internal/core/scenario", "internal/core/trace"},
	"internal/core/sim": {
		"internal/core/cause", "internal/core/config", "internal/core/health", "internal/core/histogram", "internal/core/ingest", "internal/core/limit", "internal/core/queue", "internal/core/result",
		"internal/core/rng", "internal/core/scenario", "internal/core/tick", "internal/core/trace", "internal/core/upstream",
	},
	"internal/core/replay": {
		"internal/core/config", "internal/core/ingest", "internal/core/result", "internal/core/scenario", "internal/core/sim", "internal/core/trace",
	},
	"internal/live/events":    {"internal/core/route", "internal/core/status"},
	"internal/live/socket":    {"internal/core/limit", "internal/live/wire"},
	"internal/core/histogram": {"internal/core/result"},
	"internal/core/ingest": {
		"internal/core/config", "internal/core/limit", "internal/core/request", "internal/core/result", "internal/core/rng", "internal/core/route", "internal/core/scenario", "internal/core/trace",
	},
	"internal/core/balance": {
		"internal/core/rng", "internal/core/queue", "internal/core/tick",
	},
}

// banned are packages that touch the world; the core has none of them.
var banned = []string{"net", "net/http", "os", "os/exec", "os/signal", "log", "log/slog", "syscall", "math/rand", "testing", "flag"}

// testsOnly are modules that no program may contain.
var testsOnly = []string{"github.com/owenrumney/go-sarif", "github.com/stretchr/testify", "pgregory.net/rapid", "github.com/rogpeppe/go-internal/testscript"}

// bannedCalls are ways to a clock or a screen in packages that the core may
// import for other things.
var bannedCalls = []string{"time.Now(", "time.Since(", "time.After(", "time.Sleep(", "time.NewTimer(", "fmt.Print", "rand.Read("}

func TestImportsPointOneWay(t *testing.T) {
	root, err := filepath.Abs("../..")
	require.NoError(t, err)
	files := 0
	err = filepath.WalkDir(root, func(name string, e fs.DirEntry, err error) error {
		require.NoError(t, err)
		if e.IsDir() && strings.HasPrefix(e.Name(), ".") && name != root {
			return fs.SkipDir
		}
		if e.IsDir() || !strings.HasSuffix(name, ".go") || strings.HasSuffix(name, "_test.go") {
			return nil
		}
		files++
		rel, err := filepath.Rel(root, name)
		require.NoError(t, err)
		checkFile(t, filepath.ToSlash(rel), name)
		return nil
	})
	require.NoError(t, err)
	require.Greater(t, files, 60, "the walk must find the project's files")
}

func checkFile(t *testing.T, rel, name string) {
	src, err := os.ReadFile(name)
	require.NoError(t, err)
	f, err := parser.ParseFile(token.NewFileSet(), name, src, parser.ImportsOnly)
	require.NoError(t, err, rel)
	dir := path.Dir(rel)
	core := strings.HasPrefix(rel, "internal/core/")
	for _, spec := range f.Imports {
		imp, err := strconv.Unquote(spec.Path.Value)
		require.NoError(t, err)
		if core {
			for _, b := range banned {
				assert.NotEqual(t, b, imp, "%s: the core is pure", rel)
			}
			assert.False(t, strings.HasPrefix(imp, "golang.org/x/term"), "%s: the core has no terminal", rel)
		}
		for _, b := range testsOnly {
			assert.False(t, strings.HasPrefix(imp, b), "%s: %s is for tests", rel, b)
		}
		if own, ok := strings.CutPrefix(imp, "kestrix/"); ok && own != "internal/core/units" { // numbers for people, which any package may write
			assert.True(t, may(dir, own), "%s may not import %s", rel, own)
		}
	}
	if core {
		for _, call := range bannedCalls {
			assert.NotContains(t, string(src), call, "%s: the core is handed the time and prints nothing", rel)
		}
	}
}

// TestUnsafeStaysInOnePackage: neither unsafe nor assembly, test files included.
func TestUnsafeStaysInOnePackage(t *testing.T) {
	const only = "internal/core/trace/scan/"
	root, err := filepath.Abs("../..")
	require.NoError(t, err)
	found := 0
	err = filepath.WalkDir(root, func(name string, e fs.DirEntry, err error) error {
		require.NoError(t, err)
		rel, err := filepath.Rel(root, name)
		require.NoError(t, err)
		switch rel = filepath.ToSlash(rel); {
		case e.IsDir() && strings.HasPrefix(e.Name(), ".") && name != root:
			return fs.SkipDir
		case strings.HasPrefix(rel, only):
			found++
		case path.Ext(rel) == ".s", path.Ext(rel) == ".c":
			assert.Fail(t, "assembly or C", "%s: only %s may have it", rel, only)
		case path.Ext(rel) == ".go":
			f, err := parser.ParseFile(token.NewFileSet(), name, nil, parser.ImportsOnly)
			require.NoError(t, err, rel)
			for _, spec := range f.Imports {
				assert.NotContains(t, []string{`"unsafe"`, `"C"`}, spec.Path.Value, "%s: only %s may import it", rel, only)
			}
		}
		return nil
	})
	require.NoError(t, err)
	assert.Positive(t, found, "the walk must find the package")
}

// TestPackagesSayWhatTheyAreFor: for what, who calls them, and what they must never do.
func TestPackagesSayWhatTheyAreFor(t *testing.T) {
	docs := map[string]string{}
	err := filepath.WalkDir("../../internal", func(name string, e fs.DirEntry, err error) error {
		require.NoError(t, err)
		if e.IsDir() || !strings.HasSuffix(name, ".go") || strings.HasSuffix(name, "_test.go") {
			return nil
		}
		f, err := parser.ParseFile(token.NewFileSet(), name, nil, parser.ParseComments|parser.PackageClauseOnly)
		require.NoError(t, err)
		docs[path.Dir(filepath.ToSlash(name))] += f.Doc.Text()
		return nil
	})
	require.NoError(t, err)
	for dir, doc := range docs {
		assert.True(t, strings.HasPrefix(doc, "Package "+path.Base(dir)+" "), "%s has no package comment", dir)
		assert.Contains(t, strings.Join(strings.Fields(doc), " "), " must never ", "%s: what it must never do", dir)
	}
}

// TestOnlyOnePackageMakesRequests: what routes and keys go by is made by package
// request alone, so that no two drivers make it differently. Others may fill in the
// lookups of what it returns.
func TestOnlyOnePackageMakesRequests(t *testing.T) {
	found := 0
	err := filepath.WalkDir("../..", func(name string, e fs.DirEntry, err error) error {
		require.NoError(t, err)
		if e.IsDir() || !strings.HasSuffix(name, ".go") || strings.HasSuffix(name, "_test.go") || strings.Contains(filepath.ToSlash(name), "internal/core/request/") {
			return nil
		}
		f, err := parser.ParseFile(token.NewFileSet(), name, nil, 0)
		require.NoError(t, err)
		ast.Inspect(f, func(n ast.Node) bool {
			if lit, ok := n.(*ast.CompositeLit); ok && len(lit.Elts) > 0 {
				if sel, ok := lit.Type.(*ast.SelectorExpr); ok && sel.Sel.Name == "Request" {
					pkg, _ := sel.X.(*ast.Ident)
					assert.NotContains(t, []string{"route", "request", "normal"}, pkg.Name, "%s: request.Of makes these", name)
					found++
				}
			}
			return true
		})
		return nil
	})
	require.NoError(t, err)
	assert.Positive(t, found, "the walk finds composite literals of other requests")
}

// may looks a package up in the table, by its longest entry.
func may(dir, imp string) bool {
	best, list := -1, []string(nil)
	for from, to := range allowed {
		if (dir == from || strings.HasPrefix(dir, from+"/")) && len(from) > best {
			best, list = len(from), to
		}
	}
	for _, to := range list {
		if imp == to || strings.HasPrefix(imp, to+"/") {
			return true
		}
	}
	return false
}

// TestThePolicyCanFail makes sure that the table refuses what it should.
func TestThePolicyCanFail(t *testing.T) {
	assert.False(t, may("internal/core/replay", "internal/report"))
	assert.False(t, may("internal/report", "internal/live/proxy"))
	assert.False(t, may("internal/core/tick", "internal/core/config"))
	assert.True(t, may("internal/core/sim", "internal/core/upstream"))
	assert.False(t, may("internal/core/sim", "internal/core/replay"))
	assert.False(t, may("cmd/kestrix", "internal/core/config"))
	assert.False(t, may("internal/live/proxy", "internal/core/sim"))
}

// TestExportedNamesAreDocumented holds every exported declaration to a docstring
// of its own, or of its group. Methods that an interface of the standard library
// names need none.
func TestExportedNamesAreDocumented(t *testing.T) {
	common := map[string]bool{"String": true, "Error": true, "Unwrap": true, "Read": true, "Set": true}
	names := 0
	need := func(rel, name string, docs ...*ast.CommentGroup) {
		if !ast.IsExported(name) {
			return
		}
		names++
		for _, d := range docs {
			if d != nil && len(strings.Fields(d.Text())) > 1 {
				return
			}
		}
		assert.Fail(t, "no docstring", "%s: %s", rel, name)
	}
	err := filepath.WalkDir("../..", func(name string, e fs.DirEntry, err error) error {
		require.NoError(t, err)
		if e.IsDir() || !strings.HasSuffix(name, ".go") || strings.HasSuffix(name, "_test.go") {
			return nil
		}
		f, err := parser.ParseFile(token.NewFileSet(), name, nil, parser.ParseComments)
		require.NoError(t, err)
		for _, d := range f.Decls {
			switch d := d.(type) {
			case *ast.FuncDecl:
				if d.Recv == nil || !common[d.Name.Name] && ast.IsExported(receiver(d)) {
					need(name, d.Name.Name, d.Doc)
				}
			case *ast.GenDecl:
				for _, s := range d.Specs {
					switch s := s.(type) {
					case *ast.TypeSpec:
						need(name, s.Name.Name, s.Doc, d.Doc)
					case *ast.ValueSpec:
						for _, n := range s.Names {
							need(name, n.Name, s.Doc, d.Doc, s.Comment)
						}
					}
				}
			}
		}
		return nil
	})
	require.NoError(t, err)
	assert.Greater(t, names, 200, "the walk must find the project's names")
}

// receiver returns the name of a method's type.
func receiver(d *ast.FuncDecl) string {
	x := d.Recv.List[0].Type
	if star, ok := x.(*ast.StarExpr); ok {
		x = star.X
	}
	if generic, ok := x.(*ast.IndexExpr); ok {
		x = generic.X
	}
	id, ok := x.(*ast.Ident)
	if !ok {
		return ""
	}
	return id.Name
}

// TestFilesAreShort holds files to a length that a reader can take in.
func TestFilesAreShort(t *testing.T) {
	err := filepath.WalkDir("../..", func(name string, e fs.DirEntry, err error) error {
		require.NoError(t, err)
		if e.IsDir() || !strings.HasSuffix(name, ".go") {
			return nil
		}
		src, err := os.ReadFile(name)
		require.NoError(t, err)
		assert.LessOrEqual(t, strings.Count(string(src), "\n"), 520, "%s: a reader finds things more easily in shorter files", name)
		return nil
	})
	require.NoError(t, err)
}
