package control

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"strings"
	"sync"
	"time"

	"kestrix/internal/core/status"
	"kestrix/internal/live/events"
)

// Pages makes what control shows in a browser.
type Pages interface {
	// Page is the whole page.
	Page(*status.View) ([]byte, error)
	// Part is what of the page changes with time.
	Part(*status.View) ([]byte, error)
	// Requests is the page of kept requests, Events that of the event log.
	Requests(*status.RequestsView) ([]byte, error)
	Events(*status.EventsView) ([]byte, error)
	// Asset returns a file that the page needs, by its path; nil if there is none.
	Asset(path string) (kind string, body []byte)
	// CSV writes a row for each backend.
	CSV(io.Writer, *status.Status) error
}

// The page shows the events of the last hour, but no more and no fewer than these.
const (
	mostPageEvents  = 100
	leastPageEvents = 20
)

// pageEvents returns the events that the page shows.
func (c *Server) pageEvents(now time.Time) []status.Event {
	lately := c.o.Events.Find(events.Query{Since: now.Add(-time.Hour), Most: mostPageEvents})
	if len(lately) >= leastPageEvents {
		return lately
	}
	return c.o.Events.Find(events.Query{Most: leastPageEvents})
}

// view is what a user is shown.
func (c *Server) view(user string) *status.View {
	s := c.proxy.StatusWithRecent()
	v := &status.View{Status: &s, Events: c.pageEvents(s.At), Operator: true, Failed: c.requests(status.RequestQuery{Failed: true, PerCause: 3}, user).Requests}
	for _, u := range c.state.Load().cfg.Users {
		if u.Name == user {
			v.User, v.Operator = user, u.Operator
		}
	}
	return v
}

// page answers with the page.
func (c *Server) page(w http.ResponseWriter, r *http.Request, user string) {
	if c.o.Pages == nil {
		http.Error(w, "this proxy has no page; GET /status is answered", http.StatusNotFound)
		return
	}
	body, err := c.o.Pages.Page(c.view(user))
	if err != nil {
		http.Error(w, err.Error(), http.StatusInternalServerError)
		return
	}
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	_, _ = w.Write(body) // a client that left
}

// requestsPage answers with the page of kept requests.
func (c *Server) requestsPage(w http.ResponseWriter, r *http.Request, user string) {
	form := r.URL.Query()
	for name, values := range form { // of a form that leaves a field empty
		if len(values) == 1 && values[0] == "" && name != "route" {
			form.Del(name)
		}
	}
	if frontend, route, both := strings.Cut(form.Get("route"), "/"); both {
		form.Set("frontend", frontend)
		form.Set("route", route)
	}
	q, err := readRequestQuery(form)
	if err != nil {
		http.Error(w, err.Error(), http.StatusBadRequest)
		return
	}
	s := c.proxy.Status()
	v := &status.RequestsView{At: s.At, Query: q, Kept: c.requests(q, user)}
	for _, f := range s.Frontends {
		for _, route := range f.Routes {
			if route.Name != "" {
				v.Routes = append(v.Routes, f.Name+"/"+route.Name)
			}
		}
	}
	c.aside(w, func() ([]byte, error) { return c.o.Pages.Requests(v) })
}

// eventsPage answers with the page of the event log.
func (c *Server) eventsPage(w http.ResponseWriter, r *http.Request, _ string) {
	form := r.URL.Query()
	v := &status.EventsView{At: time.Now(), Since: form.Get("since"), Until: form.Get("until"), Object: form.Get("object"), Kind: form.Get("kind"), Severity: form.Get("severity")}
	for name := range form {
		if form.Get(name) == "" {
			form.Del(name)
		}
	}
	q, err := readQuery(form, v.At)
	if err != nil {
		v.Wrong = err.Error()
	} else {
		v.Events = c.o.Events.Find(q)
	}
	c.aside(w, func() ([]byte, error) { return c.o.Pages.Events(v) })
}

