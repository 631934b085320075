package main

import (
	"io"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestTheImageHasAllThatTheProgramNeeds follows the recipe by hand, since no engine of images
// runs here: a folder with what it copies is the root, and the user is the one it names.
func TestTheImageHasAllThatTheProgramNeeds(t *testing.T) {
	if os.Getenv("KESTRIX_LONG") == "" || os.Geteuid() != 0 {
		t.Skip("it builds packages and changes its root; .ci/long runs it, as root")
	}
	dir := releaseOf(t, "../..")
	recipe, err := os.ReadFile(filepath.Join(dir, "Containerfile"))
	require.NoError(t, err)
	line := func(word string) string {
		found := regexp.MustCompile(`(?m)^`+word+` (.*)$`).FindAllStringSubmatch(string(recipe), -1)
		require.Len(t, found, 1, word)
		return found[0][1]
	}
	require.Equal(t, "scratch", line("FROM"))
	copied := strings.Fields(strings.ReplaceAll(line("COPY"), "${TARGETARCH}", "amd64"))
	programs, err := filepath.Glob(filepath.Join(dir, copied[0]))
	require.NoError(t, err)
	require.Len(t, programs, 1, "one file fits the pattern")
	root := filepath.Join(t.TempDir(), "root")
	require.NoError(t, os.MkdirAll(filepath.Join(root, "etc/kestrix"), 0o755))
	require.NoError(t, os.MkdirAll(filepath.Join(root, filepath.Dir(copied[1])), 0o755))
	for at := root; at != "/"; at = filepath.Dir(at) { // the user of the image must get there
		info, err := os.Stat(at)
		require.NoError(t, err)
		require.NoError(t, os.Chmod(at, info.Mode()|0o111))
	}
	text, err := os.ReadFile(programs[0])
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(root, copied[1]), text, 0o755))
	site := "frontend \"web\" {\n  listen = \"127.0.0.1:18985\"\n  route \"all\" {\n    reply {\n      status = 200\n      body   = \"from the image\"\n    }\n  }\n}\n"
	require.NoError(t, os.WriteFile(filepath.Join(root, "etc/kestrix/site.hcl"), []byte(site), 0o644))
	list := func(word string) []string {
		return strings.FieldsFunc(line(word), func(r rune) bool { return strings.ContainsRune(`[]", `, r) })
	}
	c := exec.Command("chroot", append([]string{"--userspec=" + line("USER"), root}, append(list("ENTRYPOINT"), list("CMD")...)...)...)
	c.Env = []string{} // as in an image that sets none
	var said strings.Builder
	c.Stderr = &said
	require.NoError(t, c.Start())
	ended := make(chan error, 1)
	go func() { ended <- c.Wait() }()
	defer c.Process.Kill()
	require.Eventually(t, func() bool {
		res, err := http.Get("http://127.0.0.1:18985/")
		if err != nil {
			return false
		}
		defer res.Body.Close()
		body, err := io.ReadAll(res.Body)
		return err == nil && string(body) == "from the image"
	}, 10*time.Second, 50*time.Millisecond)
	require.NoError(t, c.Process.Signal(syscall.SIGTERM)) // as an engine ends a container
	assert.NoError(t, <-ended, &said)
}
