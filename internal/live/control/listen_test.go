package control

import (
	"io"
	"net"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kestrix/internal/core/config"
)

// TestTheSocketOfControlIsPrivate: nobody else can put another one in its place.
func TestTheSocketOfControlIsPrivate(t *testing.T) {
	dir := t.TempDir()
	for mode, wrong := range map[os.FileMode]string{0o755: "", 0o700: "", 0o777 | os.ModeSticky: "", 0o777: "can be written by others", 0o775: "can be written by others"} {
		require.NoError(t, os.Chmod(dir, mode))
		err := privateFolder(dir, os.Geteuid())
		if wrong == "" {
			assert.NoError(t, err)
		} else {
			assert.ErrorContains(t, err, wrong)
		}
	}
	require.NoError(t, os.Chmod(dir, 0o755))
	if os.Geteuid() != 0 {
		assert.ErrorContains(t, privateFolder(dir, os.Geteuid()+1), "belongs to uid")
	}
	path := filepath.Join(dir, "control.sock")
	listen := func(a config.Address) (net.Listener, error) { return net.Listen("unix", a.Unix) }
	c, err := Open(nil, config.Address{Unix: path}, listen, Options{})
	require.NoError(t, err)
	defer c.Close()
	info, err := os.Stat(path)
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o660), info.Mode().Perm())
	// Before it is known who may ask, nobody is answered.
	conn, err := net.Dial("unix", path)
	require.NoError(t, err)
	defer conn.Close()
	_, err = io.WriteString(conn, "GET /alive HTTP/1.1\r\nHost: localhost\r\n\r\n")
	require.NoError(t, err)
	c.Close()
	said, _ := io.ReadAll(conn)
	assert.Empty(t, said)
}
