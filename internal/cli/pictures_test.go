package cli

import (
	"bytes"
	"crypto/sha256"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestPicturesShowTheCurrentOutput compares the output of the commands that docs/screenshots.txt lists with the digests of
// what their pictures were made from. docs/screenshots.sh makes the pictures and notes the digests.
func TestPicturesShowTheCurrentOutput(t *testing.T) {
	if testing.Short() {
		t.Skip("it runs a comparison and a sweep")
	}
	const name = "../../docs/screenshots.txt"
	table, err := filepath.Abs(name)
	require.NoError(t, err)
	text, err := os.ReadFile(table)
	require.NoError(t, err)
	readme, err := os.ReadFile("../../README.md")
	require.NoError(t, err)
	dir := t.TempDir()
	_, err = writeHarbour(dir)
	require.NoError(t, err)
	t.Chdir(dir)
	update := os.Getenv("KESTRIX_UPDATE") != ""
	lines := strings.Split(string(text), "\n")
	pictures := 0
	for i, l := range lines {
		f := strings.Fields(l)
		if len(f) < 6 || f[0] == "#" {
			continue
		}
		pictures++
		alt := regexp.MustCompile(`!\[([^\]]*)\]\(docs/screenshots/` + f[0] + `\.png\)`).FindSubmatch(readme)
		if assert.NotNil(t, alt, "README shows %s", f[0]) {
			assert.Greater(t, len(alt[1]), 40, "the text for those who do not see %s says what it shows", f[0])
		}
		if !samePictures[f[0]] {
			assert.Equal(t, "-", f[4], "%s differs from run to run", f[0])
			continue
		}
		var out bytes.Buffer
		env := &Env{Stdin: strings.NewReader(""), Stdout: &out, Stderr: io.Discard, Getenv: func(key string) string { return map[string]string{"LC_ALL": "C.UTF-8"}[key] }}
		Main(t.Context(), env, f[5:])
		for _, written := range []string{"out.html", "out.svg"} {
			if more, err := os.ReadFile(written); err == nil {
				out.Write(more)
				require.NoError(t, os.Remove(written))
			}
		}
		digest := fmt.Sprintf("%x", sha256.Sum256(out.Bytes()))[:12]
		if update {
			lines[i] = strings.Replace(l, " "+f[4]+" ", " "+digest+" ", 1)
			continue
		}
		assert.Equal(t, digest, f[4], "the output of %q is no longer that of its picture; docs/screenshots.sh %s makes it anew", strings.Join(f[5:], " "), f[0])
	}
	assert.Greater(t, pictures, 15)
	if update {
		require.NoError(t, os.WriteFile(table, []byte(strings.Join(lines, "\n")), 0o644))
	}
}

// samePictures are those of outputs that are the same in each run.
var samePictures = map[string]bool{"check": true, "why": true, "diff": true, "replay": true, "compare": true, "sweep": true, "hunt": true, "page": true, "describe": true, "figure": true, "map": true}
