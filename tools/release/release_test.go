package main

import (
	"bytes"
	"context"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// checkout makes a small one whose program needs no module.
func checkout(t *testing.T, files map[string]string) (root string, git func(args ...string)) {
	root = t.TempDir()
	all := map[string]string{
		"go.mod":                  "module kestrix\n\ngo 1.26.0\n",
		".gitignore":              "/dist/\n",
		"CHANGELOG.md":            "# Changelog\n\n## 1.2.3 (unreleased)\n",
		"tools/packagers/go.mod":  "module kestrix/tools/packagers\n\ngo 1.26.0\n",
		"cmd/kestrix/main.go":     program,
		"packaging/Containerfile": "FROM scratch\n",
	}
	for name, text := range files {
		all[name] = text
	}
	for name, text := range all {
		require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(root, name)), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(root, name), []byte(text), 0o644))
	}
	git = func(args ...string) {
		out, err := exec.Command("git", append([]string{"-C", root, "-c", "user.name=test", "-c", "user.email=test@tern.example"}, args...)...).CombinedOutput()
		require.NoError(t, err, "%s", out)
	}
	git("init", "-q")
	git("add", "-A")
	git("commit", "-qm", "all of it")
	return root, git
}

// program tells its version as kestrix does.
const program = `package main

import (
	"fmt"
	"runtime/debug"
)

func main() {
	commit := ""
	info, _ := debug.ReadBuildInfo()
	for _, s := range info.Settings {
		if s.Key == "vcs.revision" {
			commit = s.Value
		}
	}
	fmt.Printf("{\"version\": \"1.2.3\", \"commit\": %q, \"modified\": false}\n", commit)
}
`

// TestWhatCannotBeReleased: one clear message for each, and nothing is written.
func TestWhatCannotBeReleased(t *testing.T) {
	t.Setenv("GOPROXY", "off")
	for _, x := range []struct {
		name, only, want string
		files            map[string]string
		spoil            func(root string, git func(...string))
	}{
		{name: "changes", want: "the tree has changes that are not committed (M CHANGELOG.md and 1 more); commit or stash them", spoil: func(root string, _ func(...string)) {
			require.NoError(t, os.WriteFile(filepath.Join(root, "CHANGELOG.md"), []byte("x"), 0o644))
			require.NoError(t, os.WriteFile(filepath.Join(root, "new.go"), []byte("x"), 0o644))
		}},
		{name: "a program that does not build", want: "does not build: exit status 1\n", files: map[string]string{"cmd/kestrix/main.go": "package main\n\nfunc main() { return 1 }\n"}},
		{name: "a tool that cannot be had", want: "cannot be built from tools/packagers: exit status 1\n"},
		{name: "no checkout", want: "is not the top of a checkout of kestrix: there is no tools/packagers/go.mod", spoil: func(root string, _ func(...string)) {
			require.NoError(t, os.RemoveAll(filepath.Join(root, "tools")))
		}},
		{name: "a platform", only: "linux/amd64, plan9/arm", want: `-only cannot have " plan9/arm"; there are [linux/amd64 linux/arm64 darwin/arm64]`},
		{name: "two tags", want: "the commit has several tags of versions (v1.2.3, v1.2.4); keep one", spoil: func(_ string, git func(...string)) { git("tag", "v1.2.3"); git("tag", "v1.2.4") }},
		{name: "another tag", want: "the tag is v1.2.4, and the program is version 1.2.3", spoil: func(_ string, git func(...string)) { git("tag", "v1.2.4") }},
		{name: "a changelog of another version", want: "the program is version 1.2.3 (internal/cli/version.go), and CHANGELOG.md begins with 1.2.2", files: map[string]string{"CHANGELOG.md": "## 1.2.2 - 2026-04-03\n"}},
		{name: "no changelog of versions", want: "CHANGELOG.md has no heading of a version", files: map[string]string{"CHANGELOG.md": "# Changelog\n"}},
		{name: "a release without a date", want: "CHANGELOG.md has no date for 1.2.3; write: ## 1.2.3 - 20", spoil: func(_ string, git func(...string)) { git("tag", "v1.2.3") }},
	} {
		t.Run(x.name, func(t *testing.T) {
			root, git := checkout(t, x.files)
			if x.spoil != nil {
				x.spoil(root, git)
			}
			t.Setenv("GOMODCACHE", t.TempDir()) // no tool is there
			err := run(t.Context(), root, "", x.only, &bytes.Buffer{}, &bytes.Buffer{})
			require.ErrorContains(t, err, x.want)
			assert.NoDirExists(t, filepath.Join(root, "dist"))
		})
	}
	t.Run("no git", func(t *testing.T) {
		root, _ := checkout(t, nil)
		t.Setenv("PATH", t.TempDir())
		require.EqualError(t, run(t.Context(), root, "", "", &bytes.Buffer{}, &bytes.Buffer{}), "git is not in PATH, and a release needs it")
	})
	t.Run("interrupted", func(t *testing.T) {
		root, _ := checkout(t, nil)
		ctx, cancel := context.WithCancel(t.Context())
		cancel()
		require.Error(t, run(ctx, root, "", "", &bytes.Buffer{}, &bytes.Buffer{}))
		assert.NoDirExists(t, filepath.Join(root, "dist"))
	})
}

