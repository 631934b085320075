package control

import (
	"fmt"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/bcrypt"

	"kestrix/internal/core/config"
)

// TestGuessesKeepNobodyElseOut: so many are looked at from one source, whatever
// user they are for; others get in meanwhile.
func TestGuessesKeepNobodyElseOut(t *testing.T) {
	var users []config.User
	for i, name := range []string{"mary", "tom"} {
		h, err := bcrypt.GenerateFromPassword([]byte(name), bcrypt.MinCost+i)
		require.NoError(t, err)
		users = append(users, config.User{Name: name, Password: string(h)})
	}
	here, there := source("192.0.2.1:5"), source("192.0.2.2:5")
	assert.Equal(t, source("[2001:db8::1]:5"), source("[2001:db8::2]:7"))
	for name, guess := range map[string]func(i int) string{
		"one user":   func(int) string { return "mary" },
		"many users": func(i int) string { return fmt.Sprint("user", i) },
		"some users": func(i int) string { return []string{"mary", "jane", "joe", "eve"}[i%4] },
	} {
		var l logins
		var wg sync.WaitGroup
		var mu sync.Mutex
		looked, atOnce := 0, 0
		for i := range 100 {
			wg.Go(func() {
				_, how := l.check(users, here, guess(i), "wrong")
				mu.Lock()
				defer mu.Unlock()
				if how == loginWrong {
					looked++
				} else {
					assert.Equal(t, loginTooMany, how)
				}
				l.mu.Lock()
				defer l.mu.Unlock()
				atOnce = max(atOnce, len(l.slots))
			})
		}
		wg.Wait()
		assert.LessOrEqual(t, looked, 20, name)
		assert.LessOrEqual(t, atOnce, 2, name)
		u, how := l.check(users, there, "mary", "mary")
		assert.Equal(t, loginRight, how, "from elsewhere, after guesses at %s", name)
		assert.Equal(t, "mary", u.Name)
		_, how = l.check(users, here, "mary", "mary")
		assert.Equal(t, loginRight, how, "a password that was right is known")
		if name == "one user" {
			_, how = l.check(users, here, "tom", "tom")
			assert.Equal(t, loginRight, how, "another user from the same address")
		}
	}
	// Whatever the user, the same work is done: that of the costliest hash.
	for cost := 4; cost < 8; cost++ {
		got, err := bcrypt.Cost(stand(cost))
		require.NoError(t, err)
		assert.Equal(t, cost, got)
		assert.ErrorIs(t, bcrypt.CompareHashAndPassword(stand(cost), []byte("x")), bcrypt.ErrMismatchedHashAndPassword)
	}
}
