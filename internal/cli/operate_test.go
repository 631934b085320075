package cli

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"math/rand/v2"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/chromedp/cdproto/emulation"
	"github.com/chromedp/cdproto/log"
	"github.com/chromedp/cdproto/runtime"
	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"
	"github.com/creack/pty"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/bcrypt"
)

// site is the built program at work: stand-ins, and a proxy with control.
type site struct {
	t         *testing.T
	dir, host string
	proxy     *exec.Cmd
}

// newSite starts one at addresses of its own; control holds more of its block.
func newSite(t *testing.T, control string) *site {
	if testing.Short() {
		t.Skip("it takes its time")
	}
	s := &site{t: t, dir: t.TempDir(), host: fmt.Sprintf("127.%d.%d.%d", 1+rand.IntN(250), rand.IntN(250), 1+rand.IntN(250))}
	text := strings.ReplaceAll(`control {
  listen = "HOST:9900"
`+control+`
}
frontend "tickets" {
  listen = "HOST:8080"
  route "all" {
    send_to = upstream.booking
  }
}
upstream "booking" {
  backends = {
    auk    = "HOST:9101"
    gannet = "HOST:9102"
    petrel = "HOST:9103"
  }
}
`, "HOST", s.host)
	require.NoError(t, os.WriteFile(filepath.Join(s.dir, "site.hcl"), []byte(text), 0o600))
	s.start("standin", "site.hcl", "-control", filepath.Join(s.dir, "orders"), "-ready", "r1")
	s.proxy = s.start("serve", "site.hcl", "-seed", "7", "-ready", "r2")
	for _, name := range []string{"r1", "r2"} {
		require.Eventually(t, func() bool { _, err := os.Stat(filepath.Join(s.dir, name)); return err == nil }, 20*time.Second, 20*time.Millisecond, name)
	}
	return s
}

// command is the built program with arguments, in the site's folder.
func (s *site) command(args ...string) *exec.Cmd {
	me, err := os.Executable()
	require.NoError(s.t, err)
	bin := filepath.Join(s.dir, "kestrix")
	if err := os.Symlink(me, bin); err != nil {
		require.ErrorIs(s.t, err, os.ErrExist)
	}
	c := exec.Command(bin, args...)
	c.Dir = s.dir
	c.Env = append(os.Environ(), "LC_ALL=C.UTF-8", "TERM=xterm-256color")
	return c
}

func (s *site) start(args ...string) *exec.Cmd {
	c := s.command(args...)
	require.NoError(s.t, c.Start())
	s.t.Cleanup(func() { stop(c) })
	return c
}

// stop ends a program that may have ended.
func stop(c *exec.Cmd) {
	if c.ProcessState == nil {
		_ = c.Process.Signal(syscall.SIGINT)
		_ = c.Wait()
	}
}

// ask sends requests through the proxy.
func (s *site) ask(n int) {
	for range n {
		res, err := http.Get("http://" + s.host + ":8080/seats")
		require.NoError(s.t, err)
		_, _ = io.Copy(io.Discard, res.Body)
		res.Body.Close()
		require.Equal(s.t, 200, res.StatusCode)
	}
}

// screen is what a terminal is sent, without what only places it.
type screen struct {
	mu sync.Mutex
	b  bytes.Buffer
}

var placing = regexp.MustCompile("\x1b\\[[0-9;?]*[a-zA-Z]")

func (s *screen) Write(p []byte) (int, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.b.Write(p)
}

// take returns what came since it was last asked.
func (s *screen) take() string {
	s.mu.Lock()
	defer s.mu.Unlock()
	defer s.b.Reset()
	return placing.ReplaceAllString(s.b.String(), "")
}

