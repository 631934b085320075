package cli

import (
	"context"
	"flag"
	"fmt"
	"io"
	"net"
	"os"
	"os/signal"
	"slices"
	"strings"
	"sync"
	"syscall"
	"time"

	"kestrix/internal/core/config"
	"kestrix/internal/live/proxy"
	"kestrix/internal/report"
)

func serveCommand() *command {
	return &command{
		name: "serve", args: "CONFIG", summary: "the live proxy",
		help: `
Access lines go where access_log says (stdout by default), changes of state and
other news to stderr. SIGHUP reads the configuration again: a bad one is refused
with its findings and the old one goes on. SIGINT and SIGTERM stop it: open
requests may end, for as long as -grace says.

  kestrix serve harbour.hcl`,
		setup: func(fs *flag.FlagSet) func(context.Context, *Env, []string) error {
			var s serveFlags
			with := withFlag(fs)
			fs.DurationVar(&s.grace, "grace", 30*time.Second, "`TIME` that open requests have to end when it stops")
			fs.Uint64Var(&s.seed, "seed", 0, "`NUMBER` that keys ties and draws; 0 takes a random one")
			fs.StringVar(&s.ready, "ready", "", "`FILE` that is written when it listens, for scripts")
			return func(ctx context.Context, env *Env, args []string) error {
				if len(args) != 1 {
					return usage("one configuration is wanted: kestrix serve CONFIG")
				}
				if s.grace < 0 {
					return usage("-grace cannot be negative")
				}
				s.name, s.with = args[0], *with
				return runServe(ctx, env, &s)
			}
		},
	}
}

type serveFlags struct {
	name, ready string
	with        []string
	grace       time.Duration
	seed        uint64
}

// news prints events, one line each.
type news struct {
	mu    sync.Mutex
	w     io.Writer
	style report.Style
}

func (n *news) event(e proxy.Event) {
	n.mu.Lock()
	defer n.mu.Unlock()
	io.WriteString(n.w, n.style.Event(e.At, e.Who, e.What, e.Text))
}

func (n *news) say(what, format string, args ...any) {
	n.event(proxy.Event{At: time.Now(), Who: "kestrix", What: what, Text: fmt.Sprintf(format, args...)})
}

func runServe(ctx context.Context, env *Env, f *serveFlags) error {
	s, err := usable(env, f.name, f.with)
	if err != nil {
		return err
	}
	n := &news{w: env.Stderr, style: env.style(env.Stderr, false)}
	access := &accessSink{env: env, news: n}
	if err := access.open(s.config.AccessLog); err != nil {
		return err
	}
	defer access.close()
	p := proxy.New(proxy.Options{ReadFile: besides(s.read[0]), Seed: f.seed, Grace: f.grace, Event: n.event, Access: access.add})
	if err := p.Apply(s.config); err != nil {
		return unusable(err)
	}
	n.say("serving", "%s: %s, %s; SIGHUP reads it again, Ctrl-C stops", f.name, plural(len(s.config.Upstreams), "upstream"), plural(s.config.Backends(), "backend"))
	if f.ready != "" {
		if err := replaceFile(f.ready, func(w io.Writer) error { _, err := fmt.Fprintln(w, os.Getpid()); return err }); err != nil {
			return err
		}
	}
	hup := make(chan os.Signal, 1)
	signal.Notify(hup, syscall.SIGHUP)
	defer signal.Stop(hup)
	for {
		select {
		case <-hup:
			reload(env, f, p, access, n)
		case err := <-p.Failed():
			_ = p.Stop() // the first error is the one to tell
			return unusable(err)
		case <-ctx.Done():
			n.say("stopping", "no new connections; open requests have %s to end", f.grace)
			if err := p.Stop(); err != nil {
				n.say("stopped", "%v", err)
				return nil
			}
			n.say("stopped", "every request was answered")
			return nil
		}
	}
}

// reload goes over to what the files say now, or stays with the old.
func reload(env *Env, f *serveFlags, p *proxy.Proxy, access *accessSink, n *news) {
	s, err := usable(env, f.name, f.with)
	if err == nil {
		err = access.open(s.config.AccessLog)
	}
	if err == nil {
		err = p.Apply(s.config)
	}
	if err != nil {
		n.say("refused", "%v; the configuration in force stays", err)
		return
	}
	n.say("reloaded", "%s: %s, %s", f.name, plural(len(s.config.Upstreams), "upstream"), plural(s.config.Backends(), "backend"))
}

// accessSink is where access lines go; a reload may change it.
type accessSink struct {
	env  *Env
	news *news
	mu   sync.RWMutex
	to   config.AccessLog
	file io.Closer
	log  *proxy.AccessLog
}

func (a *accessSink) open(to config.AccessLog) error {
	a.mu.Lock()
	defer a.mu.Unlock()
	if a.log != nil && a.to.To == to.To && a.to.Format == to.Format && slices.Equal(a.to.Fields, to.Fields) {
		return nil
	}
	var w io.Writer
	var file io.Closer
	address, remote := strings.CutPrefix(to.To, "syslog:")
	if to.To == "syslog" || remote {
		c, err := syslogTo(address)
		if err != nil {
			return unusable(fmt.Errorf("%slines cannot be sent to %s: %w; access_log { to = ... } names another place", placeOf(to), to.To, reason(err)))
		}
		return a.begin(to, c, c)
	}
	switch to.To {
	case "off":
	case "stdout":
		w = a.env.Stdout
	case "stderr":
		w = a.env.Stderr
	default:
		f, err := os.OpenFile(to.To, os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o640)
		if err != nil {
			return unusable(fmt.Errorf("%sthe access log %s cannot be opened: %w", placeOf(to), to.To, reason(err)))
		}
		w, file = f, f
	}
	return a.begin(to, w, file)
}

// begin goes over to another place for lines; w is nil for none. a.mu is held.
func (a *accessSink) begin(to config.AccessLog, w io.Writer, file io.Closer) error {
	a.closeLocked()
	a.to, a.file = to, file
	if w != nil {
		a.log = proxy.NewAccessLog(w, to, func(err error) {
			a.news.say("log", "access lines are being lost: %v", err)
		})
	}
	return nil
}

// placeOf says where in the configuration the access log is spoken of.
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

func (a *accessSink) add(x *proxy.Access) {
	a.mu.RLock()
	defer a.mu.RUnlock()
	if a.log != nil {
		a.log.Add(x)
	}
}

func (a *accessSink) close() {
	a.mu.Lock()
	defer a.mu.Unlock()
	a.closeLocked()
}

func (a *accessSink) closeLocked() {
	if a.log != nil {
		a.log.Close()
		a.log = nil
	}
	if a.file != nil {
		a.file.Close()
		a.file = nil
	}
}
