package certificates

import (
	"context"
	"crypto"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"encoding/pem"
	"errors"
	"fmt"
	mathrand "math/rand/v2"
	"net/http"
	"net/url"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/crypto/acme"
	"golang.org/x/crypto/acme/autocert"

	"kestrix/internal/core/status"
	"kestrix/internal/core/units"
	"kestrix/internal/live/socket"
)

// certificate is that of one name.
type certificate struct {
	o     *Options
	id    identity
	file  string // of it and its key, as the configuration names the folder
	roots *x509.CertPool
	disk  autocert.DirCache

	ended   context.Context // when nobody wants it any more
	end     context.CancelFunc
	current atomic.Pointer[tls.Certificate] // nil: none yet
	renewed chan struct{}                   // has room for one
	kicked  chan struct{}                   // likewise: not to wait for the next attempt

	mu      sync.Mutex // guards the rest
	latest  []byte     // current as it is stored
	tokens  map[string][]byte
	seen    []string  // what went wrong since the last success
	again   time.Time // not before that, as the server wants it
	failing string    // told as failing, with this reason
	unkept  bool      // told that it cannot be stored
}

func newCertificate(o *Options, id identity, file string, roots *x509.CertPool) *certificate {
	c := &certificate{o: o, id: id, file: file, roots: roots, disk: autocert.DirCache(id.storage), renewed: make(chan struct{}, 1), kicked: make(chan struct{}, 1), tokens: map[string][]byte{}}
	c.ended, c.end = context.WithCancel(context.Background())
	// Handshakes take it from the first one on.
	if text, err := c.disk.Get(c.ended, id.name); err == nil {
		c.take(text)
	}
	return c
}

// accounts is held while the key of an account is loaded or made: names of one storage share it.
var accounts sync.Mutex

// accountKey returns the key of the account, a new one if there is none in the storage.
func (c *certificate) accountKey() (crypto.Signer, error) {
	const name = "account+key" // no host is called that
	accounts.Lock()
	defer accounts.Unlock()
	text, err := c.disk.Get(c.ended, name)
	if errors.Is(err, autocert.ErrCacheMiss) {
		key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
		if err != nil {
			return nil, err
		}
		der, err := x509.MarshalPKCS8PrivateKey(key)
		if err != nil {
			return nil, err
		}
		if err := c.disk.Put(c.ended, name, pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: der})); err != nil {
			return nil, fmt.Errorf("the storage %s cannot be written: %w", c.id.storage, socket.ShortError(err))
		}
		return key, nil
	}
	if err != nil {
		return nil, fmt.Errorf("the storage %s cannot be read: %w", c.id.storage, socket.ShortError(err))
	}
	block, _ := pem.Decode(text)
	if block == nil {
		return nil, fmt.Errorf("%s in the storage is not a key in PEM form", name)
	}
	key, err := x509.ParsePKCS8PrivateKey(block.Bytes)
	if err != nil {
		return nil, fmt.Errorf("%s in the storage: %w", name, err)
	}
	signer, ok := key.(crypto.Signer)
	if !ok {
		return nil, fmt.Errorf("%s in the storage cannot sign", name)
	}
	return signer, nil
}

// firstPause is that after the first failure to obtain a certificate. It doubles with each further
// one, up to an hour: servers limit how often they are asked in vain.
const firstPause = time.Minute

// run obtains the certificate, over again until there is one, and watches over its renewals.
func (c *certificate) run() {
	select {
	case <-c.o.Ready:
	case <-c.ended.Done():
		return
	}
	for pause := firstPause; ; pause = min(2*pause, time.Hour) {
		err := c.obtain()
		if c.ended.Err() != nil {
			return
		}
		if err == nil {
			break
		}
		wait := pause + time.Duration(mathrand.Int64N(int64(pause)/10+1))
		c.mu.Lock()
		wait = max(wait, time.Until(c.again))
		c.mu.Unlock()
		c.failed(err, "the next attempt is in "+units.Duration(wait.Round(time.Second)))
		if !c.sleep(wait) {
			return
		}
	}
	for {
		select {
		case <-c.renewed:
		case <-c.ended.Done():
			return
		case <-time.After(time.Until(overdue(c.current.Load().Leaf))):
			c.failed(errors.New("it should have been renewed by now"), "attempts go on")
			select {
			case <-c.renewed:
			case <-c.ended.Done():
				return
			}
		}
	}
}

// overdue returns when a certificate should have been renewed: the library begins when a third of
// its life is left, 30 days at most, or up to a tenth later.
func overdue(leaf *x509.Certificate) time.Time {
	left := min(leaf.NotAfter.Sub(leaf.NotBefore)/3, 30*24*time.Hour)
	return leaf.NotAfter.Add(min(left/10, time.Hour) + min(left/10, 10*time.Minute) - left)
}

// sleep waits until the next attempt, and returns false if the certificate is not wanted any more.
func (c *certificate) sleep(d time.Duration) bool {
	select {
	case <-time.After(d):
		return true
	case <-c.kicked:
		return true
	case <-c.ended.Done():
		return false
	}
}

