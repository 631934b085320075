package cli

import (
	"bufio"
	"encoding/json"
	"fmt"
	"io"
	"os"
	"strconv"
	"strings"
	"sync/atomic"
	"syscall"
	"time"

	"github.com/hashicorp/hcl/v2"

	"kestrix/internal/core/config"
	"kestrix/internal/core/status"
	"kestrix/internal/live/events"
	"kestrix/internal/live/proxy"
	"kestrix/internal/live/syslog"
	"kestrix/internal/report"
)

// waitingEvents is how many events wait for stderr and the file. More are lost: neither a
// reader of stderr that hangs nor a slow disk may delay the proxy.
const waitingEvents = 4096

// eventLog writes events to stderr and to a file, in order, in a goroutine of its own.
type eventLog struct {
	later atomic.Pointer[proxy.Proxy] // keeps events for operators who ask later; nil before there is one
	queue chan eventEntry
	lost  atomic.Int64
	ended chan struct{}

	// The rest belongs to the goroutine.
	w        io.Writer
	style    report.Style
	journald bool // w is the journal of systemd
	json     bool
	file     eventFile
	server   config.Syslog
	sender   *syslog.Writer // to server; nil: events do not go there
}

// eventEntry is an event to write, a setting to follow, or the end.
type eventEntry struct {
	event status.Event
	use   *config.Config
	end   bool
}

func newEventLog(w io.Writer, style report.Style) *eventLog {
	n := &eventLog{w: w, style: style, journald: isJournald(w), queue: make(chan eventEntry, waitingEvents), ended: make(chan struct{})}
	go n.run()
	return n
}

// isJournald reports whether a writer is the stream of the journal of systemd, which then
// reads a priority at the beginning of each line (sd-daemon(3), systemd.exec(5)).
func isJournald(w io.Writer) bool {
	f, ok := w.(*os.File)
	dev, inode, given := strings.Cut(os.Getenv("JOURNAL_STREAM"), ":")
	if !ok || !given {
		return false
	}
	info, err := f.Stat()
	if err != nil {
		return false
	}
	stat, ok := info.Sys().(*syscall.Stat_t)
	return ok && strconv.FormatUint(uint64(stat.Dev), 10) == dev && strconv.FormatUint(stat.Ino, 10) == inode
}

// close writes what waits, for a second at most. Later events are lost.
func (n *eventLog) close() {
	n.put(eventEntry{end: true})
	select {
	case <-n.ended:
	case <-time.After(time.Second):
	}
}

// use follows a configuration.
func (n *eventLog) use(c *config.Config) { n.put(eventEntry{use: c}) }

// put takes what may not be lost; if the queue is full, as soon as it is not.
func (n *eventLog) put(x eventEntry) {
	select {
	case n.queue <- x:
	default:
		go func() { n.queue <- x }()
	}
}

// event takes an event. It may be called from any goroutine, and never waits.
func (n *eventLog) event(e status.Event) {
	select {
	case n.queue <- eventEntry{event: e}:
	default:
		n.lost.Add(1)
	}
}

func (n *eventLog) say(kind status.EventKind, format string, args ...any) {
	n.of("kestrix", kind, format, args...)
}

func (n *eventLog) of(object string, kind status.EventKind, format string, args ...any) {
	e := status.Event{At: time.Now(), Object: object, Kind: kind, Severity: status.SeverityOf(kind), Text: fmt.Sprintf(format, args...)}
	if p := n.later.Load(); p != nil && kind != status.EventProbe {
		p.Tell(e) // which comes back as an event
		return
	}
	n.event(e)
}

func (n *eventLog) run() {
	defer close(n.ended)
	defer n.file.close()
	defer func() {
		if n.sender != nil {
			n.sender.Close()
		}
	}()
	for x := range n.queue {
		switch {
		case x.end:
			return
		case x.use != nil:
			n.json = x.use.EventLog.Format == "json"
			n.note(n.file.use(&x.use.EventLog))
			if x.use.EventLog.Syslog {
				n.sendTo(&x.use.Syslog)
			} else {
				n.sendTo(nil)
			}
			continue
		}
		if lost := n.lost.Swap(0); lost > 0 {
			n.print(n.own(status.EventEventLog, "%s lost: stderr or the file was too slow", plural(int(lost), "event")))
		}
		n.print(x.event)
		if x.event.Kind != status.EventProbe || x.event.N > 0 { // not each probe of -log probes
			n.note(n.file.write(&x.event))
		}
	}
}

// own returns an event of the event log itself, which control does not have.
func (n *eventLog) own(kind status.EventKind, format string, args ...any) status.Event {
	return status.Event{At: time.Now(), Object: "kestrix", Kind: kind, Severity: status.SeverityOf(kind), Text: fmt.Sprintf(format, args...)}
}

