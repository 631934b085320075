package study

import (
	"context"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/rogpeppe/go-internal/txtar"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kestrix/internal/core/config"
	"kestrix/internal/core/replay"
	"kestrix/internal/core/result"
	"kestrix/internal/core/scenario"
)

// situation is one of the catalogue: a scenario in which something is the cause, with
// parameters within ranges, and a twin that differs in one of them and in which it is not.
type situation struct {
	cause  string
	ranges [][3]string // name, from, to
	twin   [3]string
	config string
	text   string // of the scenario
}

func readSituation(t *testing.T, name string) situation {
	a, err := txtar.ParseFile(name)
	require.NoError(t, err)
	s := situation{}
	for line := range strings.Lines(string(a.Comment)) {
		key, value, ok := strings.Cut(strings.TrimSpace(line), ": ")
		if !ok || strings.HasPrefix(line, "#") {
			continue
		}
		from, to, isRange := strings.Cut(value, "..")
		switch name, twin := strings.CutPrefix(key, "twin "); {
		case key == "cause":
			s.cause = value
		case !isRange:
			require.Fail(t, "not a range", line)
		case twin:
			s.twin = [3]string{name, from, to}
		default:
			s.ranges = append(s.ranges, [3]string{key, from, to})
		}
	}
	for _, f := range a.Files {
		switch f.Name {
		case "pool.hcl":
			s.config = string(f.Data)
		case "it.scenario.hcl":
			s.text = string(f.Data)
		}
	}
	require.NotEmpty(t, s.twin[0], "%s has no twin", name)
	return s
}

// draw returns a value of a range: a whole number, or one with a fraction if its ends have
// one.
func draw(t *testing.T, r *rand.Rand, x [3]string) string {
	from, err := strconv.ParseFloat(x[1], 64)
	require.NoError(t, err)
	to, err := strconv.ParseFloat(x[2], 64)
	require.NoError(t, err)
	v := from + r.Float64()*(to-from)
	if strings.Contains(x[1]+x[2], ".") {
		return strconv.FormatFloat(v, 'f', 3, 64)
	}
	return strconv.Itoa(int(v + 0.5))
}

// read reads a situation with parameters.
func (s *situation) read(t *testing.T, with map[string]string) (*config.Config, *scenario.Scenario) {
	fill := func(text string) string {
		return regexp.MustCompile(`\{\{(\w+)\}\}`).ReplaceAllStringFunc(text, func(m string) string {
			v, ok := with[m[2:len(m)-2]]
			require.True(t, ok, "%s has no range", m)
			return v
		})
	}
	c, found, err := config.Read([]config.File{{Name: "pool.hcl", Source: []byte(fill(s.config))}})
	require.NoError(t, err)
	require.Empty(t, found)
	sc, found, err := scenario.Read(config.File{Name: "it.scenario.hcl", Source: []byte(fill(s.text))}, c)
	require.NoError(t, err)
	require.Empty(t, found)
	return c, sc
}

// diagnosed replays a situation with parameters and returns what is said of it.
func diagnosed(t *testing.T, s situation, with map[string]string) (*result.Replay, *result.Diagnosis) {
	c, sc := s.read(t, with)
	o := replay.Options{Seed: sc.Seed}
	base, err := replay.Run(context.Background(), c, sc, nil, o)
	require.NoError(t, err)
	d, err := Diagnose(context.Background(), c, sc, nil, o, base)
	require.NoError(t, err)
	return base, d
}

// TestTheCatalogueOfCauses draws each situation anew, and its twin: the cause is named where
// it is one, and not where it is none.
func TestTheCatalogueOfCauses(t *testing.T) {
	all, err := filepath.Glob("testdata/diagnosis/*.txtar")
	require.NoError(t, err)
	draws := 2
	if n, err := strconv.Atoi(os.Getenv("KESTRIX_DRAWS")); err == nil {
		draws = n
	}
	if testing.Short() {
		draws = 1
	}
	seed := uint64(time.Now().UnixNano())
	told := map[string]bool{}
	for _, name := range all {
		s := readSituation(t, name)
		told[s.cause] = true
		t.Run(strings.TrimSuffix(filepath.Base(name), ".txtar"), func(t *testing.T) {
			for n := range draws {
				r := rand.New(rand.NewPCG(seed, uint64(n)))
				with := map[string]string{"seed": strconv.Itoa(1 + r.IntN(1000))}
				for _, x := range s.ranges {
					with[x[0]] = draw(t, r, x)
				}
				for _, twin := range []bool{false, true} {
					if twin {
						with[s.twin[0]] = draw(t, r, s.twin)
					}
					base, d := diagnosed(t, s, with)
					var causes []string
					if d != nil {
						for _, c := range d.Causes {
							causes = append(causes, fmt.Sprintf("%s: %s: %s (%d of %d fail instead of %d, p99 %.3g instead of %.3g)", c.Cause, c.Says, c.Change, c.With.Failed, c.With.Requests, c.Before.Failed, c.With.ElapsedP99, c.Before.ElapsedP99))
						}
					}
					named := strings.Contains(strings.Join(causes, "\n"), s.cause+": ")
					assert.Equal(t, !twin, named, "twin %v of %s with %v: %d of %d failed, p99 %.3g: %s", twin, s.cause, with, base.Failed, base.Requests, base.Elapsed.P99, strings.Join(causes, "\n"))
					if testing.Verbose() {
						t.Logf("twin %v %v: %d of %d failed: %s", twin, with, base.Failed, base.Requests, strings.Join(causes, "\n  "))
					}
				}
			}
		})
	}
	page, err := os.ReadFile("../../../docs/replay.md")
	require.NoError(t, err)
	for _, c := range Causes {
		assert.True(t, told[c.Word], "the catalogue has nothing for %s", c.Word)
		assert.Contains(t, string(page), "| `"+c.Word+"` | "+c.Doc+" |\n")
	}
}
