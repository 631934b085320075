// Command release makes what is published of a commit: programs for several platforms,
// packages of Debian and RPM, bills of materials, a recipe for an image, and checksums. Two
// builds of a commit with the same Go give the same bytes. It is called by people and by
// .ci/long, and must never build what is not committed, or leave half of a release behind.
//
//	go run ./tools/release
package main

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"io"
	"os"
	"os/signal"
	"path/filepath"
	"strings"
)

func main() {
	out := flag.String("o", "", "`FOLDER` to write, which must not exist; dist/kestrix-VERSION if not given")
	only := flag.String("only", "", "`PLATFORMS` with commas between them, such as linux/amd64; all if not given")
	flag.Usage = func() {
		fmt.Fprintln(flag.CommandLine.Output(), "usage: go run ./tools/release [-o FOLDER] [-only PLATFORMS]\n\nBuilds the checked-out commit. Needs git, Go, and modules from its proxy or cache.")
		flag.PrintDefaults()
	}
	flag.Parse()
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt)
	defer stop()
	err := errors.New("it takes no operand; -o names the folder")
	if flag.NArg() == 0 {
		err = run(ctx, ".", *out, *only, os.Stdout, os.Stderr)
	}
	if ctx.Err() != nil {
		err = errors.New("interrupted, and nothing was written")
	}
	if err != nil {
		fmt.Fprintln(os.Stderr, "release:", err)
		os.Exit(1)
	}
}

// platform is what a program is built for.
type platform struct{ os, arch string }

func (p platform) String() string { return p.os + "/" + p.arch }

// platforms are those of a release. Packages are for those of Linux.
var platforms = []platform{{"linux", "amd64"}, {"linux", "arm64"}, {"darwin", "arm64"}}

// chosen returns the platforms of a list; all for an empty one.
func chosen(list string) ([]platform, error) {
	if list == "" {
		return platforms, nil
	}
	var out []platform
	for _, name := range strings.Split(list, ",") {
		found := false
		for _, p := range platforms {
			if p.String() == strings.TrimSpace(name) {
				out, found = append(out, p), true
			}
		}
		if !found {
			return nil, fmt.Errorf("-only cannot have %q; there are %v", name, platforms)
		}
	}
	return out, nil
}

// run makes a release of the checkout at root. What is made stands in a folder beside its
// place until all of it is there.
func run(ctx context.Context, root, out, only string, stdout, stderr io.Writer) error {
	targets, err := chosen(only)
	if err != nil {
		return err
	}
	root, err = filepath.Abs(root)
	if err != nil {
		return err
	}
	s, err := readSource(ctx, root)
	if err != nil {
		return err
	}
	work, err := os.MkdirTemp("", "kestrix-release-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(work)
	b := &builder{source: s, work: work, log: stderr}
	if err := b.prepare(ctx); err != nil {
		return err
	}
	if out == "" {
		out = filepath.Join(root, "dist", "kestrix-"+b.version)
	}
	if _, err := os.Lstat(out); err == nil {
		return fmt.Errorf("%s exists; remove it, or name another folder with -o", out)
	}
	if err := os.MkdirAll(filepath.Dir(out), 0o755); err != nil {
		return err
	}
	b.out, err = os.MkdirTemp(filepath.Dir(out), ".kestrix-release-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(b.out)
	for _, p := range targets {
		if err := b.build(ctx, p); err != nil {
			return err
		}
	}
	if err := b.finish(stdout); err != nil {
		return err
	}
	if err := os.Chmod(b.out, 0o755); err != nil {
		return err
	}
	if err := os.Rename(b.out, out); err != nil {
		return err
	}
	_, err = fmt.Fprintln(stdout, "written to", out)
	return err
}
