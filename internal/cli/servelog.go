package cli

import (
	"cmp"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"reflect"
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

	mu         sync.RWMutex
	logs       []*openLog
	server     config.Syslog // where a log goes to syslog
	recordTo   string
	record     *recording // nil: none
	lostBefore uint64     // lines, of logs that are closed
}

// openLog is an access log that is written.
type openLog struct {
	to   config.AccessLog
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
	for _, l := range before { // by now no request waits for that
		l.close()
	}
	return err
}

// change is open, but for closing the logs that are gone.
func (a *accessSink) change(c *config.Config) (before []*openLog, err error) {
	a.mu.Lock()
	defer a.mu.Unlock()
	var rec *recording
	if c.Record.Value != a.recordTo && c.Record.Value != "" {
		if rec, err = a.startRecord(c.Record); err != nil {
			return nil, err
		}
	}
	if before, err = a.changeLogs(c.AccessLogs(), c.Syslog); err != nil {
		rec.stop()
		return nil, err
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

// changeLogs goes over to other access logs, and returns those that are gone. One that is
// there already, and the same, goes on.
func (a *accessSink) changeLogs(wanted []config.AccessLog, server config.Syslog) (gone []*openLog, err error) {
	server.Range = hcl.Range{} // where it stands is of no matter
	var next, opened []*openLog
	for _, to := range wanted {
		same := slices.IndexFunc(a.logs, func(l *openLog) bool {
			return sameLog(l.to, to) && (to.To.Value != "syslog" || a.server == server) && !slices.Contains(next, l)
		})
		if same >= 0 {
			next = append(next, a.logs[same])
			continue
		}
		l, err := a.openLog(to, server)
		if err != nil {
			for _, o := range opened {
				o.close()
			}
			return nil, err
		}
		next, opened = append(next, l), append(opened, l)
	}
	for _, l := range a.logs {
		if !slices.Contains(next, l) {
			gone = append(gone, l)
			a.lostBefore += l.lost()
		}
	}
	a.logs, a.server = next, server
	return gone, nil
}

// sameLog reports whether two access logs have the same lines at the same place.
func sameLog(a, b config.AccessLog) bool {
	bare := func(l config.AccessLog) config.AccessLog {
		l.Range, l.LineAt, l.FieldsAt, l.To.Range, l.Given, l.Line, l.Name = hcl.Range{}, hcl.Range{}, hcl.Range{}, hcl.Range{}, false, nil, ""
		l.Fields = slices.Clone(l.Fields)
		for i := range l.Fields {
			l.Fields[i].Name.Range, l.Fields[i].Value.Range = hcl.Range{}, hcl.Range{}
		}
		return l
	}
	return reflect.DeepEqual(bare(a), bare(b))
}

// openLog opens an access log.
func (a *accessSink) openLog(to config.AccessLog, server config.Syslog) (*openLog, error) {
	l := &openLog{to: to}
	var w io.Writer
	switch to.To.Value {
	case "syslog":
		s := syslog.New(syslog.Options{Server: server, What: "access lines", ID: "access", Event: func(format string, args ...any) { a.events.say(status.EventAccessLog, format, args...) }})
		w, l.file = s, s
	case "off":
		return l, nil
	case "stdout":
		w = a.env.Stdout
	case "stderr":
		w = a.env.Stderr
	default:
		f, err := logFile(to)
		if err != nil {
			return nil, err
		}
		w, l.file = f, f
	}
	l.log = accesslog.New(w, to, func(lost int, err error) {
		if err != nil {
			a.events.say(status.EventAccessLog, "access lines are lost: %s: %v", to.To.Value, reason(err))
			return
		}
		a.events.say(status.EventAccessLog, "access lines are written again: %s; %s lost", to.To.Value, plural(lost, "line"))
	})
	return l, nil
}

func logFile(to config.AccessLog) (*os.File, error) {
	f, err := os.OpenFile(to.To.Value, os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o640)
	if err != nil {
		return nil, unusable(fmt.Errorf("%sthe access log %s cannot be opened: %w", placeOf(to), to.To.Value, reason(err)))
	}
	return f, nil
}

// reopen opens the files of the access logs anew, after they were moved away. The error is
// the first; the other files are opened all the same.
func (a *accessSink) reopen() (failed error) {
	a.mu.Lock()
	defer a.mu.Unlock()
	files := 0
	for _, l := range a.logs {
		if _, ok := l.file.(*os.File); !ok {
			continue
		}
		files++
		f, err := logFile(l.to)
		if err != nil {
			failed = cmp.Or(failed, err)
			continue
		}
		l.log.Turn(f)
		l.file.Close()
		l.file = f
		a.events.say(status.EventAccessLog, "%s was reopened", l.to.To.Value)
	}
	if files == 0 && len(a.logs) > 0 {
		a.events.say(status.EventAccessLog, "access lines go to %s, which cannot be reopened", a.logs[0].to.To.Value)
	}
	return failed
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
	for _, l := range a.logs {
		if l.log != nil && x.In(&l.to) {
			l.log.Add(x)
		}
	}
	if a.record != nil {
		a.record.log.Add(x)
	}
}

func (a *accessSink) close() {
	a.mu.Lock()
	defer a.mu.Unlock()
	for _, l := range a.logs {
		l.close()
	}
	a.logs = nil
	a.record.stop()
	a.record = nil
}

// lost returns how many lines were lost, of all logs since the start.
func (a *accessSink) lost() uint64 {
	a.mu.RLock()
	defer a.mu.RUnlock()
	n := a.lostBefore
	for _, l := range a.logs {
		n += l.lost()
	}
	if a.record != nil {
		n += a.record.log.Lost()
	}
	return n
}

// lost returns how many lines of it were lost.
func (o *openLog) lost() (n uint64) {
	if o.log != nil {
		n = o.log.Lost()
	}
	if w, ok := o.file.(*syslog.Writer); ok {
		n += uint64(w.Lost())
	}
	return n
}

// close writes what is gathered.
func (o *openLog) close() {
	if o.log != nil {
		o.log.Close()
	}
	if o.file != nil {
		o.file.Close()
	}
}
