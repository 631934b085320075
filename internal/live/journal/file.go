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
}

func lineOf(e *Entry) entryLine {
	l := entryLine{Upstream: e.Upstream, At: e.At, Call: e.Call, Said: e.Said, Weight: e.Weight, SeatKey: e.SeatKey}
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
	e := Entry{Upstream: l.Upstream, At: l.At, Call: l.Call, Said: l.Said, Config: l.Config, Weight: l.Weight, SeatKey: l.SeatKey}
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
	mu     sync.Mutex
	w      *bufio.Writer
	broken func(error) // is told once of what cannot be written; nothing is after it
	failed bool
}

// NewWriter begins a journal.
func NewWriter(w io.Writer, head Head, broken func(error)) *Writer {
	j := &Writer{w: bufio.NewWriterSize(w, 64<<10), broken: broken}
	head.Form = form
	j.put(head)
	j.Flush() // whatever becomes of the proxy, what this is shows
	return j
}

// Add writes an entry.
func (j *Writer) Add(e Entry) { j.put(lineOf(&e)) }

func (j *Writer) put(v any) {
	text, err := json.Marshal(v)
	j.mu.Lock()
	defer j.mu.Unlock()
	if j.failed {
		return
	}
	if err == nil {
		_, err = j.w.Write(append(text, '\n'))
	}
	j.check(err)
}

// check notes an error. j.mu is held.
func (j *Writer) check(err error) {
	if err != nil && !j.failed {
		j.failed = true
		j.broken(err)
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
	Head
	Entries []Entry
	Cut     bool // the last line is not whole, as of a proxy that still writes
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
