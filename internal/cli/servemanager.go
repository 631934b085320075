package cli

import (
	"cmp"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"github.com/coreos/go-systemd/v22/activation"
	"github.com/coreos/go-systemd/v22/daemon"
	"golang.org/x/sys/unix"

	"kestrix/internal/core/config"
	"kestrix/internal/core/status"
	"kestrix/internal/live/proxy"
)

// manager is who started the proxy and looks after it, as systemd does; without
// one nothing is told to anybody (sd_notify, sd_listen_fds).
type manager struct {
	events *eventLog
	mu     sync.Mutex
	given  map[string]net.Listener // sockets that were opened for us, by network and address
	end    chan struct{}
	folder string // for files while it runs; empty: none was made for us
}

func underManager(env *Env, n *eventLog) (*manager, error) {
	m := &manager{events: n, given: map[string]net.Listener{}, end: make(chan struct{}), folder: runtimeFolder(env)}
	if env.Getenv("LISTEN_FDS") == "" {
		return m, nil
	}
	all, err := activation.Listeners()
	if err != nil {
		return nil, fmt.Errorf("the sockets that were opened for us cannot be used: %w", err)
	}
	for _, l := range all {
		if l == nil {
			n.say(status.EventSocket, "a socket from the service manager is no listener and is ignored")
			continue
		}
		if u, ok := l.(*net.UnixListener); ok {
			u.SetUnlinkOnClose(false) // it is not ours
		}
		m.given[socketName(l.Addr())] = l
	}
	return m, nil
}

// runtimeFolder is the folder that the service manager made for a service, such as
// /run/kestrix; the first where there are several.
func runtimeFolder(env *Env) string {
	first, _, _ := strings.Cut(env.Getenv("RUNTIME_DIRECTORY"), ":")
	return first
}

// controlFile is the file of that folder that has the address of control. With it a command
// finds the running proxy also where the files say something else than what is in force.
const controlFile = "control.address"

// controlAt notes where operators are answered from now on.
func (m *manager) controlAt(c *config.Control) {
	if m.folder == "" {
		return
	}
	name := filepath.Join(m.folder, controlFile)
	var err error
	if c == nil {
		if err = os.Remove(name); errors.Is(err, fs.ErrNotExist) {
			err = nil
		}
	} else {
		at := c.Listen.Value.String()
		if c.TLS != nil {
			at = "https://" + at
		}
		err = replaceFile(name, func(w io.Writer) error { _, err := fmt.Fprintln(w, at); return err })
	}
	if err != nil {
		m.events.say(status.EventManager, "%s cannot be written, and commands need -at or the configuration: %v", name, reason(err))
	}
}

// runningControl returns where the service of this machine answers operators.
func runningControl(env *Env) string {
	folder := cmp.Or(runtimeFolder(env), filepath.Dir(strings.TrimPrefix(defaultControl, "unix:")))
	f, err := os.Open(filepath.Join(folder, controlFile))
	if err != nil {
		return defaultControl
	}
	defer f.Close()
	text, _ := io.ReadAll(io.LimitReader(f, 512))
	at := strings.TrimSpace(string(text))
	if _, err := config.ParseAddress(strings.TrimPrefix(at, "https://")); err != nil {
		return defaultControl
	}
	return at
}

// socketName is how a socket is known: every address of a family, whether of
// IPv4 or IPv6, is written alike.
func socketName(a net.Addr) string {
	t, ok := a.(*net.TCPAddr)
	if !ok {
		return a.Network() + " " + a.String()
	}
	return fmt.Sprintf("tcp %s %d", t.IP.To16(), t.Port)
}

// take returns the socket that was opened for us at an address, nil if none was.
func (m *manager) take(network, address string) net.Listener {
	m.mu.Lock()
	defer m.mu.Unlock()
	name := network + " " + address
	if t, err := net.ResolveTCPAddr(network, address); err == nil && network != "unix" {
		name = socketName(t)
	}
	l := m.given[name]
	delete(m.given, name)
	if l == nil {
		return nil // and no listener that holds one
	}
	m.events.say(status.EventSocket, "%s from the service manager is used", l.Addr())
	return l
}

// unclaimed tells of sockets that were opened for us and that no frontend
// listens on: whoever connects there waits for nobody.
func (m *manager) unclaimed() {
	m.mu.Lock()
	defer m.mu.Unlock()
	for _, l := range m.given {
		m.events.say(status.EventSocket, "%s from the service manager has no frontend and is closed", l.Addr())
		l.Close()
	}
	clear(m.given)
}

func (m *manager) tell(lines ...string) {
	if _, err := daemon.SdNotify(false, strings.Join(lines, "\n")); err != nil {
		m.events.say(status.EventManager, "the service manager cannot be notified: %v", err)
	}
}

// ready says that requests are served, and answers the watchdog from now on.
func (m *manager) ready(p *proxy.Proxy) {
	m.tell(daemon.SdNotifyReady, fmt.Sprintf("MAINPID=%d", os.Getpid()), "STATUS=serving")
	every, err := daemon.SdWatchdogEnabled(false)
	if err != nil || every == 0 {
		return
	}
	go func() {
		t := time.NewTicker(every / 3)
		defer t.Stop()
		for {
			select {
			case <-t.C:
				p.Alive() // a proxy that is stuck is not, and the watchdog bites
				m.tell(daemon.SdNotifyWatchdog)
			case <-m.end:
				return
			}
		}
	}()
}

func (m *manager) reloading() {
	var now unix.Timespec
	_ = unix.ClockGettime(unix.CLOCK_MONOTONIC, &now) // never fails with that clock
	m.tell(daemon.SdNotifyReloading, fmt.Sprintf("MONOTONIC_USEC=%d", now.Nano()/1000))
}

func (m *manager) reloaded() { m.tell(daemon.SdNotifyReady) }

func (m *manager) stopping() {
	close(m.end)
	m.tell(daemon.SdNotifyStopping, "STATUS=open requests may end")
}
