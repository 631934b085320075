package cli

import (
	"bytes"
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"encoding/json"
	"encoding/pem"
	"math/big"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/rogpeppe/go-internal/testscript"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kestrix/internal/core/check"
	"kestrix/internal/core/config"
)

// TestEveryRuleThroughTheCommand runs the failing and the clean example of each
// rule through `kestrix check`, with the files they name on disk, and wants id,
// line and message.
func TestEveryRuleThroughTheCommand(t *testing.T) {
	assert.GreaterOrEqual(t, len(check.Rules), 50)
	for _, r := range check.Rules {
		t.Run(r.ID, func(t *testing.T) {
			dir := t.TempDir()
			bad, good := r.Examples()
			for name, text := range map[string]string{"bad.hcl": bad, "good.hcl": good} {
				require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644))
			}
			writeFacts(t, dir, good)
			found, code := checked(t, filepath.Join(dir, "good.hcl"), "-strict")
			assert.Empty(t, found)
			assert.Zero(t, code)
			writeFacts(t, dir, bad)
			found, code = checked(t, filepath.Join(dir, "bad.hcl"))
			hit := false
			for i, line := range strings.Split(bad, "\n") {
				_, want, ok := strings.Cut(line, "# want:")
				if !ok {
					continue
				}
				for _, f := range found {
					words := strings.TrimSpace(strings.Split(want, "|")[0])
					hit = hit || f.ID == r.ID && f.Line == i+1 && strings.Contains(f.Message+" | "+f.Hint+" | "+f.Witness, words)
				}
			}
			assert.True(t, hit, "%+v", found)
			if r.Severity == config.Error {
				assert.Contains(t, []int{exitFound, exitInput}, code)
			}
		})
	}
}

type foundJSON struct {
	ID, Severity, Message, Hint, Witness string
	Line                                 int
}

// checked runs `kestrix check` and returns what it found and its exit code.
func checked(t *testing.T, args ...string) ([]foundJSON, int) {
	var out, errs bytes.Buffer
	env := &Env{Stdin: strings.NewReader(""), Stdout: &out, Stderr: &errs, Getenv: func(string) string { return "" }}
	code := Main(context.Background(), env, append([]string{"check", "-format", "json"}, args...))
	if out.Len() == 0 {
		return []foundJSON{{ID: "unusable", Message: errs.String()}}, code // as a source that cannot be read at all
	}
	var all struct{ Findings []foundJSON }
	require.NoError(t, json.Unmarshal(out.Bytes(), &all), "%s%s", out.String(), errs.String())
	return all.Findings, code
}

// certificatePair NAME writes NAME.pem and NAME.key, a certificate and its key.
func certificatePair(ts *testscript.TestScript, neg bool, args []string) {
	certificate, key := issue(failing{ts}, args, time.Now().Add(-time.Hour), time.Now().AddDate(1, 0, 0))
	ts.Check(os.WriteFile(ts.MkAbs(args[0]+".pem"), certificate, 0o644))
	ts.Check(os.WriteFile(ts.MkAbs(args[0]+".key"), key, 0o600))
}

// failing lets require fail a script.
type failing struct{ ts *testscript.TestScript }

func (f failing) Errorf(format string, args ...any) { f.ts.Fatalf(format, args...) }
func (f failing) FailNow()                          { f.ts.Fatalf("failed") }

// issue makes a certificate of its own authority, and its key, as PEM.
func issue(t require.TestingT, names []string, from, until time.Time) (certificate, key []byte) {
	k, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	template := &x509.Certificate{SerialNumber: big.NewInt(1), DNSNames: names, NotBefore: from, NotAfter: until, IsCA: true, BasicConstraintsValid: true}
	der, err := x509.CreateCertificate(rand.Reader, template, template, &k.PublicKey, k)
	require.NoError(t, err)
	private, err := x509.MarshalPKCS8PrivateKey(k)
	require.NoError(t, err)
	return pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der}), pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: private})
}

// writeFacts makes the files that the comments of an example describe.
func writeFacts(t *testing.T, dir, text string) {
	now := time.Now()
	for _, line := range strings.Split(text, "\n") {
		words := strings.Fields(line)
		if len(words) < 3 || words[0] != "#" || words[1] != "file" {
			continue
		}
		opts := map[string]string{"names": "inside", "from": "-10d", "until": "300d", "mode": "0600"}
		for _, w := range words[3:] {
			if name, value, ok := strings.Cut(w, "="); ok {
				opts[name] = value
			}
		}
		at := func(name string) time.Time {
			days, err := strconv.Atoi(strings.TrimSuffix(opts[name], "d"))
			require.NoError(t, err)
			return now.AddDate(0, 0, days).Add(-time.Minute)
		}
		certificate, private := issue(t, strings.Split(opts["names"], ","), at("from"), at("until"))
		if opts["key"] == "other" {
			_, private = issue(t, []string{"other"}, at("from"), at("until"))
		}
		require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(dir, words[2])), 0o755))
		if len(words) > 3 && words[3] == words[2] { // as certificates by ACME are stored
			require.NoError(t, os.WriteFile(filepath.Join(dir, words[2]), append(private, certificate...), 0o600))
			continue
		}
		require.NoError(t, os.WriteFile(filepath.Join(dir, words[2]), certificate, 0o644))
		if len(words) > 3 && !strings.Contains(words[3], "=") {
			key := filepath.Join(dir, words[3])
			_ = os.Remove(key) // of the other example
			if opts["key"] == "missing" {
				continue
			}
			mode, err := strconv.ParseUint(opts["mode"], 8, 32)
			require.NoError(t, err)
			require.NoError(t, os.WriteFile(key, private, os.FileMode(mode)))
			require.NoError(t, os.Chmod(key, os.FileMode(mode)))
		}
	}
}
