package cli

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"

	"github.com/hashicorp/hcl/v2"

	"kestrix/internal/core/config"
	"kestrix/internal/core/status"
	"kestrix/internal/live/accesslog"
	"kestrix/internal/live/syslog"
)

// accessSink is where access lines go, and the trace that is recorded; a reload
// may change both.
type accessSink struct {
	env    *Env
	events *eventLog

	mu       sync.RWMutex
	to       config.AccessLog
	server   config.Syslog // where to says so
	recordTo string
	record   *recording // nil: none
	openLog
	lostBefore uint64 // lines, of logs that are closed
}

// openLog is an access log that is written.
type openLog struct {
	file io.Closer      // nil: none of ours
	log  *accesslog.Log // nil: none
}

// recording is a trace that is being written.
type recording struct {
	name   string
	file   *os.File
	packed io.WriteCloser
	log    *accesslog.Log
}

// open goes over to what a configuration says. If it cannot be, nothing has
// changed.
func (a *accessSink) open(c *config.Config) error {
	before, err := a.change(c)
	before.close() // by now no request waits for that
	return err
}

// change is open, but for closing the log there was before.
func (a *accessSink) change(c *config.Config) (before openLog, err error) {
	a.mu.Lock()
	defer a.mu.Unlock()
	var rec *recording
	if c.Record.Value != a.recordTo && c.Record.Value != "" {
		if rec, err = a.startRecord(c.Record); err != nil {
			return openLog{}, err
		}
	}
	if before, err = a.changeLog(c.AccessLog, c.Syslog); err != nil {
		rec.stop()
		return openLog{}, err
	}
	if c.Record.Value != a.recordTo {
		if a.record != nil {
			a.events.say(status.EventRecord, "the recording in %s has ended", a.record.name)
		}
		if a.record != nil {
			a.lostBefore += a.record.log.Lost()
		}
		a.record.stop()
		if a.recordTo, a.record = c.Record.Value, rec; rec != nil {
			a.events.say(status.EventRecord, "requests are recorded in %s", rec.name)
		}
	}
	return before, nil
}

// startRecord creates the file of a trace, under a name that is free.
func (a *accessSink) startRecord(to config.Placed[string]) (*recording, error) {
	fail := func(err error) (*recording, error) {
		return nil, unusable(fmt.Errorf("%s:%d:%d: the trace %s cannot be written: %w", to.Range.Filename, to.Range.Start.Line, to.Range.Start.Column, to.Value, reason(err)))
	}
	f, name, err := freshFile(to.Value)
	if err != nil {
		return fail(err)
	}
	packed, err := compress(f, name)
	if err != nil {
		f.Close()
		return fail(err)
	}
	r := &recording{name: name, file: f, packed: packed}
	r.log = accesslog.NewRecord(packed, func(lost int, err error) {
		a.events.say(status.EventRecord, "%s is not complete: %v", name, reason(err))
	})
	return r, nil
}

// freshFile creates a file under a name that is free: that of one that is there gets
// a number.
func freshFile(wanted string) (f *os.File, name string, err error) {
	if info, err := os.Stat(wanted); err == nil && !info.Mode().IsRegular() {
		f, err := os.OpenFile(wanted, os.O_WRONLY, 0) // a pipe or device is no file to be lost
		return f, wanted, err
	}
	dir, base := filepath.Split(wanted)
	stem, ends, dotted := strings.Cut(base, ".")
	if dotted {
		ends = "." + ends
	}
	name = filepath.Join(dir, base)
	for n := 2; ; n++ {
		f, err := os.OpenFile(name, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o640)
		if !errors.Is(err, fs.ErrExist) {
			return f, name, err
		}
		name = filepath.Join(dir, fmt.Sprintf("%s-%d%s", stem, n, ends))
	}
}

// stop ends a trace so that it can be read.
func (r *recording) stop() {
	if r == nil {
		return
	}
	r.log.Close()
	_ = r.packed.Close() // what could not be written was told
	r.file.Close()
}

