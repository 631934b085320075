package proxy

import (
	"fmt"
	"io"
	"os"
	"strconv"
	"strings"
	"sync"
	"time"

	"kestrix/internal/core/config"
	"kestrix/internal/core/trace"
)

// Access is what the access log says of a request.
type Access struct {
	Time      time.Time
	Client    string
	Method    string
	Host      string
	Path      string // with its query
	Protocol  string // as the client speaks it, such as HTTP/1.1
	Kind      trace.Protocol
	UserAgent string
	Referer   string
	Status    int
	Bytes     int64
	Duration  time.Duration // until the answer had been passed on
	FirstByte time.Duration // of the last attempt, until the head of its answer
	Frontend  string
	Route     string
	Upstream  string
	Backend   string // empty if none was chosen
	Reason    string // why this backend, or why none
	Attempts  int
	Session   string // of the seat cookie, in a form that opens nothing
}

// AppendCombined writes a Combined log line with further fields: duration in
// seconds, session, FRONTEND/ROUTE, UPSTREAM.BACKEND, why, attempts. What there
// is not is "-". It is a trace that replay reads.
func (a *Access) AppendCombined(b []byte) []byte {
	r := a.record()
	b = trace.AppendCombined(b, &r)
	b = append(b, ' ')
	b = append(b, dash(a.Session)...)
	b = append(b, ' ')
	b = append(b, dash(a.Frontend)...)
	b = append(b, '/')
	b = append(b, dash(a.Route)...)
	b = append(b, ' ')
	b = append(b, dash(a.Upstream)...)
	b = append(b, '.')
	b = append(b, dash(a.Backend)...)
	b = append(b, ' ')
	b = append(b, dash(a.Reason)...)
	b = append(b, ' ')
	return strconv.AppendInt(b, int64(a.Attempts), 10)
}

func dash(s string) string {
	if s == "" {
		return "-"
	}
	return s
}

// record gives the request as a trace has it.
func (a *Access) record() trace.Record {
	r := trace.Record{
		Time: a.Time.UnixNano(), Client: []byte(a.Client), Method: known(a.Method), Path: known(a.Path), Host: known(a.Host),
		UserAgent: known(a.UserAgent), Referer: known(a.Referer), Session: known(a.Session), Frontend: known(a.Frontend),
		Status: a.Status, Bytes: a.Bytes, Duration: int64(a.Duration), Protocol: a.Kind,
	}
	return r
}

func known(s string) []byte {
	if s == "" {
		return nil
	}
	return []byte(s)
}

// AppendJSON writes a line of JSON Lines: the keys of the trace record, then
// route, upstream, backend, reason, attempts and first_byte in seconds.
func (a *Access) AppendJSON(b []byte) []byte {
	r := a.record()
	b = trace.AppendJSON(b, &r)
	b = b[:len(b)-1] // the closing brace
	for _, f := range [...]struct{ name, value string }{
		{"route", a.Route}, {"upstream", a.Upstream}, {"backend", a.Backend}, {"reason", a.Reason},
	} {
		if f.value == "" {
			continue
		}
		b = append(b, `,"`+f.name+`":`...)
		b = trace.AppendJSONText(b, []byte(f.value))
	}
	b = append(b, `,"attempts":`...)
	b = strconv.AppendInt(b, int64(a.Attempts), 10)
	if a.FirstByte > 0 {
		b = append(b, `,"first_byte":`...)
		b = trace.AppendSeconds(b, int64(a.FirstByte))
	}
	return append(b, '}')
}

// AppendFields writes a line of JSON with certain fields under names of one's
// own. What there is not is left out.
func (a *Access) AppendFields(b []byte, fields []config.FieldPair) []byte {
	b = append(b, '{')
	start := len(b)
	for _, f := range fields {
		before := len(b)
		if before > start {
			b = append(b, ',')
		}
		b = trace.AppendJSONText(b, []byte(f.Name.Value))
		b = append(b, ':')
		value := len(b)
		if b = a.appendField(b, f.Value.Value); len(b) == value {
			b = b[:before]
		}
	}
	return append(b, '}')
}

