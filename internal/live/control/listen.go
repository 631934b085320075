package control

import (
	"context"
	"crypto/tls"
	"fmt"
	"net"
	"net/http"
	"os"
	"os/user"
	"path/filepath"
	"strconv"
	"sync/atomic"
	"syscall"
	"time"

	"kestrix/internal/core/config"
	"kestrix/internal/live/socket"
)

// mostConns is how many connections control has open at a time; for one more
// others are closed, those that ask for nothing first.
const mostConns = 48

// conn is a connection of control.
type conn struct {
	socket.CloseHook
	idle atomic.Int64 // since when nothing is asked, in nanoseconds of the epoch; 0 while something is
}

// listener takes connections, and speaks TLS where the state of the moment
// wants it.
type listener struct {
	net.Listener
	c *Server
}

// Accept takes the next connection.
func (l *listener) Accept() (net.Conn, error) {
	for {
		raw, err := l.Listener.Accept()
		if err != nil {
			return nil, err
		}
		_, addr := socket.ClientAddress(raw.RemoteAddr().String())
		entry, closed := l.c.conns.Add(raw, addr)
		if closed == entry {
			continue
		}
		x := &conn{CloseHook: socket.CloseHook{Conn: raw, Closed: func() { l.c.conns.Remove(entry) }}}
		x.idle.Store(time.Now().UnixNano())
		l.c.conns.SetIdle(entry, func() time.Time {
			if at := x.idle.Load(); at != 0 {
				return time.Unix(0, at)
			}
			return time.Time{}
		})
		if s := l.c.state.Load(); s.tls != nil {
			return tls.Server(x, s.tls), nil
		}
		return x, nil
	}
}

// track follows the connections of the http server.
func (c *Server) track(nc net.Conn, to http.ConnState) {
	x := connOf(nc)
	if x == nil {
		return
	}
	switch to {
	case http.StateActive:
		x.idle.Store(0)
	case http.StateIdle:
		x.idle.Store(time.Now().UnixNano())
	}
}

func connOf(c net.Conn) *conn {
	if t, ok := c.(*tls.Conn); ok {
		c = t.NetConn()
	}
	x, _ := c.(*conn)
	return x
}

type peerKey struct{}

// connContext has requests know which user of this machine is at the other end.
func (c *Server) connContext(ctx context.Context, nc net.Conn) context.Context {
	if x := connOf(nc); x != nil && x.LocalAddr().Network() == "unix" {
		if uid, ok := peerUID(x.Conn); ok {
			return context.WithValue(ctx, peerKey{}, uid)
		}
	}
	return ctx
}

// peerName words the user at the other end of a unix socket, empty for one that
// is not known.
func peerName(r *http.Request) string {
	uid, ok := r.Context().Value(peerKey{}).(uint32)
	if !ok {
		return ""
	}
	id := strconv.FormatUint(uint64(uid), 10)
	if u, err := user.LookupId(id); err == nil {
		return u.Username + " (uid " + id + ")"
	}
	return "uid " + id
}

// listenPrivately opens the listener of control. A unix socket is its owner's
// alone from its first moment on, and stands in a folder in which nobody else can
// put another in its place.
func listenPrivately(a config.Address, listen func(config.Address) (net.Listener, error)) (net.Listener, error) {
	if a.Unix == "" {
		return listen(a)
	}
	if err := privateFolder(filepath.Dir(a.Unix), os.Geteuid()); err != nil {
		return nil, fmt.Errorf("%s cannot be listened on: %w", a, err)
	}
	old := syscall.Umask(0o177) // of the whole process: files made just now are its owner's alone as well
	l, err := listen(a)
	syscall.Umask(old)
	if err == nil {
		_ = os.Chmod(a.Unix, 0o660) // for its group too; where it fails the owner alone has it
	}
	return l, err
}

// privateFolder reports what is wrong with the folder of a socket: only root and
// the given user may be able to remove what is in it.
func privateFolder(dir string, uid int) error {
	info, err := os.Stat(dir)
	if err != nil {
		return fmt.Errorf("its folder %s: %w", dir, socket.ShortError(err))
	}
	if s, ok := info.Sys().(*syscall.Stat_t); ok && s.Uid != 0 && int(s.Uid) != uid {
		return fmt.Errorf("its folder %s belongs to uid %d, who could put another socket in its place; chown %d %s", dir, s.Uid, uid, dir)
	}
	if info.Mode().Perm()&0o022 != 0 && info.Mode()&os.ModeSticky == 0 {
		return fmt.Errorf("its folder %s can be written by others (mode %04o), who could put another socket in its place; chmod go-w %s", dir, info.Mode().Perm(), dir)
	}
	return nil
}
