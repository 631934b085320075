package cli

import (
	"context"
	"flag"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"

	"kestrix/packaging"
)

// hostFiles lists the files for the machine that serves, by where they stand below
// its root: as a package of a distribution has them, or beside a program in /usr/local.
func hostFiles(inPackage bool) []hostFile {
	program, site, units, entries, share, zsh := "/usr/local/bin/kestrix", firstConfiguration, "etc/systemd/system/", "etc/", "usr/local/share/", "usr/local/share/zsh/site-functions/"
	if inPackage {
		program, site, units, entries, share, zsh = packagedProgram, packagedConfiguration, "usr/lib/systemd/system/", "usr/lib/", "usr/share/", "usr/share/zsh/vendor-completions/"
	}
	unit := func() (string, error) {
		text, err := carried("kestrix.service")()
		return strings.ReplaceAll(text, packagedProgram+" ", program+" "), err
	}
	return []hostFile{
		{units + "kestrix.service", "runs it, with as few rights as it needs", unit},
		{units + "kestrix.socket", "keeps sockets open during a restart; see its head", carried("kestrix.socket")},
		{entries + "sysusers.d/kestrix.conf", "the user kestrix", carried("kestrix.sysusers")},
		{entries + "tmpfiles.d/kestrix.conf", "its folders", carried("kestrix.tmpfiles")},
		{site, "a first configuration, which answers /alive on this machine", carried("site.hcl")},
		{"etc/logrotate.d/kestrix", "moves the access log away each night", carried("kestrix.logrotate")},
		{share + "man/man1/kestrix.1", "man kestrix", made(manual)},
		{"usr/share/bash-completion/completions/kestrix", "completion for bash", made(bashCompletion)},
		{zsh + "_kestrix", "for zsh", made(zshCompletion)},
		{"usr/share/fish/vendor_completions.d/kestrix.fish", "for fish", made(fishCompletion)},
	}
}

// packagedProgram is where packages install the program, as the unit names it. Their first
// configuration stands aside: what they do after an installation copies it to its place, unless
// there is a configuration already.
const (
	packagedProgram       = "/usr/bin/kestrix"
	packagedConfiguration = "usr/share/kestrix/site.hcl"
	firstConfiguration    = "etc/kestrix/site.hcl"
)

type hostFile struct {
	path, what string
	text       func() (string, error)
}

func carried(name string) func() (string, error) {
	return func() (string, error) {
		b, err := packaging.Files.ReadFile(name)
		return string(b), err
	}
}

func made(f func() string) func() (string, error) {
	return func() (string, error) { return f(), nil }
}

func installFilesCommand() *command {
	return &command{
		name: "install-files", group: "the program",
		summary: "write the systemd units, user, folders, log rotation, manual page and completion",
		help: `
Writes files below a folder and starts no service. Existing files stay unless -replace
is given, and /etc/kestrix is left alone if it has a configuration. Write to a folder
of your own first to look at the files. The units run /usr/local/bin/kestrix. With
-package everything is where the package of a distribution has it, and they run
/usr/bin/kestrix.

examples:
  kestrix install-files -dir host
  sudo kestrix install-files -dir /`,
		setup: func(fs *flag.FlagSet) func(context.Context, *Env, []string) error {
			dir := fs.String("dir", "", "root `FOLDER` to write below; / is this machine")
			replace := fs.Bool("replace", false, "replace existing files")
			inPackage := fs.Bool("package", false, "write to the places that a package of a distribution uses")
			format := fs.String("format", "text", formUsage("install-files"))
			return func(_ context.Context, env *Env, args []string) error {
				if *dir == "" || len(args) > 0 {
					return usage("a folder is required: kestrix install-files -dir FOLDER")
				}
				if err := formOf("install-files", *format); err != nil {
					return err
				}
				files, err := installFiles(*dir, *replace, *inPackage)
				if err != nil {
					return err
				}
				if *format == "json" {
					return writeJSON(env.Stdout, struct {
						Files []installedFile `json:"files"`
					}{files})
				}
				return sayInstalled(env.Stdout, files, *inPackage)
			}
		},
	}
}

// installedFile is a file for the machine, and what became of it.
type installedFile struct {
	Path   string `json:"path"`
	Result string `json:"result"` // written, unchanged, kept: it exists with other contents, or left out: there is a configuration
	About  string `json:"about"`
}

// installFiles writes the files below a folder and returns what became of each.
func installFiles(dir string, replace, inPackage bool) (out []installedFile, err error) {
	for _, f := range hostFiles(inPackage) {
		x := installedFile{filepath.Join(dir, f.path), "written", f.what}
		text, err := f.text()
		if err != nil {
			return nil, err
		}
		old, err := os.ReadFile(x.Path)
		switch {
		case err == nil && string(old) == text:
			x.Result = "unchanged"
		case f.path == firstConfiguration && configured(filepath.Dir(x.Path)):
			x.Result = "left out"
		case err == nil && !replace:
			x.Result = "kept"
		default:
			if err := os.MkdirAll(filepath.Dir(x.Path), 0o755); err != nil {
				return nil, unusable(fmt.Errorf("%s cannot be created: %w", filepath.Dir(x.Path), reason(err)))
			}
			if err := replaceFile(x.Path, func(w io.Writer) error { _, err := io.WriteString(w, text); return err }); err != nil {
				return nil, err
			}
		}
		out = append(out, x)
	}
	return out, nil
}

// configured reports whether a folder has a configuration: with one more file it would be
// another one.
func configured(folder string) bool {
	found, _ := filepath.Glob(filepath.Join(folder, "*.hcl")) // fails for a bad pattern alone
	return len(found) > 0
}

// sayInstalled lists the files, and what to do next.
func sayInstalled(w io.Writer, files []installedFile, inPackage bool) error {
	width, kept := 0, 0
	for _, f := range files {
		width = max(width, len(f.Path))
		if f.Result == "kept" {
			kept++
		}
	}
	for _, f := range files {
		fmt.Fprintf(w, "%-*s  %-9s  %s\n", width, f.Path, f.Result, f.About)
	}
	if kept > 0 {
		fmt.Fprintf(w, "%s kept, because the contents differ; -replace replaces them\n", plural(kept, "file"))
	}
	if inPackage {
		_, err := fmt.Fprintf(w, "the program goes to %s; after an installation %s is copied to /etc/kestrix, unless a configuration is there\n", packagedProgram, "/"+packagedConfiguration)
		return err
	}
	_, err := fmt.Fprintln(w, "next: install the program as /usr/local/bin/kestrix; then systemd-sysusers, systemd-tmpfiles --create, and systemctl enable --now kestrix")
	return err
}
