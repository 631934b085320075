package main

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"time"
)

// source is the commit that is built.
type source struct {
	root   string
	commit string
	date   time.Time // of the commit
	tag    string    // of a version, without its v; empty for a commit between releases
}

// readSource looks at the checkout, which must be as it was committed.
func readSource(ctx context.Context, root string) (*source, error) {
	for _, tool := range []string{"git", "go"} {
		if _, err := exec.LookPath(tool); err != nil {
			return nil, fmt.Errorf("%s is not in PATH, and a release needs it", tool)
		}
	}
	if _, err := os.Stat(filepath.Join(root, "tools", "packagers", "go.mod")); err != nil {
		return nil, fmt.Errorf("%s is not the top of a checkout of kestrix: there is no tools/packagers/go.mod", root)
	}
	changes, err := git(ctx, root, "status", "--porcelain", "--untracked-files=normal")
	if err != nil {
		return nil, err
	}
	if changes != "" {
		files := strings.Split(changes, "\n")
		text := strings.TrimSpace(files[0])
		if more := len(files) - 1; more > 0 {
			text += fmt.Sprintf(" and %d more", more)
		}
		return nil, fmt.Errorf("the tree has changes that are not committed (%s); commit or stash them, so that the commit says what is built", text)
	}
	s := &source{root: root}
	if s.commit, err = git(ctx, root, "rev-parse", "HEAD"); err != nil {
		return nil, err
	}
	seconds, err := git(ctx, root, "log", "-1", "--format=%ct")
	if err != nil {
		return nil, err
	}
	at, err := strconv.ParseInt(seconds, 10, 64)
	if err != nil {
		return nil, err
	}
	s.date = time.Unix(at, 0).UTC()
	tags, err := git(ctx, root, "tag", "--points-at", "HEAD", "--list", "v[0-9]*")
	if err != nil {
		return nil, err
	}
	if strings.Contains(tags, "\n") {
		return nil, fmt.Errorf("the commit has several tags of versions (%s); keep one", strings.ReplaceAll(tags, "\n", ", "))
	}
	s.tag = strings.TrimPrefix(tags, "v")
	return s, nil
}

// git returns what a command of git prints.
func git(ctx context.Context, root string, args ...string) (string, error) {
	out, err := exec.CommandContext(ctx, "git", append([]string{"-C", root}, args...)...).CombinedOutput()
	text := strings.TrimSpace(string(out))
	if err != nil {
		return "", fmt.Errorf("git %s: %w\n%s", strings.Join(args, " "), err, text)
	}
	return text, nil
}

// heading is that of a version in the changelog.
var heading = regexp.MustCompile(`(?m)^## ([0-9]+\.[0-9]+\.[0-9]+)(?: \(unreleased\)| - (\d{4}-\d{2}-\d{2}))?$`)

// versionOf returns the version of a release: that of the program at its tag, and one that
// comes before it, by semantic versioning, for any other commit.
func (s *source) versionOf(program string) (string, error) {
	log, err := os.ReadFile(filepath.Join(s.root, "CHANGELOG.md"))
	if err != nil {
		return "", err
	}
	newest := heading.FindSubmatch(log)
	switch {
	case newest == nil:
		return "", errors.New("CHANGELOG.md has no heading of a version, like: ## 1.2.3 - 2026-04-03")
	case string(newest[1]) != program:
		return "", fmt.Errorf("the program is version %s (internal/cli/version.go), and CHANGELOG.md begins with %s", program, newest[1])
	case s.tag == "":
		return fmt.Sprintf("%s-snapshot.%s.%s", program, s.date.Format("20060102150405"), s.commit[:12]), nil
	case s.tag != program:
		return "", fmt.Errorf("the tag is v%s, and the program is version %s (internal/cli/version.go)", s.tag, program)
	case len(newest[2]) == 0:
		return "", fmt.Errorf("CHANGELOG.md has no date for %s; write: ## %s - %s", program, program, s.date.Format("2006-01-02"))
	}
	return program, nil
}
