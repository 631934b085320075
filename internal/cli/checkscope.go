package cli

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strconv"

	"kestrix/internal/core/check"
)

// levelsName is the file in which a repository says how severe it takes rules.
const levelsName = ".kestrix-rules"

// levelsFor reads the file of levels for a configuration: of its folder, or of the nearest folder above that has one, up to
// that in which the repository of git begins.
func levelsFor(name string) (string, check.Levels, error) {
	dir, err := filepath.Abs(filepath.Dir(name))
	if err != nil {
		return "", nil, unusable(err)
	}
	for at := filepath.Dir(name); ; at, dir = filepath.Join(at, ".."), filepath.Dir(dir) {
		file := filepath.Join(at, levelsName)
		src, err := os.ReadFile(file)
		switch {
		case err == nil:
			levels, err := check.ParseLevels(file, src)
			if err != nil {
				return "", nil, unusable(err)
			}
			return file, levels, nil
		case !errors.Is(err, os.ErrNotExist):
			return "", nil, unusable(fmt.Errorf("%s cannot be read: %w", file, reason(err)))
		}
		if _, err := os.Stat(filepath.Join(dir, ".git")); err == nil || dir == filepath.Dir(dir) {
			return "", nil, nil
		}
	}
}

// readBaseline reads the fingerprints of an earlier result; nil without one.
func readBaseline(name string) (map[string]bool, error) {
	if name == "" {
		return nil, nil
	}
	src, err := os.ReadFile(name)
	if err != nil {
		return nil, unusable(fmt.Errorf("%s cannot be read: %w", name, reason(err)))
	}
	var result struct {
		Findings []struct {
			Fingerprint string `json:"fingerprint"`
		} `json:"findings"`
	}
	if err := json.Unmarshal(src, &result); err != nil || result.Findings == nil {
		return nil, unusable(fmt.Errorf("%s is no result of kestrix check -format json", name))
	}
	out := map[string]bool{}
	for i, f := range result.Findings {
		if f.Fingerprint == "" {
			return nil, unusable(fmt.Errorf("%s: finding %d has no fingerprint; write the file anew with kestrix check -format json -o %s", name, i+1, name))
		}
		out[f.Fingerprint] = true
	}
	return out, nil
}

// changes are the lines of files that differ from a revision; nil is all lines of all.
type changes map[string]*[][2]int // first and last; a nil list is all of a file

// has reports whether lines from to to of a file are among them, or some of them.
func (c changes) has(file string, from, to int) bool {
	if c == nil {
		return true
	}
	list, ok := c[file]
	if !ok {
		return true // of what is not a file of the repository nothing is known
	}
	if list == nil {
		return true
	}
	for _, r := range *list {
		if from <= r[1] && max(to, from) >= r[0] {
			return true
		}
	}
	return false
}

var hunkHead = regexp.MustCompile(`(?m)^@@ -\S+ \+(\d+)(?:,(\d+))? @@`)

// changedSince asks git which lines of files differ from a revision.
func changedSince(ctx context.Context, rev string, files []string) (changes, error) {
	if rev == "" {
		return nil, nil
	}
	out := changes{}
	for _, f := range files {
		dir, base := filepath.Dir(f), filepath.Base(f)
		git := func(args ...string) ([]byte, error) {
			cmd := exec.CommandContext(ctx, "git", append([]string{"-C", dir}, args...)...)
			text, err := cmd.Output()
			var failed *exec.ExitError
			if errors.As(err, &failed) {
				if line, _, _ := bytes.Cut(bytes.TrimSpace(failed.Stderr), []byte("\n")); len(line) > 0 {
					return nil, unusable(fmt.Errorf("-changed-since %s: git says of %s: %s", rev, f, line))
				}
			}
			if err != nil {
				return nil, unusable(fmt.Errorf("-changed-since %s: git cannot be asked: %w", rev, err))
			}
			return text, nil
		}
		if _, err := git("rev-parse", "--verify", "--quiet", "--end-of-options", rev+"^{commit}"); err != nil {
			return nil, unusable(fmt.Errorf("-changed-since: %s is no revision of the repository of %s", rev, f))
		}
		known, err := git("ls-files", "--", base)
		if err != nil {
			return nil, err
		}
		if len(bytes.TrimSpace(known)) == 0 {
			out[f] = nil // new, and not in the repository yet
			continue
		}
		text, err := git("diff", "--unified=0", "--no-color", "--no-ext-diff", rev, "--", base)
		if err != nil {
			return nil, err
		}
		lines := [][2]int{}
		for _, m := range hunkHead.FindAllSubmatch(text, -1) {
			from, _ := strconv.Atoi(string(m[1]))
			n := 1
			if len(m[2]) > 0 {
				n, _ = strconv.Atoi(string(m[2]))
			}
			if n > 0 {
				lines = append(lines, [2]int{from, from + n - 1})
			}
		}
		out[f] = &lines
	}
	return out, nil
}
