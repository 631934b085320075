package cli

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"

	"kestrix/internal/core/config"
	"kestrix/internal/live/accesslog"
)

// accessSink is where access lines go, and the trace that is recorded; a reload
// may change both.
type accessSink struct {
	env    *Env
	events *eventLog

	mu       sync.RWMutex
	to       config.AccessLog
	file     io.Closer
	log      *accesslog.Log // nil: none
	recordTo string
	record   *recording // nil: none
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
	a.mu.Lock()
	defer a.mu.Unlock()
	var rec *recording
	if c.Record.Value != a.recordTo && c.Record.Value != "" {
		var err error
		if rec, err = a.startRecord(c.Record); err != nil {
			return err
		}
	}
	if err := a.openLog(c.AccessLog); err != nil {
		rec.stop()
		return err
	}
	if c.Record.Value != a.recordTo {
		if a.record != nil {
			a.events.say("recorded", "%s", a.record.name)
		}
		a.record.stop()
		if a.recordTo, a.record = c.Record.Value, rec; rec != nil {
			a.events.say("recording", "every request into %s", rec.name)
		}
	}
	return nil
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
		a.events.say("record", "%s is not complete: %v", name, reason(err))
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

func (a *accessSink) openLog(to config.AccessLog) error {
	if a.log != nil && a.to.To == to.To && a.to.Format == to.Format && slices.Equal(a.to.Fields, to.Fields) {
		return nil
	}
	var w io.Writer
	var file io.Closer
	address, remote := strings.CutPrefix(to.To, "syslog:")
	switch {
	case to.To == "syslog" || remote:
		c, err := syslogTo(address)
		if err != nil {
			return unusable(fmt.Errorf("%slines cannot be sent to %s: %w; access_log { to = ... } names another place", placeOf(to), to.To, reason(err)))
		}
		w, file = c, c
	case to.To == "off":
	case to.To == "stdout":
		w = a.env.Stdout
	case to.To == "stderr":
		w = a.env.Stderr
	default:
		f, err := a.logFile(to)
		if err != nil {
			return err
		}
		w, file = f, f
	}
	a.closeLog()
	a.to, a.file = to, file
	if w != nil {
		a.log = accesslog.New(w, to, func(lost int, err error) {
			if err != nil {
				a.events.say("log", "access lines are being lost: %v", reason(err))
				return
			}
			a.events.say("log", "access lines are written again; %s lost", plural(lost, "line"))
		})
	}
	return nil
}

func (a *accessSink) logFile(to config.AccessLog) (*os.File, error) {
	f, err := os.OpenFile(to.To, os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o640)
	if err != nil {
		return nil, unusable(fmt.Errorf("%sthe access log %s cannot be opened: %w", placeOf(to), to.To, reason(err)))
	}
	return f, nil
}

// reopen opens the file of the access log anew, after it was moved away.
func (a *accessSink) reopen() error {
	a.mu.Lock()
	defer a.mu.Unlock()
	if _, ok := a.file.(*os.File); !ok {
		a.events.say("log", "access lines go to %s, where nothing is to be opened anew", a.to.To)
		return nil
	}
	f, err := a.logFile(a.to)
	if err != nil {
		return err
	}
	a.log.Turn(f)
	a.file.Close()
	a.file = f
	a.events.say("log", "%s was opened anew", a.to.To)
	return nil
}

// placeOf returns where in the configuration the access log is spoken of.
func placeOf(l config.AccessLog) string {
	if !l.Given {
		return ""
	}
	return fmt.Sprintf("%s:%d:%d: ", l.Range.Filename, l.Range.Start.Line, l.Range.Start.Column)
}

// syslogTo connects to a log server, or to that of this machine.
func syslogTo(address string) (net.Conn, error) {
	if strings.Contains(address, ":") {
		return net.Dial("udp", address)
	}
	return net.Dial("unixgram", "/dev/log")
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
	a.closeLog()
	a.record.stop()
	a.record = nil
}

// closeLog ends the access log. a.mu is held.
func (a *accessSink) closeLog() {
	if a.log != nil {
		a.log.Close()
		a.log = nil
	}
	if a.file != nil {
		a.file.Close()
		a.file = nil
	}
}
