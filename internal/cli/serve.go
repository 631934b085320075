package cli

import (
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"flag"
	"fmt"
	"io"
	"os"
	"os/signal"
	"slices"
	"strings"
	"syscall"
	"time"

	"kestrix/internal/core/config"
	"kestrix/internal/core/status"
	"kestrix/internal/core/study"
	"kestrix/internal/core/units"
	"kestrix/internal/live/proxy"
	"kestrix/internal/report"
)

func serveCommand() *command {
	return &command{
		name: "serve", group: "serve and rehearse", args: "CONFIG", summary: "run the proxy",
		help: `
Access lines go to the file of access_log, or else to stdout. Events go to stderr.

signals:
  SIGHUP           reload the configuration. A configuration with errors is refused with
                   its findings, and the old one stays in force. Certificates, keys and
                   error pages are reloaded whenever their files change.
  SIGUSR1          reopen the file of the access log, after it was moved away
  SIGINT, SIGTERM  stop: first /ready of control answers 503 for -stop-notice while the
                   proxy still accepts connections, so that a balancer in front sends no
                   more clients; then requests in flight may end within -grace. A second
                   signal ends the proxy at once.

Under systemd the proxy notifies about ready, reloading and stopping, feeds the watchdog
and uses the sockets of a socket unit. kestrix install-files writes unit files.

examples:
  kestrix serve harbour.hcl
  kestrix serve harbour.hcl -watch -log probes`,
		setup: func(fs *flag.FlagSet) func(context.Context, *Env, []string) error {
			var s serveFlags
			var logs list
			with := withFlag(fs)
			fs.DurationVar(&s.grace, "grace", 30*time.Second, "maximum `TIME` for requests in flight to end when the proxy stops")
			fs.DurationVar(&s.notice, "stop-notice", 0, "`TIME` between the order to stop and the stop: the proxy still accepts connections and its /ready answers 503; stop_notice of the configuration takes precedence")
			fs.Uint64Var(&s.seed, "seed", 0, "`NUMBER` that seeds ties and random choices; 0 is a random one")
			fs.StringVar(&s.ready, "ready", "", "`FILE` to write when the proxy listens, for scripts")
			fs.StringVar(&s.journal, "journal", "", "journal `FILE` for every input and decision, for why -journal; an existing one stays, and the new one gets a number")
			s.journalSize = 1 << 30
			fs.Var(&s.journalSize, "journal-size", "maximum `SIZE` of the journal; the oldest eighth is removed when it is exceeded; 0B is no limit")
			fs.BoolVar(&s.watch, "watch", false, "reload the configuration when its files change")
			fs.Var(&logs, "log", "additional `SUBJECT` of log lines on stderr; may be repeated:\nprobes  the result of each probe")
			return func(ctx context.Context, env *Env, args []string) error {
				if len(args) != 1 {
					return usage("one configuration is required: kestrix serve CONFIG")
				}
				if s.grace < 0 || s.notice < 0 {
					return usage("-grace and -stop-notice cannot be negative")
				}
				for _, l := range logs {
					if l != "probes" {
						return usage("-log cannot be %q; there is: probes", l)
					}
				}
				if s.journalSize != 0 && s.journalSize < 1<<20 {
					return usage("-journal-size is at least 1MiB, or 0B for one without end")
				}
				s.probes = len(logs) > 0
				s.name, s.with = args[0], *with
				return runServe(ctx, env, &s)
			}
		},
	}
}

type serveFlags struct {
	name, ready   string
	journal       string
	journalSize   sizeFlag
	with          []string
	grace, notice time.Duration
	seed          uint64
	watch, probes bool
}

// serving is a proxy at work, with what is around it.
type serving struct {
	env     *Env
	f       *serveFlags
	events  *eventLog
	access  *accessSink
	proxy   *proxy.Proxy
	manager *manager
	files   *follower
	orders  *orderFile
	told    chan chan reloaded // by operators

	config   *config.Config // in force
	source   *source        // of it
	stopping bool
}

// reloaded is what came of reading the configuration again.
type reloaded struct {
	said string
	err  error
}

