package cli

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"sort"
	"strings"
	"time"

	"kestrix/internal/core/check"
	"kestrix/internal/core/config"
	"kestrix/internal/core/scenario"
	"kestrix/internal/core/trace"
	"kestrix/internal/live/inspect"
)

// source is a configuration as it was found on disk.
type source struct {
	name   string // as given
	config *config.Config
	found  config.Findings
	facts  *check.Facts
	read   []string
	passed []string // files of a folder that were passed over

	files   []config.File   // as they were read
	allowed []check.Allowed // what comments allow
}

// withFlag defines -with.
func withFlag(fs *flag.FlagSet) *list {
	var with list
	fs.Var(&with, "with", "additional configuration `FILE`; may be repeated")
	return &with
}

// readConfig reads a file, or the .hcl files of a folder, as one configuration
// and finds its errors.
func readConfig(name string, with []string) (*source, error) {
	s, err := readFiles(nil, name, with)
	if err != nil {
		return nil, err
	}
	return s, s.hold(false)
}

// readFiles reads the files of a configuration. "-" is what in has, unless that is nil.
func readFiles(in io.Reader, name string, with []string) (*source, error) {
	s := &source{name: name}
	paths := []string{name}
	if in == nil || name != "-" {
		info, err := os.Stat(name)
		if err != nil {
			return nil, unusable(fmt.Errorf("%s cannot be read: %w", name, reason(err)))
		}
		if info.IsDir() {
			if paths, s.passed, err = folder(name); err != nil {
				return nil, err
			}
		}
	}
	for i, p := range append(paths, with...) {
		var src []byte
		var err error
		if i == 0 && in != nil && p == "-" {
			p = "stdin"
			src, err = io.ReadAll(io.LimitReader(in, config.MaxSource+1))
		} else {
			src, err = readFile(p)
		}
		if err != nil {
			return nil, err
		}
		s.files = append(s.files, config.File{Name: p, Source: src})
		s.read = append(s.read, p)
	}
	return s, nil
}

// hold reads the configuration of the files and applies the rules: all, or those that find errors.
func (s *source) hold(all bool) error {
	c, found, err := config.ReadIn(s.files, config.World{Env: os.LookupEnv, File: besides(s.read[0])})
	if err != nil {
		return unusable(err)
	}
	disk := inspect.Disk{Read: besides(s.read[0]), Mode: modeBesides(s.read[0])}
	s.facts = inspect.Facts(c, disk, time.Now())
	s.config = c
	if !all {
		s.found = check.Errors(c, found, s.facts)
		return nil
	}
	s.found, s.allowed = check.RunAll(c, found, s.facts)
	return nil
}

// pathFrom returns the path of a file that a configuration names.
func pathFrom(config, name string) string {
	if filepath.IsAbs(name) {
		return name
	}
	return filepath.Join(filepath.Dir(config), name)
}

// beside returns the paths of files that a configuration names relative to its own folder.
func beside(config string) func(string) string {
	return func(name string) string { return pathFrom(config, name) }
}

// modeBesides returns the permissions of a file that a configuration names.
func modeBesides(config string) func(string) (uint32, error) {
	return func(name string) (uint32, error) {
		info, err := os.Stat(pathFrom(config, name))
		if err != nil {
			return 0, reason(err)
		}
		return uint32(info.Mode().Perm()), nil
	}
}

// besides reads files that a configuration names relative to its own folder.
func besides(config string) func(string) ([]byte, error) {
	return func(name string) ([]byte, error) {
		text, err := os.ReadFile(pathFrom(config, name))
		if err != nil {
			return nil, reason(err)
		}
		return text, nil
	}
}

// looksLikeHCL reports whether a file whose name does not end with .hcl may have been meant to.
func looksLikeHCL(name string) bool {
	if strings.HasSuffix(name, ".scenario.hcl") {
		return false
	}
	lower := strings.ToLower(name)
	for _, end := range []string{".hcl", ".hlc", ".hcl2", ".hc", ".hcl.txt", ".hcl.bak", ".hcl.old", ".hcl.orig", ".hcl.new", ".hcl.disabled", ".hcl~", ".conf"} {
		if strings.HasSuffix(lower, end) {
			return true
		}
	}
	return false
}

// folder lists the files of a folder that are read, and those that are not.
func folder(name string) (read, passed []string, err error) {
	entries, err := os.ReadDir(name)
	if err != nil {
		return nil, nil, unusable(fmt.Errorf("%s cannot be read: %w", name, reason(err)))
	}
	for _, e := range entries {
		p := filepath.Join(name, e.Name())
		if !e.IsDir() && strings.HasSuffix(p, ".hcl") && !strings.HasSuffix(p, ".scenario.hcl") {
			read = append(read, p)
		} else {
			passed = append(passed, e.Name())
		}
	}
	if len(read) == 0 {
		if alike := slices.DeleteFunc(passed, func(p string) bool { return !looksLikeHCL(p) }); len(alike) > 0 {
			return nil, nil, unusable(fmt.Errorf("%s: no .hcl file is in this folder; %s looks like one, whose name has to end with .hcl", name, strings.Join(alike, ", ")))
		}
		return nil, nil, unusable(fmt.Errorf("%s: no .hcl file is in this folder", name))
	}
	sort.Strings(read)
	return read, passed, nil
}

