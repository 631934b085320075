package check

import (
	"slices"
	"strings"
	"testing"

	"github.com/hashicorp/hcl/v2"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kestrix/internal/core/config"
)

// recheck reads files and holds them against the rules.
func recheck(t require.TestingT) func([]config.File) config.Findings {
	return func(files []config.File) config.Findings {
		c, found, err := config.ReadIn(files, config.World{Env: secrets})
		require.NoError(t, err)
		return Run(c, found, nil)
	}
}

// TestFixesMendTheirExamples: where a rule knows an edit for its failing example, what is found goes, nothing new comes,
// and comments stay. At least thirty rules have one.
func TestFixesMendTheirExamples(t *testing.T) {
	fixed := map[string]bool{}
	for _, r := range Rules {
		bad, _ := r.Examples()
		files, done := Fix([]config.File{{Name: "bad.hcl", Source: []byte(bad)}}, recheck(t))
		for _, f := range done {
			assert.True(t, f.Dropped == "" || f.ID == "KX002", "%s: %s: %s", f.ID, f.Message, f.Dropped) // of which the right key is there as well
			fixed[f.ID] = f.Dropped == ""
		}
		if len(done) == 0 {
			assert.Equal(t, bad, string(files[0].Source), r.ID)
			continue
		}
		if !slices.Contains([]string{"KX106", "KX305", "KX616", "KX902"}, r.ID) { // whose line goes, with what stands behind it
			assert.Equal(t, strings.Count(bad, "#"), strings.Count(string(files[0].Source), "#"), "%s: comments stay\n%s", r.ID, files[0].Source)
		}
	}
	assert.GreaterOrEqual(t, len(fixed), 30, "%v", fixed)
}

// TestAFixThatBringsAnotherFindingIsDropped, and one that mends nothing.
func TestAFixThatBringsAnotherFindingIsDropped(t *testing.T) {
	at := func(f config.File) hcl.Range {
		return hcl.Range{Filename: f.Name, Start: hcl.Pos{Line: 1, Column: 1, Byte: 0}, End: hcl.Pos{Line: 1, Column: 2, Byte: 1}}
	}
	// Each letter is a finding; b is mended into c, which is worse, a into nothing, and x not at all.
	check := func(files []config.File) (out config.Findings) {
		with := map[byte]string{'a': "-", 'b': "c", 'x': "x"}
		for i, c := range files[0].Source {
			if c != '-' {
				f := config.Finding{ID: string(c), Range: at(files[0]), Message: string(c)}
				if text, ok := with[c]; ok {
					r := at(files[0])
					r.Start.Byte, r.End.Byte = i, i+1
					f.Edits = []config.Edit{{Range: r, Text: text}}
				}
				out = append(out, f)
			}
		}
		return out
	}
	files, done := Fix([]config.File{{Name: "f", Source: []byte("bax")}}, check)
	assert.Equal(t, "b-x", string(files[0].Source))
	var words []string
	for _, d := range done {
		words = append(words, d.ID+" "+d.Dropped)
	}
	assert.Equal(t, []string{"x it is found all the same", "a ", "b c: c"}, words)
}

// TestWhatWasMeantIsPutThere where reading says so.
func TestWhatWasMeantIsPutThere(t *testing.T) {
	shop := clean(t)["shop.hcl"]
	for was, is := range map[string]string{
		"algorithm = \"least-connections\"": "algorithm = \"least-conections\"",
		"send_to = upstream.sailings":       "send_to = upstream.sailing",
		"    down_after = 2\n":              "    down_afer  = 2\n",
		"  slow_start = \"30s\"\n":          "  slow_strt = \"30s\"\n",
		"on_loss = \"move\"":                "on_loss = \"mvoe\"",
	} {
		require.Contains(t, shop, was)
		files, done := Fix([]config.File{{Name: "shop.hcl", Source: []byte(strings.Replace(shop, was, is, 1))}}, recheck(t))
		assert.NotEmpty(t, done, is)
		laid, _, err := config.Format(files[0])
		require.NoError(t, err)
		assert.Equal(t, shop, string(laid), is)
	}
}
