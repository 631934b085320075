package check

import (
	"bytes"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"github.com/hashicorp/hcl/v2/hclsyntax"

	"kestrix/internal/core/config"
)

// Fixed is one finding that was fixed.
type Fixed struct {
	config.Finding
	Dropped string // why its edit was not kept: what it would have brought; empty if it was
}

// mostFixes bounds the edits of one run.
const mostFixes = 500

// Fix applies the edits that findings know, one after the other, and checks again after each. An edit that does not
// fix its finding, or that brings a new one, is dropped. It returns the files, and what was done.
func Fix(files []config.File, check func([]config.File) config.Findings) ([]config.File, []Fixed) {
	var done []Fixed
	tried := map[string]bool{}
	found := check(files)
	for range mostFixes {
		i := len(found) - 1 // the last first, so that places further up stay where they are
		for i >= 0 && (len(found[i].Edits) == 0 || tried[keyOf(found[i])]) {
			i--
		}
		if i < 0 {
			break
		}
		f := found[i]
		changed := apply(files, f.Edits)
		after := check(changed)
		was, is := tally(found), tally(after)
		fix := Fixed{Finding: f}
		if is[keyOf(f)] >= was[keyOf(f)] {
			fix.Dropped = "it is found all the same"
		}
		for _, g := range after {
			if f.Severity == config.Error && g.Severity != config.Error {
				continue // it may have been there before, and could not be seen
			}
			if is[keyOf(g)] > was[keyOf(g)] && keyOf(g) != keyOf(f) {
				fix.Dropped = g.ID + ": " + g.Message
				break
			}
		}
		if fix.Dropped == "" {
			files, found = changed, after
		} else {
			tried[keyOf(f)] = true
		}
		done = append(done, fix)
	}
	return files, done
}

var didYouMean = regexp.MustCompile(`^did you mean "?([^"?]+)"?\?$`)

// suggested gives findings of reading that say what was meant the edit that puts it there.
func suggested(c *config.Config, found config.Findings) {
	t := &trees{files: c.Files}
	for i := range found {
		f := &found[i]
		m := didYouMean.FindStringSubmatch(f.Hint)
		src := t.source(f.Range.Filename)
		if m == nil || f.Edits != nil || !slices.Contains([]string{config.IDUnknown, config.IDChoice, config.IDReference, "KX102"}, f.ID) || f.Range.Start.Byte >= f.Range.End.Byte || f.Range.End.Byte > len(src) {
			continue
		}
		was, with := string(src[f.Range.Start.Byte:f.Range.End.Byte]), m[1]
		switch {
		case strings.HasPrefix(was, `"`):
			with = strconv.Quote(with)
		case strings.HasPrefix(was, "upstream.") && !strings.Contains(with, "."):
			with = "upstream." + with
		case !hclsyntax.ValidIdentifier(strings.ReplaceAll(was, ".", "_")):
			continue
		}
		f.Edits = []config.Edit{{Range: f.Range, Text: with}}
	}
}

// keyOf is what a finding is known by while lines move.
func keyOf(f config.Finding) string { return f.ID + " " + f.Range.Filename + " " + f.Message }

func tally(all config.Findings) map[string]int {
	out := map[string]int{}
	for _, f := range all {
		out[keyOf(f)]++
	}
	return out
}

// apply makes edits in copies of files. A file that was laid out as Format does is so again.
func apply(files []config.File, edits []config.Edit) []config.File {
	out := slices.Clone(files)
	edits = slices.Clone(edits)
	slices.SortFunc(edits, func(a, b config.Edit) int { return b.Range.Start.Byte - a.Range.Start.Byte })
	for i := range out {
		changed := false
		src := out[i].Source
		mark := len(src) - len(bytes.TrimPrefix(src, []byte("\xef\xbb\xbf")))
		for _, e := range edits {
			if e.Range.Filename == out[i].Name && mark+e.Range.End.Byte <= len(src) {
				src = slices.Concat(src[:mark+e.Range.Start.Byte], []byte(e.Text), src[mark+e.Range.End.Byte:])
				changed = true
			}
		}
		if !changed {
			continue
		}
		if was, _, err := config.Format(out[i]); err == nil && bytes.Equal(was, out[i].Source) {
			if is, found, err := config.Format(config.File{Name: out[i].Name, Source: src}); err == nil && len(found) == 0 {
				src = is
			}
		}
		out[i].Source = src
	}
	return out
}
