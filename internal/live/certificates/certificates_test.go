package certificates

import (
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"encoding/pem"
	"io"
	"math/big"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"
	"unicode"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kestrix/internal/core/config"
)

// planned returns a set whose configuration wants certificates, and nothing of which runs.
func planned(t *testing.T, storage string) (*Set, *certificate) {
	s := NewSet(Options{Path: func(name string) string { return filepath.Join(storage, name) }, Authorities: func(config.Placed[string]) (*x509.CertPool, error) { return nil, nil }})
	acme := &config.ACME{Names: []config.Placed[string]{{Value: "tickets.tern.example"}}, Storage: config.Placed[string]{Value: "acme"}}
	p, err := s.Plan(&config.Config{Frontends: []*config.Frontend{{TLS: &config.FrontTLS{ACME: acme}}}})
	require.NoError(t, err)
	c := p.Group(acme).names[0]
	s.now.Store(&[]*certificate{c})
	assert.Nil(t, p.Group(acme).Certificate("tickets.tern.example", false), "there is none yet")
	return s, c
}

// TestTokensAreFoundByTheirHostOnly: ours, and those of another proxy with the same storage; a path leads
// nowhere else.
func TestTokensAreFoundByTheirHostOnly(t *testing.T) {
	dir := t.TempDir()
	s, c := planned(t, dir)
	require.NoError(t, c.Put(context.Background(), "mine+http-01", []byte("mine.thumb")))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "acme", "theirs+http-01"), []byte("theirs.thumb"), 0o600))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "secret+http-01"), []byte("s3cret"), 0o600))
	for _, x := range []struct{ host, path, want string }{
		{"tickets.tern.example", challengePath + "mine", "mine.thumb"},
		{"Tickets.Tern.example:80", challengePath + "theirs", "theirs.thumb"},
		{"board.tern.example", challengePath + "mine", ""},
		{"tickets.tern.example", challengePath + "other", ""},
		{"tickets.tern.example", challengePath, ""},
		{"tickets.tern.example", challengePath + "../secret", ""},
		{"tickets.tern.example", challengePath + "../acme/mine", ""},
		{"tickets.tern.example", challengePath + strings.Repeat("a", 129), ""},
		{"tickets.tern.example", "/mine", ""},
	} {
		assert.Equal(t, x.want, string(s.Token(context.Background(), x.host, x.path)), "%s%s", x.host, x.path)
	}
	require.NoError(t, c.Delete(context.Background(), "mine+http-01"))
	assert.Empty(t, s.Token(context.Background(), "tickets.tern.example", challengePath+"mine"))
	g := &Group{names: []*certificate{c}}
	assert.Nil(t, g.Challenge(context.Background(), "tickets.tern.example"), "a challenge that nobody has begun")
}

// TestWhenARenewalIsOverdue, by the lives of certificates.
func TestWhenARenewalIsOverdue(t *testing.T) {
	from := time.Date(2026, 11, 23, 0, 0, 0, 0, time.UTC)
	for _, x := range []struct{ life, after time.Duration }{
		{90 * 24 * time.Hour, 60*24*time.Hour + time.Hour + 10*time.Minute},
		{398 * 24 * time.Hour, 368*24*time.Hour + time.Hour + 10*time.Minute},
		{6 * 24 * time.Hour, 4*24*time.Hour + time.Hour + 10*time.Minute},
		{9 * time.Second, 6600 * time.Millisecond},
	} {
		assert.Equal(t, x.after, overdue(&x509.Certificate{NotBefore: from, NotAfter: from.Add(x.life)}).Sub(from), "%s", x.life)
	}
}

// says answers with a body.
type says struct {
	status     int
	kind, body string
}

// RoundTrip answers.
func (s says) RoundTrip(*http.Request) (*http.Response, error) {
	return &http.Response{StatusCode: s.status, Status: "403 Forbidden", Header: http.Header{"Content-Type": {s.kind}, "Retry-After": {"7200"}}, Body: io.NopCloser(strings.NewReader(s.body))}, nil
}

