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

// clientHTTP2 asks over one connection of HTTP/2, cheaply: it keeps streams open, and looks at no
// more of an answer than its status and its end.
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
	// The block leaves the tables of HPACK alone, so that it can be sent over and over.
	var block bytes.Buffer
	enc := hpack.NewEncoder(&block)
	enc.SetMaxDynamicTableSize(0)
	for _, f := range [][2]string{{":method", "GET"}, {":scheme", scheme}, {":path", l.path}, {":authority", "tickets.tern.example"}, {"user-agent", "load"}, {"accept", "*/*"}} {
		if err := enc.WriteField(hpack.HeaderField{Name: f[0], Value: f[1]}); err != nil {
			return nil, 0, err
		}
	}
	var out bytes.Buffer
	in := bufio.NewReaderSize(c, 16<<10)
	w, r := http2.NewFramer(&out, nil), http2.NewFramer(nil, in)
	r.SetReuseFrames()
	out.WriteString(http2.ClientPreface)
	const window = 1 << 30
	_ = w.WriteSettings(http2.Setting{ID: http2.SettingInitialWindowSize, Val: window}, http2.Setting{ID: http2.SettingEnablePush}) // into memory
	_ = w.WriteWindowUpdate(0, window)
	began := map[uint32]time.Time{}
	next := uint32(1)
	ask := func() {
		began[next] = time.Now()
		_ = w.WriteHeaders(http2.HeadersFrameParam{StreamID: next, BlockFragment: block.Bytes(), EndHeaders: true, EndStream: true})
		next += 2
	}
	for range streams {
		ask()
	}
	var took []time.Duration
	total, given := int64(0), int64(0)
	for len(began) > 0 {
		if out.Len() > 0 && in.Buffered() == 0 {
			if _, err := c.Write(out.Bytes()); err != nil {
				return took, total, err
			}
			out.Reset()
		}
		f, err := r.ReadFrame()
		if err != nil {
			return took, total, err
		}
		h, over := f.Header(), false
		switch f := f.(type) {
		case *http2.SettingsFrame:
			if !f.IsAck() {
				_ = w.WriteSettingsAck()
			}
		case *http2.PingFrame:
			_ = w.WritePing(true, f.Data)
		case *http2.HeadersFrame:
			// 200 is one byte, an entry of the static table (RFC 7541 appendix A); a change of the size
			// of the dynamic one may stand before it.
			block := f.HeaderBlockFragment()
			for len(block) > 0 && block[0]&0xe0 == 0x20 {
				block = block[1:]
			}
			if len(block) == 0 || block[0] != 0x88 {
				return took, total, fmt.Errorf("answered with the header block %x", f.HeaderBlockFragment())
			}
			over = f.StreamEnded()
		case *http2.DataFrame:
			n := int64(len(f.Data()))
			total, given, over = total+n, given+n, f.StreamEnded()
			if given > window/2 {
				_ = w.WriteWindowUpdate(0, uint32(given))
				given = 0
			}
		case *http2.RSTStreamFrame, *http2.GoAwayFrame:
			return took, total, fmt.Errorf("%v", f)
		}
		if over {
			took = append(took, time.Since(began[h.StreamID]))
			delete(began, h.StreamID)
			if time.Now().Before(end) {
				ask()
			}
		}
	}
	return took, total, nil
}
