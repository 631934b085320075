// Command ignored has the program ignore one key of the configuration language at a time,
// and reports the keys whose test does not notice: the map heldBy in
// internal/live/proxy/everykey_test.go names a test for each key, and this shows that the
// test fails without it.
//
//	go run ./bench/ignored                 # every key, about five minutes
//	go run ./bench/ignored upstream.retry  # those that begin so
//
// The tree is not touched: the change is handed to go test as an overlay.
package main

import (
	"encoding/json"
	"fmt"
	"go/ast"
	"go/parser"
	"go/token"
	"os"
	"os/exec"
	"path/filepath"
	"sort"
	"strconv"
	"strings"
)

const (
	held   = "internal/live/proxy/everykey_test.go"
	decode = "internal/core/config/decode.go"
	member = "internal/core/config/members.go"

	commands = "./internal/cli"
)

// ignoring is added to package config: it reports whether a key of a block is the one
// that is ignored.
const ignoring = `package config

import (
	"os"
	"sync"
)

var ignoredKey = cmpOr(os.Getenv("IGNORED_KEY"), %q)

func cmpOr(a, b string) string {
	if a != "" {
		return a
	}
	return b
}

// A block that stands in several places has several.
var ignoredPaths = sync.OnceValue(func() map[*Block][]string {
	out := map[*Block][]string{}
	var walk func(b *Block, at string)
	walk = func(b *Block, at string) {
		out[b] = append(out[b], at)
		for _, k := range b.Keys {
			if k.Fields != nil {
				walk(k.Fields, at+k.Name+".")
			}
		}
		for _, c := range b.Blocks {
			if c.Name != "common" {
				walk(c, at+c.Name+".")
			}
		}
	}
	walk(Language, "")
	return out
})

func ignored(def *Block, name string) bool {
	for _, at := range ignoredPaths()[def] {
		if at+name == ignoredKey {
			return true
		}
	}
	return false
}
`

func main() {
	only := ""
	if len(os.Args) > 1 {
		only = os.Args[1]
	}
	if err := run(only); err != nil {
		fmt.Fprintln(os.Stderr, "ignored:", err)
		os.Exit(1)
	}
}

func run(only string) error {
	keys, err := heldBy()
	if err != nil {
		return err
	}
	dir, err := os.MkdirTemp("", "ignored-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	overlay, err := change(dir, "")
	if err != nil {
		return err
	}
	binary := filepath.Join(dir, "proxy.test")
	if out, err := exec.Command("go", "test", "-c", "-vet=off", "-overlay", overlay, "-o", binary, "./internal/live/proxy").CombinedOutput(); err != nil {
		return fmt.Errorf("%w\n%s", err, out)
	}
	var names []string
	for key := range keys {
		if strings.HasPrefix(key, only) {
			names = append(names, key)
		}
	}
	sort.Strings(names)
	unnoticed := 0
	for _, key := range names {
		by, c := keys[key], (*exec.Cmd)(nil)
		run, script := strings.CutSuffix(by, ".txtar")
		if script {
			run = "TestScripts/^" + run + "$"
		}
		if script || ofCommands(by) {
			// Scripts run the program without our environment.
			if overlay, err = change(dir, key); err != nil {
				return err
			}
			c = exec.Command("go", "test", "-count=1", "-vet=off", "-overlay", overlay, "-run", run, commands)
		} else {
			c = exec.Command(binary, "-test.run", "^"+by+"$", "-test.timeout", "2m")
			c.Dir = filepath.Dir(held)
			c.Env = append(os.Environ(), "IGNORED_KEY="+key)
		}
		if c.Run() == nil {
			unnoticed++
			fmt.Printf("%s is ignored, and %s does not notice\n", key, by)
		}
	}
	fmt.Printf("%d keys, %d unnoticed\n", len(names), unnoticed)
	return nil
}

// ofCommands reports whether a test is one of package cli.
func ofCommands(test string) bool {
	names, _ := filepath.Glob(commands + "/*_test.go") // the pattern is well-formed
	for _, name := range names {
		text, err := os.ReadFile(name)
		if err == nil && strings.Contains(string(text), "func "+test+"(") {
			return true
		}
	}
	return false
}

// change writes an overlay in which a key is ignored; empty: the one in IGNORED_KEY.
func change(dir, key string) (string, error) {
	replace := map[string]string{}
	put := func(name, text string) error {
		here, err := filepath.Abs(name)
		if err != nil {
			return err
		}
		replace[here] = filepath.Join(dir, filepath.Base(name))
		return os.WriteFile(replace[here], []byte(text), 0o600)
	}
	for name, lines := range map[string][2]string{
		decode: {"		if v, ok := d.value(k, a.Expr); ok {\n", "		if ignored(def, k.Name) {\n			_, _ = d.value(k, a.Expr)\n			continue\n		}\n		if v, ok := d.value(k, a.Expr); ok {\n"},
		member: {"		n.values[name] = Placed[any]{v, item.ValueExpr.Range()}\n", "		if !ignored(n.Def, name) {\n			n.values[name] = Placed[any]{v, item.ValueExpr.Range()}\n		}\n"},
	} {
		text, err := os.ReadFile(name)
		if err != nil {
			return "", err
		}
		if strings.Count(string(text), lines[0]) != 1 {
			return "", fmt.Errorf("%s has not once the line %q", name, strings.TrimSpace(lines[0]))
		}
		if err := put(name, strings.Replace(string(text), lines[0], lines[1], 1)); err != nil {
			return "", err
		}
	}
	if err := put("internal/core/config/zz_ignored.go", fmt.Sprintf(ignoring, key)); err != nil {
		return "", err
	}
	text, err := json.Marshal(map[string]any{"Replace": replace})
	if err != nil {
		return "", err
	}
	name := filepath.Join(dir, "overlay.json")
	return name, os.WriteFile(name, text, 0o600)
}

// heldBy reads the map of the test.
func heldBy() (map[string]string, error) {
	f, err := parser.ParseFile(token.NewFileSet(), held, nil, 0)
	if err != nil {
		return nil, err
	}
	out := map[string]string{}
	ast.Inspect(f, func(n ast.Node) bool {
		v, ok := n.(*ast.ValueSpec)
		if !ok || v.Names[0].Name != "heldBy" {
			return true
		}
		for _, e := range v.Values[0].(*ast.CompositeLit).Elts {
			kv := e.(*ast.KeyValueExpr)
			key, _ := strconv.Unquote(kv.Key.(*ast.BasicLit).Value)
			out[key], _ = strconv.Unquote(kv.Value.(*ast.BasicLit).Value)
		}
		return false
	})
	return out, nil
}
