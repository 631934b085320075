package cli

import (
	"bufio"
	"cmp"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"io"
	"kestrix/internal/report"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
)

// output is the flags that say where a result goes and in what form.
type output struct {
	format   string
	file     string
	noColour bool
	mode     os.FileMode // of a new file; 0 is readable by all
}

func (o *output) define(fs *flag.FlagSet) {
	fs.StringVar(&o.format, "format", "text", formUsage(fs.Name()))
	fs.StringVar(&o.file, "o", "", "write the result to `FILE` instead of stdout")
	fs.BoolVar(&o.noColour, "plain", false, "print no colours")
}

// style returns how the result looks in its place: in a file there are no colours, and no column is hidden.
func (o *output) style(env *Env) report.Style {
	s := env.style(env.Stdout, o.noColour)
	if o.file != "" {
		s.Colour, s.Terminal = false, false
	}
	return s
}

func (o *output) check() error {
	if err := formOf("", o.format); err != nil {
		return err
	}
	return places(o.file)
}

// forms are the forms of results of commands that have others than text and JSON.
var forms = map[string][]string{
	"check": {"text", "json", "sarif", "junit", "annotations"}, "diff": {"text", "json", "markdown"}, "map": {"text", "dot", "svg", "json"}, "replay": {"text", "json", "junit"}, "status": {"text", "csv", "json"},
}

// formMeanings are what the forms of results are for.
var formMeanings = map[string]string{
	"text": "for people", "json": "for programs; docs/json.md lists the keys", "junit": "for CI servers", "csv": "for spreadsheets",
	"sarif": "SARIF 2.1.0, for code hosts", "annotations": "workflow commands, which code hosts show beside the lines",
	"markdown": "for a comment on a review", "dot": "for graph drawing", "svg": "a picture",
}

// formUsage returns the usage of a command's -format.
func formUsage(command string) string {
	width := 0
	for _, f := range formsOf(command) {
		width = max(width, len(f))
	}
	text := "`FORMAT` of the result:"
	for _, f := range formsOf(command) {
		text += fmt.Sprintf("\n%-*s  %s", width, f, formMeanings[f])
	}
	return text
}

// formsOf returns the forms of a command's result.
func formsOf(command string) []string {
	if f := forms[command]; f != nil {
		return f
	}
	return []string{"text", "json"}
}

// formOf returns what is wrong with the form of a command's result.
func formOf(command, form string) error {
	all := formsOf(command)
	if slices.Contains(all, form) {
		return nil
	}
	return usage("-format cannot be %q; it is %s or %s", form, strings.Join(all[:len(all)-1], ", "), all[len(all)-1])
}

// places returns which file has no folder to be written into, before any work is done
// for it.
func places(names ...string) error {
	for _, name := range names {
		if name == "" || name == "-" {
			continue
		}
		if _, err := os.Stat(filepath.Dir(name)); err != nil {
			return unusable(fmt.Errorf("%s cannot be written: %w", name, reason(err)))
		}
	}
	return nil
}

// write has a result written, whole or not at all: a file is written beside
// its place and then renamed.
func (o *output) write(env *Env, fill func(io.Writer) error) error {
	if o.file == "" || o.file == "-" {
		w := bufio.NewWriterSize(env.Stdout, 64<<10)
		err := fill(w)
		if err == nil {
			err = w.Flush()
		}
		if errors.Is(err, syscall.EPIPE) {
			return nil // the reader, such as head, has seen enough
		}
		if err != nil {
			return &exitError{exitInput, err}
		}
		return nil
	}
	return replaceFileMode(o.file, cmp.Or(o.mode, 0o644), fill)
}

// replaceFile writes a file beside its place and renames it.
func replaceFile(name string, fill func(io.Writer) error) error {
	return replaceFileMode(name, 0o644, fill)
}

// replaceFileMode is replaceFile where a new file gets a mode; one that is
// replaced keeps its own.
func replaceFileMode(name string, mode os.FileMode, fill func(io.Writer) error) (err error) {
	if info, e := os.Stat(name); e == nil && !info.Mode().IsRegular() {
		if info.IsDir() {
			return unusable(fmt.Errorf("%s is a folder; name a file", name))
		}
		f, e := os.OpenFile(name, os.O_WRONLY, 0)
		if e != nil {
			return unusable(e)
		}
		defer f.Close()
		if e := fill(f); e != nil {
			return e
		}
		return nil
	}
	if target, e := filepath.EvalSymlinks(name); e == nil {
		name = target // what a link points to is replaced, not the link
	}
	f, err := os.CreateTemp(filepath.Dir(name), "."+filepath.Base(name)+".*")
	if err != nil {
		return unusable(fmt.Errorf("%s cannot be written: %w", name, reason(err)))
	}
	defer func() {
		if err != nil {
			f.Close()
			os.Remove(f.Name())
		}
	}()
	w := bufio.NewWriterSize(f, 64<<10)
	if err := fill(w); err != nil {
		var pe *os.PathError
		if errors.As(err, &pe) && pe.Path == f.Name() {
			return unusable(fmt.Errorf("%s cannot be written: %w", name, reason(err)))
		}
		return err
	}
	if err := w.Flush(); err != nil {
		return unusable(fmt.Errorf("%s cannot be written: %w", name, reason(err)))
	}
	if info, e := os.Stat(name); e == nil {
		mode = info.Mode().Perm()
	}
	if err := f.Chmod(mode); err != nil {
		return unusable(err)
	}
	if err := f.Close(); err != nil {
		return unusable(err)
	}
	if err := os.Rename(f.Name(), name); err != nil {
		return unusable(err)
	}
	return nil
}

// reason takes the operation and the name of the temporary file out of an
// error of the file system.
func reason(err error) error {
	var pe *os.PathError
	if errors.As(err, &pe) {
		return pe.Err
	}
	return err
}

// figures are the flags of commands that draw, and that write a page.
type figures struct{ svg, png, html string }

func (f *figures) define(fs *flag.FlagSet) {
	fs.StringVar(&f.svg, "svg", "", "also draw a figure as SVG to `FILE`")
	fs.StringVar(&f.png, "png", "", "also draw a figure as PNG to `FILE`")
	fs.StringVar(&f.html, "html", "", "also write an HTML page that needs no network to `FILE`")
}

// check returns which of the files has no folder.
func (f *figures) check() error { return places(f.svg, f.png, f.html) }

// write writes what was asked for; draw makes a figure of a kind, page the page.
func (f *figures) write(draw func(kind string) ([]byte, error), page func() ([]byte, error)) error {
	for _, x := range []struct {
		kind, file string
		make       func() ([]byte, error)
	}{
		{"svg", f.svg, func() ([]byte, error) { return draw("svg") }}, {"png", f.png, func() ([]byte, error) { return draw("png") }}, {"html", f.html, page},
	} {
		if x.file == "" {
			continue
		}
		text, err := x.make()
		if err != nil {
			return unusable(fmt.Errorf("-%s: %w", x.kind, err))
		}
		if err := replaceFile(x.file, func(w io.Writer) error { _, err := w.Write(text); return err }); err != nil {
			return err
		}
	}
	return nil
}

// writeJSON writes a value as indented JSON.
func writeJSON(w io.Writer, v any) error {
	e := json.NewEncoder(w)
	e.SetEscapeHTML(false)
	e.SetIndent("", "  ")
	return e.Encode(v)
}
