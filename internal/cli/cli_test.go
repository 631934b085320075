package cli

import (
	"bufio"
	"bytes"
	"context"
	"errors"
	"flag"
	"fmt"
	"io"
	"net"
	"os"
	"path/filepath"
	"runtime/debug"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kestrix/internal/core/config"
	"kestrix/internal/live/accesslog"
	"kestrix/internal/report"
)

func TestFlagsStandBeforeBetweenAndAfterOperands(t *testing.T) {
	for _, c := range []struct {
		args, operands, o string
		strict            bool
		err               string
	}{
		{args: "a b", operands: "a b"},
		{args: "-strict a b", operands: "a b", strict: true},
		{args: "a -strict b -o x", operands: "a b", strict: true, o: "x"},
		{args: "a --o=x b --strict=false", operands: "a b", o: "x"},
		{args: "a -o -", operands: "a", o: "-"},
		{args: "- a", operands: "- a"},
		{args: "-o x -- -strict -o", operands: "-strict -o", o: "x"},
		{args: "a -o", err: "-o needs a value: where"},
		{args: "-n x", err: `-n cannot be "x"; expected: number`},
		{args: "-n=x", err: `-n cannot be "x"; expected: number`},
		{args: "-strict yes", err: "-strict takes no value; write -strict alone, or -strict=true"},
		{args: "-strict OFF a", err: "-strict takes no value; write -strict alone, or -strict=false"},
		{args: "-strickt", err: "there is no flag -strickt; did you mean -strict?"},
		{args: "-zzzzzz", err: "there is no flag -zzzzzz; kestrix help x lists the flags"},
		{args: "-h", err: flag.ErrHelp.Error()},
		{args: "a --help", err: flag.ErrHelp.Error()},
	} {
		fs := flag.NewFlagSet("x", flag.ContinueOnError)
		fs.SetOutput(io.Discard)
		o := fs.String("o", "", "where")
		strict := fs.Bool("strict", false, "strict")
		fs.Int("n", 0, "number")
		got, err := parse(fs, strings.Fields(c.args))
		if c.err != "" {
			assert.EqualError(t, err, c.err, c.args)
			continue
		}
		require.NoError(t, err, c.args)
		assert.Equal(t, c.operands, strings.Join(got, " "), c.args)
		assert.Equal(t, c.o, *o, c.args)
		assert.Equal(t, c.strict, *strict, c.args)
	}
}

func TestAFileIsReplacedWholeOrNotAtAll(t *testing.T) {
	dir := t.TempDir()
	name := filepath.Join(dir, "out.txt")
	write := func(text string, err error) error {
		return replaceFile(name, func(w io.Writer) error { _, _ = io.WriteString(w, text); return err })
	}
	read := func() string {
		b, err := os.ReadFile(name)
		require.NoError(t, err)
		return string(b)
	}
	require.NoError(t, write("first", nil))
	assert.Equal(t, "first", read())
	require.NoError(t, os.Chmod(name, 0o600))
	boom := errors.New("boom")
	assert.ErrorIs(t, write("half", boom), boom)
	assert.Equal(t, "first", read(), "what was there stays")
	require.NoError(t, write("second", nil))
	assert.Equal(t, "second", read())
	info, err := os.Stat(name)
	require.NoError(t, err)
	assert.EqualValues(t, 0o600, info.Mode().Perm(), "who may read it stays")

	link := filepath.Join(dir, "link")
	require.NoError(t, os.Symlink("out.txt", link))
	require.NoError(t, replaceFile(link, func(w io.Writer) error { _, err := io.WriteString(w, "third"); return err }))
	assert.Equal(t, "third", read(), "what a link points to is replaced, not the link")
	info, err = os.Lstat(link)
	require.NoError(t, err)
	assert.NotZero(t, info.Mode()&os.ModeSymlink)

	entries, err := os.ReadDir(dir)
	require.NoError(t, err)
	assert.Len(t, entries, 2, "nothing half written is left")
	assert.ErrorContains(t, replaceFile(dir, nil), "is a folder")
	assert.ErrorContains(t, replaceFile(filepath.Join(dir, "no", "file"), nil), "cannot be written: no such file or directory")
	assert.Error(t, replaceFile("/dev/full", func(w io.Writer) error { _, err := io.WriteString(w, "x"); return err }))
}

