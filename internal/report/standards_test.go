package report

import (
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestStandardsAreHeldByTestsThatThereAre looks for every test that docs/standards.md names, and
// wants one for every standard.
func TestStandardsAreHeldByTestsThatThereAre(t *testing.T) {
	there := map[string]bool{".ci/long": true}
	function := regexp.MustCompile(`(?m)^func ((?:Test|Fuzz)\w+)\(`)
	require.NoError(t, filepath.WalkDir("../..", func(path string, e fs.DirEntry, err error) error {
		require.NoError(t, err)
		if e.Name() == ".git" {
			return filepath.SkipDir
		}
		if strings.HasSuffix(path, ".txtar") {
			there[filepath.Base(path)] = true
		}
		if strings.HasSuffix(path, "_test.go") {
			text, err := os.ReadFile(path)
			require.NoError(t, err)
			for _, m := range function.FindAllStringSubmatch(string(text), -1) {
				there[m[1]] = true
			}
		}
		return nil
	}))
	page, err := os.ReadFile("../../docs/standards.md")
	require.NoError(t, err)
	rows := 0
	for line := range strings.Lines(string(page)) {
		cells := strings.Split(line, "|")
		if len(cells) != 6 || strings.HasPrefix(cells[1], "---") || cells[1] == " standard " {
			continue
		}
		rows++
		named := regexp.MustCompile("`([^`]+)`").FindAllStringSubmatch(cells[4], -1)
		assert.NotEmpty(t, named, line)
		for _, m := range named {
			assert.True(t, there[m[1]], "%s: there is no test %s", strings.TrimSpace(cells[1]), m[1])
		}
	}
	assert.Greater(t, rows, 20)
}