// TestVersions: a tagged commit has the version of its tag, any other one that counts as older.
func TestVersions(t *testing.T) {
	root := t.TempDir()
	log := func(text string) {
		require.NoError(t, os.WriteFile(filepath.Join(root, "CHANGELOG.md"), []byte(text), 0o644))
	}
	s := &source{root: root, commit: "0123456789abcdef", date: time.Date(2026, 4, 3, 9, 12, 5, 0, time.UTC)}
	log("# Changelog\n\n## 1.2.3 (unreleased)\n\n## 1.2.2 - 2026-03-01\n")
	v, err := s.versionOf("1.2.3")
	require.NoError(t, err)
	assert.Equal(t, "1.2.3-snapshot.20260403091205.0123456789ab", v)
	s.tag = "1.2.3"
	log("## 1.2.3 - 2026-04-03\n")
	v, err = s.versionOf("1.2.3")
	require.NoError(t, err)
	assert.Equal(t, "1.2.3", v)
}

// TestTheChangelogBeginsWithTheProgramsVersion holds the checkout at hand to what a release needs.
func TestTheChangelogBeginsWithTheProgramsVersion(t *testing.T) {
	text, err := os.ReadFile("../../internal/cli/version.go")
	require.NoError(t, err)
	_, rest, _ := strings.Cut(string(text), `const Version = "`)
	version, _, _ := strings.Cut(rest, `"`)
	s := &source{root: "../..", commit: "0123456789abcdef"}
	_, err = s.versionOf(version)
	require.NoError(t, err)
}

// TestATargetThatDoesNotBuild comes late in a release, and leaves nothing of it either.
func TestATargetThatDoesNotBuild(t *testing.T) {
	if os.Getenv("KESTRIX_LONG") == "" {
		t.Skip("it builds packages; .ci/long runs it")
	}
	dir := filepath.Join(t.TempDir(), "clone")
	for _, c := range [][]string{
		{"git", "clone", "-q", "../..", dir},
		{"sh", "-c", "echo 'package main\n\nvar x int = true' >" + dir + "/cmd/kestrix/broken_darwin.go"},
		{"git", "-C", dir, "add", "-A"},
		{"git", "-C", dir, "-c", "user.name=test", "-c", "user.email=test@tern.example", "commit", "-qm", "broken"},
	} {
		out, err := exec.Command(c[0], c[1:]...).CombinedOutput()
		require.NoError(t, err, "%s", out)
	}
	err := run(t.Context(), dir, "", "linux/amd64,darwin/arm64", testWriter{t}, testWriter{t})
	require.ErrorContains(t, err, "darwin/arm64 does not build: exit status 1\n")
	require.ErrorContains(t, err, "broken_darwin.go:3:13")
	left, err := os.ReadDir(filepath.Join(dir, "dist"))
	require.NoError(t, err)
	assert.Empty(t, left)
}
