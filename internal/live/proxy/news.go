package proxy

import (
	"sync"

	"kestrix/internal/core/status"
)

// newsMost is how many news are kept for operators who ask later.
const newsMost = 256

// newsKept keeps what happened besides requests, the latest of it. The zero
// value is ready.
type newsKept struct {
	mu    sync.Mutex
	count uint64 // of all there were
	ring  [newsMost]status.News
}

func (k *newsKept) add(e Event) {
	k.mu.Lock()
	defer k.mu.Unlock()
	k.count++
	k.ring[k.count%newsMost] = status.News{N: k.count, At: e.At, Who: e.Who, What: e.What, Text: e.Text}
}

// last gives what came after a number, the newest first, up to so many.
func (k *newsKept) last(after uint64, most int) []status.News {
	k.mu.Lock()
	defer k.mu.Unlock()
	out := []status.News{}
	for n := k.count; n > after && len(out) < min(most, newsMost) && k.ring[n%newsMost].N == n; n-- {
		out = append(out, k.ring[n%newsMost])
	}
	return out
}
