package pool

import (
	"crypto/rand"
	mathrand "math/rand/v2"
	"net/http"
	"time"

	"kestrix/internal/core/request"
	"kestrix/internal/core/sticky"
	"kestrix/internal/core/upstream"
)

// findSeatLocked sets by what a request's client keeps its backend, and what a hash goes
// by. l.mu is held.
func (l *Pool) findSeatLocked(q *Request) {
	s, h := l.cfg.Sticky, l.cfg.Hash
	if s != nil && (s.By == "address" || s.By != "cookie" && q.Cookies != nil) {
		q.SeatKey = request.SeatKey(s, q.Parts, q.Key)
	}
	if h != nil && (h.Key == "client-prefix" || h.Key != "client" && q.Cookies != nil) {
		q.Key = request.HashKey(h, q.Parts, q.Key)
	}
	if !l.givesCookiesLocked() || q.Cookies == nil {
		return
	}
	// Anybody can set a cookie of that name for a domain above ours; the first
	// that is sealed by us counts.
	for _, c := range q.Cookies(s.Name) {
		t, err := l.sealer.Open(l.Name, c.Value)
		if err != nil {
			continue
		}
		q.Seat = l.core.Seat(t.Backend)
		q.SeatAge = max(time.Since(t.Issued), 0)
		q.Session = t.Session
		return
	}
}

// givesCookiesLocked reports whether seats are cookies of our own. l.mu is held.
func (l *Pool) givesCookiesLocked() bool {
	return l.sealer != nil && l.cfg.Sticky != nil && l.cfg.Sticky.By == "cookie"
}

// seatCookieLocked returns the cookie for the seat of a verdict, nil for none. l.mu is held.
func (l *Pool) seatCookieLocked(v upstream.Verdict, q *Request) *http.Cookie {
	if v.Seat == upstream.None || q.Cookies == nil || !l.givesCookiesLocked() {
		return nil
	}
	if q.Session == 0 {
		q.Session = mathrand.Uint64()
	}
	var nonce [sticky.NonceSize]byte
	_, _ = rand.Read(nonce[:]) // never fails, as the package promises
	value := l.sealer.Seal(nonce, l.Name, sticky.Ticket{
		Session: q.Session, Backend: sticky.BackendHash(l.Name, l.core.Backend(v.Seat).Name), Issued: time.Now(),
	})
	return &http.Cookie{
		Name: l.cfg.Sticky.Name, Value: value, Path: "/", MaxAge: int(l.cfg.Sticky.TTL.Seconds()),
		HttpOnly: true, SameSite: http.SameSiteLaxMode, Secure: q.Secure,
	}
}

// Learn notes the seat of a client whose application has just given it the cookie by which
// it will be known.
func (l *Pool) Learn(head http.Header, to upstream.BackendID) {
	if len(head["Set-Cookie"]) == 0 {
		return
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	s := l.cfg.Sticky
	if s == nil || s.By != "existing-cookie" {
		return
	}
	for _, c := range (&http.Response{Header: head}).Cookies() {
		if c.Name == s.Name && c.Value != "" && c.MaxAge >= 0 {
			l.core.Learn(l.set.o.Now(), request.SeatValue(c.Value), to)
		}
	}
}
