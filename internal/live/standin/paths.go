package standin

import (
	"fmt"
	"net/http"
	"strconv"
	"strings"
	"time"

	"github.com/coder/websocket"
)

// Paths are those at which a stand-in does something special, with what it does;
// those without a number also at the end of a longer path, such as /board/events.
var Paths = [][2]string{
	{"/ready", "\"ready\", for probes"},
	{"/events", "an event stream; ?every=100ms&n=5 sends 5 events 100 ms apart"},
	{"/websocket", "a WebSocket that returns each message, as NAME: TEXT"},
	{"/body/N", "a body of N bytes; ?slow=10ms waits before each KiB"},
	{"/answer/N", "the status N"},
	{"/elsewhere", "a redirect to /seats at the same host"},
	{"/session", "sets the cookie tern_app, as an application with sessions does"},
}

// special returns what is done at a path, nil for the answer that is given everywhere.
func (s *StandIn) special(path string) http.HandlerFunc {
	number := func(prefix string) (int64, bool) {
		rest, ok := strings.CutPrefix(path, prefix)
		n, err := strconv.ParseInt(rest, 10, 64)
		return n, ok && err == nil && n >= 0
	}
	// A site may serve them under a prefix of its own.
	if i := strings.LastIndexByte(path, '/'); i > 0 && path != "/ready" {
		if last := path[i:]; last == "/events" || last == "/websocket" || last == "/elsewhere" || last == "/session" {
			path = last
		}
	}
	switch path {
	case "/ready":
		return func(w http.ResponseWriter, _ *http.Request) { fmt.Fprintln(w, "ready") }
	case "/events":
		return s.events
	case "/websocket":
		return s.websocket
	case "/elsewhere":
		return func(w http.ResponseWriter, r *http.Request) {
			http.Redirect(w, r, "http://"+r.Host+"/seats", http.StatusFound)
		}
	case "/session":
		return func(w http.ResponseWriter, r *http.Request) {
			http.SetCookie(w, &http.Cookie{Name: "tern_app", Value: fmt.Sprintf("%x", time.Now().UnixNano()), Path: "/", HttpOnly: true})
			fmt.Fprintf(w, "%s has set a cookie\n", s.Name)
		}
	}
	if n, ok := number("/body/"); ok {
		return func(w http.ResponseWriter, r *http.Request) { body(w, r, n) }
	}
	if n, ok := number("/answer/"); ok && n >= 200 && n <= 599 {
		return func(w http.ResponseWriter, _ *http.Request) {
			w.WriteHeader(int(n))
			if n != 204 && n != 304 {
				fmt.Fprintf(w, "%s answers %d\n", s.Name, n)
			}
		}
	}
	return nil
}

// events sends an event at a time (the HTML standard's server-sent events).
func (s *StandIn) events(w http.ResponseWriter, r *http.Request) {
	every, err := time.ParseDuration(r.URL.Query().Get("every"))
	if err != nil || every < time.Millisecond {
		every = time.Second
	}
	most, err := strconv.Atoi(r.URL.Query().Get("n"))
	if err != nil {
		most = -1
	}
	w.Header().Set("Content-Type", "text/event-stream")
	w.Header().Set("Cache-Control", "no-store")
	out := http.NewResponseController(w)
	for i := 0; i != most; i++ {
		if i > 0 && !sleep(r.Context(), every) {
			return
		}
		if _, err := fmt.Fprintf(w, "id: %d\ndata: %s says %d\n\n", i, s.Name, i); err != nil {
			return
		}
		if out.Flush() != nil {
			return
		}
	}
}

// websocket sends back what it is sent (RFC 6455).
func (s *StandIn) websocket(w http.ResponseWriter, r *http.Request) {
	c, err := websocket.Accept(w, r, &websocket.AcceptOptions{InsecureSkipVerify: true})
	if err != nil {
		return // it has answered
	}
	defer c.CloseNow()
	for {
		kind, b, err := c.Read(r.Context())
		if err != nil {
			return
		}
		if kind == websocket.MessageText {
			b = append([]byte(s.Name+": "), b...)
		}
		if c.Write(r.Context(), kind, b) != nil {
			return
		}
	}
}

// body sends so many bytes.
func body(w http.ResponseWriter, r *http.Request, n int64) {
	slow, err := time.ParseDuration(r.URL.Query().Get("slow"))
	if err != nil {
		slow = 0
	}
	w.Header().Set("Content-Type", "application/octet-stream")
	w.Header().Set("Content-Length", strconv.FormatInt(n, 10))
	if r.Method == http.MethodHead {
		return
	}
	piece := []byte(strings.Repeat("the tide comes in, the tide goes out\n", 28)[:1024])
	for n > 0 {
		if slow > 0 && !sleep(r.Context(), slow) {
			return
		}
		k, err := w.Write(piece[:min(n, int64(len(piece)))])
		if n -= int64(k); err != nil {
			return
		}
	}
}
