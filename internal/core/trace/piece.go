package trace

import (
	"bytes"
	"io"
)

// Piece is a part of a file: whole lines.
type Piece struct {
	Text    []byte
	Taken   int64 // bytes of the file, as it is stored, up to the end of it
	TooLong bool  // instead of text: one line that is too long to be read
}

// Divisible reports whether what is left of the file may be read in pieces, side by
// side: every line stands for itself. It is known once the first record was read.
func (r *Reader) Divisible() bool {
	_, ok := r.reads.(pieceReader)
	return ok && r.fatal == nil
}

// Piece returns the next piece of a file that is divisible, in place of Next; its
// text takes the place of buf, if that is large enough. The error is io.EOF at
// the end, else one for Failed.
func (r *Reader) Piece(buf []byte) (p Piece, err error) {
	p.Text, p.TooLong, err = r.lines.piece(buf[:0])
	p.Taken = r.Offset()
	return p, err
}

// Failed returns the error for one that Piece gave, when so many lines have been
// read.
func (r *Reader) Failed(err error, line int64) error { return r.failed(err, line) }

// Found is what a helper has come across in a piece.
type Found struct {
	Lines, Records, BadLines int64
	Bad                      []Bad // the first few
	TooLong                  bool
}

// Found returns what was come across since Take.
func (r *Reader) Found() Found {
	return Found{Lines: r.lines.line, Records: r.Records, BadLines: r.BadLines, Bad: r.Bad}
}

// Add adds what a helper has found in the next piece, before which so many lines
// lie. The error is for a line that is too long, where such lines are not passed
// over.
func (r *Reader) Add(f Found, before int64) error {
	r.Records += f.Records
	r.BadLines += f.BadLines
	for _, b := range f.Bad[:min(len(f.Bad), shownBad-len(r.Bad))] {
		b.Line += before
		r.Bad = append(r.Bad, b)
	}
	if f.TooLong {
		return r.badAt(before+1, 1, tooLong)
	}
	return nil
}

// Lines returns how many lines have been read.
func (r *Reader) Lines() int64 { return r.lines.line }

// Helper makes a reader of pieces; several may be at work at once. Lines are
// counted from the beginning of the piece.
func (r *Reader) Helper() *Reader {
	h := &Reader{name: r.name, o: r.o, log: &combined{fields: r.log.fields}, names: r.names, begun: true, Format: r.Format, scans: r.scans, source: &packed{}, lines: &lines{}}
	h.reads = r.reads.(pieceReader).forPieces(h)
	return h
}

// Lasting reports whether the client of each record is written in the text of the piece
// itself, so that it stays when the next record is read.
func (r *Reader) Lasting() bool { return r.scans }

// Take gives a helper its next piece. What it has counted begins anew.
func (r *Reader) Take(p Piece) {
	m := r.lines.marks
	m.Clear()
	*r.lines = lines{buf: p.Text, end: len(p.Text), eof: true, inside: true, escape: -1, marks: m}
	r.BadLines, r.Bad, r.Records = 0, nil, 0
}

// pieceSize is how large pieces are, about.
const pieceSize = 256 << 10

// piece returns the next lines, as many as come to half of what fits, or all that
// are left. A line that is longer than the longest that is read is passed over.
func (l *lines) piece(buf []byte) (text []byte, tooLong bool, err error) {
	if cap(buf) < l.size {
		buf = make([]byte, 0, l.size)
	}
	l.marks.Clear()
	buf = append(buf, l.buf[l.at:l.end]...)
	l.at, l.end = 0, 0
	for {
		if l.eof && len(buf) == 0 {
			if l.failed != nil {
				return nil, false, l.failed
			}
			return nil, false, io.EOF
		}
		if l.eof && l.failed == nil {
			return buf, false, nil
		}
		if len(buf) >= cap(buf)/2 || l.eof {
			if i := bytes.LastIndexByte(buf, '\n'); i >= 0 {
				l.keep(buf[i+1:])
				return buf[:i+1], false, nil
			}
			if l.eof {
				return nil, false, l.failed // as after a line that is cut short
			}
		}
		if len(buf) >= maxLine && bytes.IndexByte(buf, '\n') < 0 {
			_ = l.skip() // what reading gave is given again with the next piece
			return nil, true, nil
		}
		if len(buf) == cap(buf) {
			buf = append(buf, make([]byte, len(buf))...)[:len(buf)]
		}
		buf = buf[:len(buf)+l.read(buf[len(buf):cap(buf)])]
	}
}

// keep holds what is left of a piece for the next.
func (l *lines) keep(rest []byte) {
	if len(l.buf) < len(rest) {
		l.buf = make([]byte, len(rest))
	}
	l.end = copy(l.buf, rest)
}