// TestWatchIsDrivenInATerminal types into the view in a terminal of its own.
func TestWatchIsDrivenInATerminal(t *testing.T) {
	s := newSite(t, "")
	c := s.command("watch", "site.hcl", "-every", "200ms", "-plain")
	terminal, err := pty.StartWithSize(c, &pty.Winsize{Rows: 34, Cols: 120})
	require.NoError(t, err)
	defer terminal.Close()
	defer stop(c)
	var shown screen
	go func() { _, _ = io.Copy(&shown, terminal) }() // ends with the terminal
	var all string
	see := func(want string) {
		t.Helper()
		all = ""
		if !assert.Eventually(t, func() bool { all += shown.take(); return regexp.MustCompile(want).MatchString(all) }, 20*time.Second, 20*time.Millisecond) {
			require.Fail(t, "not seen", "%s in\n%s", want, all[max(0, len(all)-3000):])
		}
	}
	keys := func(text string) { _, err := terminal.WriteString(text); require.NoError(t, err) }
	see(`All 3 backends are in rotation`)
	s.ask(30)
	see(`auk +● up +[0-9]+ s .* 33\.3 % +33\.3 % `)
	keys("\x1b[B")
	see(`▸ gannet `)
	keys("d")
	see(`Drain booking.gannet\? It keeps its sessions and what it has in flight \(0 now\)`)
	keys("n")
	see(`nothing was done`)
	keys("dy")
	see(`booking.gannet: draining, weight 1; it was up, weight 1`)
	see(`gannet +▽ draining`)
	keys("ry")
	see(`booking.gannet: up, weight 1; it was draining, weight 1`)
	keys("w12\r")
	see(`Weight 12 for booking.gannet\?`)
	keys("t")
	see(`gannet · .*by hand: weight 12 where the file says 1, for another (10m|9m5)`)
	// Somebody else does something meanwhile; the last is asked about twice.
	keys("\x1b[A")
	see(`▸ auk`)
	keys("p")
	see(`Park booking.auk\?`)
	require.NoError(t, s.command("tell", "site.hcl", "booking.auk", "drain").Run())
	keys("y")
	see(`booking.auk was changed in the meantime; it is draining. Nothing was done`)
	require.NoError(t, s.command("tell", "site.hcl", "booking.petrel", "park").Run())
	keys("\x1b[B")
	see(`petrel +□ parked`)
	keys("dy")
	see(`booking.gannet is the last of "booking" in rotation; without it no backend answers. Do it all the same\?`)
	keys("y")
	see(`No backend answers for booking`)
	stop(s.proxy)
	see(`no proxy answers at ` + s.host + `:9900: .*; what is shown is of`)
	keys("q")
	require.NoError(t, c.Wait())
	// Elsewhere than in a terminal it says what to use instead.
	out, err := s.command("watch", "site.hcl").CombinedOutput()
	assert.Error(t, err)
	assert.Contains(t, string(out), "watch needs a terminal; kestrix status is for everything else")
}

// TestASignalEndsTheView at any moment, several of them at once.
func TestASignalEndsTheView(t *testing.T) {
	s := newSite(t, "")
	var views []*exec.Cmd
	var screens [4]screen
	for i := range screens {
		c := s.command("watch", "site.hcl", "-every", "200ms", "-plain")
		terminal, err := pty.StartWithSize(c, &pty.Winsize{Rows: 34, Cols: 120})
		require.NoError(t, err)
		defer terminal.Close()
		go func() { _, _ = io.Copy(&screens[i], terminal) }() // ends with the terminal
		views = append(views, c)
	}
	for i, c := range views {
		var all string
		require.Eventually(t, func() bool { all += screens[i].take(); return strings.Contains(all, "in rotation") }, 20*time.Second, 20*time.Millisecond)
		require.NoError(t, c.Process.Signal(syscall.SIGINT))
		ended := make(chan error, 1)
		go func() { ended <- c.Wait() }()
		select {
		case err := <-ended:
			require.NoError(t, err)
		case <-time.After(10 * time.Second):
			_ = c.Process.Kill()
			require.Fail(t, "the view goes on after SIGINT")
		}
	}
}

// browser starts one that is installed, or skips the test.
func browser(t *testing.T) context.Context {
	var path string
	for _, name := range []string{"chromium", "chromium-browser", "google-chrome"} {
		if at, err := exec.LookPath(name); err == nil {
			path = at
		}
	}
	if path == "" {
		t.Skip("no browser is installed here: the page was not looked at")
	}
	options := append(chromedp.DefaultExecAllocatorOptions[:], chromedp.ExecPath(path), chromedp.NoSandbox, chromedp.DisableGPU, chromedp.WindowSize(1280, 900),
		chromedp.Flag("disable-quic", true), chromedp.Flag("disable-component-update", true), chromedp.UserDataDir(t.TempDir()))
	ctx, cancel := chromedp.NewExecAllocator(t.Context(), options...)
	t.Cleanup(cancel)
	ctx, cancel = chromedp.NewContext(ctx)
	t.Cleanup(cancel)
	ctx, cancel = context.WithTimeout(ctx, 2*time.Minute)
	t.Cleanup(cancel)
	return ctx
}

