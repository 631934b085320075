package trace

import (
	"bufio"
	"bytes"
	"errors"
	"fmt"
	"io"
	"sync/atomic"

	"github.com/klauspost/compress/gzip"
	"github.com/klauspost/compress/zstd"
)

// packed is a file as it is stored, unpacked while it is read. What decodes
// runs beside what parses.
type packed struct {
	io.Reader
	kind  string       // "gzip", "zstd", or empty
	taken atomic.Int64 // bytes as stored
	end   func()
}

// Close ends what decodes.
func (p *packed) Close() {
	if p.end != nil {
		p.end()
		p.end = nil
	}
}

// counted counts what is read.
type counted struct {
	src   io.Reader
	taken *atomic.Int64
}

func (c *counted) Read(b []byte) (int, error) {
	n, err := c.src.Read(b)
	c.taken.Add(int64(n))
	return n, err
}

// unpack tells by content how a file is compressed.
func unpack(name string, src io.Reader) (*packed, error) {
	p := &packed{}
	count := &counted{src, &p.taken}
	head := make([]byte, 4)
	n, err := io.ReadFull(count, head)
	if err != nil && !errors.Is(err, io.EOF) && !errors.Is(err, io.ErrUnexpectedEOF) {
		return nil, fmt.Errorf("%s: %w", name, err)
	}
	head = head[:n]
	whole := io.MultiReader(bytes.NewReader(head), count)
	switch {
	case bytes.HasPrefix(head, []byte{0x1f, 0x8b}):
		z, err := gzip.NewReader(bufio.NewReaderSize(whole, 64<<10))
		if err != nil {
			return nil, fmt.Errorf("%s: it begins like a gzip file but is none", name)
		}
		a := readAhead(z)
		p.Reader, p.kind, p.end = a, "gzip", a.Close
	case bytes.Equal(head, []byte{0x28, 0xb5, 0x2f, 0xfd}):
		z, err := zstd.NewReader(whole, zstd.WithDecoderMaxWindow(128<<20), zstd.WithDecoderConcurrency(2))
		if err != nil {
			return nil, fmt.Errorf("%s: it begins like a zstd file but is none", name)
		}
		p.Reader, p.kind, p.end = z, "zstd", z.Close
	default:
		p.Reader = &first{head, count}
	}
	return p, nil
}

// first gives back what was taken to look at, then hands every read through.
type first struct {
	head []byte
	src  io.Reader
}

func (f *first) Read(b []byte) (int, error) {
	if len(f.head) > 0 {
		n := copy(b, f.head)
		f.head = f.head[n:]
		return n, nil
	}
	return f.src.Read(b)
}

// ahead reads a source in a goroutine of its own, a few blocks ahead.
type ahead struct {
	full  chan block
	empty chan []byte
	stop  chan struct{}
	now   block
	spent []byte // to be given back
}

type block struct {
	b   []byte
	err error
}

func readAhead(src io.Reader) *ahead {
	const blocks, size = 4, 256 << 10
	a := &ahead{full: make(chan block, blocks), empty: make(chan []byte, blocks), stop: make(chan struct{})}
	for range blocks {
		a.empty <- make([]byte, size)
	}
	go func() {
		for {
			var b []byte
			select {
			case b = <-a.empty:
			case <-a.stop:
				return
			}
			n, err := 0, error(nil)
			for n < size && err == nil {
				var m int
				m, err = src.Read(b[n:size])
				n += m
			}
			a.full <- block{b[:n], err}
			if err != nil {
				return
			}
		}
	}()
	return a
}

// Read returns what was read ahead.
func (a *ahead) Read(b []byte) (int, error) {
	for len(a.now.b) == 0 {
		if a.now.err != nil {
			return 0, a.now.err
		}
		if a.spent != nil {
			a.empty <- a.spent[:cap(a.spent)]
		}
		a.now = <-a.full
		a.spent = a.now.b
	}
	n := copy(b, a.now.b)
	a.now.b = a.now.b[n:]
	return n, nil
}

// Close ends the goroutine.
func (a *ahead) Close() { close(a.stop) }
