package cli

import (
	"bytes"
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"math/rand/v2"
	"net"
	"net/http"
	"net/http/cookiejar"
	"os"
	"os/exec"
	"os/signal"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/rogpeppe/go-internal/testscript"
	"github.com/stretchr/testify/require"

	"kestrix/examples/harbour"
)

func TestMain(m *testing.M) {
	testscript.Main(m, map[string]func(){
		"kestrix": func() {
			ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
			code := Main(ctx, &Env{Stdin: os.Stdin, Stdout: os.Stdout, Stderr: os.Stderr, Getenv: os.Getenv}, os.Args[1:])
			stop()
			os.Exit(code)
		},
		"curl": func() { os.Exit(plainClient(os.Args[1:])) },
	})
}

// oneByOne are scripts of commands that do one thing after the other: the race detector, for
// which tests are short, would find nothing in them.
var oneByOne = []string{"bad", "check", "checktrace", "checkways", "completion", "diff", "fmt", "help", "map", "mistakes", "rules", "slips"}

// scripts returns the names of the scripts that are to run.
func scripts(t *testing.T) (out []string) {
	all, err := filepath.Glob("testdata/script/*.txtar")
	require.NoError(t, err)
	require.Greater(t, len(all), 30)
	for _, name := range all {
		if !testing.Short() || !slices.Contains(oneByOne, strings.TrimSuffix(filepath.Base(name), ".txtar")) {
			out = append(out, name)
		}
	}
	return out
}

// TestScripts drives the built program on the demo's files, which each script
// finds in its folder.
func TestScripts(t *testing.T) {
	commands := map[string]func(*testscript.TestScript, bool, []string){
		"exits": exits, "ports": ports, "ask": askFor, "await": await, "flood": flood, "make": makeFile, "lines": lines, "atmost": atmost, "same": same, "pair": certificatePair,
	}
	maps.Copy(commands, liveCommands)
	testscript.Run(t, testscript.Params{
		Files:               scripts(t),
		RequireExplicitExec: true,
		RequireUniqueNames:  true,
		Setup: func(e *testscript.Env) error {
			e.Setenv("LC_ALL", "C.UTF-8")
			e.Setenv("COLUMNS", "110")
			return fs.WalkDir(harbour.Files, ".", func(name string, d fs.DirEntry, err error) error {
				to := filepath.Join(e.WorkDir, name)
				if err != nil || d.IsDir() {
					return errors.Join(err, os.MkdirAll(to, 0o755))
				}
				text, err := harbour.Files.ReadFile(name)
				return errors.Join(err, os.WriteFile(to, text, 0o644))
			})
		},
		Cmds: commands,
	})
}

// exits CODE PROGRAM ARG... runs a program and wants exactly that exit code, and
// no panic.
func exits(ts *testscript.TestScript, neg bool, args []string) {
	want, err := strconv.Atoi(args[0])
	ts.Check(err)
	err = ts.Exec(args[1], args[2:]...)
	// What a machine that is busy with something else could not rehearse proves nothing.
	for n := 0; n < 4 && err != nil && len(args) > 2 && args[2] == "rehearse" && strings.Contains(ts.ReadFile("stdout"), "the driver did not keep up"); n++ {
		err = ts.Exec(args[1], args[2:]...)
	}
	code := 0
	var ee *exec.ExitError
	if errors.As(err, &ee) {
		code = ee.ExitCode()
	} else {
		ts.Check(err)
	}
	if text := ts.ReadFile("stderr"); strings.Contains(text, "panic:") || strings.Contains(text, "goroutine ") {
		ts.Fatalf("it panicked:\n%s", text)
	}
	if code != want {
		ts.Fatalf("exit code %d, want %d\n%s%s", code, want, ts.ReadFile("stdout"), ts.ReadFile("stderr"))
	}
}

// ports FILE... puts free ports into files, where @1, @2 ... stand for them. All
// files of a script share them.
func ports(ts *testscript.TestScript, neg bool, args []string) {
	for _, name := range args {
		text := ts.ReadFile(name)
		for n := range 9 {
			mark := fmt.Sprintf("@%d", n+1)
			if !strings.Contains(text, mark) {
				continue
			}
			port := ts.Getenv("PORT" + mark[1:])
			if port == "" {
				port = freePort()
				ts.Setenv("PORT"+mark[1:], port)
			}
			text = strings.ReplaceAll(text, mark, port)
		}
		ts.Check(os.WriteFile(ts.MkAbs(name), []byte(text), 0o644))
	}
}

