package control

import (
	"crypto/sha256"
	"crypto/subtle"
	"fmt"
	"strings"
	"sync"
	"time"

	"golang.org/x/crypto/bcrypt"

	"kestrix/internal/core/config"
	"kestrix/internal/core/limit"
	"kestrix/internal/live/socket"
)

// logins checks passwords. A check takes long on purpose, so a client that guesses
// must not cause many: guesses are counted before they are checked, by their source,
// so that they lock out no other source. The zero value is ready.
type logins struct {
	mu    sync.Mutex                   // guards all below
	known map[string][sha256.Size]byte // passwords that were right, by user, as digests
	since time.Time                    // the beginning of the minute at hand
	from  map[uint64]int               // guesses of a source in it
	at    map[guessed]int              // those at a user

	slots chan struct{} // one for each check at a time; nil before the first
}

// guessed is a user at whose password a source guesses.
type guessed struct {
	source uint64
	user   string
}

// A source may guess so often in a minute, at one user and in all; so many
// passwords are checked at a time, and a check is waited for so long.
const (
	guessesAtUser = 10
	guesses       = 20
	checksAtATime = 2
	checkWait     = 5 * time.Second
	mostSources   = 1 << 16
)

// verdict of a log-in.
type verdict int

const (
	loginRight verdict = iota
	loginWrong
	loginTooMany // guesses: the password was not looked at
	loginBusy    // likewise: others are being checked
)

// source returns the key of where a request comes from: its address, or the /64 of
// an IPv6 one.
func source(remote string) uint64 {
	_, addr := socket.ClientAddress(remote)
	return limit.Key(addr)
}

// check looks at a password of a source; the user is nil unless it is right.
func (l *logins) check(users []config.User, from uint64, name, password string) (*config.User, verdict) {
	var u *config.User
	most := 0
	for i := range users {
		most = max(most, users[i].Cost())
		if users[i].Name == name {
			u = &users[i]
		}
	}
	hash := ""
	if u != nil {
		hash = u.Password
	}
	digest := sha256.Sum256([]byte(hash + "\x00" + password))
	l.mu.Lock()
	seen, ok := l.known[name]
	if ok && u != nil && subtle.ConstantTimeCompare(seen[:], digest[:]) == 1 {
		l.mu.Unlock()
		return u, loginRight
	}
	counted := l.count(guessed{from, name})
	if l.slots == nil {
		l.slots = make(chan struct{}, checksAtATime)
	}
	slots := l.slots
	l.mu.Unlock()
	if !counted {
		return nil, loginTooMany
	}
	timer := time.NewTimer(checkWait)
	defer timer.Stop()
	select {
	case slots <- struct{}{}:
	case <-timer.C:
		return nil, loginBusy
	}
	right := compare(u, password, most)
	<-slots
	if !right {
		return nil, loginWrong
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.known == nil {
		l.known = map[string][sha256.Size]byte{}
	}
	l.known[name] = digest
	if g := (guessed{from, name}); l.at[g] > 0 { // unless a new minute has begun
		l.from[from]--
		l.at[g]--
	}
	return u, loginRight
}

// count counts a guess, false if there were too many. l.mu must be held.
func (l *logins) count(g guessed) bool {
	if time.Since(l.since) > time.Minute || len(l.at) > mostSources {
		l.since, l.from, l.at = time.Now(), map[uint64]int{}, map[guessed]int{}
	}
	if l.from[g.source] >= guesses || l.at[g] >= guessesAtUser {
		return false
	}
	l.from[g.source]++
	l.at[g]++
	return true
}

// compare compares a password with that of a user, nil for one that there is not,
// and takes as long for each: a hash of cost n takes twice as long as one of n-1,
// so that with one each of the costs n to most-1 beside it a hash of cost n takes
// as long as one of cost most.
func compare(u *config.User, password string, most int) bool {
	if u == nil {
		_ = bcrypt.CompareHashAndPassword(stand(most), []byte(password)) // never right
		return false
	}
	if bcrypt.CompareHashAndPassword([]byte(u.Password), []byte(password)) == nil {
		return true
	}
	for cost := u.Cost(); cost < most; cost++ {
		_ = bcrypt.CompareHashAndPassword(stand(cost), []byte(password)) // for its time
	}
	return false
}

// stand is a hash of a cost to which no password is known.
func stand(cost int) []byte {
	return fmt.Appendf(nil, "$2a$%02d$%s", cost, strings.Repeat(".", 22+31))
}
