package syslog

import (
	"context"
	"errors"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kestrix/internal/core/config"
)

// told gathers what is told.
type told struct {
	mu    sync.Mutex
	lines []string
}

func (o *told) event(format string, args ...any) {
	o.mu.Lock()
	defer o.mu.Unlock()
	o.lines = append(o.lines, fmt.Sprintf(format, args...))
}

func (o *told) all() []string {
	o.mu.Lock()
	defer o.mu.Unlock()
	return append([]string{}, o.lines...)
}

func address(t *testing.T, s string) config.Address {
	a, err := config.ParseAddress(s)
	require.NoError(t, err)
	return a
}

// server is a log server in memory, which may be gone or take nothing.
type server struct {
	mu     sync.Mutex
	gone   bool
	hung   bool
	conns  []net.Conn
	fails  error // of the next writes, as often as fail says
	fail   int
	gotten []string
}

// toServer is the end of a connection that the Writer has: each write is a message.
type toServer struct {
	net.Conn
	s        *server
	deadline time.Time
}

func (s *server) dial(context.Context, string, string) (net.Conn, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.gone {
		return nil, &net.OpError{Op: "dial", Err: syscall.ECONNREFUSED}
	}
	a, b := net.Pipe()
	s.conns = append(s.conns, b)
	return &toServer{Conn: a, s: s}, nil
}

func (c *toServer) SetWriteDeadline(t time.Time) error {
	c.deadline = t
	return nil
}

func (c *toServer) Write(b []byte) (int, error) {
	c.s.mu.Lock()
	defer c.s.mu.Unlock()
	switch {
	case c.s.gone:
		return 0, &net.OpError{Op: "write", Err: syscall.ECONNREFUSED}
	case c.s.hung:
		c.s.mu.Unlock()
		time.Sleep(time.Until(c.deadline))
		c.s.mu.Lock()
		return 0, os.ErrDeadlineExceeded
	case c.s.fail > 0:
		c.s.fail--
		return 0, c.s.fails
	}
	c.s.gotten = append(c.s.gotten, string(b))
	return len(b), nil
}

func (s *server) set(f func(*server)) {
	s.mu.Lock()
	defer s.mu.Unlock()
	f(s)
}

func (s *server) take() []string {
	s.mu.Lock()
	defer s.mu.Unlock()
	out := s.gotten
	s.gotten = nil
	return out
}

// TestALogServerMayBeGoneHungAndBack: nobody waits for it, lines wait up to a bound, it is
// found again within five seconds, and what was lost is counted.
func TestALogServerMayBeGoneHungAndBack(t *testing.T) {
	for _, transport := range []string{"unix", "tcp"} {
		for _, trouble := range []string{"gone", "hung"} {
			synctest.Test(t, func(t *testing.T) {
				o, s := &told{}, &server{gone: trouble == "gone"}
				w := New(Options{Server: config.Syslog{Facility: 19, Transport: transport, Address: config.Address{Host: "192.0.2.9", Port: 514}, Format: "rfc5424"}, What: "access lines", ID: "access", Dial: s.dial, Event: o.event})
				write := func(text string) {
					began := time.Now()
					n, err := w.Write([]byte(text))
					require.NoError(t, err)
					require.Equal(t, len(text), n)
					require.Zero(t, time.Since(began), "nobody waits")
				}
				s.set(func(s *server) { s.hung = trouble == "hung" })
				write("first")
				time.Sleep(10 * time.Second)
				require.Len(t, o.all(), 1, "told once")
				assert.Contains(t, o.all()[0], "the log server 192.0.2.9:514 cannot be reached: ")
				line := strings.Repeat("x", 1000)
				for range 2000 {
					write(line)
				}
				lost := w.Lost()
				assert.InDelta(t, 1000, lost, 100, "about a megabyte waits")
				assert.Equal(t, "access lines are lost: 1 MiB of them wait for 192.0.2.9:514, which accepts none", o.all()[1])
				s.set(func(s *server) { s.gone, s.hung = false, false })
				time.Sleep(5 * time.Second)
				write("last")
				synctest.Wait()
				got := s.take()
				assert.Len(t, got, 2002-int(lost))
				assert.Contains(t, got[0], "access - first")
				assert.Contains(t, got[len(got)-1], "access - last")
				assert.Equal(t, fmt.Sprintf("the log server 192.0.2.9:514 accepts access lines again; %d were lost", lost), o.all()[2])
				assert.Len(t, o.all(), 3)

				s.set(func(s *server) { s.fails, s.fail = syscall.EMSGSIZE, 1 })
				write("too long for a datagram")
				write("as it should be")
				synctest.Wait()
				assert.Len(t, s.take(), 1)
				assert.Equal(t, lost+1, w.Lost())

				s.set(func(s *server) { s.gone, s.hung = true, false })
				for range 3 {
					write("at the end")
				}
				began := time.Now()
				require.NoError(t, w.Close())
				assert.LessOrEqual(t, time.Since(began), closeWithin+sendWithin)
				assert.Equal(t, lost+4, w.Lost())
				assert.Equal(t, "4 access lines were lost", o.all()[len(o.all())-1])
				write("after the end")
				for _, c := range s.conns {
					c.Close()
				}
			})
		}
	}
}

