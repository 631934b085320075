package cli

import (
	"context"
	"io"
)

// breakable reads what may not go on for a long time, such as a pipe, and
// gives up when its context ends.
type breakable struct {
	ctx  context.Context
	src  io.ReadCloser
	buf  []byte
	rest []byte // of buf, not handed out yet
}

type got struct {
	n   int
	err error
}

func interruptible(ctx context.Context, src io.ReadCloser) io.ReadCloser {
	return &breakable{ctx: ctx, src: src, buf: make([]byte, 64<<10)}
}

// Read returns the error of the context when that ends before anything comes.
func (i *breakable) Read(b []byte) (int, error) {
	if len(i.rest) == 0 {
		came, buf := make(chan got, 1), i.buf
		go func() {
			n, err := i.src.Read(buf)
			came <- got{n, err}
		}()
		select {
		case g := <-came:
			if i.rest = i.buf[:g.n]; g.err != nil {
				n := copy(b, i.rest)
				i.rest = i.rest[n:]
				if len(i.rest) > 0 {
					return n, nil // the error comes again
				}
				return n, g.err
			}
		case <-i.ctx.Done():
			// Nobody looks at buf any more; whoever reads into it is left to it.
			i.buf = make([]byte, len(i.buf))
			return 0, i.ctx.Err()
		}
	}
	n := copy(b, i.rest)
	i.rest = i.rest[n:]
	return n, nil
}

func (i *breakable) Close() error { return i.src.Close() }