// appendField writes one of config.AccessFields, nothing if there is none.
func (a *Access) appendField(b []byte, name string) []byte {
	text := func(s string) []byte {
		if s == "" {
			return b
		}
		return trace.AppendJSONText(b, []byte(s))
	}
	seconds := func(d time.Duration) []byte { return trace.AppendSeconds(b, int64(d)) }
	switch name {
	case "time":
		b = append(b, '"')
		return append(a.Time.UTC().AppendFormat(b, time.RFC3339Nano), '"')
	case "status":
		if a.Status == 0 {
			return b
		}
		return strconv.AppendInt(b, int64(a.Status), 10)
	case "bytes":
		return strconv.AppendInt(b, a.Bytes, 10)
	case "attempts":
		return strconv.AppendInt(b, int64(a.Attempts), 10)
	case "duration":
		return seconds(a.Duration)
	case "first_byte":
		if a.FirstByte == 0 {
			return b
		}
		return seconds(a.FirstByte)
	}
	return text(map[string]string{
		"client": a.Client, "method": a.Method, "host": a.Host, "path": a.Path, "protocol": a.Protocol, "user_agent": a.UserAgent, "referer": a.Referer,
		"session": a.Session, "frontend": a.Frontend, "route": a.Route, "upstream": a.Upstream, "backend": a.Backend, "reason": a.Reason,
	}[name])
}

// AccessLog writes access lines, gathered for a moment so that a busy proxy
// does not make a system call for each.
type AccessLog struct {
	mu    sync.Mutex
	w     io.Writer
	cfg   config.AccessLog
	each  bool // every line is written by itself, as a datagram wants it
	head  func([]byte, time.Time) []byte
	buf   []byte
	ended chan struct{}
	done  chan struct{}
	lost  func(error)
	sick  bool // writing fails
}

// accessDelay is how long a line waits at most.
const accessDelay = 50 * time.Millisecond

// NewAccessLog begins to write to w. lost is told once when writing begins to
// fail; lines are then dropped, and requests go on.
func NewAccessLog(w io.Writer, cfg config.AccessLog, lost func(error)) *AccessLog {
	l := &AccessLog{w: w, cfg: cfg, ended: make(chan struct{}), done: make(chan struct{}), lost: lost}
	if strings.HasPrefix(cfg.To, "syslog") {
		l.each, l.head = true, syslogHead()
	}
	go l.run()
	return l
}

// syslogHead gives what stands before each line (RFC 5424 section 6): facility
// local0, severity informational.
func syslogHead() func([]byte, time.Time) []byte {
	host, err := os.Hostname()
	if err != nil || host == "" {
		host = "-"
	}
	rest := fmt.Sprintf(" %s kestrix %d access - ", host, os.Getpid())
	return func(b []byte, t time.Time) []byte {
		b = append(b, "<134>1 "...)
		b = t.UTC().AppendFormat(b, "2006-01-02T15:04:05.000000Z07:00")
		return append(b, rest...)
	}
}

// Add takes a finished request.
func (l *AccessLog) Add(a *Access) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.head != nil {
		l.buf = l.head(l.buf, a.Time)
	}
	switch {
	case len(l.cfg.Fields) > 0:
		l.buf = a.AppendFields(l.buf, l.cfg.Fields)
	case l.cfg.Format == "json":
		l.buf = a.AppendJSON(l.buf)
	default:
		l.buf = a.AppendCombined(l.buf)
	}
	if l.each {
		l.flushLocked()
		return
	}
	l.buf = append(l.buf, '\n')
	if len(l.buf) > 32<<10 {
		l.flushLocked()
	}
}

func (l *AccessLog) run() {
	defer close(l.done)
	t := time.NewTicker(accessDelay)
	defer t.Stop()
	for {
		select {
		case <-t.C:
			l.mu.Lock()
			l.flushLocked()
			l.mu.Unlock()
		case <-l.ended:
			return
		}
	}
}

// flushLocked writes what is gathered. l.mu is held.
func (l *AccessLog) flushLocked() {
	if len(l.buf) == 0 {
		return
	}
	_, err := l.w.Write(l.buf)
	l.buf = l.buf[:0]
	if err != nil && !l.sick {
		l.lost(err)
	}
	l.sick = err != nil
}

// Close writes what is left.
func (l *AccessLog) Close() {
	close(l.ended)
	<-l.done
	l.mu.Lock()
	defer l.mu.Unlock()
	l.flushLocked()
}
