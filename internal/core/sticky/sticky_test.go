package sticky

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"kestrix/internal/core/tick"
)

func TestTheTableForgetsWhoStayedAwayLongest(t *testing.T) {
	table := NewTable(3)
	for i := range uint64(3) {
		table.Put(tick.Time(i), i, int32(i))
	}
	assert.EqualValues(t, 0, table.Get(10, 0, time.Hour), "seen again")
	table.Put(11, 99, 7)
	assert.EqualValues(t, -1, table.Get(12, 1, time.Hour), "1 stayed away longest")
	assert.EqualValues(t, 0, table.Get(12, 0, time.Hour))
	assert.EqualValues(t, 2, table.Get(12, 2, time.Hour))
	assert.EqualValues(t, 7, table.Get(12, 99, time.Hour))
	assert.Equal(t, 3, table.Len())
}

func TestSeatsEndWithTheirTime(t *testing.T) {
	table := NewTable(10)
	table.Put(0, 1, 5)
	assert.EqualValues(t, 5, table.Get(tick.Time(time.Hour), 1, time.Hour), "just in time, and remembered anew")
	assert.EqualValues(t, 5, table.Get(tick.Time(2*time.Hour), 1, time.Hour))
	assert.EqualValues(t, -1, table.Get(tick.Time(3*time.Hour+1), 1, time.Hour))
	table.Put(tick.Time(4*time.Hour), 1, 6)
	assert.EqualValues(t, 6, table.Get(tick.Time(4*time.Hour), 1, time.Hour))
	table.Replace(6, -1)
	assert.EqualValues(t, -1, table.Get(tick.Time(4*time.Hour), 1, time.Hour), "a backend that is gone holds nobody")
}

// TestTheTableIsALeastRecentlyUsedList holds it to a plain model.
func TestTheTableIsALeastRecentlyUsedList(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		most := rapid.IntRange(1, 6).Draw(t, "most")
		table := NewTable(most)
		seats := map[uint64]int32{}
		var order []uint64 // most recent last
		touch := func(k uint64) {
			for i, x := range order {
				if x == k {
					order = append(order[:i], order[i+1:]...)
					break
				}
			}
			order = append(order, k)
		}
		for i := range rapid.IntRange(1, 80).Draw(t, "steps") {
			k := rapid.Uint64Range(0, 9).Draw(t, "client")
			if rapid.Bool().Draw(t, "put") {
				seat := rapid.Int32Range(0, 5).Draw(t, "seat")
				table.Put(tick.Time(i), k, seat)
				seats[k] = seat
				touch(k)
				if len(order) > most {
					delete(seats, order[0])
					order = order[1:]
				}
				continue
			}
			want, ok := seats[k]
			if !ok {
				want = -1
			} else {
				touch(k)
			}
			if got := table.Get(tick.Time(i), k, time.Hour); got != want {
				t.Fatalf("client %d has seat %d, want %d", k, got, want)
			}
		}
	})
}

func TestTicketsCannotBeReadOrChanged(t *testing.T) {
	s := NewSealer([]byte("a long line that only the proxies know"))
	ticket := Ticket{Session: 0xfeedface, Backend: BackendHash("booking", "auk"), Issued: time.Unix(1_790_000_000, 0)}
	var nonce [NonceSize]byte
	copy(nonce[:], "twelve bytes")
	value := s.Seal(nonce, "booking", ticket)
	assert.Len(t, value, 64)
	assert.NotContains(t, value, "auk")
	got, err := s.Open("booking", value)
	require.NoError(t, err)
	assert.Equal(t, ticket, got)

	other, err := NewSealer([]byte("a long line that only the proxies know")).Open("booking", value)
	assert.NoError(t, err, "every proxy with the secret reads it")
	assert.Equal(t, ticket, other)

	_, err = NewSealer([]byte("another line that others know")).Open("booking", value)
	assert.ErrorIs(t, err, ErrTicket)
	_, err = s.Open("sailings", value)
	assert.ErrorIs(t, err, ErrTicket, "a ticket of one upstream opens nothing at another")
	for i := range value {
		changed := []byte(value)
		changed[i] = 'A'
		if changed[i] == value[i] {
			changed[i] = 'B'
		}
		_, err := s.Open("booking", string(changed))
		assert.ErrorIs(t, err, ErrTicket, "byte %d", i)
	}
	for _, bad := range []string{"", "x", strings.Repeat("A", 64), value + "A", value[:63], "\x00" + value[1:]} {
		_, err := s.Open("booking", bad)
		assert.ErrorIs(t, err, ErrTicket, "%q", bad)
	}
	assert.NotEqual(t, BackendHash("a", "bc"), BackendHash("ab", "c"))
}