// FuzzAnswersOfTheServer: whatever it says, the library gets all of it, and what is noted for logs is
// short and printable.
func FuzzAnswersOfTheServer(f *testing.F) {
	f.Add(403, "application/problem+json", `{"type":"urn:ietf:params:acme:error:rateLimited","detail":"too many\n(5).","status":403}`)
	f.Add(200, "application/json", `{"status":"invalid","challenges":[{"type":"http-01","error":{"type":"urn:ietf:params:acme:error:dns","detail":"\u001b[31mno"}}]}`)
	f.Add(400, "application/problem+json", `{"type":"urn:ietf:params:acme:error:badNonce"}`)
	f.Add(500, "text/html", "<html>")
	f.Fuzz(func(t *testing.T, code int, kind, body string) {
		_, c := planned(t, t.TempDir())
		w := watcher{c, says{code, kind, body}}
		for range 2 {
			res, err := w.RoundTrip(&http.Request{})
			require.NoError(t, err)
			all, err := io.ReadAll(res.Body)
			require.NoError(t, err)
			require.Equal(t, body, string(all))
		}
		require.LessOrEqual(t, len(c.seen), 4)
		for _, s := range c.seen {
			require.False(t, strings.ContainsFunc(s, func(r rune) bool { return !unicode.IsPrint(r) }), "%q", s)
			require.LessOrEqual(t, len([]rune(s)), 500)
		}
		switch code {
		case 403:
			require.WithinDuration(t, time.Now().Add(2*time.Hour), c.again, time.Minute)
		case 200:
			require.Zero(t, c.again)
		}
	})
}

// TestAnswersInWords: what an operator reads of them.
func TestAnswersInWords(t *testing.T) {
	for _, x := range []struct {
		says
		want []string
	}{
		{says{403, "application/problem+json", `{"type":"urn:ietf:params:acme:error:rateLimited","detail":"too many\n(5).","status":403}`}, []string{"rateLimited: too many (5)"}},
		{says{200, "application/json", `{"status":"invalid","challenges":[{"type":"dns-01"},{"type":"http-01","error":{"type":"urn:ietf:params:acme:error:dns","detail":"none"}}]}`}, []string{"challenge http-01: dns: none"}},
		{says{400, "application/problem+json", `{"type":"urn:ietf:params:acme:error:badNonce","detail":"again"}`}, nil},
		{says{502, "text/html", "<html>"}, []string{"it answers 403 Forbidden"}},
		{says{200, "application/json", `{"status":"valid"}`}, nil},
	} {
		_, c := planned(t, t.TempDir())
		_, err := (&watcher{c, x.says}).RoundTrip(&http.Request{})
		require.NoError(t, err)
		assert.Equal(t, x.want, c.seen)
		c.end()
		_, err = (&watcher{c, x.says}).RoundTrip(&http.Request{})
		assert.ErrorIs(t, err, errEnded)
	}
}

// TestWhatIsStoredIsShownAtOnce: before anything has run, and where a reload changes what it is obtained with, as
// well if the disk has lost it.
func TestWhatIsStoredIsShownAtOnce(t *testing.T) {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	template := &x509.Certificate{SerialNumber: big.NewInt(1), DNSNames: []string{"tickets.tern.example"}, NotAfter: time.Now().Add(time.Hour)}
	der, err := x509.CreateCertificate(rand.Reader, template, template, &key.PublicKey, key)
	require.NoError(t, err)
	private, err := x509.MarshalPKCS8PrivateKey(key)
	require.NoError(t, err)
	text := append(pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: private}), pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der})...)
	dir := t.TempDir()
	file := filepath.Join(dir, "acme", "tickets.tern.example")
	require.NoError(t, os.MkdirAll(filepath.Dir(file), 0o700))
	require.NoError(t, os.WriteFile(file, text, 0o600))
	s := NewSet(Options{Path: func(name string) string { return filepath.Join(dir, name) }, Authorities: func(config.Placed[string]) (*x509.CertPool, error) { return nil, nil }, Ready: make(chan struct{})})
	defer s.Close()
	for _, contact := range []string{"", "harbour@tern.example"} {
		acme := &config.ACME{Names: []config.Placed[string]{{Value: "tickets.tern.example"}}, Storage: config.Placed[string]{Value: "acme"}, Contact: contact}
		p, err := s.Plan(&config.Config{Frontends: []*config.Frontend{{TLS: &config.FrontTLS{ACME: acme}}}})
		require.NoError(t, err)
		s.Use(p)
		assert.NotNil(t, p.Group(acme).Certificate("tickets.tern.example", true), "contact %q", contact)
		require.NoError(t, os.RemoveAll(file))
	}
}

// TestPausesThatAServerWants: as seconds, as a date, and what is neither.
func TestPausesThatAServerWants(t *testing.T) {
	assert.Equal(t, time.Minute, pauseOf("60"))
	assert.InDelta(t, time.Hour, pauseOf(time.Now().Add(time.Hour).UTC().Format(http.TimeFormat)), float64(2*time.Second))
	for _, value := range []string{"", "-1", "soon", "99999999999999999999"} {
		assert.Zero(t, pauseOf(value), value)
	}
}
