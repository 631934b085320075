package check

import (
	"bytes"
	"fmt"
	"path"
	"regexp"

	"github.com/cespare/xxhash/v2"

	"kestrix/internal/core/config"
)

var figures = regexp.MustCompile(`[0-9]+`)

// Fingerprints returns a name for each finding, which stays the same while lines above it come and go: by its rule, its file,
// its message without figures and the text of its line. Of several that have all that in common each has its own, in their
// order.
func Fingerprints(all config.Findings, files []config.File) []string {
	lines := map[string][][]byte{}
	for _, f := range files {
		lines[f.Name] = bytes.Split(f.Source, []byte("\n"))
	}
	seen := map[uint64]int{}
	out := make([]string, len(all))
	for i, f := range all {
		line := []byte{}
		if l := lines[f.Range.Filename]; f.Range.Start.Line >= 1 && f.Range.Start.Line <= len(l) {
			line = bytes.Join(bytes.Fields(l[f.Range.Start.Line-1]), []byte(" "))
		}
		h := xxhash.Sum64String(fmt.Sprintf("%s\x00%s\x00%s\x00%s", f.ID, path.Base(f.Range.Filename), figures.ReplaceAllString(f.Message, "n"), line))
		seen[h]++
		out[i] = fmt.Sprintf("%016x-%d", h, seen[h])
	}
	return out
}
