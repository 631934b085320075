package core

import (
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// wrongWords are phrases that are always wrong in what users read: each has a word of the trade, or a plain one.
var wrongWords = regexp.MustCompile(`(?i)\b(foretell\w*|foretold|mend|mends|mended|nobody|nobody's|somebody|whoever|customer|customers|for want of|for good|as told|what is left out|of one's own|not its turn|stands in for what)\b`)

// mostWords is how many words a sentence may have that users read.
const mostWords = 28

// renamedKey is a line of a table of keys that were renamed, which keeps the old names.
const renamedKey = "| `mend` of a finding and of a rule |"

// TestWordsThatUsersRead looks at every text of the program and its pages, in README and in docs.
func TestWordsThatUsersRead(t *testing.T) {
	look := func(where, text string) {
		for _, at := range wrongWords.FindAllStringIndex(text, -1) {
			assert.Fail(t, "a word that is always wrong", "%s: ...%s...", where, text[max(0, at[0]-40):min(len(text), at[1]+40)])
		}
	}
	texts(t, look)
	for name, text := range documents(t) {
		look(name, strings.ReplaceAll(text, renamedKey, ""))
	}
	pages, err := filepath.Glob("../report/page/*.*")
	require.NoError(t, err)
	require.Greater(t, len(pages), 5)
	for _, name := range pages {
		text, err := os.ReadFile(name)
		require.NoError(t, err)
		look(name, string(text))
	}
}

// TestSentencesAreShort counts the words of sentences in README, docs, and the texts of the program.
func TestSentencesAreShort(t *testing.T) {
	look := func(where, text string) {
		for _, s := range sentences(text) {
			assert.LessOrEqual(t, len(strings.Fields(s)), mostWords, "%s: %s", where, s)
		}
	}
	for name, text := range documents(t) {
		for _, b := range blocks(text) {
			look(name, b)
		}
	}
	texts(t, func(where, text string) {
		for _, b := range blocks(text) {
			look(where, b)
		}
	})
}

// TestSentencesAreTold finds the sentences of a text of its own.
func TestSentencesAreTold(t *testing.T) {
	assert.Equal(t, []string{"One two.", "Three `code` [link] four"}, sentences("One two. Three `a b c d` [link](to/a there.md) four"))
	assert.Equal(t, []string{"head", "a b", "cell", "cell two", "- point one", "more"}, blocks("# head\na\nb\n\n| cell | cell two |\n```\nno prose at all here\n```\n- point one\n  kestrix replay x\n\nmore"))
}

// TestMessagesHaveNoBackticks: what stands in a message is read in a terminal.
func TestMessagesHaveNoBackticks(t *testing.T) {
	messages := map[string]bool{"Add": true, "Addf": true, "Limited": true, "say": true, "usage": true, "Errorf": true, "New": true, "LiveFinding": true}
	seen := 0
	sources(t, func(path string, file *ast.File) {
		ast.Inspect(file, func(n ast.Node) bool {
			call, ok := n.(*ast.CallExpr)
			if !ok {
				return true
			}
			name := ""
			switch fun := call.Fun.(type) {
			case *ast.Ident:
				name = fun.Name
			case *ast.SelectorExpr:
				name = fun.Sel.Name
			}
			for _, arg := range call.Args {
				if l, ok := arg.(*ast.BasicLit); ok && messages[name] && l.Kind == token.STRING {
					text, err := strconv.Unquote(l.Value)
					require.NoError(t, err, path)
					seen++
					assert.NotContains(t, text, "`", "%s: %s", path, name)
				}
			}
			return true
		})
	})
	require.Greater(t, seen, 500)
}

// texts calls look with every text in the sources of the program that is not a test's.
func texts(t *testing.T, look func(where, text string)) {
	sources(t, func(path string, file *ast.File) {
		ast.Inspect(file, func(n ast.Node) bool {
			if l, ok := n.(*ast.BasicLit); ok && l.Kind == token.STRING {
				text, err := strconv.Unquote(l.Value)
				require.NoError(t, err, path)
				look(path, text)
			}
			return true
		})
	})
}

// sources calls look with every file of the program that is not a test's.
func sources(t *testing.T, look func(path string, file *ast.File)) {
	err := filepath.WalkDir("..", func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
			return err
		}
		file, err := parser.ParseFile(token.NewFileSet(), path, nil, parser.SkipObjectResolution)
		require.NoError(t, err)
		look(path, file)
		return nil
	})
	require.NoError(t, err)
}

// documents returns the texts of README and docs by name.
func documents(t *testing.T) map[string]string {
	names, err := filepath.Glob("../../docs/*.md")
	require.NoError(t, err)
	more, err := filepath.Glob("../../docs/*/*.md")
	require.NoError(t, err)
	require.Greater(t, len(names)+len(more), 20)
	out := map[string]string{}
	for _, name := range slices.Concat(names, more, []string{"../../README.md"}) {
		text, err := os.ReadFile(name)
		require.NoError(t, err)
		out[name] = string(text)
	}
	return out
}

var (
	codeSpan   = regexp.MustCompile("`[^`]*`")
	linkTarget = regexp.MustCompile(`\]\([^)]*\)`)
	sentenceAt = regexp.MustCompile(`[.!?]["')\]]*\s+`)
	listItem   = regexp.MustCompile(`^([-*] |\d+\. )`)
	command    = regexp.MustCompile(`^(\s+(sudo|zcat|head|[A-Za-z_-]+ *=|#)|\s*kestrix) `)
)

// sentences returns the sentences of a text, with code as one word.
func sentences(text string) (out []string) {
	text = linkTarget.ReplaceAllString(codeSpan.ReplaceAllString(text, "`code`"), "]")
	for len(text) > 0 {
		at := sentenceAt.FindStringIndex(text)
		if at == nil {
			return append(out, strings.TrimSpace(text))
		}
		out = append(out, strings.TrimSpace(text[:at[1]]))
		text = text[at[1]:]
	}
	return out
}

// blocks returns the paragraphs, points, cells and headings of a text in Markdown or of a command's help; code is left out.
func blocks(text string) (out []string) {
	var cur []string
	end := func() {
		if len(cur) > 0 {
			out = append(out, strings.Join(cur, " "))
		}
		cur = nil
	}
	code := false
	for line := range strings.Lines(text) {
		l := strings.TrimSpace(line)
		switch {
		case strings.HasPrefix(l, "```"):
			code = !code
			end()
		case code:
		case l == "", command.MatchString(line):
			end()
		case strings.HasPrefix(l, "|"):
			end()
			for _, cell := range strings.Split(strings.Trim(l, "|"), "|") {
				out = append(out, strings.TrimSpace(cell))
			}
		case strings.HasPrefix(l, "#"):
			end()
			out = append(out, strings.TrimSpace(strings.TrimLeft(l, "#")))
		default:
			if listItem.MatchString(l) || strings.HasPrefix(line, "  ") {
				end()
			}
			cur = append(cur, l)
		}
	}
	end()
	return out
}
