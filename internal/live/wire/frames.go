package wire

import (
	"bytes"
	"crypto/rand"
	"encoding/binary"
	"io"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"time"

	"golang.org/x/net/http2"
	"golang.org/x/net/http2/hpack"
)

// Frames follows the frames of a connection of HTTP/2 (RFC 9113), on their way to
// the library that speaks it. Frames pass as they are, with three exceptions:
//
//   - To the header section of each request a field is added, StreamField, by
//     which the handler knows its stream, and whether it is to refuse it. It comes
//     in a CONTINUATION frame of its own, as a literal that leaves the tables of
//     HPACK alone (RFC 7541 section 6.2.2).
//   - A request that is malformed gets a pseudo-header field that does not exist
//     in its place, by which the library resets the stream with PROTOCOL_ERROR
//     (RFC 9113 section 8.1.1). The library finds a part of these itself; here it
//     is known for all of them that, and why, they were refused.
//   - Settings that are given twice in one frame are passed with the last value
//     only, which is what they mean (section 6.5.3); the library ends the
//     connection.
//
// What ends a connection is left to the library, but for a header section in more
// frames, or of more bytes, than it would ever take.
type Frames struct {
	most int // bytes that a header section may have

	// The following are the reader's.
	kind    http2.FrameType // of the frame at hand
	left    int             // bytes of its payload that have not passed
	ends    bool            // a header section ends with it
	whole   bool            // it is handed out whole only: settings, and the end of a request's header section
	skip    int             // bytes before the field block: padding length, priority
	fill    int             // padding behind it
	section section         // at hand
	before  section         // before the frame at hand
	decoder *hpack.Decoder
	newest  uint32 // stream

	flow flow
}

// StreamField is the name of the field by which the guard speaks to the handler;
// see Stream.
const StreamField = "Kestrix-Stream"

// streamKey begins the value of the guard's own StreamField, so that no client can
// make one up.
var streamKey = rand.Text()

// Stream returns the stream of a request of HTTP/2, by what stands in its
// StreamField, and why it is to be refused, nil if it is not. A request without a
// field of the guard's has not been checked, and is refused.
func Stream(fields []string) (stream uint32, refused *Refusal) {
	for _, f := range fields {
		said, ok := strings.CutPrefix(f, streamKey+" ")
		if !ok {
			continue // a client's own
		}
		number, rest, _ := strings.Cut(said, " ")
		n, _ := strconv.ParseUint(number, 10, 32) // written by endOfSection's caller
		if status, why, ok := strings.Cut(rest, " "); ok {
			code, _ := strconv.Atoi(status)
			refused = &Refusal{Status: code, Why: why}
		}
		return uint32(n), refused
	}
	return 0, &Refusal{Status: http.StatusBadRequest, Why: "a header section that was not checked"}
}

const (
	frameHead    = 9
	settingsMost = 100 * 6 // bytes of a SETTINGS frame that is looked into
	framesMost   = 128     // frames of a header section
	// FrameMost is the largest payload that a client may send in a frame, the
	// smallest that a server may offer (RFC 9113 section 6.5.2).
	FrameMost = 16 << 10
)

// MostLarger is how many times HeaderSize a header section may be for its request
// to be answered; beyond it the connection ends.
const MostLarger = 4

func newFrames(most int, idle time.Duration, deadline func(time.Time) error) *Frames {
	f := &Frames{most: most}
	f.flow.init(idle, deadline)
	f.decoder = hpack.NewDecoder(4<<10, f.emit) // what the library offers
	f.decoder.SetMaxStringLength(MostLarger * most)
	return f
}

// checkFrames looks at frames from a place on, and returns how many bytes may be
// handed out. It changes them in place where that is enough.
func (g *Guard) checkFrames(b []byte, at int) int {
	f := g.frames.Load()
	for at < len(b) {
		start := at
		if f.left == 0 {
			if len(b)-at < frameHead {
				return at
			}
			head := b[at : at+frameHead]
			size := int(head[0])<<16 | int(head[1])<<8 | int(head[2])
			if f.begin(head, size); f.whole && len(b)-at < frameHead+size {
				f.undo()
				return at
			}
			at += frameHead
		}
		n := min(f.left, len(b)-at)
		f.payload(b[at : at+n])
		at += n
		if f.left -= n; f.left > 0 {
			continue
		}
		switch {
		case f.kind == http2.FrameSettings && f.whole:
			once := settingsOnce(b[start:at])
			f.flow.settings(once[frameHead:], once[4])
			if len(once) < at-start {
				return g.put(b, start, at, once)
			}
		case f.section.lost:
			// The library finds it too. Whatever it makes of it, the tables of HPACK are
			// not the same here and there any more.
			g.broken = io.EOF
			return at
		case f.section.bytes > f.section.most || f.section.frames > framesMost:
			g.broken = io.EOF
			g.reset(&Refusal{Status: http.StatusRequestHeaderFieldsTooLarge, Why: "a header section far beyond what may be", Number: uint64(f.section.stream)})
			return at
		case f.whole:
			if more := g.verdict(f); more != nil {
				b[start+4] &^= byte(http2.FlagHeadersEndHeaders) // of CONTINUATION too
				return g.put(b, at, at, more)
			}
		}
	}
	return at
}

// put has the reader get what stands before a place, and then something else in
// place of what is there up to another one. The rest has not been looked at.
func (g *Guard) put(b []byte, from, to int, instead []byte) int {
	held := make([]byte, 0, len(b)+len(instead))
	held = append(append(held, b[:from]...), instead...)
	g.pass = len(held)
	g.held = append(held, b[to:]...)
	g.unseen = len(g.held) > g.pass
	return 0
}

