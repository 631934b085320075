package socket

import (
	"container/list"
	"net"
	"net/netip"
	"sync"
	"time"

	"kestrix/internal/core/limit"
)

// Table holds the open connections of clients and bounds their number. When
// one too many is added it closes another: the longest idle one, if that has been idle
// for FreshWait, or else one of the client with the most connections, its longest idle
// or its newest. So a client that opens as many as it can keeps no other out, not even
// one that has just connected and not asked yet. The zero value is ready and has no
// limit.
type Table struct {
	mu       sync.Mutex // guards all below
	most     int        // connections; 0: no limit
	count    int
	byClient map[uint64]*list.List // of *Entry, by their key, the newest last
	lastScan time.Time             // when no idle connection was found
}

// Entry is a connection of a Table.
type Entry struct {
	conn  net.Conn // closed without a farewell when another takes its place
	key   uint64   // of its client: the address, or the /64 of an IPv6 one
	place *list.Element
	idle  func() time.Time // returns since when the connection is idle, zero while it is not; nil: it never is
}

// FreshWait is how long a connection that has just come may take to ask for
// something before it is closed.
const FreshWait = 500 * time.Millisecond

// RemoteAddr returns the address of the peer.
func (e *Entry) RemoteAddr() net.Addr { return e.conn.RemoteAddr() }

// From scanPauseFrom connections on, Table looks for idle ones at most once in
// scanPause if it found none: a scan looks at every connection, and a flood would
// cause one for each of its own.
const (
	scanPause     = 100 * time.Millisecond
	scanPauseFrom = 4096
)

// SetLimit sets how many connections there may be from now on, 0 for no limit, and
// closes those beyond it.
func (t *Table) SetLimit(most int) {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.most = most
	for most > 0 && t.count > most && t.closeOneLocked() != nil {
	}
}

// Limit returns how many connections there may be, 0 for no limit.
func (t *Table) Limit() int {
	t.mu.Lock()
	defer t.mu.Unlock()
	return t.most
}

// Len returns how many connections there are.
func (t *Table) Len() int {
	t.mu.Lock()
	defer t.mu.Unlock()
	return t.count
}

// Add adds a connection, and returns the one that it closed instead, nil for none.
// That may be the new one itself.
func (t *Table) Add(conn net.Conn, client netip.Addr) (c, closed *Entry) {
	t.mu.Lock()
	defer t.mu.Unlock()
	c = &Entry{conn: conn, key: limit.Key(client)}
	t.insertLocked(c)
	if t.most > 0 && t.count > t.most {
		closed = t.closeOneLocked()
	}
	return c, closed
}

// insertLocked puts a connection into the table. t.mu must be held.
func (t *Table) insertLocked(c *Entry) {
	if t.byClient == nil {
		t.byClient = map[uint64]*list.List{}
	}
	if t.byClient[c.key] == nil {
		t.byClient[c.key] = list.New()
	}
	c.place = t.byClient[c.key].PushBack(c)
	t.count++
}

// removeLocked takes a connection out of the table, where it is in it. t.mu must be
// held.
func (t *Table) removeLocked(c *Entry) {
	if c.place == nil {
		return
	}
	l := t.byClient[c.key]
	l.Remove(c.place)
	if c.place = nil; l.Len() == 0 {
		delete(t.byClient, c.key)
	}
	t.count--
}

// Remove takes out a connection that is closed.
func (t *Table) Remove(c *Entry) {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.removeLocked(c)
}

// SetClient sets whose connection it is, once a trusted proxy has named the client.
func (t *Table) SetClient(c *Entry, client netip.Addr) {
	t.mu.Lock()
	defer t.mu.Unlock()
	if c.place == nil || limit.Key(client) == c.key {
		return
	}
	t.removeLocked(c)
	c.key = limit.Key(client)
	t.insertLocked(c)
}

