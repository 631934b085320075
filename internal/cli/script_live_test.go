package cli

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"os/exec"
	"strconv"
	"strings"
	"syscall"
	"time"

	"github.com/coder/websocket"
	"github.com/rogpeppe/go-internal/testscript"
)

// liveCommands are those that talk with a running proxy.
var liveCommands = map[string]func(*testscript.TestScript, bool, []string){
	"hup": signalled(syscall.SIGHUP), "usr1": signalled(syscall.SIGUSR1), "managed": managed, "talk": talk, "events": eventStream, "say": say, "hold": hold, "receive": receive, "collect": collect, "uncollect": uncollect, "certify": certify, "uncertify": uncertify, "await-expired": awaitExpired,
}

// hup FILE and usr1 FILE signal the process whose number is in a -ready file.
func signalled(s syscall.Signal) func(*testscript.TestScript, bool, []string) {
	return func(ts *testscript.TestScript, neg bool, args []string) {
		pid, err := strconv.Atoi(strings.TrimSpace(ts.ReadFile(args[0])))
		ts.Check(err)
		ts.Check(syscall.Kill(pid, s))
	}
}

// managed FILE ADDRESS COMMAND runs a command in the background as systemd
// does: with a socket that listens at an address already, a watchdog of 300 ms,
// and what it tells in a file, a line each. It is ended with the script.
func managed(ts *testscript.TestScript, neg bool, args []string) {
	l, err := net.Listen("tcp", args[1])
	ts.Check(err)
	socket, err := l.(*net.TCPListener).File()
	ts.Check(err)
	ts.Check(l.Close()) // the file holds it open
	at, err := os.MkdirTemp("", "n")
	ts.Check(err)
	c, err := net.ListenPacket("unixgram", at+"/s")
	ts.Check(err)
	out, err := os.Create(ts.MkAbs(args[0]))
	ts.Check(err)
	go func() {
		b := make([]byte, 4096)
		for {
			n, _, err := c.ReadFrom(b)
			if err != nil {
				return
			}
			_, _ = out.Write(append(b[:n], '\n'))
		}
	}()
	cmd := exec.Command("sh", "-c", "LISTEN_PID=$$ WATCHDOG_PID=$$ exec "+strings.Join(args[2:], " "))
	cmd.Dir = ts.MkAbs(".")
	cmd.Env = append(os.Environ(), "NOTIFY_SOCKET="+at+"/s", "LISTEN_FDS=1", "WATCHDOG_USEC=300000", "PATH="+ts.Getenv("PATH"), "LC_ALL=C.UTF-8")
	cmd.ExtraFiles = []*os.File{socket}
	ts.Check(cmd.Start())
	ts.Defer(func() {
		_ = cmd.Process.Signal(syscall.SIGINT)
		_ = cmd.Wait()
		c.Close()
		socket.Close()
		out.Close()
		os.RemoveAll(at)
	})
}

// talk URL TEXT... says texts over a WebSocket and writes what comes back to the
// file answers.
func talk(ts *testscript.TestScript, neg bool, args []string) {
	ctx, cancel := context.WithTimeout(context.Background(), 10*time.Second)
	defer cancel()
	c, _, err := websocket.Dial(ctx, args[0], nil)
	ts.Check(err)
	defer c.CloseNow()
	var out strings.Builder
	for _, text := range args[1:] {
		ts.Check(c.Write(ctx, websocket.MessageText, []byte(text)))
		_, b, err := c.Read(ctx)
		ts.Check(err)
		fmt.Fprintf(&out, "%s\n", b)
	}
	ts.Check(c.Close(websocket.StatusNormalClosure, ""))
	ts.Check(os.WriteFile(ts.MkAbs("answers"), []byte(out.String()), 0o644))
}

