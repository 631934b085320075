package main

import (
	"bufio"
	"bytes"
	"crypto/tls"
	"fmt"
	"net"
	"time"

	"golang.org/x/net/http2"
	"golang.org/x/net/http2/hpack"
)

// streams is how many requests a connection of HTTP/2 has open.
const streams = 8

// http2Client is one connection of HTTP/2 that asks cheaply: it keeps streams open, and looks at no
// more of an answer than its status and its end.
type http2Client struct {
	block        bytes.Buffer // of each request
	out          bytes.Buffer // to be sent
	w            *http2.Framer
	next         uint32 // stream
	began        map[uint32]time.Time
	end          time.Time
	took         []time.Duration
	total, given int64 // bytes received, and those of them that the connection's window lacks
}

const window = 1 << 30

// clientHTTP2 asks over one connection of HTTP/2.
func (l load) clientHTTP2(address string, end time.Time) ([]time.Duration, int64, error) {
	c, err := net.Dial("tcp", address)
	if err != nil {
		return nil, 0, err
	}
	defer c.Close()
	scheme := "http"
	if l.tls {
		c, scheme = tls.Client(c, &tls.Config{InsecureSkipVerify: true, NextProtos: []string{"h2"}}), "https"
	}
	x := &http2Client{next: 1, began: map[uint32]time.Time{}, end: end}
	x.w = http2.NewFramer(&x.out, nil) // into memory, without errors
	// The block leaves the tables of HPACK alone, so that it can be sent over and over.
	enc := hpack.NewEncoder(&x.block)
	enc.SetMaxDynamicTableSize(0)
	for _, f := range [][2]string{{":method", "GET"}, {":scheme", scheme}, {":path", l.path}, {":authority", "tickets.tern.example"}, {"user-agent", "load"}, {"accept", "*/*"}} {
		_ = enc.WriteField(hpack.HeaderField{Name: f[0], Value: f[1]})
	}
	x.out.WriteString(http2.ClientPreface)
	_ = x.w.WriteSettings(http2.Setting{ID: http2.SettingInitialWindowSize, Val: window}, http2.Setting{ID: http2.SettingEnablePush})
	_ = x.w.WriteWindowUpdate(0, window)
	for range streams {
		x.ask()
	}
	in := bufio.NewReaderSize(c, 16<<10)
	r := http2.NewFramer(nil, in)
	r.SetReuseFrames()
	for len(x.began) > 0 {
		if x.out.Len() > 0 && in.Buffered() == 0 {
			if _, err := c.Write(x.out.Bytes()); err != nil {
				return x.took, x.total, err
			}
			x.out.Reset()
		}
		f, err := r.ReadFrame()
		if err == nil {
			err = x.frame(f)
		}
		if err != nil {
			return x.took, x.total, err
		}
	}
	return x.took, x.total, nil
}

// ask begins another request.
func (x *http2Client) ask() {
	x.began[x.next] = time.Now()
	_ = x.w.WriteHeaders(http2.HeadersFrameParam{StreamID: x.next, BlockFragment: x.block.Bytes(), EndHeaders: true, EndStream: true})
	x.next += 2
}

// frame takes a frame of the server.
func (x *http2Client) frame(f http2.Frame) error {
	over := false
	switch f := f.(type) {
	case *http2.SettingsFrame:
		if !f.IsAck() {
			_ = x.w.WriteSettingsAck()
		}
	case *http2.PingFrame:
		_ = x.w.WritePing(true, f.Data)
	case *http2.HeadersFrame:
		// 200 is one byte, an entry of the static table (RFC 7541 appendix A); a change of the size
		// of the dynamic one may stand before it.
		block := f.HeaderBlockFragment()
		for len(block) > 0 && block[0]&0xe0 == 0x20 {
			block = block[1:]
		}
		if len(block) == 0 || block[0] != 0x88 {
			return fmt.Errorf("answered with the header block %x", f.HeaderBlockFragment())
		}
		over = f.StreamEnded()
	case *http2.DataFrame:
		n := int64(len(f.Data()))
		x.total, x.given, over = x.total+n, x.given+n, f.StreamEnded()
		if x.given > window/2 {
			_ = x.w.WriteWindowUpdate(0, uint32(x.given))
			x.given = 0
		}
	case *http2.RSTStreamFrame, *http2.GoAwayFrame:
		return fmt.Errorf("%v", f)
	}
	if stream := f.Header().StreamID; over {
		x.took = append(x.took, time.Since(x.began[stream]))
		delete(x.began, stream)
		if time.Now().Before(x.end) {
			x.ask()
		}
	}
	return nil
}
