package inspect

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"golang.org/x/sys/unix"

	"kestrix/internal/core/check"
	"kestrix/internal/core/config"
	"kestrix/internal/live/socket"
)

// written looks at what serve would write: files, that of a journal included unless empty,
// and the log server.
func (l *look) written(c *config.Config, journal string) {
	files := c.NamedFiles()
	if journal != "" {
		files = append(files, config.NamedFile{What: "-journal", Name: config.Placed[string]{Value: journal, Range: files[0].Name.Range}, Written: true}) // the configuration, which does not name it
	}
	for _, f := range files {
		if f.Written {
			l.do(func() ([]check.Seen, config.Findings) { return l.writtenFile(f) })
		}
	}
	if c.EventLog.Syslog || slices.ContainsFunc(c.AccessLogs(), func(a config.AccessLog) bool { return a.To.Value == "syslog" }) {
		l.do(func() ([]check.Seen, config.Findings) { return l.logServer(c) })
	}
}

// writtenFile looks whether a file can be written, and leaves it and its folder as they are.
func (l *look) writtenFile(f config.NamedFile) ([]check.Seen, config.Findings) {
	row := check.Seen{Kind: "file", Who: f.What, What: f.Name.Value, Result: "writable", Detail: fmt.Sprintf("by uid %d, who runs this check", os.Geteuid()), Good: true}
	path, what := f.Name.Value, tryWriting
	if f.Beside && l.path != nil {
		path = l.path(path)
	}
	if f.Folder {
		row.Kind, what = "folder", tryFolder
	}
	err := what(path)
	if err == nil {
		return []check.Seen{row}, nil
	}
	row.Good, row.Result, row.Detail = false, "not writable", fmt.Sprintf("%v; uid %d runs this check", err, os.Geteuid())
	return []check.Seen{row}, config.Findings{check.LiveFinding("KX809", f.Name.Range, fmt.Sprintf("%s cannot be written to %s", f.What, f.Name.Value), row.Detail)}
}

// tryWriting returns why a file could not be written or, where there is none, created.
func tryWriting(name string) error {
	info, err := os.Stat(name)
	what := name
	switch {
	case err == nil && info.IsDir():
		return errors.New("it is a folder")
	case errors.Is(err, fs.ErrNotExist):
		if what = filepath.Dir(name); noFolder(what) {
			return fmt.Errorf("there is no folder %s", what)
		}
	case err != nil:
		return socket.ShortError(err)
	}
	if err := unix.Faccessat(unix.AT_FDCWD, what, unix.W_OK, unix.AT_EACCESS); err != nil {
		return err
	}
	var s unix.Statfs_t
	if info == nil || info.Mode().IsRegular() {
		if err := unix.Statfs(what, &s); err == nil && s.Blocks > 0 && s.Bavail == 0 {
			return errors.New("the disk is full")
		}
	}
	return nil
}

// tryFolder returns why files could not be created in a folder, or that be created.
func tryFolder(name string) error {
	for {
		info, err := os.Stat(name)
		switch parent := filepath.Dir(name); {
		case err == nil && !info.IsDir():
			return fmt.Errorf("%s is no folder", name)
		case err == nil:
			return unix.Faccessat(unix.AT_FDCWD, name, unix.W_OK|unix.X_OK, unix.AT_EACCESS)
		case !errors.Is(err, fs.ErrNotExist) || parent == name:
			return socket.ShortError(err)
		default:
			name = parent
		}
	}
}

// noFolder reports whether there is no such folder.
func noFolder(name string) bool {
	info, err := os.Stat(name)
	return err != nil || !info.IsDir()
}

// logServer looks whether the log server can be reached; nothing is sent.
func (l *look) logServer(c *config.Config) ([]check.Seen, config.Findings) {
	s := &c.Syslog
	who := "access_log"
	if !slices.ContainsFunc(c.AccessLogs(), func(a config.AccessLog) bool { return a.To.Value == "syslog" }) {
		who = "event_log"
	}
	row := check.Seen{Kind: "log server", Who: who, What: s.Address.String(), Result: "connects", Good: true}
	network, address := s.Transport, s.Address.String()
	switch network {
	case "udp":
		row.Result, row.Detail = "unknown", "UDP has no answer; whether it takes lines cannot be seen from here"
		return []check.Seen{row}, nil
	case "unix":
		network, address = "unixgram", s.Address.Unix
	}
	ctx, cancel := context.WithTimeout(l.ctx, 2*time.Second)
	defer cancel()
	began := time.Now()
	conn, err := l.dial(ctx, network, address)
	row.Took = time.Since(began)
	if err == nil {
		conn.Close()
		return []check.Seen{row}, nil
	}
	row.Good, row.Result, row.Detail = false, "cannot be reached", strings.TrimSuffix(socket.ShortError(err).Error(), ".")
	at := c.AccessLog.To.Range
	if c.EventLog.Syslog {
		at = c.EventLog.Range
	}
	for _, a := range c.AccessLogs() {
		if a.To.Value == "syslog" {
			at = a.To.Range
			break
		}
	}
	if s.Range.Filename != "" {
		at = s.Range
	}
	return []check.Seen{row}, config.Findings{check.LiveFinding("KX810", at, fmt.Sprintf("the log server %s cannot be reached", s.Address), row.Detail)}
}
