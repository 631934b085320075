package trace

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"strings"

	"github.com/klauspost/compress/gzip"
	"github.com/klauspost/compress/zstd"
)

// Options say how a trace is read.
type Options struct {
	Fields string // names of the further fields of log lines, see ParseFields
	Map    string // columns with names of their own, as in "duration=took,host=vhost"
	Line   string // the form of a line of no known format, see FieldNames
	Skip   bool   // pass lines over that cannot be read, instead of stopping
}

// Bad is a line that was passed over.
type Bad struct {
	Line   int64  `json:"line"`
	Column int    `json:"column"`
	Why    string `json:"why"`
}

// shownBad is how many bad lines are kept to be shown.
const shownBad = 5

// Reader reads the records of one file, whatever its format, which is told by
// content: Common and Combined log lines, W3C Extended, HAR, JSON Lines, CSV
// with a header row; each plain, gzip or zstd.
type Reader struct {
	name   string
	source *packed
	lines  *lines
	reads  lineReader // nil until the first line was seen
	log    *combined
	w3c    *w3c
	csv    *csv
	whole  *entries // of a file that is read as a whole; nil for others
	names  *renames
	o      Options
	begun  bool
	scans  bool // these are Combined log lines, of which most need not be parsed
	fatal  error

	Format   *Format  // nil before the first record was read
	Unnamed  *Unnamed // nil: no such field was seen
	BadLines int64
	Bad      []Bad // the first few
	Records  int64

	_ [64]byte // keeps what several helpers write on lines of their own
}

// Check returns which of the options cannot be used, naming its flag.
func (o Options) Check() error {
	_, err := NewReader("", bytes.NewReader(nil), o)
	return err
}

// NewReader prepares to read; name stands in errors. The error is for options
// that cannot be used or a compressed file that is none. A reader must be
// closed.
func NewReader(name string, src io.Reader, o Options) (*Reader, error) {
	r := &Reader{name: name, o: o, log: &combined{}}
	var err error
	if o.Fields != "" {
		if r.log.fields, err = ParseFields(o.Fields); err != nil {
			return nil, fmt.Errorf("-fields: %w", err)
		}
	}
	if r.names, err = parseMap(o.Map); err != nil {
		return nil, fmt.Errorf("-map: %w", err)
	}
	if o.Line != "" {
		if o.Fields != "" || o.Map != "" {
			return nil, errors.New("-line names every field of a line by itself; it does not go with -fields or -map")
		}
		t, err := parseTemplate(o.Line)
		if err != nil {
			return nil, fmt.Errorf("-line: %w", err)
		}
		r.reads, r.Format = t, ownLines
	}
	if r.source, err = unpack(name, src); err != nil {
		return nil, err
	}
	r.lines = newLines(r.source)
	return r, nil
}

// Close ends what decodes a compressed file beside the reader.
func (r *Reader) Close() { r.source.Close() }

// Offset returns how many bytes of the file, as it is stored, have been taken in.
func (r *Reader) Offset() int64 { return r.source.taken.Load() }

// Next reads the next record. The error is io.EOF at the end, and a *LineError
// for a line that cannot be read, unless those are skipped.
func (r *Reader) Next(rec *Record) error {
	if r.scans && r.scan(r.lines, rec) {
		return nil
	}
	if !r.begun {
		if r.begun = true; r.reads == nil {
			r.begin()
		}
	}
	if r.whole != nil || r.fatal != nil {
		return r.nextEntry(rec)
	}
	for {
		line, err := r.nextLine()
		if err != nil {
			return err
		}
		first := r.lines.line
		if r.csv != nil {
			line = r.wholeRow(line)
		}
		rec.reset()
		r.log.scratch, r.log.escapes = r.log.scratch[:0], r.lines.escaped(line)
		column, why := r.reads.parse(line, rec)
		if column == 0 {
			rec.Line = first
			r.Records++
			if r.Format == commonLog && rec.UserAgent != nil {
				r.Format = combinedLog
			}
			r.scans = r.Format == combinedLog
			return nil
		}
		if r.Format == commonLog && r.Records+r.BadLines == 0 && !r.lines.inside && bytes.IndexByte(line, '[') < 0 {
			why += ", and no header row or other format is known by it; -line reads lines of any form"
		}
		if e := r.badAt(first, column, why); e != nil {
			return e
		}
	}
}

// nextLine returns the next line that is to be a record. The format is known then.
func (r *Reader) nextLine() ([]byte, error) {
	for {
		line, long, err := r.lines.next()
		if long {
			if e := r.bad(1, tooLong); e != nil {
				return nil, e
			}
			if err == nil {
				continue
			}
		}
		switch {
		case err != nil:
			return nil, r.failed(err, r.lines.line)
		case len(line) == 0 || line[0] <= ' ' && len(bytes.TrimSpace(line)) == 0:
		case line[0] == '#':
			if r.o.Line == "" {
				err = r.directive(line)
			}
			if err != nil {
				return nil, err
			}
		case r.reads != nil:
			return line, nil
		default:
			header, err := r.detect(line)
			if err != nil || !header {
				return line, err
			}
		}
	}
}

// scan is Next for a line of the most frequent shape; false leaves it to Next.
func (r *Reader) scan(l *lines, rec *Record) bool {
	next, ok := r.log.scan(l.buf[:l.end], &l.marks, l.at, rec)
	if !ok {
		return false
	}
	l.at = next
	l.line++
	rec.Line = l.line
	r.Records++
	return true
}