// TestThePageInABrowser drives the page by keyboard: it is live, asks before it
// does anything, and is read on a phone and in the dark.
func TestThePageInABrowser(t *testing.T) {
	ctx := browser(t)
	s := newSite(t, "")
	var mu sync.Mutex
	var complaints []string // of the browser: policies that were broken, scripts that failed
	require.NoError(t, chromedp.Listen(ctx, func(e any) {
		mu.Lock()
		defer mu.Unlock()
		switch e := e.(type) {
		case *log.EventEntryAdded:
			if !strings.Contains(e.Entry.Text, "status of 4") { // an order that is refused is meant to be
				complaints = append(complaints, e.Entry.Text+" "+e.Entry.URL)
			}
		case *runtime.EventExceptionThrown:
			complaints = append(complaints, e.ExceptionDetails.Text)
		}
	}))
	run := func(steps ...chromedp.Action[chromedp.Void]) {
		t.Helper()
		require.NoError(t, chromedp.Do(ctx, steps...))
	}
	see := func(script string) {
		t.Helper()
		if _, err := chromedp.Run(ctx, chromedp.Poll[chromedp.Void](script, chromedp.WithPollingInterval(50*time.Millisecond), chromedp.WithPollingTimeout(20*time.Second))); err != nil {
			text, _ := chromedp.Run(ctx, chromedp.Evaluate[string]("document.body.innerText"))
			require.NoError(t, err, "%s\n%s", script, text)
		}
	}
	stands := func(backend, state string) string {
		return fmt.Sprintf(`document.getElementById("booking.%s").querySelector(".stands").textContent.trim() === %q`, backend, state)
	}
	run(chromedp.Navigate("http://"+s.host+":9900/"), chromedp.WaitVisible("h1"), chromedp.Evaluate[chromedp.Void]("window.stays = true"))
	see(`document.querySelector("h1").textContent === "All 3 backends are in rotation"`)
	s.ask(30)
	see(`document.getElementById("booking.auk").innerText.includes("33.3 % fair 33.3 %")`)
	// By keyboard alone.
	run(chromedp.KeyEvent(kb.ArrowDown), chromedp.KeyEvent(kb.ArrowDown))
	see(`document.activeElement.id === "booking.gannet"`)
	run(chromedp.KeyEvent("d"))
	see(`document.getElementById("ask").open && document.activeElement.id === "ask-yes" && document.getElementById("ask-what").textContent === "Drain booking.gannet?"`)
	run(chromedp.KeyEvent(kb.Escape))
	see(`!document.getElementById("ask").open`)
	run(chromedp.KeyEvent("d"), chromedp.KeyEvent(kb.Enter))
	see(stands("gannet", "draining"))
	see(`document.title.startsWith("1 of 3 backends out of rotation: booking.gannet is draining") && document.activeElement.id === "booking.gannet"`)
	see(`document.getElementById("page.events").innerText.includes("drain, by any user of this machine")`)
	run(chromedp.KeyEvent("r"), chromedp.KeyEvent(kb.Enter))
	see(stands("gannet", "up"))
	see(`document.getElementById("told").textContent === "booking.gannet is up, weight 1; it was draining, weight 1."`)
	run(chromedp.KeyEvent("w"), chromedp.SetValue("#ask-weight", "7"), chromedp.KeyEvent(kb.Enter))
	see(`document.getElementById("booking.gannet").innerText.includes("weight 7 where the file says 1")`)
	// The last one wants to be meant, and what somebody else did is not undone.
	require.NoError(t, s.command("tell", "site.hcl", "booking.auk", "park").Run())
	require.NoError(t, s.command("tell", "site.hcl", "booking.petrel", "park").Run())
	see(stands("petrel", "parked"))
	run(chromedp.KeyEvent("p"), chromedp.KeyEvent(kb.Enter))
	see(`document.getElementById("ask-no").textContent.includes("is the last of") && document.getElementById("ask-yes").textContent === "All the same"`)
	require.NoError(t, s.command("tell", "site.hcl", "booking.gannet", "weight=9").Run())
	run(chromedp.KeyEvent(kb.Enter))
	see(`document.getElementById("ask-no").textContent.includes("booking.gannet was changed in the meantime; it is weight 9")`)
	run(chromedp.KeyEvent(kb.Escape))
	see(`document.getElementById("booking.gannet").dataset.weight === "9"`)
	run(chromedp.KeyEvent("p"), chromedp.KeyEvent(kb.Enter))
	see(`document.getElementById("ask-yes").textContent === "All the same"`)
	run(chromedp.KeyEvent(kb.Enter))
	see(`document.querySelector("h1").textContent === "No backend answers for booking"`)
	// Narrow and wide, light and dark.
	colour := func(scheme string) string {
		_, err := chromedp.Call(ctx, emulation.SetEmulatedMedia, emulation.SetEmulatedMediaParams{Features: []*emulation.MediaFeature{{Name: "prefers-color-scheme", Value: scheme}}})
		require.NoError(t, err)
		c, err := chromedp.Run(ctx, chromedp.Evaluate[string]("getComputedStyle(document.body).backgroundColor"))
		require.NoError(t, err)
		return c
	}
	assert.Equal(t, "rgb(251, 250, 246)", colour("light"))
	assert.Equal(t, "rgb(18, 26, 32)", colour("dark"))
	for _, width := range []int64{360, 640, 1280, 1900} {
		run(chromedp.EmulateViewport(width, 800))
		over, err := chromedp.Run(ctx, chromedp.Evaluate[bool]("document.documentElement.scrollWidth > innerWidth"))
		require.NoError(t, err)
		assert.False(t, over, "nothing hangs over at a width of %d", width)
	}
	// It was never loaded again, and says so when the proxy is gone.
	stop(s.proxy)
	see(`document.getElementById("told").textContent.startsWith("No word from the proxy since") && window.stays`)
	mu.Lock()
	defer mu.Unlock()
	for _, c := range complaints {
		assert.Contains(t, c, "ERR_", "only that the proxy is gone")
	}
}

