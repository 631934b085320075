package journal

import (
	"bufio"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"sync"
	"time"

	"kestrix/internal/core/config"
	"kestrix/internal/core/tick"
	"kestrix/internal/core/upstream"
)

// form is the version of the form that journals are written in.
const form = 2

// Head is the first line of a journal.
type Head struct {
	Form    int       `json:"journal"`
	Version string    `json:"version"` // of the program
	Seed    uint64    `json:"seed"`
	Began   time.Time `json:"began"` // what times in it count from
	// Part numbers the parts of a journal that was too large for one, from 1; 0 is 1.
	Part int `json:"part,omitempty"`
}

// Whole reports whether a journal has its beginning, without which no core can be told
// again what it was told.
func (h *Head) Whole() bool { return h.Part <= 1 }

// continues reports whether a part is the next one of another.
func (h *Head) continues(before *Head) bool {
	return h.Seed == before.Seed && h.Began.Equal(before.Began) && max(h.Part, 1) == max(before.Part, 1)+1
}

// entryLine is an entry as it is written: a line of JSON, without what is zero.
type entryLine struct {
	Upstream  string              `json:"upstream"`
	At        tick.Time           `json:"at"`
	Call      string              `json:"call"`
	Said      string              `json:"said,omitempty"`
	Config    *config.Upstream    `json:"config,omitempty"`
	Request   *upstream.Request   `json:"request,omitempty"`
	Outcome   *upstream.Outcome   `json:"outcome,omitempty"`
	Backend   *upstream.BackendID `json:"backend,omitempty"`
	Probe     *upstream.Probe     `json:"probe,omitempty"`
	Operation *upstream.Operation `json:"operation,omitempty"`
	Weight    int                 `json:"weight,omitempty"`
	SeatKey   uint64              `json:"seat_key,omitempty"`
	Chosen    []Choice            `json:"chosen,omitempty"`
}

func lineOf(e *Entry) entryLine {
	l := entryLine{Upstream: e.Upstream, At: e.At, Call: e.Call, Said: e.Said, Weight: e.Weight, SeatKey: e.SeatKey, Chosen: e.Chosen}
	if e.Config != nil {
		c := *e.Config
		c.Settings = nil // words for people
		if c.Sticky != nil {
			s := *c.Sticky
			s.Secret = "" // whoever reads a journal must not be able to make seats
			c.Sticky = &s
		}
		l.Config = &c
	}
	switch e.Call {
	case "choose", "begins", "cancel":
		l.Request = &e.Request
	case "settle", "repeats":
		l.Request, l.Outcome = &e.Request, &e.Outcome
	case "probe":
		l.Backend, l.Probe = &e.Backend, &e.Probe
	case "operate":
		l.Backend, l.Operation = &e.Backend, &e.Operation
	case "learn":
		l.Backend = &e.Backend
	}
	return l
}

func (l *entryLine) entry() Entry {
	e := Entry{Upstream: l.Upstream, At: l.At, Call: l.Call, Said: l.Said, Config: l.Config, Weight: l.Weight, SeatKey: l.SeatKey, Chosen: l.Chosen}
	if l.Request != nil {
		e.Request = *l.Request
	}
	if l.Outcome != nil {
		e.Outcome = *l.Outcome
	}
	if l.Backend != nil {
		e.Backend = *l.Backend
	}
	if l.Probe != nil {
		e.Probe = *l.Probe
	}
	if l.Operation != nil {
		e.Operation = *l.Operation
	}
	return e
}

// Writer writes a journal, a line an entry. It is safe for concurrent use.
type Writer struct {
	mu      sync.Mutex
	w       *bufio.Writer
	head    Head
	written int64 // bytes of this part
	o       WriterOptions
	failed  bool
}

// WriterOptions of a Writer.
type WriterOptions struct {
	// PartSize is how many bytes a part of the journal has about; 0: all is one part.
	PartSize int64
	// Next begins another part, and ends the one before.
	Next func(part int) (io.Writer, error)
	// Broken is told once of what cannot be written; nothing is after it.
	Broken func(error)
}

// NewWriter begins a journal.
func NewWriter(w io.Writer, head Head, o WriterOptions) *Writer {
	head.Form, head.Part = form, 1
	j := &Writer{w: bufio.NewWriterSize(w, 64<<10), head: head, o: o}
	j.put(head, 0)
	j.Flush() // whatever becomes of the proxy, what this is shows
	return j
}