// changeLog goes over to another access log, unless it is the same, and returns the one
// before.
func (a *accessSink) changeLog(to config.AccessLog, server config.Syslog) (before openLog, err error) {
	server.Range = hcl.Range{} // where it stands is of no matter
	if a.log != nil && a.to.To.Value == to.To.Value && a.to.Format == to.Format && slices.Equal(a.to.Fields, to.Fields) && a.server == server {
		return openLog{}, nil
	}
	var w io.Writer
	var file io.Closer
	switch to.To.Value {
	case "syslog":
		s := syslog.New(syslog.Options{Server: server, Event: func(format string, args ...any) { a.events.say(status.EventAccessLog, format, args...) }})
		w, file = s, s
	case "off":
	case "stdout":
		w = a.env.Stdout
	case "stderr":
		w = a.env.Stderr
	default:
		f, err := a.logFile(to)
		if err != nil {
			return openLog{}, err
		}
		w, file = f, f
	}
	before = a.openLog
	a.lostBefore += before.lost()
	a.openLog = openLog{file: file}
	a.to, a.server = to, server
	if w != nil {
		a.log = accesslog.New(w, to, func(lost int, err error) {
			if err != nil {
				a.events.say(status.EventAccessLog, "access lines are lost: %v", reason(err))
				return
			}
			a.events.say(status.EventAccessLog, "access lines are written again; %s lost", plural(lost, "line"))
		})
	}
	return before, nil
}

func (a *accessSink) logFile(to config.AccessLog) (*os.File, error) {
	f, err := os.OpenFile(to.To.Value, os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o640)
	if err != nil {
		return nil, unusable(fmt.Errorf("%sthe access log %s cannot be opened: %w", placeOf(to), to.To.Value, reason(err)))
	}
	return f, nil
}

// reopen opens the file of the access log anew, after it was moved away.
func (a *accessSink) reopen() error {
	a.mu.Lock()
	defer a.mu.Unlock()
	if _, ok := a.file.(*os.File); !ok {
		a.events.say(status.EventAccessLog, "access lines go to %s, which cannot be reopened", a.to.To.Value)
		return nil
	}
	f, err := a.logFile(a.to)
	if err != nil {
		return err
	}
	a.log.Turn(f)
	a.file.Close()
	a.file = f
	a.events.say(status.EventAccessLog, "%s was reopened", a.to.To.Value)
	return nil
}

// placeOf returns where in the configuration the access log is spoken of.
func placeOf(l config.AccessLog) string {
	if !l.Given {
		return ""
	}
	return fmt.Sprintf("%s:%d:%d: ", l.Range.Filename, l.Range.Start.Line, l.Range.Start.Column)
}

func (a *accessSink) add(x *accesslog.Line) {
	a.mu.RLock()
	defer a.mu.RUnlock()
	if a.log != nil {
		a.log.Add(x)
	}
	if a.record != nil {
		a.record.log.Add(x)
	}
}

func (a *accessSink) close() {
	a.mu.Lock()
	defer a.mu.Unlock()
	a.openLog.close()
	a.openLog = openLog{}
	a.record.stop()
	a.record = nil
}

// lost returns how many lines were lost, of all logs since the start.
func (a *accessSink) lost() uint64 {
	a.mu.RLock()
	defer a.mu.RUnlock()
	n := a.lostBefore + a.openLog.lost()
	if a.record != nil {
		n += a.record.log.Lost()
	}
	return n
}

// lost returns how many lines of it were lost.
func (o openLog) lost() (n uint64) {
	if o.log != nil {
		n = o.log.Lost()
	}
	if w, ok := o.file.(*syslog.Writer); ok {
		n += uint64(w.Lost())
	}
	return n
}

// close writes what is gathered.
func (o openLog) close() {
	if o.log != nil {
		o.log.Close()
	}
	if o.file != nil {
		o.file.Close()
	}
}
