package inspect

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/bcrypt"

	"kestrix/internal/core/config"
	"kestrix/internal/live/names"
	"kestrix/internal/live/proxy"
)

const text = `frontend "web" {
  listen = ["127.0.0.1:8080", "127.0.0.1:8081"]
  tls {
    certificate = "gone.pem"
    key         = "gone.key"
  }
  route "all" {
    send_to = upstream.app
  }
}
upstream "app" {
  backends = {
    auk    = "192.0.2.1:80"
    gannet = "192.0.2.2:80"
    petrel = "192.0.2.3:80"
    skua   = "nowhere.invalid:80"
    shag   = "birds.example:80"
    fulmar = "192.0.2.4:80"
  }
  probe "self-report" {
    timeout = "1s"
  }
  timeouts {
    connect = "300ms"
  }
}
`

// Every way in which a backend can fail is told apart in words, and each has its
// finding at its place.
func TestWhatIsSeenOfTheMachine(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		c, found, err := config.Read([]config.File{{Name: "t.hcl", Source: []byte(text)}})
		require.NoError(t, err)
		require.Empty(t, found)
		o := proxy.Options{
			Dial: func(ctx context.Context, _, address string) (net.Conn, error) {
				switch address {
				case "192.0.2.1:80":
					return nil, &net.OpError{Op: "dial", Err: syscall.ECONNREFUSED}
				case "192.0.2.2:80": // the library's own timer comes a little before that of ctx
					at, _ := ctx.Deadline()
					time.Sleep(time.Until(at) - time.Microsecond)
					return nil, &net.OpError{Op: "dial", Err: os.ErrDeadlineExceeded}
				case "192.0.2.3:80":
					return nil, &net.OpError{Op: "dial", Err: syscall.EHOSTUNREACH}
				case "nowhere.invalid:80":
					return nil, &net.DNSError{Err: "no such host", Name: "nowhere.invalid", IsNotFound: true}
				case "birds.example:80":
					here, there := net.Pipe()
					go func() {
						_, _ = there.Write([]byte("state=draining share=40\n"))
						there.Close()
					}()
					return here, nil
				}
				here, there := net.Pipe()
				there.Close()
				return here, nil
			},
			Names: names.Func(func(_ context.Context, host string) ([]netip.Addr, error) {
				if host == "birds.example" {
					return []netip.Addr{netip.MustParseAddr("192.0.2.7"), netip.MustParseAddr("192.0.2.8"), netip.MustParseAddr("2001:db8::7")}, nil
				}
				time.Sleep(20 * time.Millisecond)
				return nil, &net.DNSError{Err: "no such host", Name: host, IsNotFound: true}
			}),
			Listen: func(_, address string) (net.Listener, error) {
				if address == "127.0.0.1:8081" {
					return nil, &net.OpError{Op: "listen", Err: syscall.EADDRINUSE}
				}
				return closer{}, nil
			},
			ReadFile: func(string) ([]byte, error) { return nil, os.ErrNotExist },
		}
		facts := Facts(c, Disk{Read: func(string) ([]byte, error) { return nil, errors.New("no such file or directory") }}, time.Now())
		rows, findings := Live(t.Context(), c, facts, "", o)
		var got []string
		for _, r := range rows {
			got = append(got, strings.Join([]string{r.Kind, r.Who, r.What, r.Result, r.Detail, fmt.Sprint(r.Good)}, " | "))
		}
		assert.Equal(t, []string{
			"name | app.skua | nowhere.invalid | unresolved | the name nowhere.invalid does not resolve | false",
			"name | app.shag | birds.example | 3 addresses | 192.0.2.7, 192.0.2.8, 2001:db8::7 | true",
			"backend | app.auk | 192.0.2.1:80 | refused | nothing listens there, or a packet filter rejects: both look alike | false",
			"backend | app.gannet | 192.0.2.2:80 | silent | no answer within 300 ms, as behind a packet filter that drops, or from a machine that is off | false",
			"backend | app.petrel | 192.0.2.3:80 | unreachable | there is no way to it from here, or a packet filter rejects (ICMP) | false",
			"backend | app.skua | nowhere.invalid:80 | unresolved | its name does not resolve | false",
			"backend | app.shag | birds.example:80 | connects |  | true",
			"probe | app.shag | self-report | passes | it asks for 40% of its weight | true",
			"backend | app.fulmar | 192.0.2.4:80 | connects |  | true",
			"probe | app.fulmar | self-report | fails | it said nothing | false",
			"listener | web | 127.0.0.1:8080 | free |  | true",
			"listener | web | 127.0.0.1:8081 | taken | the address is in use by another process | false",
			"certificate | web | gone.pem | unusable | no such file or directory | false",
		}, got)
		var ids []string
		for _, f := range findings {
			ids = append(ids, fmt.Sprintf("%d %s", f.Range.Start.Line, f.ID))
		}
		assert.Equal(t, []string{"16 KX801", "17 KX811", "13 KX802", "14 KX803", "15 KX804", "18 KX806", "2 KX807"}, ids)
		assert.Contains(t, findings[0].Witness, "after 20 ms")
		assert.Contains(t, findings[3].Witness, "after 300 ms")
	})
}

