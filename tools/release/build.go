package main

import (
	"bytes"
	"compress/gzip"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strconv"
	"strings"
)

// builder makes the files of a release.
type builder struct {
	*source
	version string
	work    string // a folder for what is not published
	out     string // the folder that becomes the release
	log     io.Writer
}

// environment is that of all commands: what the caller has set must not change a byte.
func (b *builder) environment(p platform) []string {
	return append(os.Environ(),
		"CGO_ENABLED=0", "GOOS="+p.os, "GOARCH="+p.arch, "GOAMD64=v1", "GOARM64=v8.0", "GOFLAGS=", "GOEXPERIMENT=", "GOWORK=off",
		"SOURCE_DATE_EPOCH="+strconv.FormatInt(b.date.Unix(), 10), "TZ=UTC", "LC_ALL=C")
}

// command runs one, and returns what it wrote to stdout.
func (b *builder) command(ctx context.Context, env []string, dir, name string, args ...string) ([]byte, error) {
	c := exec.CommandContext(ctx, name, args...)
	var stdout, stderr bytes.Buffer
	c.Env, c.Dir, c.Stdout, c.Stderr = env, dir, &stdout, &stderr
	if err := c.Run(); err != nil {
		return nil, fmt.Errorf("%w\n%s", err, bytes.TrimSpace(append(stderr.Bytes(), stdout.Bytes()...)))
	}
	return stdout.Bytes(), nil
}

// here is the platform that this runs on.
var here = platform{runtime.GOOS, runtime.GOARCH}

// prepare builds the program and the tools for this machine, and learns the version.
func (b *builder) prepare(ctx context.Context) error {
	fmt.Fprintln(b.log, "the program and the tools for this machine")
	own := filepath.Join(b.work, "kestrix")
	if err := b.compile(ctx, here, own); err != nil {
		return err
	}
	text, err := b.command(ctx, nil, b.work, own, "version", "-format", "json")
	if err != nil {
		return fmt.Errorf("the program that was built does not tell its version: %w", err)
	}
	var built struct {
		Version, Commit string
		Modified        bool
	}
	if err := json.Unmarshal(text, &built); err != nil {
		return err
	}
	if built.Commit != b.commit || built.Modified {
		return errors.New("the tree changed while it was built; begin again")
	}
	if b.version, err = b.versionOf(built.Version); err != nil {
		return err
	}
	for tool, pkg := range map[string]string{"nfpm": "github.com/goreleaser/nfpm/v2/cmd/nfpm", "cyclonedx-gomod": "github.com/CycloneDX/cyclonedx-gomod/cmd/cyclonedx-gomod"} {
		if _, err := b.command(ctx, b.environment(here), filepath.Join(b.root, "tools", "packagers"), "go", "build", "-trimpath", "-buildvcs=false", "-o", filepath.Join(b.work, tool), pkg); err != nil {
			return fmt.Errorf("the tool %s cannot be built from tools/packagers: %w", tool, err)
		}
	}
	stage := filepath.Join(b.work, "stage")
	if _, err := b.command(ctx, nil, b.work, own, "install-files", "-package", "-dir", stage); err != nil {
		return err
	}
	return compress(filepath.Join(stage, "usr/share/man/man1/kestrix.1"))
}

// compress replaces a file by a compressed one.
func compress(name string) error {
	text, err := os.ReadFile(name)
	if err != nil {
		return err
	}
	var b bytes.Buffer
	z, err := gzip.NewWriterLevel(&b, gzip.BestCompression)
	if err != nil {
		return err
	}
	if _, err := z.Write(text); err != nil {
		return err
	}
	if err := z.Close(); err != nil {
		return err
	}
	return errors.Join(os.WriteFile(name+".gz", b.Bytes(), 0o644), os.Remove(name))
}

// compile builds the program for a platform.
func (b *builder) compile(ctx context.Context, p platform, to string) error {
	if _, err := b.command(ctx, b.environment(p), b.root, "go", "build", "-trimpath", "-buildvcs=true", "-ldflags", "-s -w", "-o", to, "./cmd/kestrix"); err != nil {
		return fmt.Errorf("%s does not build: %w", p, err)
	}
	return nil
}

// build makes what is published for a platform.
func (b *builder) build(ctx context.Context, p platform) error {
	name := filepath.Join(b.out, fmt.Sprintf("kestrix-%s-%s-%s", b.version, p.os, p.arch))
	fmt.Fprintf(b.log, "%s: program\n", p)
	if err := b.compile(ctx, p, name); err != nil {
		return err
	}
	fmt.Fprintf(b.log, "%s: bill of materials\n", p)
	if _, err := b.command(ctx, b.environment(p), b.root, filepath.Join(b.work, "cyclonedx-gomod"), "app", "-json", "-licenses", "-std", "-noserial", "-notimestamp", "-main", "cmd/kestrix", "-output", name+".cdx.json", b.root); err != nil {
		return fmt.Errorf("the bill of materials of %s cannot be made: %w", p, err)
	}
	if p.os != "linux" {
		return nil
	}
	for _, kind := range []string{"deb", "rpm"} {
		fmt.Fprintf(b.log, "%s: %s\n", p, kind)
		env := append(b.environment(here), "ARCH="+p.arch, "VERSION="+b.version, "PROGRAM="+name, "STAGE="+filepath.Join(b.work, "stage"), "SOURCE="+b.root)
		if _, err := b.command(ctx, env, b.root, filepath.Join(b.work, "nfpm"), "package", "-f", "packaging/nfpm.yaml", "-p", kind, "-t", b.out); err != nil {
			return fmt.Errorf("the %s of %s cannot be made: %w", kind, p, err)
		}
	}
	return nil
}

// finish adds the recipe of an image and the checksums, and lists all of it.
func (b *builder) finish(w io.Writer) error {
	recipe, err := os.ReadFile(filepath.Join(b.root, "packaging", "Containerfile"))
	if err != nil {
		return err
	}
	if err := os.WriteFile(filepath.Join(b.out, "Containerfile"), recipe, 0o644); err != nil {
		return err
	}
	files, err := os.ReadDir(b.out)
	if err != nil {
		return err
	}
	var sums strings.Builder
	for _, f := range files {
		text, err := os.ReadFile(filepath.Join(b.out, f.Name()))
		if err != nil {
			return err
		}
		sum := sha256.Sum256(text)
		fmt.Fprintf(&sums, "%s  %s\n", hex.EncodeToString(sum[:]), f.Name())
		fmt.Fprintf(w, "%10d  %s\n", len(text), f.Name())
	}
	return os.WriteFile(filepath.Join(b.out, "SHA256SUMS"), []byte(sums.String()), 0o644)
}
