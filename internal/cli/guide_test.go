package cli

import (
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// guide is a page of docs as a list of what is done and what is seen.
type guide struct {
	commands []string
	seen     []string // lines that the last command comes to print
}

var fences = regexp.MustCompile("(?s)```(\\w+)( \\S+)?\n(.*?)```")

// readGuide takes commands from `sh` blocks, what they print from `text` blocks,
// and files from blocks that name one.
func readGuide(t *testing.T, name, dir string, change func(string) string) []guide {
	page, err := os.ReadFile(name)
	require.NoError(t, err)
	var out []guide
	for _, m := range fences.FindAllStringSubmatch(change(string(page)), -1) {
		lines := strings.Split(strings.TrimSuffix(m[3], "\n"), "\n")
		switch {
		case m[1] == "sh":
			out = append(out, guide{commands: lines})
		case m[1] == "text":
			out[len(out)-1].seen = lines
		case m[2] != "":
			file := m[3]
			out = append(out, guide{commands: []string{"cat >" + strings.TrimSpace(m[2]) + " <<'END'\n" + file + "END"}})
		}
	}
	return out
}

var digits, spaces = regexp.MustCompile(`\b[0-9][0-9.,:]*`), regexp.MustCompile(`[ \t]+`)

// shape is a line without what differs from run to run: numbers, and the width of
// columns.
func shape(line string) string {
	return spaces.ReplaceAllString(digits.ReplaceAllString(strings.TrimSpace(line), "0"), " ")
}

// TestGuides does what the guides tell to do, at addresses of its own, and holds
// what is seen to what they show.
func TestGuides(t *testing.T) {
	if testing.Short() {
		t.Skip("they take their time")
	}
	me, err := os.Executable()
	require.NoError(t, err)
	pages, err := filepath.Abs("../../docs")
	require.NoError(t, err)
	for _, name := range []string{"tutorial.md", "pool.md", "failing.md", "stickiness.md", "behind.md", "finding-the-weakest-spot.md"} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			dir, bin := t.TempDir(), t.TempDir()
			require.NoError(t, os.Symlink(me, filepath.Join(bin, "kestrix")))
			if _, err := exec.LookPath("curl"); err != nil {
				require.NoError(t, os.Symlink(me, filepath.Join(bin, "curl")))
			}
			host := fmt.Sprintf("127.%d.%d.%d", 1+rand.IntN(250), rand.IntN(250), 1+rand.IntN(250))
			var running []*exec.Cmd
			defer func() {
				for _, c := range slices.Backward(running) {
					_ = syscall.Kill(-c.Process.Pid, syscall.SIGINT)
					_ = c.Wait()
				}
			}()
			run := func(command string) (string, error) {
				c := exec.Command("sh", "-c", command)
				c.Dir = dir
				c.Env = append(os.Environ(), "PATH="+bin+":"+os.Getenv("PATH"), "XDG_RUNTIME_DIR="+dir, "LC_ALL=C.UTF-8", "COLUMNS=110")
				if rest, ok := strings.CutSuffix(command, "&"); ok {
					c.Args[2], c.SysProcAttr = "exec "+rest, &syscall.SysProcAttr{Setpgid: true}
					require.NoError(t, c.Start())
					running = append(running, c)
					return "", nil
				}
				out, err := c.CombinedOutput()
				return string(out), err
			}
			for _, step := range readGuide(t, filepath.Join(pages, name), dir, func(s string) string { return strings.ReplaceAll(s, "127.0.0.1", host) }) {
				for i, command := range step.commands {
					var missing []string
					var out string
					try := func() bool {
						var err error
						out, err = run(command)
						var ee *exec.ExitError
						found := strings.HasPrefix(command, "kestrix diff") || strings.HasPrefix(command, "kestrix hunt") || strings.Contains(command, "weakest.scenario.hcl")
						if err != nil && !(found && errors.As(err, &ee) && ee.ExitCode() == 1) {
							missing = []string{err.Error()}
							return false
						}
						missing = nil
						if i < len(step.commands)-1 {
							return true
						}
						got := shape(strings.ReplaceAll(out, "\n", " "))
						for _, line := range step.seen {
							if want := shape(line); want != "" && want != "..." && !strings.Contains(got, want) {
								missing = append(missing, line)
							}
						}
						return len(missing) == 0
					}
					// What changes takes its time; nothing here hopes that a pause is long enough.
					for end := time.Now().Add(20 * time.Second); !try() && time.Now().Before(end) && !strings.Contains(command, " -o "); time.Sleep(100 * time.Millisecond) {
					}
					if !assert.Empty(t, missing, "%s\n%s", command, out) {
						return
					}
				}
			}
		})
	}
}

// plainClient is what the guides use of curl, for machines without it: -s, -i,
// -b FILE, -c FILE, -X METHOD, URL.
func plainClient(args []string) int {
	method, url, with := "GET", "", false
	var jar, keep string
	for i := 0; i < len(args); i++ {
		switch args[i] {
		case "-s", "-N":
		case "-i":
			with = true
		case "-b":
			i++
			jar = args[i]
		case "-c":
			i++
			keep = args[i]
		case "-X":
			i++
			method = args[i]
		default:
			url = args[i]
		}
	}
	q, err := http.NewRequest(method, url, nil)
	if err == nil {
		if b, e := os.ReadFile(jar); e == nil {
			q.Header.Set("Cookie", strings.TrimSpace(string(b)))
		}
		var res *http.Response
		if res, err = http.DefaultClient.Do(q); err == nil {
			defer res.Body.Close()
			if with {
				fmt.Printf("%s %s\n", res.Proto, res.Status)
				_ = res.Header.Write(os.Stdout)
				fmt.Println()
			}
			if keep != "" {
				var all []string
				for _, c := range res.Cookies() {
					all = append(all, c.Name+"="+c.Value)
				}
				err = os.WriteFile(keep, []byte(strings.Join(all, "; ")), 0o600)
			}
			_, _ = io.Copy(os.Stdout, res.Body)
		}
	}
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		return 1
	}
	return 0
}
