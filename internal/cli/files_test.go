package cli

import (
	"context"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"kestrix/internal/core/config"
	"kestrix/internal/core/scenario"
	"kestrix/internal/live/standin"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestConfigurationsAreToldFromTraces(t *testing.T) {
	dir := t.TempDir()
	configs, traces := apart([]string{"a.hcl", "morning.log", dir, "-", "day.jsonl.zst", "missing.hcl"})
	assert.Equal(t, []string{"a.hcl", dir, "missing.hcl"}, configs)
	assert.Equal(t, []string{"morning.log", "-", "day.jsonl.zst"}, traces)
	assert.Equal(t, []string{"a", "b"}, commas(" a, ,b,"))
	assert.Empty(t, commas(""))
	assert.Equal(t, []string{"a.hcl", "x.log", "s.hcl"}, bases([]string{"in/a.hcl"}, []string{"logs/x.log"}, "s/s.hcl"))
}

func TestFoldersOfScenarios(t *testing.T) {
	dir := t.TempDir()
	for _, name := range []string{"b.scenario.hcl", "a.scenario.hcl", "site.hcl", "notes.txt"} {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), nil, 0o600))
	}
	require.NoError(t, os.Mkdir(filepath.Join(dir, "c.scenario.hcl"), 0o700))
	got, err := scenarioFiles([]string{"one.hcl", dir})
	require.NoError(t, err)
	assert.Equal(t, []string{"one.hcl", filepath.Join(dir, "a.scenario.hcl"), filepath.Join(dir, "b.scenario.hcl")}, got, "in the order of their names, and nothing else")
	_, err = scenarioFiles([]string{t.TempDir()})
	require.ErrorContains(t, err, "no .scenario.hcl file is in this folder")
}

// TestPipesAreKept: what can be read once is copied, to be read over and over, and
// taken away again.
func TestPipesAreKept(t *testing.T) {
	file := filepath.Join(t.TempDir(), "x.log")
	require.NoError(t, os.WriteFile(file, []byte("in a file\n"), 0o600))
	t.Setenv("TMPDIR", t.TempDir())
	env := &Env{Stdin: strings.NewReader("from a pipe\n"), Getenv: func(string) string { return "" }}
	names, remove, err := keepPipes(context.Background(), env, []string{file, "-"})
	require.NoError(t, err)
	assert.Equal(t, file, names[0], "a file is read where it is")
	for range 2 {
		text, err := os.ReadFile(names[1])
		require.NoError(t, err)
		assert.Equal(t, "from a pipe\n", string(text))
	}
	remove()
	_, err = os.Stat(names[1])
	require.ErrorIs(t, err, os.ErrNotExist)
	assert.FileExists(t, file)
	_, remove, err = keepPipes(context.Background(), env, []string{filepath.Join(t.TempDir(), "no.log")})
	require.NoError(t, err, "whoever opens it says so")
	remove()
}

func TestPlacesAreLookedAtFirst(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, places("", "-", filepath.Join(dir, "new.html")))
	err := places(filepath.Join(dir, "no", "new.html"))
	require.ErrorContains(t, err, "cannot be written: no such file or directory")
	f := figures{png: filepath.Join(dir, "no", "x.png")}
	require.Error(t, f.check())
	f = figures{svg: filepath.Join(dir, "x.svg"), html: filepath.Join(dir, "x.html")}
	require.NoError(t, f.check())
	require.NoError(t, f.write(func(kind string) ([]byte, error) { return []byte(kind), nil }, func() ([]byte, error) { return []byte("page"), nil }))
	for name, want := range map[string]string{"x.svg": "svg", "x.html": "page"} {
		text, err := os.ReadFile(filepath.Join(dir, name))
		require.NoError(t, err)
		assert.Equal(t, want, string(text))
	}
	err = (&figures{png: filepath.Join(dir, "x.png")}).write(func(string) ([]byte, error) { return nil, os.ErrInvalid }, nil)
	require.ErrorContains(t, err, "-png: invalid argument")
	assert.NoFileExists(t, filepath.Join(dir, "x.png"), "nothing half written")
}

func TestHowStandInsBehave(t *testing.T) {
	usual := config.Distribution{Kind: "lognormal", Mean: 40 * time.Millisecond, CV: 0.6}
	fixed := config.Distribution{Kind: "fixed", Mean: time.Second}
	for name, c := range map[string]struct {
		says  config.Distribution
		delay time.Duration
		want  config.Distribution
	}{
		"the scenario says":         {fixed, 0, fixed},
		"it goes before -delay":     {fixed, time.Minute, fixed},
		"only -delay says":          {config.Distribution{}, time.Minute, config.Distribution{}},
		"nobody says":               {config.Distribution{}, 0, usual},
		"a trace that is not there": {config.Distribution{Kind: "from_trace"}, time.Minute, usual},
	} {
		s := standin.StandIn{Name: "pool.a"}
		behave(&s, &scenario.Scenario{Behaviours: []scenario.Behaviour{{Pattern: "*", Service: c.says, Workers: 3, Backlog: 5}}}, &config.Config{Upstreams: []*config.Upstream{{Name: "pool"}}}, c.delay)
		assert.Equal(t, c.want, s.Service, name)
		assert.Equal(t, []int{3, 5}, []int{s.Workers, s.Backlog}, name)
	}
}
