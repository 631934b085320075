package main

import (
	"bufio"
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// TestMain also is what other processes of a test are: the test program, by another name.
func TestMain(m *testing.M) {
	switch os.Getenv("KESTRIX_ROLE") {
	case "backend":
		backend(os.Args[1:])
	case "clients":
		clients(os.Args[1])
	default:
		os.Exit(m.Run())
	}
}

// machine is a Debian with systemd in namespaces of its own: processes, mounts and network.
type machine struct {
	t    *testing.T
	root string
	pid  int // of its systemd
}

// desk is the folder of the machine in which commands run.
const desk = "/srv"

// boots makes the folder a machine's root, and systemd its first process. What systemd needs
// of /dev is made by hand, since nothing of this machine is to be seen there.
const boots = `
set -e
mount --make-rprivate /
mount --bind "$1" "$1"
cd "$1"
mount -t proc proc proc
mount -t sysfs -o ro sysfs sys
mount -t tmpfs tmpfs sys/fs/cgroup
mkdir sys/fs/cgroup/systemd
mount -t cgroup -o none,name=systemd cgroup sys/fs/cgroup/systemd || { umount sys/fs/cgroup; mount -t cgroup2 cgroup2 sys/fs/cgroup; }
mount -t tmpfs tmpfs run
mount -t tmpfs tmpfs tmp
mount -t tmpfs -o mode=755 tmpfs dev
mknod -m 666 dev/null c 1 3
mknod -m 666 dev/zero c 1 5
mknod -m 666 dev/full c 1 7
mknod -m 666 dev/random c 1 8
mknod -m 666 dev/urandom c 1 9
mknod -m 666 dev/tty c 5 0
mkdir dev/shm
ln -s pts/ptmx dev/ptmx
ip link set lo up
ip addr add 192.0.2.11/32 dev lo
ip addr add 192.0.2.12/32 dev lo
mkdir -p before
pivot_root . before
umount -l /before
exec env -i container=test PATH=/usr/sbin:/usr/bin:/sbin:/bin /lib/systemd/systemd --system --log-target=journal
`

// newMachine installs and boots one. KESTRIX_MACHINE names a folder that has an installation
// already, which is copied.
func newMachine(t *testing.T) *machine {
	if os.Geteuid() != 0 {
		t.Skip("only root may make a machine in namespaces")
	}
	m := &machine{t: t, root: filepath.Join(t.TempDir(), "root")}
	if has := os.Getenv("KESTRIX_MACHINE"); has != "" {
		m.here("cp", "-a", has, m.root)
	} else {
		site := strings.TrimSpace(m.here("sh", "-c", `apt-get indextargets --format '$(SITE) $(RELEASE) $(COMPONENT)' 'Created-By: Packages' | awk '$2 == "bookworm" && $3 == "main" { print $1; exit }'`))
		require.NotEmpty(t, site, "no source of packages of Debian 12 is configured")
		m.here("debootstrap", "--variant=minbase", "--include=systemd,systemd-sysv,logrotate,curl", "bookworm", m.root, site)
	}
	c := exec.Command("unshare", "--mount", "--pid", "--uts", "--ipc", "--net", "--fork", "--kill-child", "sh", "-c", boots, "boot", m.root)
	var said bytes.Buffer
	c.Stdout, c.Stderr = &said, &said
	c.SysProcAttr = &syscall.SysProcAttr{Setsid: true}
	require.NoError(t, c.Start())
	t.Cleanup(func() {
		_ = c.Process.Kill() // and with it all that is in the namespace
		_ = c.Wait()
	})
	require.Eventually(t, func() bool {
		children, err := os.ReadFile(fmt.Sprintf("/proc/%d/task/%d/children", c.Process.Pid, c.Process.Pid))
		if err == nil {
			m.pid, _ = strconv.Atoi(strings.TrimSpace(string(children)))
		}
		if m.pid == 0 {
			return false
		}
		out, _ := m.try("systemctl is-system-running")
		return out == "running\n" || out == "degraded\n"
	}, time.Minute, 200*time.Millisecond, "systemd does not boot: %s", &said)
	return m
}

// here runs a command on this machine.
func (m *machine) here(name string, args ...string) string {
	out, err := exec.Command(name, args...).CombinedOutput()
	require.NoError(m.t, err, "%s %v: %s", name, args, out)
	return string(out)
}

// try runs a line of a shell in the machine, in its desk, and returns all it prints and its exit code.
func (m *machine) try(line string) (string, int) {
	c := exec.Command("nsenter", "-t", strconv.Itoa(m.pid), "-m", "-p", "-u", "-i", "-n", "env", "-i", "PATH=/usr/local/bin:/usr/sbin:/usr/bin:/sbin:/bin", "HOME="+desk, "DEBIAN_FRONTEND=noninteractive",
		"sh", "-c", "cd "+desk+" && "+line)
	out, err := c.CombinedOutput()
	var exit *exec.ExitError
	if err != nil && !errors.As(err, &exit) {
		m.t.Fatal(err)
	}
	return string(out), c.ProcessState.ExitCode()
}

// run is try for a line that succeeds.
func (m *machine) run(line string) string {
	m.t.Helper()
	out, code := m.try(line)
	require.Zero(m.t, code, "%s: %s\n%s", line, out, m.journal())
	return out
}

// journal is what the service said last.
func (m *machine) journal() string {
	out, _ := m.try("journalctl --no-pager -o cat -u kestrix -n 2000 | grep -v ' HTTP/1.1' | tail -n 30")
	return out
}

// role starts this program as something else, in the network of the machine.
func (m *machine) role(role string, args ...string) (*exec.Cmd, io.WriteCloser, *bufio.Scanner) {
	self, err := os.Executable()
	require.NoError(m.t, err)
	c := exec.Command("nsenter", append([]string{"-t", strconv.Itoa(m.pid), "-n", self}, args...)...)
	c.Env = append(os.Environ(), "KESTRIX_ROLE="+role)
	in, err := c.StdinPipe()
	require.NoError(m.t, err)
	out, err := c.StdoutPipe()
	require.NoError(m.t, err)
	c.Stderr = os.Stderr
	require.NoError(m.t, c.Start())
	m.t.Cleanup(func() { in.Close(); _ = c.Process.Kill(); _ = c.Wait() })
	lines := bufio.NewScanner(out)
	require.True(m.t, lines.Scan(), "%s does not start", role)
	return c, in, lines
}

// backend answers at each address until its input ends: with the address, and after two
// seconds where that is asked for.
func backend(addresses []string) {
	for _, a := range addresses {
		l, err := net.Listen("tcp", a)
		if err != nil {
			fmt.Fprintln(os.Stderr, err)
			os.Exit(1)
		}
		go func() {
			_ = http.Serve(l, http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
				if r.URL.Path == "/slow" {
					time.Sleep(2 * time.Second)
				}
				fmt.Fprint(w, a)
			}))
		}()
	}
	fmt.Println("ready")
	_, _ = io.Copy(io.Discard, os.Stdin)
}