// givenPorts are those that freePort has returned.
var givenPorts sync.Map

// freePort returns a port of loopback on which nobody listens, and which nobody else is
// given: below those that the system gives to connections, which could take it before it is
// listened on.
func freePort() string {
	for {
		port := strconv.Itoa(10_240 + rand.IntN(32_768-10_240))
		l, err := net.Listen("tcp", "127.0.0.1:"+port)
		if err != nil {
			continue
		}
		l.Close()
		if _, given := givenPorts.LoadOrStore(port, true); !given {
			return port
		}
	}
}

// ask [-jar] [-ca FILE] TIMES METHOD URL asks like a plain client, one after the other, and
// writes status and first line of each answer to the file answers; -jar keeps
// cookies.
func askFor(ts *testscript.TestScript, neg bool, args []string) {
	client := &http.Client{Timeout: 10 * time.Second, Transport: &http.Transport{DisableKeepAlives: true}}
	if args[0] == "-jar" {
		jar, err := cookiejar.New(nil)
		ts.Check(err)
		client.Jar, args = jar, args[1:]
	}
	if args[0] == "-ca" { // names are taken to be on this machine
		pool := x509.NewCertPool()
		if !pool.AppendCertsFromPEM([]byte(ts.ReadFile(args[1]))) {
			ts.Fatalf("%s holds no certificate", args[1])
		}
		client.Transport = &http.Transport{
			DisableKeepAlives: true, TLSClientConfig: &tls.Config{RootCAs: pool}, ForceAttemptHTTP2: true,
			DialContext: func(ctx context.Context, network, address string) (net.Conn, error) {
				_, port, _ := net.SplitHostPort(address)
				return new(net.Dialer).DialContext(ctx, network, "127.0.0.1:"+port)
			},
		}
		args = args[2:]
	}
	times, err := strconv.Atoi(args[0])
	ts.Check(err)
	var out bytes.Buffer
	for range times {
		req, err := http.NewRequest(args[1], args[2], nil)
		ts.Check(err)
		res, err := client.Do(req)
		if err != nil {
			fmt.Fprintln(&out, "error", err)
			continue
		}
		body, _ := io.ReadAll(res.Body)
		res.Body.Close()
		first, _, _ := strings.Cut(string(body), "\n")
		fmt.Fprintln(&out, res.StatusCode, first)
	}
	ts.Check(os.WriteFile(ts.MkAbs("answers"), out.Bytes(), 0o644))
}

// flood URL SECONDS FILE asks from four clients at once in the background until
// the file stop is there, and writes how many were not answered with 200.
func flood(ts *testscript.TestScript, neg bool, args []string) {
	stop, result := ts.MkAbs("stop"), ts.MkAbs(args[1])
	go func() {
		type tally struct{ asked, failed int }
		done := make(chan tally)
		for range 4 {
			go func() {
				client := &http.Client{Timeout: 10 * time.Second}
				var n tally
				for until := time.Now().Add(30 * time.Second); time.Now().Before(until); {
					if _, err := os.Stat(stop); err == nil && n.asked > 50 {
						break
					}
					n.asked++
					res, err := client.Get(args[0])
					if err != nil {
						n.failed++
						continue
					}
					_, _ = io.Copy(io.Discard, res.Body)
					res.Body.Close()
					if res.StatusCode != 200 {
						n.failed++
					}
				}
				done <- n
			}()
		}
		var all tally
		for range 4 {
			n := <-done
			all.asked += n.asked
			all.failed += n.failed
		}
		_ = os.WriteFile(result, []byte(fmt.Sprintf("asked %t failed %d\n", all.asked > 100, all.failed)), 0o644)
	}()
}

// await FILE [PATTERN] waits until a file is there, and holds the pattern.
func await(ts *testscript.TestScript, neg bool, args []string) {
	pattern := regexp.MustCompile("(?m)" + strings.Join(args[1:], " "))
	limit := time.Now().Add(20 * time.Second)
	for {
		text, err := os.ReadFile(ts.MkAbs(args[0]))
		if err == nil && pattern.Match(text) {
			return
		}
		if time.Now().After(limit) {
			ts.Fatalf("%s does not come to hold %q:\n%s", args[0], pattern, text)
		}
		time.Sleep(10 * time.Millisecond)
	}
}