func runServe(ctx context.Context, env *Env, f *serveFlags) error {
	s, err := usable(env, f.name, f.with)
	if err != nil {
		return err
	}
	if err := filesApart(s, f.journal); err != nil {
		return err
	}
	n := newEventLog(env.Stderr, env.style(env.Stderr, false))
	defer n.close()
	earlier := earlierEvents(&s.config.EventLog)
	n.use(s.config)
	x := &serving{env: env, f: f, events: n, access: &accessSink{env: env, events: n}, told: make(chan chan reloaded)}
	if x.manager, err = underManager(env, n); err != nil {
		return unusable(err)
	}
	if err := x.access.open(s.config); err != nil {
		return err
	}
	defer x.access.close()
	o := proxy.Options{Path: beside(s.read[0]), ReadFile: besides(s.read[0]), Seed: f.seed, Grace: f.grace, Files: openFiles(), Event: n.event, Access: x.access.add, Given: x.manager.take, Name: hostName(), Version: Version, Commit: thisBuild().Commit, Earlier: earlier, Pages: report.StatusPage{}}
	o.Reload = func() (string, error) { // at its turn, so that two do not meet
		answer := make(chan reloaded, 1)
		select {
		case x.told <- answer:
			r := <-answer
			return r.said, r.err
		case <-ctx.Done():
			return "", errors.New("the proxy is stopping")
		}
	}
	if f.probes {
		o.Probe = func(who string, took time.Duration, what string) {
			n.of(who, status.EventProbe, "%s, in %s", what, report.Span(took.Seconds()))
		}
	}
	if f.journal != "" {
		end, err := x.keepJournal(&o)
		if err != nil {
			return err
		}
		defer end()
	}
	x.orders = &orderFile{env: env, events: n}
	x.orders.use(s.config)
	o.Held, o.Keep, o.LostLines = x.orders.load(), x.orders.keep, x.access.lost
	x.proxy = proxy.New(o)
	n.later.Store(x.proxy)
	if err := x.proxy.Apply(s.config); err != nil {
		return unusable(err)
	}
	x.proxy.Reloaded(hashOf(s.config), true)
	if x.files, err = newFollower(); err != nil {
		n.say(status.EventFiles, "files cannot be watched: %v; only SIGHUP reloads", err)
	}
	defer x.files.close()
	x.follow(s)
	n.say(status.EventServing, "%s: %s, %s; SIGHUP reloads, Ctrl-C stops", f.name, plural(len(s.config.Upstreams), "upstream"), plural(s.config.Backends(), "backend"))
	x.manager.unclaimed()
	return x.run(ctx)
}

// ready reports to the service manager, and to scripts, that connections are accepted.
func (x *serving) ready() error {
	x.manager.ready(x.proxy)
	if x.f.ready == "" {
		return nil
	}
	return replaceFile(x.f.ready, func(w io.Writer) error { _, err := fmt.Fprintln(w, os.Getpid()); return err })
}

// run serves until it is told to stop. Orders are taken from the beginning, also while
// first probes are awaited.
func (x *serving) run(ctx context.Context) error {
	ready, done := x.proxy.Ready(), ctx.Done()
	var notice <-chan time.Time // of the stop
	told := make(chan os.Signal, 4)
	signal.Notify(told, syscall.SIGHUP, syscall.SIGUSR1)
	defer signal.Stop(told)
	for {
		select {
		case <-ready:
			ready = nil
			if err := x.ready(); err != nil {
				_ = x.proxy.Stop() // the first error is the one to tell
				return err
			}
		case s := <-told:
			if s == syscall.SIGHUP {
				x.reload()
			} else if err := x.access.reopen(); err != nil {
				x.events.say(status.EventAccessLog, "%v; lines go to the old file", err)
			}
		case answer := <-x.told:
			answer <- x.reload()
		case changed := <-x.files.changes():
			x.changed(changed)
		case err := <-x.proxy.Failed():
			_ = x.proxy.Stop() // the first error is the one to tell
			return unusable(err)
		case <-done:
			done = nil
			notice = time.After(x.leave())
		case <-notice:
			x.stop()
			return nil
		}
	}
}

// leave tells everybody that the proxy will stop. It returns after which time.
func (x *serving) leave() time.Duration {
	x.stopping = true
	x.manager.stopping()
	x.proxy.Leave()
	notice := x.f.notice
	if x.config.StopNoticeGiven {
		notice = x.config.StopNotice
	}
	if notice > 0 {
		x.events.say(status.EventLeaving, "/ready answers 503; connections are still accepted for %s", units.Duration(notice))
	}
	return notice
}