// note prints what the file reports of itself; empty for nothing.
func (n *eventLog) note(text string) {
	if text != "" {
		n.print(n.own(status.EventEventLog, "%s", text))
	}
}

// sendTo sends events to a log server from now on, to none with nil.
func (n *eventLog) sendTo(server *config.Syslog) {
	var to config.Syslog
	if server != nil {
		to = *server
		to.Range = hcl.Range{} // where it stands is of no matter
		if n.sender != nil && n.server == to {
			return
		}
	}
	if n.sender != nil {
		go n.sender.Close() // it waits for what is on its way
		n.sender = nil
	}
	if server != nil {
		n.server = to
		n.sender = syslog.New(syslog.Options{Server: to, What: "events", ID: "event", Event: func(format string, args ...any) { n.say(status.EventEventLog, format, args...) }})
	}
}

// print writes an event to stderr, and to the log server if there is one.
func (n *eventLog) print(e status.Event) {
	line := n.style.Event(e)
	sent := e.Object + " " + string(e.Kind) + ": " + e.Text
	if n.json {
		text, _ := json.Marshal(e) // its fields always can be
		line, sent = string(text)+"\n", string(text)
	}
	if n.sender != nil {
		n.sender.Send(e.Severity.Priority(), []byte(sent))
	}
	if n.journald {
		line = fmt.Sprintf("<%d>%s", e.Severity.Priority(), line)
	}
	_, _ = io.WriteString(n.w, line) // there is nowhere else to report that
}

// eventFile keeps events as JSON Lines in a file; when it has half of its size, it takes the
// place of the one before it. The zero value keeps none.
type eventFile struct {
	name   string
	size   int64 // of both files together
	f      *os.File
	used   int64
	failed bool // and that was reported
}

// use follows a configuration, and returns what is to be reported.
func (x *eventFile) use(c *config.EventLog) string {
	x.size = c.Size
	if c.File.Value == x.name {
		return ""
	}
	x.close()
	x.name = c.File.Value
	return x.open()
}

// open opens the file to append to it.
func (x *eventFile) open() string {
	if x.name == "" {
		return ""
	}
	f, err := os.OpenFile(x.name, os.O_WRONLY|os.O_APPEND|os.O_CREATE, 0o640)
	if err == nil {
		var info os.FileInfo
		if info, err = f.Stat(); err == nil {
			x.f, x.used = f, info.Size()
			return ""
		}
		f.Close()
	}
	return x.failure(err)
}

// failure returns that the file cannot be written, once until it can again.
func (x *eventFile) failure(err error) string {
	if x.failed {
		return ""
	}
	x.failed = true
	return fmt.Sprintf("events cannot be kept in %s: %v", x.name, reason(err))
}

func (x *eventFile) close() {
	if x.f != nil {
		x.f.Close()
		x.f = nil
	}
}

// write appends an event, and returns what is to be reported.
func (x *eventFile) write(e *status.Event) string {
	if x.name == "" {
		return ""
	}
	text, err := json.Marshal(e)
	if err != nil {
		return ""
	}
	if x.f != nil && x.used+int64(len(text)) > x.size/2 {
		x.close()
		if err := os.Rename(x.name, x.name+".1"); err != nil {
			return x.failure(err)
		}
	}
	if x.f == nil {
		if said := x.open(); x.f == nil {
			return said
		}
	}
	n, err := x.f.Write(append(text, '\n'))
	x.used += int64(n)
	if err != nil {
		x.close() // it is opened anew with the next event
		return x.failure(err)
	}
	if x.failed {
		x.failed = false
		return fmt.Sprintf("events are kept again, in %s", x.name)
	}
	return ""
}

// earlierEvents returns the events of the processes before this one, the oldest first: the
// latest that a proxy keeps. Lines that cannot be read are skipped.
func earlierEvents(c *config.EventLog) []status.Event {
	var out []status.Event
	if c.File.Value == "" {
		return out
	}
	for _, name := range []string{c.File.Value + ".1", c.File.Value} {
		f, err := os.Open(name)
		if err != nil {
			continue
		}
		in := bufio.NewScanner(f)
		in.Buffer(nil, 1<<20)
		for in.Scan() {
			var e status.Event
			if json.Unmarshal(in.Bytes(), &e) == nil && !e.At.IsZero() {
				out = append(out, e)
			}
			if len(out) > 2*events.Kept { // however large the file is
				out = append(out[:0], out[len(out)-events.Kept:]...)
			}
		}
		f.Close()
	}
	return out[max(len(out)-events.Kept, 0):]
}