func TestTheStyleFollowsTheSurroundings(t *testing.T) {
	for _, c := range []struct {
		vars string
		want report.Style
	}{
		{"", report.Style{Width: 110, Unicode: true}},
		{"LANG=C", report.Style{Width: 110}},
		{"LANG=de_DE.UTF-8", report.Style{Width: 110, Unicode: true}},
		{"LC_ALL=POSIX LANG=de_DE.UTF-8", report.Style{Width: 110}},
		{"COLUMNS=72", report.Style{Width: 72, Unicode: true}},
		{"COLUMNS=9", report.Style{Width: 40, Unicode: true}},
		{"COLUMNS=900", report.Style{Width: 120, Unicode: true}},
		{"COLUMNS=many", report.Style{Width: 110, Unicode: true}},
	} {
		vars := map[string]string{}
		for _, v := range strings.Fields(c.vars) {
			name, value, _ := strings.Cut(v, "=")
			vars[name] = value
		}
		env := &Env{Getenv: func(name string) string { return vars[name] }}
		assert.Equal(t, c.want, env.style(new(bytes.Buffer), false), "%s: no colour where there is no terminal", c.vars)
	}
}

func TestAReaderThatHasSeenEnoughIsNoError(t *testing.T) {
	r, w, err := os.Pipe()
	require.NoError(t, err)
	require.NoError(t, r.Close())
	o := output{}
	err = o.write(&Env{Stdout: w}, func(w io.Writer) error { _, err := io.WriteString(w, strings.Repeat("x", 1<<20)); return err })
	assert.NoError(t, err, "as with head")
	require.NoError(t, w.Close())
}

func TestTheVersionNamesItsCommit(t *testing.T) {
	assert.Equal(t, "kestrix "+Version, buildOf(nil).String())
	info := &debug.BuildInfo{GoVersion: "go1.26.8", Settings: []debug.BuildSetting{{Key: "GOOS", Value: "linux"}, {Key: "GOARCH", Value: "amd64"}}}
	assert.Equal(t, "kestrix "+Version+", go1.26.8 linux/amd64", buildOf(info).String())
	info.Settings = append(info.Settings, debug.BuildSetting{Key: "vcs.revision", Value: "8fe6b8c1d2e3f4a5"}, debug.BuildSetting{Key: "vcs.time", Value: "2026-11-29T06:24:24Z"}, debug.BuildSetting{Key: "vcs.modified", Value: "true"})
	assert.Equal(t, "kestrix "+Version+", commit 8fe6b8c1d2e3 of 2026-11-29 with changes, go1.26.8 linux/amd64", buildOf(info).String())
	assert.Equal(t, "8fe6b8c1d2e3f4a5", buildOf(info).Commit)
	info.Deps = []*debug.Module{{Path: "a.example/m", Version: "v1.2.3", Sum: "h1:x"}, {Path: "b.example/m", Version: "v1.0.0", Replace: &debug.Module{Path: "c.example/m", Version: "v2.0.0"}}}
	assert.Equal(t, []module{{"a.example/m", "v1.2.3", "h1:x"}, {"c.example/m", "v2.0.0", ""}}, buildOf(info).Modules)
}

// TestEveryCommandIsWhole walks the table: what is missing of a command is missing in
// help, the manual, completion and docs.
func TestEveryCommandIsWhole(t *testing.T) {
	var walk func(all []*command, within string)
	seen := map[string]bool{}
	walk = func(all []*command, within string) {
		for _, c := range all {
			assert.False(t, seen[c.name], "%s is there twice", c.name)
			seen[c.name] = true
			assert.True(t, strings.HasPrefix(c.name, within), c.name)
			assert.NotEmpty(t, c.summary, "%s: summary", c.name)
			assert.LessOrEqual(t, len(c.summary), 80, "%s: summary", c.name)
			assert.NotEqual(t, c.setup == nil, len(c.subs) == 0, "%s: either it does something, or those within it do", c.name)
			if c.setup != nil {
				assert.Contains(t, c.help+"\n", "\n  kestrix "+c.name, "%s: help has no example", c.name)
			}
			walk(c.subs, c.name+" ")
		}
	}
	walk(commands(), "")
}

