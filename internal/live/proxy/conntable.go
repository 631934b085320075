package proxy

import (
	"container/list"
	"net"
	"net/netip"
	"slices"
	"sync"
	"time"

	"kestrix/internal/core/limit"
)

// connTable holds the open connections of clients and bounds their number. When
// one too many is added it closes another: the longest idle one, if that has been idle
// for freshWait, or else one of the client with the most connections, its longest idle
// or its newest. So a client that opens as many as it can keeps no other out, not even
// one that has just connected and not asked yet. The zero value is ready and has no
// limit.
type connTable struct {
	mu       sync.Mutex // guards all below
	most     int        // connections; 0: no limit
	count    int
	byClient map[uint64]*list.List // of *tableConn, by their key, the newest last
	lastScan time.Time             // when no idle connection was found
}

// tableConn is a connection of a connTable.
type tableConn struct {
	conn  net.Conn // closed without a farewell when another takes its place
	key   uint64   // of its client: the address, or the /64 of an IPv6 one
	place *list.Element
	idle  func() time.Time // returns since when the connection is idle, zero while it is not; nil: it never is
}

// From scanPauseFrom connections on, connTable looks for idle ones at most once in
// scanPause if it found none: a scan looks at every connection, and a flood would
// cause one for each of its own.
const (
	scanPause     = 100 * time.Millisecond
	scanPauseFrom = 4096
)

// setLimit sets how many connections there may be from now on, 0 for no limit, and
// closes those beyond it.
func (t *connTable) setLimit(most int) {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.most = most
	for most > 0 && t.count > most && t.closeOneLocked() != nil {
	}
}

// limit returns how many connections there may be, 0 for no limit.
func (t *connTable) limit() int {
	t.mu.Lock()
	defer t.mu.Unlock()
	return t.most
}

// add adds a connection, and returns the one that it closed instead, nil for none.
// That may be the new one itself.
func (t *connTable) add(conn net.Conn, client netip.Addr) (c, closed *tableConn) {
	t.mu.Lock()
	defer t.mu.Unlock()
	c = &tableConn{conn: conn, key: limit.Key(client)}
	t.insertLocked(c)
	if t.most > 0 && t.count > t.most {
		closed = t.closeOneLocked()
	}
	return c, closed
}

// insertLocked puts a connection into the table. t.mu must be held.
func (t *connTable) insertLocked(c *tableConn) {
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
func (t *connTable) removeLocked(c *tableConn) {
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

// remove takes out a connection that is closed.
func (t *connTable) remove(c *tableConn) {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.removeLocked(c)
}

// setClient sets whose connection it is, once a trusted proxy has named the client.
func (t *connTable) setClient(c *tableConn, client netip.Addr) {
	t.mu.Lock()
	defer t.mu.Unlock()
	if c.place == nil || limit.Key(client) == c.key {
		return
	}
	t.removeLocked(c)
	c.key = limit.Key(client)
	t.insertLocked(c)
}

// setIdle sets the function that reports since when a connection is idle.
func (t *connTable) setIdle(c *tableConn, idle func() time.Time) {
	t.mu.Lock()
	defer t.mu.Unlock()
	c.idle = idle
}

// closeOne closes one connection, because the process has run out of files.
func (t *connTable) closeOne() {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.closeOneLocked()
}

// closeOneLocked closes one connection and returns it, nil if there is none. t.mu
// must be held.
func (t *connTable) closeOneLocked() *tableConn {
	c := t.idleLocked()
	if c == nil {
		var most *list.List
		for _, l := range t.byClient {
			// Equal counts are decided by the key, not by the order of the map.
			if most == nil || l.Len() > most.Len() || l.Len() == most.Len() && l.Back().Value.(*tableConn).key < most.Back().Value.(*tableConn).key {
				most = l
			}
		}
		if most == nil {
			return nil
		}
		if c, _ = longestIdle(most); c == nil {
			c = most.Back().Value.(*tableConn)
		}
	}
	t.removeLocked(c)
	_ = c.conn.Close() // its reader and writer fail, and end the rest
	return c
}

// idleLocked returns the connection that has been idle for longest, nil if none has for
// freshWait. t.mu must be held.
func (t *connTable) idleLocked() *tableConn {
	now := time.Now()
	if t.count >= scanPauseFrom && now.Sub(t.lastScan) < scanPause {
		return nil
	}
	var found *tableConn
	since := now.Add(-freshWait)
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
func longestIdle(l *list.List) (found *tableConn, since time.Time) {
	for e := l.Front(); e != nil; e = e.Next() {
		c := e.Value.(*tableConn)
		if c.idle == nil {
			continue
		}
		if at := c.idle(); !at.IsZero() && (found == nil || at.Before(since)) {
			found, since = c, at
		}
	}
	return found, since
}

// fileShares says how many connections clients and backends may have, so that
// files are left for the rest of the process. 0 is no limit.
type fileShares struct{ clients, backends int }

const (
	ownFiles   = 64  // listeners, logs, control and the runtime
	mostProbes = 256 // at a time
	leastFiles = 16  // for clients, and for backends
)

// shareFiles divides the files that the process may have open, 0 for no limit, for
// a number of probed backends. wanted is how many connections clients are to have;
// with 0 they have one half of what is left.
func shareFiles(files, probed, wanted int) fileShares {
	if files == 0 {
		return fileShares{clients: wanted}
	}
	left := files - ownFiles - min(probed, mostProbes)
	s := fileShares{clients: left / 2}
	if wanted > 0 {
		s.clients = min(wanted, left-leastFiles)
	}
	s.clients = max(s.clients, leastFiles)
	s.backends = max(left-s.clients, leastFiles)
	return s
}

// connCount counts open connections to backends and bounds their number. The zero
// value is ready and has no limit.
type connCount struct {
	mu    sync.Mutex // guards all below
	most  int        // 0: no limit
	count int
}

// take counts one more connection, and reports whether there may be one.
func (c *connCount) take() bool {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.most > 0 && c.count >= c.most {
		return false
	}
	c.count++
	return true
}

// release counts one connection less.
func (c *connCount) release() {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.count--
}

// setLimit sets how many connections there may be from now on, 0 for no limit.
func (c *connCount) setLimit(most int) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.most = most
}

// closeUnused closes the connections to backends that wait for a request, and
// reports whether there was one.
func (p *Proxy) closeUnused() bool {
	p.mu.Lock()
	var all []*backend
	for _, l := range p.pools {
		l.mu.Lock()
		all = append(all, slices.DeleteFunc(slices.Clone(l.backends), func(b *backend) bool { return b == nil })...)
		l.mu.Unlock()
	}
	p.mu.Unlock()
	closed := 0
	for _, b := range all {
		closed += b.idle.drop()
		b.mu.Lock()
		for _, t := range b.transports {
			t.CloseIdleConnections()
		}
		b.mu.Unlock()
	}
	return closed > 0
}
