package trace

import (
	"bytes"
	"io"

	"kestrix/internal/core/trace/scan"
)

// lines cuts a stream into lines without copying them. A line longer than the
// buffer is passed over, so that memory stays bounded whatever comes.
type lines struct {
	src    io.Reader
	buf    []byte
	at     int   // where the unread part begins
	end    int   // where it ends
	line   int64 // number of the line given last, from 1
	inside bool  // a file has begun before the first line
	size   int   // of pieces
	eof    bool
	failed error
	marks  scan.Marks
	escape int // place in buf of the first backslash from at on, end if there is none, -1 if that is not known
}

// maxLine is what lines must be shorter than to be read, in bytes.
const maxLine = 1 << 20

const chunk = 256 << 10

func newLines(src io.Reader) *lines {
	return &lines{src: src, buf: make([]byte, chunk), size: pieceSize}
}

// next returns the next line without its end; tooLong says that it was passed
// over. The error is io.EOF or what reading gave.
func (l *lines) next() (line []byte, tooLong bool, err error) {
	for scanned := 0; ; {
		if i := bytes.IndexByte(l.buf[l.at+scanned:l.end], '\n'); i >= 0 {
			i += l.at + scanned
			line = l.buf[l.at:i]
			l.at = i + 1
			l.line++
			if len(line) >= maxLine {
				return nil, true, nil
			}
			if n := len(line); n > 0 && line[n-1] == '\r' {
				line = line[:n-1]
			}
			if l.line == 1 && !l.inside {
				line = bytes.TrimPrefix(line, []byte("\xef\xbb\xbf"))
			}
			return line, false, nil
		}
		scanned = l.end - l.at
		if l.eof {
			if l.failed != nil {
				return nil, false, l.failed
			}
			if scanned == 0 {
				return nil, false, io.EOF
			}
			line = l.buf[l.at:l.end]
			l.at = l.end
			l.line++
			if len(line) >= maxLine {
				return nil, true, nil
			}
			if l.line == 1 && !l.inside {
				line = bytes.TrimPrefix(line, []byte("\xef\xbb\xbf"))
			}
			return bytes.TrimSuffix(line, []byte("\r")), false, nil
		}
		if l.at > 0 {
			copy(l.buf, l.buf[l.at:l.end])
			l.at, l.end = 0, scanned
		}
		if l.end == len(l.buf) {
			if len(l.buf) >= maxLine {
				return nil, true, l.skip()
			}
			l.buf = append(l.buf, make([]byte, len(l.buf))...)
		}
		l.fill()
	}
}

// escaped reports whether a line that was given last holds a backslash. Most logs
// have so few that it pays to know where the next one is.
func (l *lines) escaped(line []byte) bool {
	from, to := l.at-len(line)-2, l.at // with its end, which holds none
	if l.escape >= to {
		return false
	}
	return l.nextEscape(max(from, 0), to)
}

func (l *lines) nextEscape(from, to int) bool {
	if l.escape < from {
		l.escape = bytes.IndexByte(l.buf[from:l.end], '\\')
		if l.escape += from; l.escape < from {
			l.escape = l.end
		}
	}
	return l.escape < to
}

// peek returns the beginning of what is to come, at least a line of it, and as much as
// enough wants, unless that is longer than half the longest line.
func (l *lines) peek(enough func([]byte) bool) []byte {
	for !l.eof && l.end-l.at < maxLine/2 && (bytes.IndexByte(l.buf[l.at:l.end], '\n') < 0 || !enough(l.buf[l.at:l.end])) {
		if l.end == len(l.buf) {
			l.buf = append(l.buf, make([]byte, len(l.buf))...)
		}
		l.fill()
	}
	return l.buf[l.at:l.end]
}

// rest reads everything that is left, up to a limit; false if there is more.
func (l *lines) rest(most int) ([]byte, bool) {
	for !l.eof {
		if l.end-l.at > most {
			return nil, false
		}
		if l.end == len(l.buf) {
			l.buf = append(l.buf, make([]byte, len(l.buf))...)
		}
		l.fill()
	}
	return l.buf[l.at:l.end], true
}

// skip drops what is left of a line that is too long.
func (l *lines) skip() error {
	l.line++
	for {
		l.at, l.end = 0, 0
		if l.eof {
			return l.failed
		}
		l.fill()
		if i := bytes.IndexByte(l.buf[:l.end], '\n'); i >= 0 {
			l.at = i + 1
			return nil
		}
	}
}

func (l *lines) fill() {
	l.end += l.read(l.buf[l.end:])
	l.escape = -1
	l.marks.Clear()
}

// read returns how many bytes came, none at the end of the file.
func (l *lines) read(b []byte) int {
	for range 100 {
		n, err := l.src.Read(b)
		if err != nil {
			l.eof = true
			if err != io.EOF {
				l.failed = err
			}
			return n
		}
		if n > 0 {
			return n
		}
	}
	l.eof, l.failed = true, io.ErrNoProgress
	return 0
}