// aside answers with a page that does not change by itself.
func (c *Server) aside(w http.ResponseWriter, page func() ([]byte, error)) {
	if c.o.Pages == nil {
		http.Error(w, "this proxy has no page; GET /status, /requests and /events are answered", http.StatusNotFound)
		return
	}
	body, err := page()
	if err != nil {
		http.Error(w, err.Error(), http.StatusInternalServerError)
		return
	}
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	_, _ = w.Write(body) // a client that left
}

// asset answers with a file of the page, and says whether there is one.
func (c *Server) asset(w http.ResponseWriter, r *http.Request) bool {
	if c.o.Pages == nil {
		return false
	}
	kind, body := c.o.Pages.Asset(r.URL.Path)
	if body == nil {
		return false
	}
	w.Header().Set("Content-Type", kind)
	_, _ = w.Write(body) // a client that left
	return true
}

// statusCSV answers with a row for each backend.
func (c *Server) statusCSV(w http.ResponseWriter, r *http.Request, _ string) {
	if c.o.Pages == nil {
		http.Error(w, "this proxy writes no CSV; GET /status is answered", http.StatusNotFound)
		return
	}
	var b bytes.Buffer
	s := c.proxy.Status()
	if err := c.o.Pages.CSV(&b, &s); err != nil {
		http.Error(w, err.Error(), http.StatusInternalServerError)
		return
	}
	w.Header().Set("Content-Type", "text/csv; charset=utf-8")
	_, _ = w.Write(b.Bytes()) // a client that left
}

// Who follows is shown what changed this often, and there may be so many, in all
// and from one source, which so takes no place away from others.
const (
	followEvery = time.Second
	followMost  = 32
	followFrom  = 16
)

// followers counts those who follow. The zero value is ready.
type followers struct {
	mu   sync.Mutex // guards all below
	all  int
	from map[uint64]int
}

// add counts one more, false if there are too many.
func (f *followers) add(source uint64) bool {
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.from == nil {
		f.from = map[uint64]int{}
	}
	if f.all >= followMost || f.from[source] >= followFrom {
		return false
	}
	f.all++
	f.from[source]++
	return true
}

func (f *followers) done(source uint64) {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.all--
	if f.from[source]--; f.from[source] == 0 {
		delete(f.from, source)
	}
}

// live sends what changes of the page as it changes, as server-sent events
// (WHATWG HTML, section 9.2).
func (c *Server) live(w http.ResponseWriter, r *http.Request, user string) {
	if c.o.Pages == nil {
		http.Error(w, "this proxy has no page", http.StatusNotFound)
		return
	}
	from := source(r.RemoteAddr)
	if !c.follow.add(from) {
		w.Header().Set("Retry-After", "30")
		http.Error(w, fmt.Sprintf("%d pages follow already, or %d from this address; close one", followMost, followFrom), http.StatusServiceUnavailable)
		return
	}
	defer c.follow.done(from)
	out := http.NewResponseController(w)
	w.Header().Set("Content-Type", "text/event-stream")
	hash := c.hash(user)
	tick := time.NewTicker(followEvery)
	defer tick.Stop()
	for {
		part, err := c.o.Pages.Part(c.view(user))
		if err != nil {
			return
		}
		text, _ := json.Marshal(string(part)) // on one line; a string never fails
		_ = out.SetWriteDeadline(time.Now().Add(10 * time.Second))
		if _, err := fmt.Fprintf(w, "data: %s\n\n", text); err != nil || out.Flush() != nil {
			return
		}
		select {
		case <-tick.C:
		case <-r.Context().Done():
			return
		case <-c.leave.Done():
			return
		}
		if c.hash(user) != hash {
			return // a reload has other users
		}
	}
}

// hash returns what the password of a user is held against now; empty for nobody.
func (c *Server) hash(user string) string {
	for _, u := range c.state.Load().cfg.Users {
		if u.Name == user {
			return u.Password
		}
	}
	return ""
}