// obtain has the library load the certificate from the storage, or obtain one. From then on the
// library renews it; an attempt that fails leaves nothing behind.
func (c *certificate) obtain() error {
	key, err := c.accountKey()
	if err != nil {
		return err
	}
	m := &autocert.Manager{
		Cache: c, Email: c.id.contact, HostPolicy: autocert.HostWhitelist(c.id.name), Prompt: c.agrees,
		Client: &acme.Client{
			Key: key, DirectoryURL: c.id.directory, UserAgent: "kestrix", RetryBackoff: repeatAfter,
			HTTPClient: &http.Client{Timeout: 30 * time.Second, Transport: &watcher{c, &http.Transport{
				Proxy: http.ProxyFromEnvironment, TLSClientConfig: &tls.Config{RootCAs: c.roots}, ForceAttemptHTTP2: true,
				IdleConnTimeout: 30 * time.Second, ResponseHeaderTimeout: 30 * time.Second,
			}}},
		},
	}
	if c.id.accountID != "" {
		m.ExternalAccountBinding = &acme.ExternalAccountBinding{KID: c.id.accountID, Key: []byte(c.id.accountKey)}
	}
	if c.id.http {
		_ = m.HTTPHandler(nil) // has it use http-01; we answer the challenges ourselves, from what it stores
	}
	// What a client with elliptic curves is given; it wants no certificate with RSA.
	_, err = m.GetCertificate(&tls.ClientHelloInfo{ServerName: c.id.name, CipherSuites: []uint16{tls.TLS_ECDHE_ECDSA_WITH_AES_128_GCM_SHA256}})
	return err
}

// repeatAfter returns how long a request to the server waits for its repetition: a few times, briefly.
func repeatAfter(n int, _ *http.Request, _ *http.Response) time.Duration {
	if n > 3 {
		return -1
	}
	return time.Duration(n) * time.Second
}

// agrees reports whether the terms of service are agreed to.
func (c *certificate) agrees(terms string) bool {
	if !c.id.terms {
		c.saw("its terms of service at " + printable(terms) + " are not agreed to; after reading them write terms_agreed = true")
	}
	return c.id.terms
}

// take takes a certificate that is stored, if it is a later one. It reports whether it was.
func (c *certificate) take(text []byte) bool {
	pair, err := tls.X509KeyPair(text, text)
	if err != nil {
		return false
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	if old := c.current.Load(); old != nil && !pair.Leaf.NotAfter.After(old.Leaf.NotAfter) {
		return false
	}
	c.current.Store(&pair)
	c.latest = text
	return true
}

// inherit takes the certificate of the same name that was in force.
func (c *certificate) inherit(o *certificate) {
	o.mu.Lock()
	text := o.latest
	o.mu.Unlock()
	c.take(text)
}

// kick has the next attempt begin now, where one has failed and the server does not want a pause.
func (c *certificate) kick() {
	c.mu.Lock()
	wants := c.failing != "" && time.Now().After(c.again)
	c.mu.Unlock()
	if wants {
		signal(c.kicked)
	}
}

// signal has the channel hold something.
func signal(c chan struct{}) {
	select {
	case c <- struct{}{}:
	default:
	}
}

// obtained tells of a certificate that has just come.
func (c *certificate) obtained(from string) {
	c.mu.Lock()
	c.seen, c.failing, c.again = nil, "", time.Time{}
	c.mu.Unlock()
	leaf := c.current.Load().Leaf
	c.o.Tell(c.id.name, status.EventCertificate, "a certificate %s, valid until %s", from, leaf.NotAfter.UTC().Format(time.RFC3339))
	signal(c.renewed)
}

// failed tells once that there is no new certificate, until there is one.
func (c *certificate) failed(err error, then string) {
	c.mu.Lock()
	why := printable(socket.ShortError(err).Error()) // such as that of the storage
	if len(c.seen) > 0 {
		why = c.server() + ": " + strings.Join(c.seen, "; ")
	}
	c.seen = nil
	first := c.failing == ""
	c.failing = why
	c.mu.Unlock()
	if !first {
		return
	}
	what := "there is no certificate yet"
	if x := c.current.Load(); x != nil {
		is := map[bool]string{false: "is", true: "was"}[time.Now().After(x.Leaf.NotAfter)]
		what = fmt.Sprintf("the certificate is not renewed, and %s valid until %s", is, x.Leaf.NotAfter.UTC().Format(time.RFC3339))
	}
	c.o.Tell(c.id.name, status.EventCertificateFailed, "%s: %s; %s", what, why, then)
}

// server returns the host of the directory.
func (c *certificate) server() string {
	u, err := url.Parse(c.id.directory)
	if err != nil {
		return c.id.directory
	}
	return u.Host
}

// status returns how it stands.
func (c *certificate) status() status.Certificate {
	s := status.Certificate{File: c.file, Name: c.id.name}
	if x := c.current.Load(); x != nil {
		s.From, s.Until = x.Leaf.NotBefore, x.Leaf.NotAfter
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	s.Failing = c.failing
	return s
}