// TestAReaderSeesAndCannotTouch looks at the page as a user who may only read.
func TestAReaderSeesAndCannotTouch(t *testing.T) {
	hash, err := bcrypt.GenerateFromPassword([]byte("low tide"), bcrypt.MinCost)
	require.NoError(t, err)
	s := newSite(t, "  user \"tom\" {\n    password = \""+string(hash)+"\"\n  }\n")
	get := func(path, password string) (int, string) {
		q, err := http.NewRequest("GET", "http://"+s.host+":9900"+path, nil)
		require.NoError(t, err)
		q.SetBasicAuth("tom", password)
		res, err := http.DefaultClient.Do(q)
		require.NoError(t, err)
		defer res.Body.Close()
		b, err := io.ReadAll(io.LimitReader(res.Body, 4<<10))
		require.NoError(t, err)
		return res.StatusCode, string(b)
	}
	status, page := get("/", "low tide")
	assert.Equal(t, 200, status)
	assert.Contains(t, page, "you are tom, a reader")
	assert.NotContains(t, page, "<button type=\"button\" data-do")
	assert.NotContains(t, page, "drains the one that is chosen")
	for _, path := range []string{"/", "/live", "/page.js", "/status", "/status.csv", "/events"} {
		status, text := get(path, "high tide")
		assert.Equal(t, []any{401, "user or password is wrong\n"}, []any{status, text}, path)
	}
	status, text := get("/status.csv", "low tide")
	assert.Equal(t, 200, status)
	assert.Contains(t, text, "booking,auk,"+s.host+":9101,up,")
	status, text = get("/live", "low tide") // as much of it as comes first
	assert.Equal(t, 200, status)
	assert.True(t, strings.HasPrefix(text, `data: "\u003cmain data-title=`), text)
	for _, path := range []string{"/page.css", "/icon.svg"} {
		status, text = get(path, "low tide")
		assert.Equal(t, 200, status)
		assert.NotContains(t, strings.ReplaceAll(text, "http://www.w3.org/2000/svg", ""), "http", "%s needs nothing from elsewhere", path)
	}
}