// stop closes the listeners and waits for what is open.
func (x *serving) stop() {
	x.events.say(status.EventStopping, "no new connections; requests in flight have %s to end", units.Duration(x.f.grace))
	if err := x.proxy.Stop(); err != nil {
		x.events.say(status.EventStopped, "%v", err)
		return
	}
	x.events.say(status.EventStopped, "every received request was answered")
}

// reload goes over to what the files say now, or stays with the old.
func (x *serving) reload() reloaded {
	return x.reloadFrom(func() (*source, error) { return usable(x.env, x.f.name, x.f.with) })
}

// reloadFrom goes over to another configuration, or stays with the old.
func (x *serving) reloadFrom(read func() (*source, error)) reloaded {
	if x.stopping {
		err := errors.New("the proxy is stopping; the configuration in force stays")
		x.events.say(status.EventRefused, "%v", err)
		return reloaded{err: err}
	}
	x.manager.reloading()
	defer x.manager.reloaded()
	s, err := read()
	if err == nil {
		err = filesApart(s, x.f.journal)
	}
	if err == nil {
		err = x.access.open(s.config)
	}
	if err == nil {
		before := x.config
		if err = x.proxy.Apply(s.config); err == nil {
			go x.tellChanges(before, s.config) // which may be many
			x.follow(s)
			x.events.use(s.config)
			if x.orders.use(s.config) {
				_ = x.orders.keep(x.proxy.Held()) // what is wrong was told
			}
		}
	}
	if err != nil {
		x.proxy.Reloaded("", false)
		err = fmt.Errorf("%w; the configuration in force stays", err)
		x.events.say(status.EventRefused, "%v", err)
		return reloaded{err: err}
	}
	x.proxy.Reloaded(hashOf(s.config), true)
	said := fmt.Sprintf("%s: %s, %s", x.f.name, plural(len(s.config.Upstreams), "upstream"), plural(s.config.Backends(), "backend"))
	x.events.say(status.EventReloaded, "%s", said)
	return reloaded{said: said}
}

// hashOf returns by what a configuration is known: the beginning of the SHA-256 of its
// files.
func hashOf(c *config.Config) string {
	h := sha256.New()
	for _, f := range c.Files {
		fmt.Fprintf(h, "%d %s", len(f.Source), f.Source)
	}
	return hex.EncodeToString(h.Sum(nil)[:6])
}

// tellChanges tells what a reload has changed.
func (x *serving) tellChanges(before, now *config.Config) {
	for _, c := range study.Changed(before, now) {
		x.events.of(cmp.Or(c.Who, "kestrix"), status.EventChanged, "%s", c.Text)
	}
}

// follow goes by a configuration that is in force now, and watches its files.
func (x *serving) follow(s *source) {
	x.config, x.source = s.config, s
	x.manager.controlAt(s.config.Control)
	var named []string
	for _, f := range s.config.FilesOfBackends() {
		named = append(named, pathFrom(s.read[0], f.Value))
	}
	for _, f := range x.proxy.Files() {
		named = append(named, pathFrom(s.read[0], f))
	}
	var own []string
	if x.f.watch {
		own = append(slices.Clone(s.read), x.f.name)
	}
	x.files.follow(own, named)
}

// changed does what a change of files asks for.
func (x *serving) changed(c change) {
	if c.own {
		x.reload()
		return
	}
	for _, f := range x.config.FilesOfBackends() {
		if slices.Contains(c.paths, pathFrom(x.source.read[0], f.Value)) {
			// The rest of the configuration may be half edited, and nobody asked for it.
			x.reloadFrom(func() (*source, error) { return x.source.again(x.env) })
			return
		}
	}
	if err := x.proxy.Refresh(); err != nil {
		x.events.say(status.EventRefused, "%v; the earlier contents stay in use", err)
		return
	}
	x.events.say(status.EventRefreshed, "%s", strings.Join(c.names, ", "))
}

// openFiles returns how many files the process may have open (RLIMIT_NOFILE), 0
// where that is not known.
func openFiles() int {
	var l syscall.Rlimit
	if err := syscall.Getrlimit(syscall.RLIMIT_NOFILE, &l); err != nil {
		return 0
	}
	return int(min(l.Cur, 1<<30))
}

// hostName returns the name of this machine, empty where it has none.
func hostName() string {
	name, err := os.Hostname()
	if err != nil {
		return ""
	}
	return name
}
