package sticky

import (
	"crypto/aes"
	"crypto/cipher"
	"crypto/sha256"
	"encoding/base64"
	"encoding/binary"
	"errors"
	"time"

	"github.com/cespare/xxhash/v2"
)

// Ticket is what a sealed cookie says.
type Ticket struct {
	Session uint64    // names the client's session
	Backend uint64    // BackendHash of its backend
	Issued  time.Time // to the second
}

// BackendHash is how a ticket names a backend: by upstream and name, so that
// seats survive a reload and hold for every proxy with the same configuration.
func BackendHash(upstream, backend string) uint64 {
	return xxhash.Sum64String(upstream + "\x00" + backend)
}

// Sealer seals tickets so that a client can neither read nor change them:
// AES-256-GCM (NIST SP 800-38D) under a key made from the secret.
type Sealer struct{ aead cipher.AEAD }

// NewSealer makes a sealer. Two with the same secret read each other's tickets.
func NewSealer(secret []byte) *Sealer {
	key := sha256.Sum256(append([]byte("kestrix seat v1\x00"), secret...))
	block, err := aes.NewCipher(key[:])
	if err != nil {
		panic(err) // a key of 32 bytes is always taken
	}
	aead, err := cipher.NewGCM(block)
	if err != nil {
		panic(err) // likewise AES's block size
	}
	return &Sealer{aead}
}

// NonceSize is the number of fresh random bytes that Seal wants.
const NonceSize = 12

// ErrTicket is a cookie that this sealer did not make or that was changed.
var ErrTicket = errors.New("the seat cookie was not sealed with this secret")

// Seal returns the value of the cookie, 64 characters that may stand in one.
// scope keeps the cookies of different upstreams apart.
func (s *Sealer) Seal(nonce [NonceSize]byte, scope string, t Ticket) string {
	var ticket [20]byte
	binary.BigEndian.PutUint64(ticket[0:], t.Session)
	binary.BigEndian.PutUint64(ticket[8:], t.Backend)
	binary.BigEndian.PutUint32(ticket[16:], uint32(t.Issued.Unix()))
	sealed := s.aead.Seal(nonce[:], nonce[:], ticket[:], []byte(scope))
	return base64.RawURLEncoding.EncodeToString(sealed)
}

// Open reads a cookie's value. The error is ErrTicket.
func (s *Sealer) Open(scope, value string) (Ticket, error) {
	sealed, err := base64.RawURLEncoding.DecodeString(value)
	if err != nil || len(sealed) != NonceSize+20+s.aead.Overhead() {
		return Ticket{}, ErrTicket
	}
	ticket, err := s.aead.Open(nil, sealed[:NonceSize], sealed[NonceSize:], []byte(scope))
	if err != nil {
		return Ticket{}, ErrTicket
	}
	return Ticket{
		Session: binary.BigEndian.Uint64(ticket[0:]),
		Backend: binary.BigEndian.Uint64(ticket[8:]),
		Issued:  time.Unix(int64(binary.BigEndian.Uint32(ticket[16:])), 0),
	}, nil
}
