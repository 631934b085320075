// Package syslog carries lines to a log server: that of this machine by its socket, or
// another by UDP or TCP. serve writes the access log and the event log to it. It must never keep a request
// waiting for a log server: lines wait here, and are lost, counted, where there are too
// many of them.
package syslog

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"sync"
	"syscall"
	"time"

	"kestrix/internal/core/config"
	"kestrix/internal/live/socket"
)

const (
	// mostWaiting is how many bytes of lines wait for a log server.
	mostWaiting = 1 << 20
	// tryEvery is how long a log server that could not be reached is left alone.
	tryEvery = time.Second
	// sendWithin is how long it may take nothing, and how long it takes to connect.
	sendWithin = 2 * time.Second
	// quietFor is after how long without a refusal one of UDP is taken to listen again.
	quietFor = 5 * time.Second
	// closeWithin is how long lines may take that wait at the end.
	closeWithin = 2 * time.Second
)

// Options of a Writer.
type Options struct {
	Server config.Syslog
	// What is sent, in words for events, such as "access lines"; and by the MSGID of RFC 5424.
	What, ID string
	// Dial reaches the log server; nil for the network.
	Dial func(ctx context.Context, network, address string) (net.Conn, error)
	// Event is told when a log server cannot be reached, when lines begin to be lost, and
	// when it takes them again.
	Event func(format string, args ...any)
}

// Writer sends each line that is written to it as a message of its own. It is safe for
// concurrent use.
type Writer struct {
	o    Options
	head func(b []byte, t time.Time, severity int) []byte
	ctx  context.Context // over when nothing is sent any more
	stop context.CancelFunc
	wake chan struct{} // has a place for one
	done chan struct{} // closed when the last line was sent

	mu      sync.Mutex
	waiting batch
	closed  bool
	losing  bool  // since the last line that was sent
	lost    int64 // in all
	told    int64 // of these

	conn    net.Conn // of run, nil for none
	trouble bool     // told and not over; of run
	refused time.Time
}

// batch is lines one after the other.
type batch struct {
	text []byte
	ends []int
}

// New begins to send lines. That the log server cannot be reached is no error: it may
// start after us.
func New(o Options) *Writer {
	if o.Dial == nil {
		o.Dial = (&net.Dialer{Timeout: sendWithin}).DialContext
	}
	w := &Writer{o: o, head: header(&o.Server, o.ID), wake: make(chan struct{}, 1), done: make(chan struct{})}
	w.ctx, w.stop = context.WithCancel(context.Background())
	go w.run()
	return w
}

// Write takes a line, without its end, and never waits. What cannot wait any more is lost,
// which is no error of its request.
func (w *Writer) Write(line []byte) (int, error) {
	w.Send(Informational, line)
	return len(line), nil
}

// Send is Write with a severity (RFC 5424 section 6.2.1).
func (w *Writer) Send(severity int, line []byte) {
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.closed || len(w.waiting.text)+len(line) > mostWaiting {
		if w.lost++; !w.losing && !w.closed {
			w.losing = true
			w.o.Event("%s are lost: 1 MiB of them wait for %s, which accepts none", w.o.What, w.o.Server.Address)
		}
		return
	}
	w.waiting.text = append(w.head(w.waiting.text, time.Now(), severity), line...)
	w.waiting.ends = append(w.waiting.ends, len(w.waiting.text))
	select {
	case w.wake <- struct{}{}:
	default:
	}
}

// Lost returns how many lines were lost, as far as that is known: one that the system took,
// and the log server or the way to it lost, is not among them.
func (w *Writer) Lost() int64 {
	w.mu.Lock()
	defer w.mu.Unlock()
	return w.lost
}

// Close sends what waits, for a moment at most.
func (w *Writer) Close() error {
	w.mu.Lock()
	w.closed = true
	w.mu.Unlock()
	select {
	case w.wake <- struct{}{}:
	default:
	}
	late := time.AfterFunc(closeWithin, w.stop)
	<-w.done
	late.Stop()
	w.stop()
	w.mu.Lock()
	defer w.mu.Unlock()
	if n := w.lost - w.told; n > 0 {
		w.o.Event("%d %s were lost", n, w.o.What)
	}
	return nil
}