// make KIND FILE makes a file too large or odd to stand in a script.
func makeFile(ts *testscript.TestScript, neg bool, args []string) {
	line := `203.0.113.9 - - [23/Nov/2026:06:55:08 +0000] "GET / HTTP/1.1" 200 1` + "\n"
	var text string
	switch args[0] {
	case "deep":
		text = "a = " + strings.Repeat("[", 20000) + strings.Repeat("]", 20000) + "\n"
	case "latin1":
		text = "# caf\xe9\n"
	case "longline":
		f, err := os.Create(ts.MkAbs(args[1]))
		ts.Check(err)
		_, err = f.WriteString(line)
		ts.Check(err)
		part := strings.Repeat("x", 1<<20)
		for range 200 {
			_, err = f.WriteString(part)
			ts.Check(err)
		}
		_, err = f.WriteString("\n" + line)
		ts.Check(errors.Join(err, f.Close()))
		return
	case "many":
		text = strings.Repeat(line, 300000)
	case "cut":
		whole, err := os.ReadFile(ts.MkAbs(args[1]))
		ts.Check(err)
		text = string(whole[:len(whole)/2])
	case "unreadable":
		text = line
	}
	ts.Check(os.WriteFile(ts.MkAbs(args[1]), []byte(text), 0o644))
}

// lines FILE PATTERN COUNT wants so many lines that fit.
func lines(ts *testscript.TestScript, neg bool, args []string) {
	pattern := regexp.MustCompile(args[1])
	n := 0
	for l := range strings.Lines(ts.ReadFile(args[0])) {
		if pattern.MatchString(strings.TrimSuffix(l, "\n")) {
			n++
		}
	}
	if want := args[2]; strconv.Itoa(n) != want {
		ts.Fatalf("%d lines of %s fit %q, want %s:\n%s", n, args[0], args[1], want, ts.ReadFile(args[0]))
	}
}

// atmost FILE N allows no more than N lines.
func atmost(ts *testscript.TestScript, neg bool, args []string) {
	most, err := strconv.Atoi(args[1])
	ts.Check(err)
	if n := strings.Count(ts.ReadFile(args[0]), "\n"); n > most {
		ts.Fatalf("%s has %d lines, at most %d are allowed", args[0], n, most)
	}
}

// same FILE FILE wants the same bytes, the line on the engine aside.
func same(ts *testscript.TestScript, neg bool, args []string) {
	strip := func(name string) string {
		text := ts.ReadFile(name)
		i := strings.Index(text, `"engine"`)
		if i < 0 {
			i = len(text)
		}
		return text[:i]
	}
	a, b := strip(args[0]), strip(args[1])
	if (a == b) == neg || len(a) < 100 {
		ts.Fatalf("%s and %s: same is %t", args[0], args[1], a == b)
	}
}

// TestEveryCommandHasHelp walks the table of commands.
func TestEveryCommandHasHelp(t *testing.T) {
	var names []string
	for _, c := range flat() {
		names = append(names, c.name)
		text := c.text()
		for line := range strings.Lines(text) {
			if !strings.HasPrefix(line, "  kestrix ") && (len(line) > helpWidth+1 || strings.Contains(line, "`")) {
				t.Errorf("help of %s has a line that is too long, or a quote of the source: %s", c.name, line)
			}
		}
		for _, want := range []string{"kestrix " + c.name, upperFirst(c.summary)} {
			if !strings.Contains(text, want) {
				t.Errorf("help of %s lacks %q", c.name, want)
			}
		}
		if c.summary == "" || c.help == "" {
			t.Errorf("%s has no summary or no examples", c.name)
		}
	}
	for _, c := range commands() {
		if !slices.Contains(groups, c.group) || !strings.Contains(overview(), "\n  "+c.name+" ") {
			t.Errorf("%s is in no group of the overview", c.name)
		}
	}
	slices.Sort(names)
	if len(slices.Compact(names)) != len(flat()) {
		t.Error("two commands share a name")
	}
}
