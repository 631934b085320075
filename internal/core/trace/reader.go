package trace

import (
	"bufio"
	"bytes"
	"errors"
	"fmt"
	"io"

	"github.com/klauspost/compress/gzip"
)

// Options say how a trace is read.
type Options struct {
	Fields string // names of the further fields of log lines, see ParseFields
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

// format reads one line into a record; a column of 0 says that all is well.
type format interface {
	parse(line []byte, r *Record) (column int, why string)
}

// Reader reads the records of one file, whatever its format, which is told by
// content: JSON Lines, or Common and Combined log lines; each plain or gzip.
type Reader struct {
	name   string
	lines  *lines
	format format
	log    *combined
	o      Options

	Format   string // "combined", "common" or "jsonl", once the first record was read
	BadLines int64
	Bad      []Bad // the first few
	Records  int64
}

// NewReader prepares to read; name stands in errors. The error is for fields
// that are misnamed or a compressed file that is none.
func NewReader(name string, src io.Reader, o Options) (*Reader, error) {
	r := &Reader{name: name, o: o, log: &combined{}}
	if o.Fields != "" {
		f, err := ParseFields(o.Fields)
		if err != nil {
			return nil, fmt.Errorf("-fields: %w", err)
		}
		r.log.fields = f
	}
	head := bufio.NewReaderSize(src, 64<<10)
	magic, err := head.Peek(2)
	if err != nil && !errors.Is(err, io.EOF) {
		return nil, fmt.Errorf("%s: %w", name, err)
	}
	if bytes.Equal(magic, []byte{0x1f, 0x8b}) {
		z, err := gzip.NewReader(head)
		if err != nil {
			return nil, fmt.Errorf("%s: it begins like a gzip file but is none: %w", name, err)
		}
		r.lines = newLines(z)
		return r, nil
	}
	r.lines = newLines(head)
	return r, nil
}

// Offset gives how many bytes, uncompressed, have been taken in.
func (r *Reader) Offset() int64 { return r.lines.bytes }

// Next reads the next record. The error is io.EOF at the end, and a *LineError
// for a line that cannot be read, unless those are skipped.
func (r *Reader) Next(rec *Record) error {
	for {
		line, tooLong, err := r.lines.next()
		if tooLong {
			if e := r.bad(1, fmt.Sprintf("the line is longer than %d MiB", maxLine>>20)); e != nil {
				return e
			}
			if err == nil {
				continue
			}
		}
		if err != nil {
			return r.failed(err)
		}
		if len(line) == 0 || line[0] == '#' || line[0] <= ' ' && len(bytes.TrimSpace(line)) == 0 {
			continue
		}
		if r.format == nil {
			r.detect(line)
		}
		rec.reset()
		r.log.scratch = r.log.scratch[:0]
		column, why := r.format.parse(line, rec)
		if column == 0 {
			rec.Line = r.lines.line
			r.Records++
			if r.Format == "common" && rec.UserAgent != nil {
				r.Format = "combined"
			}
			return nil
		}
		if e := r.bad(column, why); e != nil {
			return e
		}
	}
}

func (r *Reader) detect(line []byte) {
	if t := bytes.TrimLeft(line, " \t"); len(t) > 0 && t[0] == '{' {
		r.format, r.Format = &jsonl{}, "jsonl"
		return
	}
	r.format, r.Format = r.log, "common"
}

// bad notes a line that cannot be read, and gives the error that stops reading
// if such lines are not skipped.
func (r *Reader) bad(column int, why string) error {
	if !r.o.Skip {
		return &LineError{Name: r.name, Line: r.lines.line, Column: column, Why: why}
	}
	r.BadLines++
	if len(r.Bad) < shownBad {
		r.Bad = append(r.Bad, Bad{r.lines.line, column, why})
	}
	return nil
}

func (r *Reader) failed(err error) error {
	switch {
	case errors.Is(err, io.EOF) && !errors.Is(err, io.ErrUnexpectedEOF):
		return io.EOF
	case errors.Is(err, io.ErrUnexpectedEOF):
		return &LineError{Name: r.name, Line: r.lines.line, Why: "the compressed file is cut short after this line; fetch it again, or unpack what is left of it", CannotBeSkip: true}
	case errors.Is(err, gzip.ErrChecksum), errors.Is(err, gzip.ErrHeader):
		return &LineError{Name: r.name, Line: r.lines.line, Why: "the compressed file is damaged after this line", CannotBeSkip: true}
	}
	return &LineError{Name: r.name, Line: r.lines.line, Why: err.Error(), CannotBeSkip: true}
}