func TestEveryCommandRefusesWhatItDoesNotKnow(t *testing.T) {
	for _, c := range flat() {
		var errs bytes.Buffer
		name := strings.Fields(c.name)
		env := &Env{Stdin: strings.NewReader(""), Stdout: io.Discard, Stderr: &errs, Getenv: func(string) string { return "" }}
		assert.Equal(t, exitUsage, Main(context.Background(), env, append(name, "-no-such-flag")), c.name)
		assert.Contains(t, errs.String(), "kestrix "+c.name+": there is no flag -no-such-flag")
		assert.Equal(t, exitFine, Main(context.Background(), env, append(name, "-h")), c.name)
	}
}

// TestAccessLinesAreSentToALogServer: where the block syslog says, how, and in which form.
func TestAccessLinesAreSentToALogServer(t *testing.T) {
	dir, err := os.MkdirTemp("", "log") // short enough for a socket
	require.NoError(t, err)
	defer os.RemoveAll(dir)
	for _, c := range []struct{ network, at, keys, want string }{
		{"unixgram", filepath.Join(dir, "log"), "", `^<134>\w{3} [ \d]\d \d\d:\d\d:\d\d kestrix\[\d+\]: - `},
		{"udp", "127.0.0.1:0", "transport = \"udp\"\n facility = \"local3\"", `^<158>1 \d{4}-\S+Z \S+ kestrix \d+ access - - `},
		{"tcp", "127.0.0.1:0", "transport = \"tcp\"\n format = \"rfc3164\"\n facility = \"daemon\"", `^<30>\w{3} [ \d]\d \d\d:\d\d:\d\d \S+ kestrix\[\d+\]: - `},
	} {
		lines := make(chan string, 10)
		var at string
		if c.network == "tcp" {
			l, err := net.Listen(c.network, c.at)
			require.NoError(t, err)
			defer l.Close()
			at = l.Addr().String()
			go func() {
				if conn, err := l.Accept(); err == nil {
					for s := bufio.NewScanner(conn); s.Scan(); {
						lines <- s.Text()
					}
				}
			}()
		} else {
			l, err := net.ListenPacket(c.network, c.at)
			require.NoError(t, err)
			defer l.Close()
			if at = l.LocalAddr().String(); c.network == "unixgram" {
				at = "unix:" + at
			}
			go func() {
				for b := make([]byte, 1000); ; {
					n, _, err := l.ReadFrom(b)
					if err != nil {
						return
					}
					lines <- string(b[:n])
				}
			}()
		}
		text := fmt.Sprintf("access_log {\n to = \"syslog\"\n}\nsyslog {\n address = %q\n %s\n}\nfrontend \"f\" {\n listen = \"127.0.0.1:1\"\n route \"r\" {\n reply {\n }\n }\n}\nupstream \"u\" {\n backends = { a = \"127.0.0.1:2\" }\n}\n", at, c.keys)
		read, found, err := config.Read([]config.File{{Name: "t.hcl", Source: []byte(text)}})
		require.NoError(t, err)
		require.Empty(t, found, text)
		sink := &accessSink{env: &Env{}}
		require.NoError(t, sink.open(read))
		for _, path := range []string{"/one", "/two"} {
			sink.add(&accesslog.Line{Method: "GET", Path: path, Status: 200})
			select {
			case line := <-lines:
				assert.Regexp(t, c.want+`.*"GET `+path+` HTTP/1.1" 200 [^\n]*$`, line)
			case <-time.After(10 * time.Second):
				t.Fatalf("%s: nothing came", c.network)
			}
		}
		sink.close()
	}
}

// TestTheExampleRepositoryHolds: what examples/pier expects of its configuration is
// met, as its CI would find.
func TestTheExampleRepositoryHolds(t *testing.T) {
	for _, args := range [][]string{
		{"check", "-strict", "../../examples/pier/pier.hcl"}, {"replay", "../../examples/pier/pier.hcl", "-scenario", "../../examples/pier/scenarios", "-format", "junit"},
	} {
		var out, errs bytes.Buffer
		env := &Env{Stdin: strings.NewReader(""), Stdout: &out, Stderr: &errs, Getenv: func(string) string { return "" }}
		assert.Zero(t, Main(context.Background(), env, args), "%s%s", out.String(), errs.String())
		if args[0] == "replay" {
			assert.Contains(t, out.String(), `<testsuites tests="8" failures="0">`)
		}
	}
}