// run sends lines, a batch after the other.
func (w *Writer) run() {
	defer close(w.done)
	defer w.drop()
	var b batch
	for {
		w.mu.Lock()
		b, w.waiting = w.waiting, batch{b.text[:0], b.ends[:0]}
		closed := w.closed
		w.mu.Unlock()
		if len(b.ends) == 0 {
			if closed {
				return
			}
			<-w.wake
			continue
		}
		begin := 0
		for i, end := range b.ends {
			if !w.send(b.text[begin:end]) {
				w.lose(len(b.ends) - i)
				break
			}
			begin = end
		}
	}
}

// send sends a line, however long that takes; false if there is no more time.
func (w *Writer) send(line []byte) bool {
	for w.ctx.Err() == nil {
		if w.conn == nil && !w.connect() {
			select {
			case <-time.After(tryEvery):
			case <-w.ctx.Done():
			}
			continue
		}
		_ = w.conn.SetWriteDeadline(time.Now().Add(sendWithin))
		_, err := w.conn.Write(w.frame(line))
		switch {
		case err == nil:
			w.taken()
			return true
		case errors.Is(err, syscall.EMSGSIZE): // no log server takes it
			w.lose(1)
			return true
		case w.o.Server.Transport == "udp": // what was sent before was refused
			w.lose(1)
			w.refused = time.Now()
			w.failed(err)
		default:
			w.failed(err)
			w.drop()
		}
	}
	return false
}

// connect reaches the log server.
func (w *Writer) connect() bool {
	network, address := w.o.Server.Transport, w.o.Server.Address.String()
	if network == "unix" {
		network, address = "unixgram", w.o.Server.Address.Unix
	}
	ctx, cancel := context.WithTimeout(w.ctx, sendWithin)
	defer cancel()
	c, err := w.o.Dial(ctx, network, address)
	if err != nil {
		w.failed(err)
		return false
	}
	w.conn = c
	if network == "tcp" {
		go func() { // it says nothing; that it closes is noticed before the next line is lost
			_, _ = io.Copy(io.Discard, c)
			c.Close()
		}()
	}
	return true
}

// drop closes the connection.
func (w *Writer) drop() {
	if w.conn != nil {
		w.conn.Close()
		w.conn = nil
	}
}

// failed tells of trouble, once.
func (w *Writer) failed(err error) {
	if w.trouble || w.ctx.Err() != nil {
		return
	}
	w.trouble = true
	if w.o.Server.Transport == "udp" {
		w.o.Event("the log server %s accepts no %s, which are lost: %v", w.o.Server.Address, w.o.What, socket.ShortError(err))
		return
	}
	w.o.Event("the log server %s cannot be reached: %v; %s wait for it", w.o.Server.Address, socket.ShortError(err), w.o.What)
}

// taken notes that a line was sent, and tells that trouble is over.
func (w *Writer) taken() {
	if w.o.Server.Transport == "udp" && time.Since(w.refused) < quietFor {
		return // it may be refused as well
	}
	w.mu.Lock()
	defer w.mu.Unlock()
	if !w.trouble && !w.losing {
		return
	}
	w.trouble, w.losing = false, false
	w.o.Event("the log server %s accepts %s again; %d were lost", w.o.Server.Address, w.o.What, w.lost-w.told)
	w.told = w.lost
}

// lose counts lost lines.
func (w *Writer) lose(n int) {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.lost += int64(n)
}

// frame returns a line as it travels: by itself in a datagram, and in a stream after its
// length (octet counting, RFC 6587 section 3.4.1) or, in the older forms, before a line
// feed (section 3.4.2).
func (w *Writer) frame(line []byte) []byte {
	switch s := &w.o.Server; {
	case s.Transport != "tcp":
		return line
	case s.Format == "rfc5424":
		return append(fmt.Appendf(nil, "%d ", len(line)), line...)
	default:
		return append(line[:len(line):len(line)], '\n')
	}
}