// Add writes an entry.
func (j *Writer) Add(e Entry) { j.put(lineOf(&e), j.o.PartSize) }

// put writes a line, in another part if this one is larger than most; 0: never.
func (j *Writer) put(v any, most int64) {
	text, err := json.Marshal(v)
	j.mu.Lock()
	defer j.mu.Unlock()
	if most > 0 && j.written >= most && !j.failed {
		j.check(j.begin())
	}
	if j.failed {
		return
	}
	if err == nil {
		err = j.line(text)
	}
	j.check(err)
}

// begin begins another part. j.mu is held.
func (j *Writer) begin() error {
	if err := j.w.Flush(); err != nil {
		return err
	}
	j.head.Part++
	w, err := j.o.Next(j.head.Part)
	if err != nil {
		return err
	}
	j.w.Reset(w)
	j.written = 0
	text, err := json.Marshal(j.head)
	if err != nil {
		return err
	}
	return j.line(text)
}

// line writes a line. j.mu is held.
func (j *Writer) line(text []byte) error {
	j.written += int64(len(text)) + 1
	_, err := j.w.Write(append(text, '\n'))
	return err
}

// check notes an error. j.mu is held.
func (j *Writer) check(err error) {
	if err != nil && !j.failed {
		j.failed = true
		j.o.Broken(err)
	}
}

// Flush hands on what is buffered.
func (j *Writer) Flush() {
	j.mu.Lock()
	defer j.mu.Unlock()
	if !j.failed {
		j.check(j.w.Flush())
	}
}

// Journal is one that was read.
type Journal struct {
	Head    // of its first part
	Entries []Entry
	Cut     bool // the last line is not whole, as of a proxy that still writes
	last    Head // of its last part
}

// Append adds the next part of a journal.
func (j *Journal) Append(next *Journal) error {
	switch {
	case j.Cut:
		return errors.New("the part before it is not whole")
	case !next.continues(&j.last):
		return errors.New("it does not continue the part before it")
	}
	j.Entries, j.Cut, j.last = append(j.Entries, next.Entries...), next.Cut, next.Head
	return nil
}

// Read reads a journal. The error says in which line something else stands.
func Read(r io.Reader) (*Journal, error) {
	in := bufio.NewReaderSize(r, 1<<20)
	j := &Journal{}
	for line := 1; ; line++ {
		text, err := in.ReadBytes('\n')
		if err != nil && !errors.Is(err, io.EOF) {
			return nil, err
		}
		if errors.Is(err, io.EOF) {
			if line == 1 {
				return nil, errors.New("1:1: there is no journal in it; kestrix serve -journal writes one")
			}
			j.Cut = len(text) > 0
			return j, nil
		}
		if line == 1 {
			if json.Unmarshal(text, &j.Head) != nil || j.Form == 0 {
				return nil, errors.New("1:1: this is no journal; kestrix serve -journal writes one")
			}
			if j.Form != form {
				return nil, fmt.Errorf("1:1: the journal has form %d, and this program reads form %d; version %s wrote it", j.Form, form, j.Version)
			}
			j.last = j.Head
			continue
		}
		var l entryLine
		if err := json.Unmarshal(text, &l); err != nil {
			column, why := 1, err.Error()
			var at *json.SyntaxError
			var kind *json.UnmarshalTypeError
			switch {
			case errors.As(err, &at):
				column = int(at.Offset)
			case errors.As(err, &kind):
				why = fmt.Sprintf("%s cannot be a %s", kind.Field, kind.Value)
			}
			return nil, fmt.Errorf("%d:%d: the line is none of a journal: %s", line, column, why)
		}
		if l.Call == "" || (l.Call == "new" || l.Call == "reload") && l.Config == nil {
			return nil, fmt.Errorf("%d:1: the line is none of a journal: it says of no call", line)
		}
		if l.Config != nil && !plausible(l.Config) {
			return nil, fmt.Errorf("%d:1: the line is none of a journal: no proxy runs with such an upstream", line)
		}
		j.Entries = append(j.Entries, l.entry())
	}
}

// plausible reports whether an upstream is one that a configuration could have, as far
// as that bounds what a core does with it.
func plausible(u *config.Upstream) bool {
	if u.Balance() == nil || len(u.Backends) > 100_000 {
		return false
	}
	for i := range u.Backends {
		if b := &u.Backends[i]; b.Weight < 0 || b.Weight > 10_000 || b.Tier < 1 || b.Tier > 1000 || b.MaxInFlight < 0 {
			return false
		}
	}
	return true
}
