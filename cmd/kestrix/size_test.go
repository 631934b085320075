package main

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
)

// mostBytes is how large the program may be, built as the README says. It is raised where
// new functions need it, and says so in the commit.
const mostBytes = 38_600_000

// build is the README's command, but for where the program goes.
const build = `CGO_ENABLED=0 go build -trimpath -ldflags "-s -w" -o `

func TestTheProgramStaysSmall(t *testing.T) {
	if testing.Short() {
		t.Skip("it builds the program")
	}
	readme, err := os.ReadFile("../../README.md")
	if err != nil || !strings.Contains(string(readme), build+"kestrix ./cmd/kestrix") {
		t.Fatalf("the README builds in another way than %s... (%v)", build, err)
	}
	name := filepath.Join(t.TempDir(), "kestrix")
	c := exec.Command("go", "build", "-trimpath", "-ldflags", "-s -w", "-o", name, ".")
	c.Env = append(os.Environ(), "CGO_ENABLED=0")
	if out, err := c.CombinedOutput(); err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
	info, err := os.Stat(name)
	if err != nil {
		t.Fatal(err)
	}
	if info.Size() > mostBytes {
		t.Errorf("the program has %d bytes, %d are allowed; see go version -m and go tool nm -size", info.Size(), mostBytes)
	}
}