// SetIdle sets the function that reports since when a connection is idle.
func (t *Table) SetIdle(c *Entry, idle func() time.Time) {
	t.mu.Lock()
	defer t.mu.Unlock()
	c.idle = idle
}

// CloseOne closes one connection, because the process has run out of files.
func (t *Table) CloseOne() {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.closeOneLocked()
}

// closeOneLocked closes one connection and returns it, nil if there is none. t.mu
// must be held.
func (t *Table) closeOneLocked() *Entry {
	c := t.idleLocked()
	if c == nil {
		var most *list.List
		for _, l := range t.byClient {
			// Equal counts are decided by the key, not by the order of the map.
			if most == nil || l.Len() > most.Len() || l.Len() == most.Len() && l.Back().Value.(*Entry).key < most.Back().Value.(*Entry).key {
				most = l
			}
		}
		if most == nil {
			return nil
		}
		if c, _ = longestIdle(most); c == nil {
			c = most.Back().Value.(*Entry)
		}
	}
	t.removeLocked(c)
	_ = c.conn.Close() // its reader and writer fail, and end the rest
	return c
}

// idleLocked returns the connection that has been idle for longest, nil if none has for
// freshWait. t.mu must be held.
func (t *Table) idleLocked() *Entry {
	now := time.Now()
	if t.count >= scanPauseFrom && now.Sub(t.lastScan) < scanPause {
		return nil
	}
	var found *Entry
	since := now.Add(-FreshWait)
	for _, l := range t.byClient {
		if c, at := longestIdle(l); c != nil && !at.After(since) {
			found, since = c, at
		}
	}
	if found == nil {
		t.lastScan = now
	}
	return found
}

// longestIdle returns the connection of a list that has been idle for longest, and
// since when; nil if none is idle.
func longestIdle(l *list.List) (found *Entry, since time.Time) {
	for e := l.Front(); e != nil; e = e.Next() {
		c := e.Value.(*Entry)
		if c.idle == nil {
			continue
		}
		if at := c.idle(); !at.IsZero() && (found == nil || at.Before(since)) {
			found, since = c, at
		}
	}
	return found, since
}

// FileShares says how many connections clients and backends may have, so that
// files are left for the rest of the process. 0 is no limit.
type FileShares struct{ Clients, Backends int }

const (
	ownFiles   = 64  // listeners, logs, control and the runtime
	mostProbes = 256 // at a time
	leastFiles = 16  // for clients, and for backends
	mostPipes  = 128 // of up to 1 MB each in the kernel, where clients stall
)

// ShareFiles divides the files that the process may have open, 0 for no limit, for
// a number of probed backends. wanted is how many connections clients are to have;
// with 0 they have one half of what is left.
func ShareFiles(files, probed, wanted int) FileShares {
	if files == 0 {
		return FileShares{Clients: wanted}
	}
	left := files - ownFiles - min(probed, mostProbes) - 2*Pipes(files)
	s := FileShares{Clients: left / 2}
	if wanted > 0 {
		s.Clients = min(wanted, left-leastFiles)
	}
	s.Clients = max(s.Clients, leastFiles)
	s.Backends = max(left-s.Clients, leastFiles)
	return s
}

// Pipes returns how many pipes there may be, of two files each, with so many files that the
// process may have open: a thirty-second of them in all. 0 files is no limit.
func Pipes(files int) int {
	if files == 0 {
		return mostPipes
	}
	return min(files/64, mostPipes)
}

// Count counts open connections to backends and bounds their number. The zero
// value is ready and has no limit.
type Count struct {
	mu    sync.Mutex // guards all below
	most  int        // 0: no limit
	count int
}

// Take counts one more connection, and reports whether there may be one.
func (c *Count) Take() bool {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.most > 0 && c.count >= c.most {
		return false
	}
	c.count++
	return true
}

// Release counts one connection less.
func (c *Count) Release() {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.count--
}

// SetLimit sets how many connections there may be from now on, 0 for no limit.
func (c *Count) SetLimit(most int) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.most = most
}
