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

// crowd is the connections of clients that are open, of which there may be so
// many. Where there would be one more, others are closed for it: those on which
// nothing is asked, the longest idle first; then the newest one of the address
// that has most. So one client that opens as many as it can keeps nobody out.
type crowd struct {
	mu     sync.Mutex // guards all below
	most   int        // 0: no limit
	count  int
	of     map[uint64]*list.List // of *guest, by the key of their client, the newest last
	barren time.Time             // when none was found idle
}

// guest is a connection of a crowd.
type guest struct {
	conn  net.Conn // closed as it is, without a farewell
	key   uint64   // of its client: an IPv6 client is its /64
	place *list.Element
	idle  func() time.Time // since when nothing is asked on it, zero while something is; nil: always something is
}

// barrenFor is how long, among many connections, none is looked for that is idle
// after none was found: looking at each takes time, and a flood would have it
// done for each of its connections.
const (
	barrenFor  = 100 * time.Millisecond
	barrenFrom = 4096
)

// hold sets how many there may be from now on; those there are too many of are
// closed.
func (c *crowd) hold(most int) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.most = most
	for most > 0 && c.count > most && c.closeOne() != nil {
	}
}

// limit returns how many there may be, 0 for no limit.
func (c *crowd) limit() int {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.most
}

// enter takes a connection in, and returns the one that was closed for it, nil for
// none; that may be itself.
func (c *crowd) enter(conn net.Conn, client netip.Addr) (g, victim *guest) {
	c.mu.Lock()
	defer c.mu.Unlock()
	g = &guest{conn: conn, key: limit.Key(client)}
	c.add(g)
	if c.most > 0 && c.count > c.most {
		victim = c.closeOne()
	}
	return g, victim
}

// add takes a guest in. c.mu must be held.
func (c *crowd) add(g *guest) {
	if c.of == nil {
		c.of = map[uint64]*list.List{}
	}
	if c.of[g.key] == nil {
		c.of[g.key] = list.New()
	}
	g.place = c.of[g.key].PushBack(g)
	c.count++
}

// remove takes a guest out. c.mu must be held.
func (c *crowd) remove(g *guest) {
	if g.place == nil {
		return
	}
	l := c.of[g.key]
	l.Remove(g.place)
	if g.place = nil; l.Len() == 0 {
		delete(c.of, g.key)
	}
	c.count--
}

// leave notes that a connection is closed.
func (c *crowd) leave(g *guest) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.remove(g)
}

// named notes for whom a connection is, once a trusted proxy has said so.
func (c *crowd) named(g *guest, client netip.Addr) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if g.place == nil || limit.Key(client) == g.key {
		return
	}
	c.remove(g)
	g.key = limit.Key(client)
	c.add(g)
}

// asks notes how it is known whether something is asked on a connection.
func (c *crowd) asks(g *guest, idle func() time.Time) {
	c.mu.Lock()
	defer c.mu.Unlock()
	g.idle = idle
}

// spare closes a connection where one can be, for the machine has run out of
// something.
func (c *crowd) spare() {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.closeOne()
}

// closeOne closes a connection and returns it, nil if there was none. c.mu must be
// held.
func (c *crowd) closeOne() *guest {
	g := c.longestIdle()
	if g == nil {
		most := 0
		for _, l := range c.of {
			if newest := l.Back().Value.(*guest); l.Len() > most || l.Len() == most && newest.key < g.key {
				most, g = l.Len(), newest
			}
		}
	}
	if g == nil {
		return nil
	}
	c.remove(g)
	_ = g.conn.Close() // whoever serves it finds out
	return g
}

// longestIdle returns the connection on which nothing has been asked for longest,
// nil if there is none. c.mu must be held.
func (c *crowd) longestIdle() *guest {
	now := time.Now()
	if c.count >= barrenFrom && now.Sub(c.barren) < barrenFor {
		return nil
	}
	var found *guest
	var since time.Time
	for _, l := range c.of {
		for e := l.Front(); e != nil; e = e.Next() {
			g := e.Value.(*guest)
			if g.idle == nil {
				continue
			}
			if at := g.idle(); !at.IsZero() && (found == nil || at.Before(since)) {
				found, since = g, at
			}
		}
	}
	if found == nil {
		c.barren = now
	}
	return found
}

// share says how the open files of a process are shared out: some for control,
// probes and logs, and of what is left one half each for clients and for
// connections to backends.
type share struct {
	clients  int // 0: no limit
	backends int // likewise
}

const (
	ownFiles   = 64  // listeners, logs, control and what the system takes
	mostProbes = 256 // at a time
	leastFiles = 16  // for clients, and for backends
)

// shareOut shares files out, for so many probed backends; wanted is how many
// connections clients are to have, 0 for what is right. A limit of 0 files is
// none.
func shareOut(files, probed, wanted int) share {
	if files == 0 {
		return share{clients: wanted}
	}
	left := files - ownFiles - min(probed, mostProbes)
	s := share{clients: left / 2}
	if wanted > 0 {
		s.clients = min(wanted, left-leastFiles)
	}
	s.clients = max(s.clients, leastFiles)
	s.backends = max(left-s.clients, leastFiles)
	return s
}

// tally counts connections to backends, of which there may be so many.
type tally struct {
	mu    sync.Mutex // guards all below
	most  int        // 0: no limit
	count int
}

// take counts one more, false if there are too many.
func (t *tally) take() bool {
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.most > 0 && t.count >= t.most {
		return false
	}
	t.count++
	return true
}

func (t *tally) giveBack() {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.count--
}

func (t *tally) hold(most int) {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.most = most
}

// relieve closes the connections to backends that wait for a request, and reports
// whether there was one.
func (p *Proxy) relieve() bool {
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