// eventStream is events URL COUNT: it reads so many events of a stream, and writes them to the file
// answers; it wants the first before the last can have been sent.
func eventStream(ts *testscript.TestScript, neg bool, args []string) {
	res, err := http.Get(args[0])
	ts.Check(err)
	defer res.Body.Close()
	began, first := time.Now(), time.Duration(0)
	want, err := strconv.Atoi(args[1])
	ts.Check(err)
	var out strings.Builder
	s := bufio.NewScanner(res.Body)
	for n := 0; n < want && s.Scan(); {
		if text, ok := strings.CutPrefix(s.Text(), "data: "); ok {
			if n++; n == 1 {
				first = time.Since(began)
			}
			fmt.Fprintln(&out, text)
		}
	}
	if last := time.Since(began); first > last/2 {
		ts.Fatalf("the first event came after %s, the last after %s", first, last)
	}
	ts.Check(os.WriteFile(ts.MkAbs("answers"), []byte(out.String()), 0o644))
}

// say ADDRESS TEXT says a text (with Go's escapes) over TCP, ends its direction,
// and writes what comes back to the file answers.
func say(ts *testscript.TestScript, neg bool, args []string) {
	text, err := strconv.Unquote(`"` + args[1] + `"`)
	ts.Check(err)
	c, err := net.Dial("tcp", args[0])
	ts.Check(err)
	defer c.Close()
	_, err = io.WriteString(c, text)
	ts.Check(err)
	ts.Check(c.(*net.TCPConn).CloseWrite())
	b, err := io.ReadAll(c)
	ts.Check(err)
	ts.Check(os.WriteFile(ts.MkAbs("answers"), b, 0o644))
}

// receive ADDRESS FILE takes what comes over TCP, and writes it to a file.
func receive(ts *testscript.TestScript, neg bool, args []string) {
	l, err := net.Listen("tcp", args[0])
	ts.Check(err)
	out, err := os.Create(ts.MkAbs(args[1]))
	ts.Check(err)
	ts.Defer(func() { l.Close(); out.Close() })
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			go func() { _, _ = io.Copy(out, c) }()
		}
	}()
}

// hold NUMBER ADDRESS FILE[:LEFT] [FROM TEXT] opens so many connections, as far as that
// can be done, and closes them when the file is gone. They say nothing, or a text,
// from an address. With LEFT it waits until the proxy has closed all but so many.
func hold(ts *testscript.TestScript, neg bool, args []string) {
	n, err := strconv.Atoi(args[0])
	ts.Check(err)
	file, most, settles := strings.Cut(args[2], ":")
	left := 0
	if settles {
		left, err = strconv.Atoi(most)
		ts.Check(err)
	}
	ts.Check(os.WriteFile(ts.MkAbs(file), nil, 0o644))
	var open []net.Conn
	d, text := net.Dialer{Timeout: time.Second}, ""
	if len(args) > 3 {
		d.LocalAddr = &net.TCPAddr{IP: net.ParseIP(args[3])}
		text, err = strconv.Unquote(`"` + args[4] + `"`)
		ts.Check(err)
	}
	for range n {
		c, err := d.Dial("tcp", args[1])
		if err != nil {
			break
		}
		_, _ = io.WriteString(c, text) // it may have been closed for others
		open = append(open, c)
	}
	for until := time.Now().Add(20 * time.Second); settles; time.Sleep(10 * time.Millisecond) {
		still := 0
		for _, c := range open {
			_ = c.SetReadDeadline(time.Now().Add(time.Millisecond))
			if _, err := c.Read(make([]byte, 1)); errors.Is(err, os.ErrDeadlineExceeded) {
				still++
			}
		}
		if still <= left {
			break
		}
		if time.Now().After(until) {
			ts.Fatalf("%d connections are still open, want %d", still, left)
		}
	}
	name := ts.MkAbs(file)
	go func() {
		for {
			if _, err := os.Stat(name); err != nil {
				break
			}
			time.Sleep(10 * time.Millisecond)
		}
		for _, c := range open {
			c.Close()
		}
	}()
}
