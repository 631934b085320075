package accesslog

import (
	"bytes"
	"io"
	"sync"
	"time"

	"kestrix/internal/core/cause"
	"kestrix/internal/core/config"
	"kestrix/internal/core/trace"
)

// Log writes a line for each request, gathered for a moment so that a busy
// proxy does not make a system call for each.
type Log struct {
	mu    sync.Mutex
	w     io.Writer
	line  func([]byte, *Line) []byte
	each  bool // every line is written by itself, without its end
	buf   []byte
	lines int // in buf
	ended chan struct{}
	done  chan struct{}
	tell  func(lost int, err error)
	lost  int // lines, since writing fails
	total uint64
	torn  bool // the last line that was written is not whole
}

// accessDelay is how long an access line waits at most, recordDelay one of a
// trace, which would compress badly otherwise.
const (
	accessDelay = 50 * time.Millisecond
	recordDelay = time.Second
)

// New begins to write to w as a configuration says. news is told when
// writing begins to fail, and when it works again, with the lines that were lost
// meanwhile; requests go on all the same.
func New(w io.Writer, cfg config.AccessLog, tell func(lost int, err error)) *Log {
	line := (*Line).combinedLine
	switch {
	case cfg.Line != nil:
		line = func(a *Line, b []byte) []byte { return a.AppendLine(b, cfg.Line) }
	case len(cfg.Fields) > 0:
		line = func(a *Line, b []byte) []byte { return a.AppendFields(b, cfg.Fields) }
	case cfg.Format == "json":
		line = (*Line).AppendJSON
	}
	l := &Log{w: w, tell: tell, line: func(b []byte, a *Line) []byte {
		if cfg.Left != 0 && a.Status == 0 && a.Cause == cause.ClientLeft && a.Kind != trace.TCP {
			told := *a // others have the line as well
			told.Status = cfg.Left
			a = &told
		}
		return line(a, b)
	}}
	l.each = cfg.To.Value == "syslog"
	return l.begin(accessDelay)
}

func (a *Line) combinedLine(b []byte) []byte { return a.AppendCombined(b) }

// NewRecord begins to write a trace of JSON Lines to w, which is flushed now and
// then if it can be. news is as with New.
func NewRecord(w io.Writer, tell func(lost int, err error)) *Log {
	l := &Log{w: w, tell: tell, line: func(b []byte, a *Line) []byte {
		r := a.Record()
		return trace.AppendJSON(b, &r)
	}}
	return l.begin(recordDelay)
}

func (l *Log) begin(delay time.Duration) *Log {
	l.ended, l.done = make(chan struct{}), make(chan struct{})
	go l.run(delay)
	return l
}

// Add takes a finished request.
func (l *Log) Add(a *Line) {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.buf = l.line(l.buf, a)
	l.lines++
	if l.each {
		l.writeLocked()
		return
	}
	if l.buf = append(l.buf, '\n'); len(l.buf) > 32<<10 {
		l.writeLocked()
	}
}

// Lost returns how many lines could not be written.
func (l *Log) Lost() uint64 {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.total
}

// Turn goes over to another writer; what is gathered goes to the old one.
func (l *Log) Turn(w io.Writer) {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.writeLocked()
	l.w, l.torn = w, false
}

func (l *Log) run(delay time.Duration) {
	defer close(l.done)
	t := time.NewTicker(delay)
	defer t.Stop()
	for {
		select {
		case <-t.C:
			l.mu.Lock()
			l.flushLocked()
			l.mu.Unlock()
		case <-l.ended:
			return
		}
	}
}

// flushLocked writes what is gathered, and has it come to where it can be read.
// l.mu is held.
func (l *Log) flushLocked() {
	if len(l.buf) == 0 {
		return
	}
	l.writeLocked()
	if f, ok := l.w.(interface{ Flush() error }); ok && l.lost == 0 {
		if err := f.Flush(); err != nil {
			l.lost++
			l.tell(0, err)
		}
	}
}

// writeLocked writes what is gathered. l.mu is held.
func (l *Log) writeLocked() {
	if len(l.buf) == 0 {
		return
	}
	b := l.buf
	if l.torn {
		b = append([]byte{'\n'}, b...) // so that one line is lost, and not two
	}
	n, err := l.w.Write(b)
	lines := l.lines
	l.buf, l.lines = l.buf[:0], 0
	if err != nil {
		if l.lost == 0 {
			l.tell(0, err)
		}
		written := bytes.Count(b[:n], []byte{'\n'})
		l.torn = n > 0 && b[n-1] != '\n' || n == 0 && l.torn
		l.lost += max(lines-written, 1)
		l.total += uint64(max(lines-written, 1))
		return
	}
	if l.torn = false; l.lost > 0 {
		l.tell(l.lost, nil)
		l.lost = 0
	}
}

// Close writes what is left.
func (l *Log) Close() {
	close(l.ended)
	<-l.done
	l.mu.Lock()
	defer l.mu.Unlock()
	l.flushLocked()
}