// TestRefusedDatagramsAreCounted: that a datagram was refused is learned with the next.
func TestRefusedDatagramsAreCounted(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		o, s := &told{}, &server{}
		w := New(Options{Server: config.Syslog{Transport: "udp", Address: config.Address{Host: "192.0.2.9", Port: 514}}, What: "access lines", Dial: s.dial, Event: o.event})
		for i := range 10 {
			if i >= 1 && i <= 3 {
				s.set(func(s *server) { s.fails, s.fail = &net.OpError{Op: "write", Err: syscall.ECONNREFUSED}, 1 })
			}
			_, _ = w.Write([]byte("line"))
			time.Sleep(time.Second)
		}
		assert.Equal(t, int64(3), w.Lost())
		assert.Len(t, s.take(), 10)
		assert.Equal(t, []string{"the log server 192.0.2.9:514 accepts no access lines, which are lost: connection refused", "the log server 192.0.2.9:514 accepts access lines again; 3 were lost"}, o.all())
		require.NoError(t, w.Close())
	})
}

// TestADaemonReadsWhatIsSent has rsyslogd (Debian's package) take lines in every form over
// every transport, and restart meanwhile.
func TestADaemonReadsWhatIsSent(t *testing.T) {
	daemon, err := exec.LookPath("rsyslogd")
	if err != nil {
		daemon = "/usr/sbin/rsyslogd"
		if _, err := os.Stat(daemon); err != nil {
			t.Skip("there is no rsyslogd here")
		}
	}
	if testing.Short() {
		t.Skip("it takes its time")
	}
	dir, err := os.MkdirTemp("", "syslog") // short enough for a socket
	require.NoError(t, err)
	defer os.RemoveAll(dir)
	port := func(network string) int {
		if network == "udp" {
			c, err := net.ListenPacket("udp", "127.0.0.1:0")
			require.NoError(t, err)
			defer c.Close()
			return c.LocalAddr().(*net.UDPAddr).Port
		}
		l, err := net.Listen("tcp", "127.0.0.1:0")
		require.NoError(t, err)
		defer l.Close()
		return l.Addr().(*net.TCPAddr).Port
	}
	udp, tcp := port("udp"), port("tcp")
	require.NoError(t, os.WriteFile(filepath.Join(dir, "conf"), fmt.Appendf(nil, `global(workDirectory="%[1]s")
module(load="imuxsock" SysSock.Use="off")
module(load="imudp")
module(load="imtcp")
template(name="t" type="string" string="%%syslogfacility-text%%.%%syslogseverity-text%% %%hostname%% %%programname%% %%procid%% %%timegenerated:::date-year%%|%%timereported:::date-rfc3339%%|%%msg%%\n")
input(type="imuxsock" Socket="%[1]s/log" UseSpecialParser="on")
input(type="imudp" address="127.0.0.1" port="%[2]d")
input(type="imtcp" address="127.0.0.1" port="%[3]d")
action(type="omfile" file="%[1]s/out" template="t")
`, dir, udp, tcp), 0o600))
	started := 0
	begin := func() func() {
		os.Remove(filepath.Join(dir, "log"))
		c := exec.Command(daemon, "-n", "-f", filepath.Join(dir, "conf"), "-i", filepath.Join(dir, fmt.Sprint("pid", started)))
		started++
		require.NoError(t, c.Start())
		require.Eventually(t, func() bool {
			_, err := os.Stat(filepath.Join(dir, "log"))
			conn, errTCP := net.Dial("tcp", fmt.Sprintf("127.0.0.1:%d", tcp))
			if errTCP == nil {
				conn.Close()
			}
			return err == nil && errTCP == nil
		}, 20*time.Second, 20*time.Millisecond, "the daemon listens")
		return func() {
			_ = c.Process.Signal(syscall.SIGTERM)
			_ = c.Wait()
		}
	}
	taken := func() string {
		text, err := os.ReadFile(filepath.Join(dir, "out"))
		if !errors.Is(err, os.ErrNotExist) {
			require.NoError(t, err)
		}
		return string(text)
	}
	end := begin()
	defer func() { end() }()
	host, err := os.Hostname()
	require.NoError(t, err)
	host, _, _ = strings.Cut(host, ".")
	var writers []*Writer
	var whos []string
	for transport, at := range map[string]string{"unix": "unix:" + filepath.Join(dir, "log"), "udp": fmt.Sprintf("127.0.0.1:%d", udp), "tcp": fmt.Sprintf("127.0.0.1:%d", tcp)} {
		for _, format := range []string{"local", "rfc3164", "rfc5424"} {
			if format == "local" && transport != "unix" || format != "local" && transport == "unix" {
				continue // the daemon takes its own machine's programs to write the local form
			}
			writers = append(writers, New(Options{Server: config.Syslog{Facility: 19, Transport: transport, Address: address(t, at), Format: format}, ID: "access", Event: func(string, ...any) {}}))
			whos = append(whos, transport+" "+format)
		}
	}
	defer func() {
		for _, w := range writers {
			w.Close()
		}
	}()
	all := func(what string) {
		for i, w := range writers {
			_, err := w.Write([]byte(whos[i] + " " + what + ` "GET / HTTP/1.1" 200`))
			require.NoError(t, err)
		}
	}
	line := func(who, what string) string {
		for l := range strings.Lines(taken()) {
			if strings.Contains(l, who+" "+what) {
				return l
			}
		}
		return ""
	}
	all("one")
	for _, who := range whos {
		require.Eventually(t, func() bool { return line(who, "one") != "" }, 10*time.Second, 20*time.Millisecond, "%s\n%s", who, taken())
		l := line(who, "one")
		assert.Regexp(t, fmt.Sprintf(`^local3\.info %s(\.\S+)? kestrix %d %d\|\d{4}-\d\d-\d\dT[^|]+\| ?%s one "GET / HTTP/1\.1" 200\n$`, host, os.Getpid(), time.Now().Year(), who), l)
		stamp := strings.Split(l, "|")[1]
		at, err := time.Parse(time.RFC3339Nano, stamp)
		require.NoError(t, err)
		assert.WithinDuration(t, time.Now(), at, 20*time.Second, "the time is understood: %s", l)
	}
	end()
	all("away") // those of UDP are lost
	time.Sleep(500 * time.Millisecond)
	end = begin()
	began := time.Now()
	for n := 0; ; n++ {
		all("back")
		missing := ""
		for _, who := range whos {
			if line(who, "back") == "" {
				missing += who + ", "
			}
		}
		if missing == "" {
			break
		}
		require.Less(t, time.Since(began), 5*time.Second, "found again within 5 s: %s", missing)
		time.Sleep(100 * time.Millisecond)
	}
	for i, w := range writers {
		if strings.HasPrefix(whos[i], "unix") {
			assert.NotEmpty(t, line(whos[i], "away"), "it waited")
		}
		if strings.HasPrefix(whos[i], "udp") {
			assert.Empty(t, line(whos[i], "away"))
			assert.Positive(t, w.Lost(), "counted")
		}
	}
}