// begin tells formats that are known before their first line is.
func (r *Reader) begin() {
	head := bytes.TrimSpace(bytes.TrimPrefix(r.lines.peek(bracketed), []byte("\xef\xbb\xbf")))
	if len(head) == 0 {
		return
	}
	if u, ok := findUnnamed(head); ok && r.o.Fields == "" {
		r.Unnamed = &u
	}
	switch inner := bytes.TrimLeft(head[1:], " \t\r\n"); {
	case head[0] == '[' && (len(inner) == 0 || inner[0] == '{'):
		r.Format = jsonArray
		r.whole, r.fatal = r.readWhole(array, (*jsonl).record)
	case head[0] == '{' && (bytes.HasPrefix(inner, []byte("\"log\"")) || bytes.IndexByte(head[1:], '\n') == 0 || len(head) > 1 && head[1] == '\r'):
		r.Format = harFile
		r.whole, r.fatal = r.readWhole(archive, (*jsonl).entry)
	}
}

// bracketed reports whether a beginning of a file shows what it is: if it is JSON, more of
// it than the first bracket.
func bracketed(head []byte) bool {
	head = bytes.TrimLeft(bytes.TrimPrefix(head, []byte("\xef\xbb\xbf")), " \t\r\n")
	return len(head) > 0 && (head[0] != '{' && head[0] != '[' || len(bytes.TrimLeft(head[1:], " \t\r\n")) > len(harRoot)+1)
}

// nextEntry reads the next record of a file that is held whole.
func (r *Reader) nextEntry(rec *Record) error {
	if r.whole != nil && r.whole.next(rec) {
		r.Records++
		return nil
	}
	if r.fatal != nil {
		return r.fatal
	}
	return io.EOF
}

// detect tells the format by the first line; true if it is but a header.
func (r *Reader) detect(line []byte) (header bool, err error) {
	if strings.HasSuffix(r.name, ".hcl") {
		return true, &LineError{Name: r.name, Line: r.lines.line, Column: 1, CannotBeSkip: true, Why: "this is a configuration or a scenario, and a trace is expected here; where a command takes a scenario, it is given by -scenario FILE"}
	}
	for _, f := range Formats {
		if f.begins == nil {
			continue
		}
		reads, header, why := f.begins(r, bytes.TrimLeft(line, " \t"))
		if why != "" {
			return true, r.lost(1, why)
		}
		if reads != nil {
			r.reads, r.Format = reads, f
			return header, r.fits()
		}
	}
	return false, nil // the last takes every line
}

// fits returns which option has no place in the format that was found.
func (r *Reader) fits() error {
	switch f := r.Format; {
	case r.o.Map != "" && (f.IsLog || f == harFile):
		cure := ""
		if f.IsLog {
			cure = "; further fields of log lines are named by -fields, any other form by -line"
		}
		return r.lost(1, fmt.Sprintf("-map names columns, which %s do not have%s", f.Title, cure))
	case r.o.Fields != "" && !f.IsLog:
		return r.lost(1, fmt.Sprintf("-fields names further fields of log lines; this is %s, whose columns -map renames", f.Title))
	}
	return nil
}

// directive takes a line that begins with #, a comment unless it is one of
// W3C Extended.
func (r *Reader) directive(line []byte) error {
	if r.w3c == nil {
		if r.reads != nil || !isDirective(line) {
			return nil
		}
		r.w3c = &w3c{names: r.names}
		r.reads, r.Format = r.w3c, w3cLog
		if err := r.fits(); err != nil {
			return err
		}
	}
	if column, why := r.w3c.directive(line); column > 0 {
		return r.lost(column, why)
	}
	return nil
}

// lost is the error of a file that cannot be read any further.
func (r *Reader) lost(column int, why string) error {
	r.fatal = &LineError{Name: r.name, Line: max(r.lines.line, 1), Column: column, Why: why, CannotBeSkip: true}
	return r.fatal
}

// tooLong is what is wrong with a line that does not fit.
var tooLong = fmt.Sprintf("the line is longer than %d MiB", maxLine>>20)

func (r *Reader) bad(column int, why string) error { return r.badAt(r.lines.line, column, why) }

// badAt notes a line that cannot be read, and returns the error that stops
// reading if such lines are not skipped.
func (r *Reader) badAt(line int64, column int, why string) error {
	if !r.o.Skip {
		return &LineError{Name: r.name, Line: line, Column: column, Why: why}
	}
	r.BadLines++
	if len(r.Bad) < shownBad {
		r.Bad = append(r.Bad, Bad{line, column, why})
	}
	return nil
}

// failed returns the error of a file that could not be read after a line.
func (r *Reader) failed(err error, line int64) error {
	lost := func(why string) error {
		return &LineError{Name: r.name, Line: line, Why: why, CannotBeSkip: true}
	}
	for _, damage := range []error{
		gzip.ErrChecksum, gzip.ErrHeader, zstd.ErrCRCMismatch, zstd.ErrBlockTooSmall, zstd.ErrUnexpectedBlockSize, zstd.ErrReservedBlockType,
		zstd.ErrMagicMismatch, zstd.ErrCompressedSizeTooBig, zstd.ErrFrameSizeExceeded, zstd.ErrFrameSizeMismatch,
	} {
		if errors.Is(err, damage) {
			return lost("the compressed file is damaged after this line")
		}
	}
	switch {
	case errors.Is(err, io.EOF) && !errors.Is(err, io.ErrUnexpectedEOF):
		return io.EOF
	case errors.Is(err, io.ErrUnexpectedEOF):
		return lost("the compressed file is cut short after this line; fetch it again, or unpack what is left of it")
	case errors.Is(err, zstd.ErrWindowSizeExceeded):
		return lost("the compressed file asks for a window of more than 128 MiB to be unpacked; unpack it beforehand")
	case errors.As(err, new(*fs.PathError)):
		return lost(err.Error())
	case r.source.kind != "":
		return lost("the compressed file is damaged after this line")
	}
	return lost(err.Error())
}
