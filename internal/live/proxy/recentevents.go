package proxy

import (
	"sync"

	"kestrix/internal/core/status"
)

// mostRecent is how many news are kept for operators who ask later.
const mostRecent = 256

// recentEvents keeps what happened besides requests, the latest of it. The zero
// value is ready.
type recentEvents struct {
	mu    sync.Mutex
	count uint64 // of all there were
	ring  [mostRecent]status.News
}

func (k *recentEvents) add(e Event) {
	k.mu.Lock()
	defer k.mu.Unlock()
	k.count++
	k.ring[k.count%mostRecent] = status.News{N: k.count, At: e.At, Who: e.Who, What: e.What, Text: e.Text}
}

// last returns what came after a number, the newest first, up to so many.
func (k *recentEvents) last(after uint64, most int) []status.News {
	k.mu.Lock()
	defer k.mu.Unlock()
	out := []status.News{}
	for n := k.count; n > after && len(out) < min(most, mostRecent) && k.ring[n%mostRecent].N == n; n-- {
		out = append(out, k.ring[n%mostRecent])
	}
	return out
}
