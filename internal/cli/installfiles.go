package cli

import (
	"context"
	"flag"
	"fmt"
	"io"
	"os"
	"path/filepath"

	"kestrix/docs"
)

// hostFiles lists the files for the machine that serves, by where they stand below
// its root.
func hostFiles() []hostFile {
	return []hostFile{
		{"etc/systemd/system/kestrix.service", "runs it, with as few rights as it needs", carried("kestrix.service")},
		{"etc/logrotate.d/kestrix", "moves the access log away each night", carried("kestrix.logrotate")},
		{"usr/local/share/man/man1/kestrix.1", "man kestrix", made(manual)},
		{"usr/share/bash-completion/completions/kestrix", "completion for bash", made(bashCompletion)},
		{"usr/local/share/zsh/site-functions/_kestrix", "for zsh", made(zshCompletion)},
		{"usr/share/fish/vendor_completions.d/kestrix.fish", "for fish", made(fishCompletion)},
	}
}

type hostFile struct {
	path, what string
	text       func() (string, error)
}

func carried(name string) func() (string, error) {
	return func() (string, error) {
		b, err := docs.Host.ReadFile(name)
		return string(b), err
	}
}

func made(f func() string) func() (string, error) {
	return func() (string, error) { return f(), nil }
}

func installFilesCommand() *command {
	return &command{
		name: "install-files", summary: "write files for the machine: systemd unit, log rotation, manual, completion",
		help: `
Writes files below a folder and does nothing else: no service is started, and what
is there already stays unless -replace says otherwise. Look at them, then have them
where they belong, or name / yourself.

  kestrix install-files -dir host
  sudo kestrix install-files -dir /`,
		setup: func(fs *flag.FlagSet) func(context.Context, *Env, []string) error {
			dir := fs.String("dir", "", "the `FOLDER` that stands for the root of the machine")
			replace := fs.Bool("replace", false, "put new ones in the place of files that are there")
			return func(_ context.Context, env *Env, args []string) error {
				if *dir == "" || len(args) > 0 {
					return usage("a folder is wanted: kestrix install-files -dir FOLDER")
				}
				return installFiles(env, *dir, *replace)
			}
		},
	}
}

func installFiles(env *Env, dir string, replace bool) error {
	width, kept := 0, 0
	for _, f := range hostFiles() {
		width = max(width, len(filepath.Join(dir, f.path)))
	}
	for _, f := range hostFiles() {
		name, how := filepath.Join(dir, f.path), "written"
		text, err := f.text()
		if err != nil {
			return err
		}
		old, err := os.ReadFile(name)
		switch {
		case err == nil && string(old) == text:
			how = "is there"
		case err == nil && !replace:
			how = "is there and differs; it was kept"
			kept++
		default:
			if err := os.MkdirAll(filepath.Dir(name), 0o755); err != nil {
				return unusable(fmt.Errorf("%s cannot be made: %w", filepath.Dir(name), reason(err)))
			}
			if err := replaceFile(name, func(w io.Writer) error { _, err := io.WriteString(w, text); return err }); err != nil {
				return err
			}
		}
		fmt.Fprintf(env.Stdout, "%-*s  %s: %s\n", width, name, how, f.what)
	}
	if kept > 0 {
		fmt.Fprintf(env.Stdout, "%s kept; -replace puts the new ones in their place\n", plural(kept, "file"))
	}
	fmt.Fprintln(env.Stdout, "next: the program as /usr/local/bin/kestrix, a configuration in /etc/kestrix, a user kestrix; then systemctl enable --now kestrix")
	return nil
}