// readFile reads a source whole, up to what the language takes.
func readFile(name string) ([]byte, error) {
	f, err := os.Open(name)
	if err != nil {
		return nil, unusable(fmt.Errorf("%s cannot be read: %w", name, reason(err)))
	}
	defer f.Close()
	if info, err := f.Stat(); err == nil && info.IsDir() {
		return nil, unusable(fmt.Errorf("%s is a folder", name))
	}
	src, err := io.ReadAll(io.LimitReader(f, config.MaxSource+1))
	if err != nil {
		return nil, unusable(fmt.Errorf("%s cannot be read: %w", name, reason(err)))
	}
	return src, nil
}

// usable reads a configuration for a command that needs one without errors;
// its errors are printed, warnings stop nobody.
func usable(env *Env, name string, with []string) (*source, error) {
	s, err := readConfig(name, with)
	if err != nil || slices.ContainsFunc(s.found, func(f config.Finding) bool { return f.Severity == config.Error }) {
		if what := traceIn(name); what != "" {
			return nil, unusable(fmt.Errorf("%s is a trace (%s), and a configuration is expected in its place; the configuration comes first: CONFIG %s", name, what, name))
		}
	}
	if err != nil {
		return nil, err
	}
	if err := refuse(env, s.found, s.config.Files, name); err != nil {
		return nil, err
	}
	return s, nil
}

// again reads the same sources as they were, with what the files hold now that they ask for.
func (s *source) again(env *Env) (*source, error) {
	next := &source{name: s.name, read: s.read, passed: s.passed, files: s.files}
	if err := next.hold(false); err != nil {
		return nil, err
	}
	return next, refuse(env, next.found, next.config.Files, s.name)
}

// traceIn returns what kind of trace a file is that cannot be used as a configuration;
// empty if it is none.
func traceIn(name string) string {
	if strings.HasSuffix(name, ".hcl") {
		return ""
	}
	f, err := os.Open(name)
	if err != nil {
		return ""
	}
	defer f.Close()
	r, err := trace.NewReader(name, f, trace.Options{})
	if err != nil {
		return ""
	}
	defer r.Close()
	var rec trace.Record
	if r.Next(&rec) != nil {
		return ""
	}
	return r.Format.Title
}

// refuse prints the errors among findings and says that they stop the command.
func refuse(env *Env, found config.Findings, files []config.File, name string) error {
	var errs config.Findings
	for _, f := range found {
		if f.Severity == config.Error {
			errs = append(errs, f)
		}
	}
	if len(errs) == 0 {
		return nil
	}
	fmt.Fprint(env.Stderr, env.style(env.Stderr, false).Findings(errs, files))
	return unusable(fmt.Errorf("%s has %s and is not used", name, plural(len(errs), "error")))
}

func plural(n int, what string) string {
	if n == 1 {
		return "1 " + what
	}
	return fmt.Sprintf("%d %ss", n, what)
}

// readScenario reads a scenario for a configuration; its findings are printed.
func readScenario(env *Env, name string, c *config.Config) (*scenario.Scenario, error) {
	src, err := readFile(name)
	if err != nil {
		return nil, err
	}
	f := config.File{Name: name, Source: src}
	s, found, err := scenario.Read(f, c)
	if err != nil {
		return nil, unusable(err)
	}
	if err := refuse(env, found, []config.File{f}, name); err != nil {
		return nil, err
	}
	return s, nil
}

// openTrace opens a trace, or stdin for "-". What is no file on a disk may let
// its reader wait for as long as ctx goes on.
func openTrace(ctx context.Context, env *Env, name string) (io.ReadCloser, error) {
	if name == "-" {
		return interruptible(ctx, io.NopCloser(env.Stdin)), nil
	}
	f, err := os.Open(name)
	if err != nil {
		return nil, unusable(fmt.Errorf("%s cannot be read: %w", name, reason(err)))
	}
	info, err := f.Stat()
	if err == nil && info.IsDir() {
		f.Close()
		return nil, unusable(fmt.Errorf("%s is a folder; name its files", name))
	}
	if err == nil && info.Mode().IsRegular() && info.Size() == 0 {
		f.Close()
		return nil, unusable(fmt.Errorf("%s is empty", name))
	}
	if err == nil && !info.Mode().IsRegular() {
		return interruptible(ctx, f), nil
	}
	return f, nil
}

// exists reports whether a file is there.
func exists(name string) bool {
	_, err := os.Stat(name)
	return !errors.Is(err, fs.ErrNotExist)
}