// told is what clients had.
type told struct {
	Answered, Slow int
	Failed         []string
}

// clients send requests until their input ends: some on kept connections, some on new ones,
// and slow ones. A request is not repeated. Then they say what they had.
func clients(url string) {
	var stop atomic.Bool
	var mu sync.Mutex
	var had told
	var wg sync.WaitGroup
	for i := range 8 {
		transport := &http.Transport{DisableKeepAlives: i%2 == 1}
		client := &http.Client{Transport: transport, Timeout: 30 * time.Second}
		path := "/seats"
		if i >= 6 {
			path = "/slow"
		}
		wg.Go(func() {
			for !stop.Load() {
				// With a body that cannot be had again the library sends it once.
				body := struct{ io.Reader }{strings.NewReader("two seats")}
				text, err := ask(client, url+path, body)
				mu.Lock()
				switch {
				case err != nil:
					had.Failed = append(had.Failed, time.Now().UTC().Format(time.RFC3339Nano)+" "+path+" "+err.Error())
				case !strings.HasPrefix(text, "192.0.2."):
					had.Failed = append(had.Failed, path+" got "+text)
				case path == "/slow":
					had.Slow++
				default:
					had.Answered++
				}
				mu.Unlock()
				time.Sleep(5 * time.Millisecond) // a load, not a flood: two processors serve all of it
			}
		})
	}
	fmt.Println("ready")
	_, _ = io.Copy(io.Discard, os.Stdin)
	stop.Store(true)
	wg.Wait()
	_ = json.NewEncoder(os.Stdout).Encode(had)
}

// ask sends a request and returns what it got with 200.
func ask(client *http.Client, url string, body io.Reader) (string, error) {
	r, err := http.NewRequest(http.MethodPost, url, body)
	if err != nil {
		return "", err
	}
	res, err := client.Do(r)
	if err != nil {
		return "", err
	}
	defer res.Body.Close()
	text, err := io.ReadAll(res.Body)
	if err == nil && res.StatusCode != http.StatusOK {
		err = fmt.Errorf("%s: %s", res.Status, text)
	}
	return string(text), err
}

// under does something while clients send requests, none of which may fail.
func (m *machine) under(what string, do func()) {
	m.t.Helper()
	_, in, lines := m.role("clients", "http://127.0.0.1:80")
	do()
	require.NoError(m.t, in.Close())
	require.True(m.t, lines.Scan())
	var had told
	require.NoError(m.t, json.Unmarshal(lines.Bytes(), &had))
	require.Empty(m.t, had.Failed, "%s: of %d and %d slow ones; %s", what, had.Answered, had.Slow, m.journal())
	require.Positive(m.t, had.Answered, what)
	require.Positive(m.t, had.Slow, what)
	m.t.Logf("%s: %d requests and %d slow ones, none lost", what, had.Answered, had.Slow)
}
