package proxy

import (
	"crypto/rand"
	"net/http"
	"time"

	"kestrix/internal/core/request"
	"kestrix/internal/core/sticky"
	"kestrix/internal/core/upstream"
)

// findSeatLocked sets by what a request's client keeps its backend, and what a hash goes
// by. l.mu is held.
func (l *pool) findSeatLocked(q *ask) {
	s, h := l.cfg.Sticky, l.cfg.Hash
	if s != nil && (s.By == "address" || s.By != "cookie" && q.cookies != nil) {
		q.SeatKey = request.SeatKey(s, q.parts, q.Key)
	}
	if h != nil && (h.Key == "client-prefix" || h.Key != "client" && q.cookies != nil) {
		q.Key = request.HashKey(h, q.parts, q.Key)
	}
	if !l.givesCookiesLocked() || q.cookies == nil {
		return
	}
	// Anybody can set a cookie of that name for a domain above ours; the first
	// that is sealed by us counts.
	for _, c := range q.cookies(s.Name) {
		t, err := l.sealer.Open(l.name, c.Value)
		if err != nil {
			continue
		}
		q.Seat = l.core.Seat(t.Backend)
		q.SeatAge = max(time.Since(t.Issued), 0)
		q.session = t.Session
		return
	}
}

// givesCookiesLocked reports whether seats are cookies of our own. l.mu is held.
func (l *pool) givesCookiesLocked() bool {
	return l.sealer != nil && l.cfg.Sticky != nil && l.cfg.Sticky.By == "cookie"
}

// seatCookieLocked returns the cookie for the seat of a verdict, nil for none. l.mu is held.
func (l *pool) seatCookieLocked(v upstream.Verdict, q *ask) *http.Cookie {
	if v.Seat == upstream.None || q.cookies == nil || !l.givesCookiesLocked() {
		return nil
	}
	if q.session == 0 {
		q.session = randomNumber()
	}
	var nonce [sticky.NonceSize]byte
	_, _ = rand.Read(nonce[:]) // never fails, as the package promises
	value := l.sealer.Seal(nonce, l.name, sticky.Ticket{
		Session: q.session, Backend: sticky.BackendHash(l.name, l.core.Backend(v.Seat).Name), Issued: time.Now(),
	})
	return &http.Cookie{
		Name: l.cfg.Sticky.Name, Value: value, Path: "/", MaxAge: int(l.cfg.Sticky.TTL.Seconds()),
		HttpOnly: true, SameSite: http.SameSiteLaxMode, Secure: q.secure,
	}
}

// learn notes the seat of a client whose application has just given it the cookie by which
// it will be known.
func (l *pool) learn(head http.Header, to upstream.BackendID) {
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
