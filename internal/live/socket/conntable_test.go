package socket

import (
	"net"
	"net/netip"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
)

func TestTable(t *testing.T) {
	c := &Table{most: 4}
	var entered []*Entry
	for _, from := range []string{"192.0.2.1", "192.0.2.2", "192.0.2.2", "2001:db8::1"} {
		here, _ := net.Pipe()
		x, closed := c.Add(here, netip.MustParseAddr(from))
		assert.Nil(t, closed)
		entered = append(entered, x)
	}
	another := func(from string) *Entry {
		here, _ := net.Pipe()
		_, closed := c.Add(here, netip.MustParseAddr(from))
		return closed
	}
	assert.Same(t, entered[2], another("192.0.2.3"), "the newest of who has most")
	c.SetClient(entered[0], netip.MustParseAddr("2001:db8::2"))
	assert.Same(t, entered[0], another("192.0.2.4"), "as named by a trusted proxy, and a network of IPv6 is one client")
	c.SetIdle(entered[1], func() time.Time { return time.Unix(9, 0) })
	assert.Same(t, entered[1], another("2001:db8:1::1"), "an idle one first")
	c = &Table{most: 3}
	here, _ := net.Pipe()
	fresh, _ := c.Add(here, netip.MustParseAddr("192.0.2.1"))
	c.SetIdle(fresh, time.Now)
	for range 10 {
		if x, closed := c.Add(here, netip.MustParseAddr("192.0.2.2")); closed != nil {
			assert.Same(t, x, closed, "a flood keeps out none that has just connected and not asked yet")
		}
	}
	for _, x := range []string{"192.0.2.1", "192.0.2.1"} {
		x, _ := c.Add(here, netip.MustParseAddr(x))
		c.SetIdle(x, func() time.Time { return time.Now().Add(time.Millisecond) })
	}
	assert.Nil(t, fresh.place, "of its own client's the longest idle goes")
}

func TestShareFiles(t *testing.T) {
	assert.Equal(t, FileShares{Clients: 90, Backends: 91}, ShareFiles(256, 3, 0))
	assert.Equal(t, FileShares{Clients: 165, Backends: 16}, ShareFiles(256, 3, 1000))
	assert.Equal(t, FileShares{Clients: 16, Backends: 16}, ShareFiles(64, 3, 0))
}
