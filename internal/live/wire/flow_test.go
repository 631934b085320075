package wire

import (
	"bytes"
	"errors"
	"net"
	"slices"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/net/http2"
)

// taken is a connection that notes what is written to it at once.
type taken struct {
	net.Conn
	writes [][]byte
	fails  error
}

// Write notes.
func (c *taken) Write(b []byte) (int, error) {
	if c.fails != nil {
		return 0, c.fails
	}
	c.writes = append(c.writes, bytes.Clone(b))
	return len(b), nil
}

// TestHeadsOfAnswersGoOutWithTheirBodies: in one write where the body follows at once, by themselves after a
// millisecond where it does not, and every byte once and in its order.
func TestHeadsOfAnswersGoOutWithTheirBodies(t *testing.T) {
	frame := func(write func(f *http2.Framer) error) []byte {
		var b bytes.Buffer
		require.NoError(t, write(http2.NewFramer(&b, nil)))
		return b.Bytes()
	}
	head := func(stream uint32) []byte {
		return frame(func(f *http2.Framer) error {
			return f.WriteHeaders(http2.HeadersFrameParam{StreamID: stream, BlockFragment: []byte{0x88}, EndHeaders: true})
		})
	}
	data := func(stream uint32, n int) []byte {
		return frame(func(f *http2.Framer) error { return f.WriteData(stream, true, make([]byte, n)) })
	}
	join := func(all ...[]byte) []byte { return slices.Concat(all...) }
	for name, c := range map[string]struct {
		follows []uint32
		room    int64
		sends   [][]byte // nil: a pause
		want    [][]byte
	}{
		"one":            {[]uint32{1}, 0, [][]byte{head(1), data(1, 9)}, [][]byte{join(head(1), data(1, 9))}},
		"not announced":  {nil, 0, [][]byte{head(1), data(1, 9)}, [][]byte{head(1), data(1, 9)}},
		"two":            {[]uint32{1, 3}, 0, [][]byte{head(1), head(3), data(1, 9), data(3, 9)}, [][]byte{join(head(1), head(3), data(1, 9)), data(3, 9)}},
		"late":           {[]uint32{1}, 0, [][]byte{head(1), nil, data(1, 9)}, [][]byte{head(1), data(1, 9)}},
		"never":          {[]uint32{1}, 0, [][]byte{head(1), nil}, [][]byte{head(1)}},
		"large":          {[]uint32{1}, 0, [][]byte{head(1), data(1, 9000)}, [][]byte{head(1), data(1, 9000)}},
		"a part of one":  {[]uint32{1}, 0, [][]byte{head(1)[:4], head(1)[4:], data(1, 9)}, [][]byte{head(1)[:4], join(head(1)[4:], data(1, 9))}},
		"ends in a part": {[]uint32{1}, 0, [][]byte{join(head(1), data(3, 9)[:5]), data(3, 9)[5:]}, [][]byte{join(head(1), data(3, 9)[:5]), data(3, 9)[5:]}},
		"no room":        {[]uint32{1}, 8, [][]byte{head(1), data(1, 8)}, [][]byte{head(1), data(1, 8)}},
	} {
		synctest.Test(t, func(t *testing.T) {
			out := &taken{}
			g := NewGuard(out, GuardOptions{})
			f := &Frames{}
			f.flow.init(0, func(time.Time) error { return nil })
			g.frames.Store(f)
			for _, stream := range []uint32{1, 3} {
				f.flow.open(stream)
				if c.room > 0 {
					f.flow.streams[stream].size = c.room
				}
			}
			for _, stream := range c.follows {
				g.Follows(stream, 9)
			}
			for _, b := range c.sends {
				if b == nil {
					time.Sleep(2 * latest)
					synctest.Wait()
					continue
				}
				n, err := g.Write(b)
				assert.NoError(t, err, name)
				assert.Equal(t, len(b), n, name)
			}
			time.Sleep(2 * latest)
			synctest.Wait()
			assert.Equal(t, c.want, out.writes, name)
			assert.Empty(t, f.flow.held, name)
		})
	}
	synctest.Test(t, func(t *testing.T) {
		broken := errors.New("broken")
		out := &taken{fails: broken}
		g, f := NewGuard(out, GuardOptions{}), &Frames{}
		f.flow.init(0, func(time.Time) error { return nil })
		g.frames.Store(f)
		f.flow.open(1)
		g.Follows(1, 9)
		_, err := g.Write(head(1))
		assert.NoError(t, err, "it is held")
		time.Sleep(2 * latest)
		synctest.Wait()
		out.fails = nil
		_, err = g.Write(data(1, 9))
		assert.ErrorIs(t, err, broken, "a part of the head may have gone")
		assert.Empty(t, out.writes)
	})
}
