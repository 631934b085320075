package proxy

import (
	"encoding/json"
	"fmt"
	"html"
	"net/http"
	"strconv"
	"strings"

	"kestrix/internal/core/cause"
	"kestrix/internal/core/config"
)

// errorPages reads the pages of one's own of a frontend.
func (p *Proxy) errorPages(e *config.Errors) ([]string, error) {
	var out []string
	for _, page := range e.Pages {
		text, err := p.o.ReadFile(page.File.Value)
		if err != nil {
			return nil, placed(page.File.Range, fmt.Errorf("the page %s cannot be read: %w", page.File.Value, err))
		}
		out = append(out, string(text))
	}
	return out, nil
}

// Problem is an answer in the form of problem details (RFC 9457).
type Problem struct {
	Type   string `json:"type"`   // about:blank: the status says what kind it is
	Title  string `json:"title"`  // of the status
	Status int    `json:"status"` // of the answer
	Detail string `json:"detail"` // for people
	Cause  string `json:"cause"`  // as in the access log
	// RequestID is the id of the request among all proxies.
	RequestID string `json:"request_id"`
}

// fail responds to a request that the proxy refuses, or whose last attempt failed.
func (x *exchange) fail(status int, why cause.Cause, text string) {
	x.access.Cause = why
	x.answer(status, text)
}

// answer writes a response of the proxy's own.
func (x *exchange) answer(status int, text string) {
	x.access.Status = status
	h := x.w.Header()
	if status == http.StatusServiceUnavailable && h.Get("Retry-After") == "" {
		h.Set("Retry-After", "5")
	}
	if x.grpc && status >= 400 {
		x.answerGRPC(status, text)
		return
	}
	kind, body := x.explain(status, text)
	h.Set("Content-Type", kind)
	h.Set("Content-Length", strconv.Itoa(len(body)))
	h.Set("Cache-Control", "no-store")
	addVia(h, 1, 1)
	x.answerFields(h)
	x.partly()
	x.begun(false)
	x.w.WriteHeader(status)
	x.say(body)
}

// say writes the body of an answer of the proxy's own. A client that left, or takes
// nothing of it, is told by the count.
func (x *exchange) say(body []byte) {
	if x.r.Method == http.MethodHead {
		return
	}
	_ = x.toClient(func() error {
		n, err := x.w.Write(body)
		x.access.Bytes = int64(n)
		return err
	})
}

// explain returns the body of such an answer, in the form that the frontend and
// the client want.
func (x *exchange) explain(status int, text string) (kind string, body []byte) {
	title := http.StatusText(status)
	if x.entry != nil && status >= 400 {
		e := &x.entry.frontend.Errors
		if e.Form == "problem" || e.Form == "by-accept" && takesJSON(x.r.Header["Accept"]) {
			b, err := json.Marshal(Problem{"about:blank", title, status, text, x.access.Cause.String(), x.access.RequestID})
			if err == nil {
				return "application/problem+json", append(b, '\n')
			}
		}
		if i := e.Page(status); i >= 0 {
			page := strings.NewReplacer("{status}", strconv.Itoa(status), "{reason}", html.EscapeString(text), "{request_id}", x.access.RequestID).Replace(x.entry.pages[i])
			return "text/html; charset=utf-8", []byte(page)
		}
	}
	return "text/plain; charset=utf-8", []byte(title + ": " + text + "\n")
}

// takesJSON reports whether a client names JSON among what it accepts. One that
// takes anything gets what people can read.
func takesJSON(accept []string) bool {
	for _, line := range accept {
		for part := range strings.SplitSeq(line, ",") {
			kind, _, _ := strings.Cut(part, ";")
			switch kind = strings.ToLower(strings.TrimSpace(kind)); {
			case kind == "application/json", strings.HasPrefix(kind, "application/") && strings.HasSuffix(kind, "+json"):
				return true
			}
		}
	}
	return false
}