func TestPasswordsThatAreTriedFirst(t *testing.T) {
	for password, good := range map[string]bool{"changeme": false, "mary": false, "a high tide at noon": true} {
		hash, err := bcrypt.GenerateFromPassword([]byte(password), bcrypt.MinCost)
		require.NoError(t, err)
		c := &config.Config{Control: &config.Control{Listen: config.Placed[config.Address]{Value: config.Address{Unix: "/run/none/none.sock"}}, Users: []config.User{{Name: "mary", Password: string(hash)}}}}
		rows, found := Live(t.Context(), c, Facts(c, Disk{}, time.Now()), "", proxy.Options{})
		assert.Equal(t, good, rows[1].Good, password)
		if !good {
			assert.Equal(t, "KX808", found[len(found)-1].ID)
			assert.NotContains(t, found[len(found)-1].Witness, password, "the password itself is not told")
		}
	}
}

// TestWhatIsWrittenIsTried: files, which are left as they are, and the log server.
func TestWhatIsWrittenIsTried(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "there.log"), []byte("a line\n"), 0o600))
	dial := func(_ context.Context, network, address string) (net.Conn, error) {
		if address == "192.0.2.9:514" || address == "/dev/log" {
			here, _ := net.Pipe()
			return here, nil
		}
		return nil, &net.OpError{Op: "dial", Err: syscall.ECONNREFUSED}
	}
	for _, c := range []struct{ log, syslog, record, journal, want string }{
		{log: "there.log", record: "trace.jsonl", journal: "a.journal", want: "access_log writable, record writable, -journal writable, "},
		{log: "no/such.log", record: ".", journal: "no/such.journal", want: "access_log not writable KX809, record not writable KX809, -journal not writable KX809, "},
		{log: "syslog", want: "access_log connects, "},
		{log: "syslog", syslog: "address = \"unix:/run/nobody\"", want: "access_log cannot be reached KX810, "},
		{log: "syslog", syslog: "transport = \"tcp\"\n address = \"192.0.2.9:514\"", want: "access_log connects, "},
		{log: "syslog", syslog: "transport = \"tcp\"\n address = \"192.0.2.8:514\"", want: "access_log cannot be reached KX810, "},
		{log: "syslog", syslog: "transport = \"udp\"\n address = \"192.0.2.8:514\"", want: "access_log unknown, "},
	} {
		in := func(name string) string {
			if name == "syslog" || name == "" {
				return name
			}
			return filepath.Join(dir, name)
		}
		text := fmt.Sprintf("record = %q\naccess_log {\n to = %q\n}\nfrontend \"f\" {\n listen = \"127.0.0.1:1\"\n route \"r\" {\n reply {\n }\n }\n}\nupstream \"u\" {\n backends = { a = \"127.0.0.1:2\" }\n}\n", in(c.record), in(c.log))
		if c.syslog != "" {
			text += "syslog {\n " + c.syslog + "\n}\n"
		}
		read, reading, err := config.Read([]config.File{{Name: "t.hcl", Source: []byte(text)}})
		require.NoError(t, err)
		require.Empty(t, reading, text)
		rows, found := Live(t.Context(), read, Facts(read, Disk{}, time.Now()), in(c.journal), proxy.Options{Dial: dial, Listen: func(string, string) (net.Listener, error) { return closer{}, nil }})
		got, n := "", 0
		for _, r := range rows {
			if r.Kind != "file" && r.Kind != "log server" {
				continue
			}
			if got += r.Who + " " + r.Result; !r.Good {
				n++
				got += " " + found[len(found)-strings.Count(c.want, "KX")+n-1].ID
			}
			got += ", "
		}
		assert.Equal(t, c.want, got)
	}
	left, err := os.ReadDir(dir)
	require.NoError(t, err)
	assert.Len(t, left, 1, "nothing is created")
}

type closer struct{ net.Listener }

func (closer) Close() error { return nil }

// TestWhyAListenerCannotBeBound: what to do depends on the reason.
func TestWhyAListenerCannotBeBound(t *testing.T) {
	c, _, err := config.Read([]config.File{{Name: "t.hcl", Source: []byte("frontend \"web\" {\n  listen = \"127.0.0.1:80\"\n}\n")}})
	require.NoError(t, err)
	for errno, want := range map[syscall.Errno]string{
		syscall.EADDRINUSE:    "taken | end the process",
		syscall.ENOENT:        "no folder | create the folder",
		syscall.EACCES:        "forbidden | check as the user of the service",
		syscall.EADDRNOTAVAIL: "not here | an address of this machine",
		syscall.EMFILE:        "fails | see the witness",
	} {
		o := proxy.Options{Listen: func(string, string) (net.Listener, error) {
			return nil, &net.OpError{Op: "listen", Err: os.NewSyscallError("bind", errno)}
		}}
		rows, found := Live(t.Context(), c, Facts(c, Disk{}, time.Now()), "", o)
		require.Len(t, rows, 1)
		require.Len(t, found, 1)
		assert.Contains(t, rows[0].Result+" | "+found[0].Fix, want)
		assert.NotEmpty(t, rows[0].Detail)
	}
}
