package certificates

import (
	"context"

	"golang.org/x/crypto/acme/autocert"

	"kestrix/internal/core/status"
	"kestrix/internal/live/socket"
)

// Get is called by the library for what is stored.
func (c *certificate) Get(ctx context.Context, key string) ([]byte, error) {
	text, err := c.disk.Get(ctx, key)
	if key != c.id.name {
		return text, err
	}
	if err == nil && c.take(text) { // of another proxy
		c.obtained("from the storage")
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.latest != nil {
		return c.latest, nil
	}
	return text, err
}

// Put is called by the library with what is to be stored: a certificate with its key, or the token
// of a challenge. A disk that does not take them does not keep them from being used.
func (c *certificate) Put(ctx context.Context, key string, text []byte) error {
	if c.ended.Err() != nil {
		return c.ended.Err()
	}
	if key != c.id.name {
		c.mu.Lock()
		c.tokens[key] = text
		c.mu.Unlock()
		return c.disk.Put(ctx, key, text)
	}
	if c.take(text) {
		c.obtained("from " + c.server())
	}
	err := c.disk.Put(ctx, key, text)
	c.mu.Lock()
	told := c.unkept
	c.unkept = err != nil
	c.mu.Unlock()
	switch {
	case err != nil && !told:
		c.o.Tell(c.id.name, status.EventCertificateFailed, "the certificate is in use and cannot be stored, so that a restart would obtain another: %v", socket.ShortError(err))
	case err == nil && told:
		c.o.Tell(c.id.name, status.EventCertificate, "certificates are stored again")
	}
	return nil
}

// Delete is called by the library for the tokens of challenges that have ended.
func (c *certificate) Delete(ctx context.Context, key string) error {
	c.mu.Lock()
	delete(c.tokens, key)
	c.mu.Unlock()
	return c.disk.Delete(ctx, key)
}

// token returns what a challenge wants: of ours, or of another proxy that shares the storage. nil:
// nobody knows it.
func (c *certificate) token(ctx context.Context, key string) []byte {
	c.mu.Lock()
	text := c.tokens[key]
	c.mu.Unlock()
	if text == nil {
		text, _ = c.disk.Get(ctx, key) // an error is that there is none
	}
	return text
}

var _ autocert.Cache = (*certificate)(nil)
