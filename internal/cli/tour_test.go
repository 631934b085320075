package cli

import (
	"bytes"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/rogpeppe/go-internal/testscript"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kestrix/examples/harbour"
)

// TestTheTourOfTheReadmeRuns runs every command of the README's tour, in its order, in
// the folder that demo -dir writes. Ports are others, so that it runs beside anything.
func TestTheTourOfTheReadmeRuns(t *testing.T) {
	if testing.Short() {
		t.Skip("a rehearsal takes its time")
	}
	readme, err := os.ReadFile("../../README.md")
	require.NoError(t, err)
	_, tour, _ := strings.Cut(string(readme), "\n## A tour\n")
	tour, _, _ = strings.Cut(tour, "\n## Reference\n")
	ports := &freePorts{of: map[string]string{}}
	script := tourScript(t, ports.replace(tour))
	require.Greater(t, strings.Count(script, "\n"), 40, "the README has a tour")
	name := filepath.Join(t.TempDir(), "tour.txtar")
	require.NoError(t, os.WriteFile(name, []byte(script), 0o644))
	testscript.Run(t, testscript.Params{
		Files: []string{name}, RequireExplicitExec: true, RequireUniqueNames: true,
		Setup: func(e *testscript.Env) error {
			e.Setenv("LC_ALL", "C.UTF-8")
			e.Setenv("HOME", e.WorkDir)
			return fs.WalkDir(harbour.Files, ".", func(name string, d fs.DirEntry, err error) error {
				require.NoError(t, err)
				to := filepath.Join(e.WorkDir, name)
				if d.IsDir() {
					return os.MkdirAll(to, 0o755)
				}
				text, err := harbour.Files.ReadFile(name)
				require.NoError(t, err)
				if strings.HasSuffix(name, ".hcl") {
					text = []byte(ports.replace(string(text)))
				}
				return os.WriteFile(to, text, 0o644)
			})
		},
		Cmds: map[string]func(*testscript.TestScript, bool, []string){"exits": exits, "await": await, "ask": askFor, "lines": lines},
	})
}

// tourScript makes a script of the commands of a tour: what serves runs beside the
// others, until its output is wanted.
func tourScript(t *testing.T, tour string) string {
	var out strings.Builder
	var beside []string // names of what runs, and what it writes
	stop := func(command string) {
		kept := beside[:0]
		for _, b := range beside {
			name, file, _ := strings.Cut(b, " ")
			if command == "" || file != "" && strings.Contains(command, file) {
				fmt.Fprintf(&out, "kill -INT %s\nwait %s\n", name, name)
				continue
			}
			kept = append(kept, b)
		}
		beside = kept
	}
	for i, block := range strings.Split(tour, "```") {
		if i%2 == 0 {
			continue
		}
		for _, command := range strings.Split(strings.TrimSpace(block), "\n") {
			command, comment, _ := strings.Cut(command, "#")
			command = strings.TrimSpace(command)
			code := 0
			if comment != "" {
				_, err := fmt.Sscanf(strings.TrimSpace(comment), "exit code %d", &code)
				require.NoError(t, err, "a comment on %q says how it exits", command)
			}
			require.NotContains(t, command, "'", "quotes need a shell, and this is none")
			fmt.Fprintf(&out, "\n# %s\n", command)
			stop(command)
			run, file, _ := strings.Cut(command, " >")
			switch word := strings.Fields(run); {
			case word[0] == "curl":
				fmt.Fprintf(&out, "ask 1 GET %s\nlines answers '^200 ' 1\n", word[1])
			case word[0] == "kestrix" && (word[1] == "serve" || word[1] == "standin" && word[2] != "-tell"):
				name := fmt.Sprintf("beside%d", len(beside))
				fmt.Fprintf(&out, "exec sh -c 'exec %s -ready %s.ready >%s 2>%s.log' &%s&\nawait %s.ready\n", run, name, firstOf(file, name+".out"), name, name, name)
				beside = append(beside, strings.TrimSpace(name+" "+file))
			default:
				require.Equal(t, "kestrix", word[0])
				require.Empty(t, file)
				fmt.Fprintf(&out, "exits %d %s\n", code, command)
			}
		}
	}
	stop("")
	return out.String()
}

func firstOf(a, b string) string {
	if a != "" {
		return a
	}
	return b
}

// freePorts has ports that are free in the places of others.
type freePorts struct {
	of map[string]string
}

var portOf = regexp.MustCompile(`((?:127\.0\.0\.1|0\.0\.0\.0):)([0-9]{4})\b`)

func (p *freePorts) replace(text string) string {
	return portOf.ReplaceAllStringFunc(text, func(address string) string {
		host, port, _ := strings.Cut(address, ":")
		if p.of[port] == "" {
			p.of[port] = freePort()
		}
		return host + ":" + p.of[port]
	})
}

// TestTheIncidentOfTheReadmeIsTrue runs the commands of the README's first screen and looks for each line that it shows.
func TestTheIncidentOfTheReadmeIsTrue(t *testing.T) {
	readme, err := os.ReadFile("../../README.md")
	require.NoError(t, err)
	_, incident, _ := strings.Cut(string(readme), "```\n$ kestrix ")
	incident, _, _ = strings.Cut(incident, "```")
	dir := t.TempDir()
	_, err = writeHarbour(dir)
	require.NoError(t, err)
	t.Chdir(dir)
	commands := strings.Split(incident, "\n$ kestrix ")
	require.Len(t, commands, 3)
	for _, c := range commands {
		lines := strings.Split(strings.TrimSpace(c), "\n")
		var out bytes.Buffer
		env := &Env{Stdin: strings.NewReader(""), Stdout: &out, Stderr: io.Discard, Getenv: func(string) string { return "" }}
		Main(t.Context(), env, strings.Fields(lines[0]))
		shown := strings.Join(strings.Fields(out.String()), " ")
		for _, l := range lines[1:] {
			assert.Contains(t, shown, strings.Join(strings.Fields(l), " "), lines[0])
		}
	}
}