// begin takes in the head of a frame.
func (f *Frames) begin(head []byte, size int) {
	f.before = f.section
	f.kind, f.left, f.whole, f.ends, f.skip, f.fill = http2.FrameType(head[3]), size, false, false, 0, 0
	flags, stream := http2.Flags(head[4]), binary.BigEndian.Uint32(head[5:])&(1<<31-1)
	switch f.kind {
	case http2.FrameHeaders:
		// The library takes a number again, and a lower one, after a request that it
		// reset unseen. So what stands on no open stream is a request.
		f.section = section{stream: stream, opens: !f.flow.isOpen(stream), again: stream <= f.newest, ended: flags.Has(http2.FlagHeadersEndStream), most: MostLarger * f.most}
		if flags.Has(http2.FlagHeadersPadded) {
			f.skip, f.fill = 1, -1
		}
		if flags.Has(http2.FlagHeadersPriority) {
			f.skip += 5
		}
	case http2.FrameContinuation:
		if stream != f.section.stream {
			return // the library ends the connection
		}
	case http2.FrameSettings:
		f.whole = size <= settingsMost
		return
	case http2.FrameRSTStream:
		f.flow.close(stream)
		return
	case http2.FrameWindowUpdate:
		f.flow.updating, f.flow.seen = stream, f.flow.seen[:0]
		return
	default:
		return
	}
	f.section.frames++
	f.ends = flags.Has(http2.FlagHeadersEndHeaders)
	f.whole = f.ends && f.section.opens && size <= FrameMost
}

// undo takes the head of a frame back, which is to be taken in again once all of
// it is there.
func (f *Frames) undo() { f.section, f.left, f.whole = f.before, 0, false }

// payload takes in bytes of the frame at hand.
func (f *Frames) payload(b []byte) {
	switch f.kind {
	case http2.FrameHeaders, http2.FrameContinuation:
		left := f.left // before b
		for len(b) > 0 && f.skip > 0 {
			if f.fill < 0 {
				f.fill = int(b[0])
			}
			b = b[1:]
			left--
			f.skip--
		}
		if block := min(len(b), left-f.fill); block > 0 && !f.section.lost {
			if _, err := f.decoder.Write(b[:block]); err != nil {
				f.section.lost = true
			}
		}
		if f.ends && left <= len(b) && f.decoder.Close() != nil {
			f.section.lost = true // in the middle of a field
		}
	case http2.FrameWindowUpdate:
		if f.flow.seen = append(f.flow.seen, b[:min(len(b), 4-min(len(f.flow.seen), 4))]...); len(f.flow.seen) == 4 {
			f.flow.update(f.flow.updating, int64(binary.BigEndian.Uint32(f.flow.seen)&(1<<31-1)))
			f.flow.seen = append(f.flow.seen, 0) // once
		}
	}
}

// settingsOnce returns a SETTINGS frame without the settings that are given again
// in it.
func settingsOnce(frame []byte) []byte {
	if (len(frame)-frameHead)%6 != 0 {
		return frame // the library ends the connection
	}
	kept := append([]byte(nil), frame[:frameHead]...)
	for at := frameHead; at < len(frame); at += 6 {
		again := false
		for later := at + 6; later < len(frame); later += 6 {
			again = again || bytes.Equal(frame[at:at+2], frame[later:later+2])
		}
		if !again {
			kept = append(kept, frame[at:at+6]...)
		}
	}
	size := len(kept) - frameHead
	kept[0], kept[1], kept[2] = byte(size>>16), byte(size>>8), byte(size)
	return kept
}

// verdict makes the frame that is to end the header section of a request; nil if
// the library finds by itself what is wrong with it.
func (g *Guard) verdict(f *Frames) []byte {
	s := &f.section
	f.newest = max(f.newest, s.stream)
	name, value := StreamField, streamKey+" "+strconv.FormatUint(uint64(s.stream), 10)
	if why := s.malformed(); why != "" {
		name, value = ":kestrix", why
		if !s.again { // else it may be what stood behind the body of a request that is over
			g.reset(&Refusal{Status: http.StatusBadRequest, Why: why, Method: s.method, Target: s.path, Host: s.authority, Number: uint64(s.stream)})
		}
		if s.found {
			return nil // and a frame behind it would end the connection
		}
	} else if s.bytes > f.most {
		value += " " + strconv.Itoa(http.StatusRequestHeaderFieldsTooLarge) + " a head of more than " + strconv.Itoa(f.most) + " bytes"
	}
	if name == StreamField {
		f.flow.open(s.stream)
	}
	// A literal without indexing, with a new name (RFC 7541 section 6.2.2);
	// lengths below 127 are one byte.
	name, value = strings.ToLower(name), value[:min(len(value), 126)]
	return endOfSection(s.stream, slices.Concat([]byte{0, byte(len(name))}, []byte(name), []byte{byte(len(value))}, []byte(value)))
}

// endOfSection makes a CONTINUATION frame that ends a header section.
func endOfSection(stream uint32, block []byte) []byte {
	frame := []byte{0, 0, byte(len(block)), byte(http2.FrameContinuation), byte(http2.FlagContinuationEndHeaders), 0, 0, 0, 0}
	binary.BigEndian.PutUint32(frame[5:], stream)
	return append(frame, block...)
}

// reset reports a request that no handler will see.
func (g *Guard) reset(r *Refusal) {
	if g.o.Reset != nil {
		g.o.Reset(r)
	}
}
