package certificates

import (
	"bytes"
	"encoding/json"
	"errors"
	"io"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode"

	"kestrix/internal/live/socket"
)

// watcher carries requests to the ACME server and notes what goes wrong: the library renews
// without saying why it fails, and of challenges it says nothing either way.
type watcher struct {
	c  *certificate
	by http.RoundTripper
}

var errEnded = errors.New("the certificate is not wanted any more")

// mostAnswer is how much of an answer is looked at, in bytes.
const mostAnswer = 64 << 10

// RoundTrip carries one request. None is sent for a certificate that is not wanted any more: the
// library cannot be told to stop renewing it.
func (w *watcher) RoundTrip(r *http.Request) (*http.Response, error) {
	if w.c.ended.Err() != nil {
		return nil, errEnded
	}
	res, err := w.by.RoundTrip(r)
	if err != nil {
		w.c.saw(printable(socket.ShortError(err).Error()))
		return nil, err
	}
	kind := res.Header.Get("Content-Type")
	if res.StatusCode < 400 && !strings.HasPrefix(kind, "application/json") {
		return res, nil
	}
	head, err := io.ReadAll(io.LimitReader(res.Body, mostAnswer))
	res.Body = &rest{io.MultiReader(bytes.NewReader(head), res.Body), res.Body}
	if err != nil {
		w.c.saw(printable(socket.ShortError(err).Error()))
		return res, nil // who reads on gets the error as well
	}
	var said answer
	_ = json.Unmarshal(head, &said) // what is not JSON says nothing
	if res.StatusCode >= 400 {
		w.c.refused(res, &said.problem)
	}
	if said.Status == "invalid" {
		for _, x := range said.Challenges {
			if x.Error.Detail != "" {
				w.c.saw("challenge " + printable(x.Type) + ": " + x.Error.String())
			}
		}
	}
	return res, nil
}

// rest is a body of which the beginning has been read.
type rest struct {
	io.Reader
	io.Closer
}

// answer is what is looked for in answers: problems (RFC 8555 section 6.7), and the
// challenges of authorizations (section 7.1.4).
type answer struct {
	problem
	Challenges []struct {
		Type  string  `json:"type"`
		Error problem `json:"error"`
	} `json:"challenges"`
}

type problem struct {
	Type   string `json:"type"`
	Detail string `json:"detail"`
	Status word   `json:"status"`
}

// word is the status of an authorization; that of a problem is a number, which is not needed.
type word string

// UnmarshalJSON reads either.
func (w *word) UnmarshalJSON(text []byte) error {
	s, err := strconv.Unquote(string(text))
	if err == nil {
		*w = word(s)
	}
	return nil
}

// String words it.
func (p *problem) String() string {
	return strings.TrimSuffix(printable(strings.TrimPrefix(p.Type, "urn:ietf:params:acme:error:")+": "+p.Detail), ".")
}

// refused notes an answer with an error.
func (c *certificate) refused(res *http.Response, p *problem) {
	if strings.HasSuffix(p.Type, ":badNonce") { // the request is repeated with another one
		return
	}
	if pause := pauseOf(res.Header.Get("Retry-After")); pause > 0 {
		c.mu.Lock()
		c.again = time.Now().Add(min(pause, 24*time.Hour))
		c.mu.Unlock()
	}
	if p.Type == "" && p.Detail == "" {
		c.saw("it answers " + res.Status)
		return
	}
	c.saw(p.String())
}

// pauseOf returns the time of Retry-After, seconds or a date (RFC 9110 section 10.2.3); 0 for none.
func pauseOf(value string) time.Duration {
	if seconds, err := strconv.ParseUint(value, 10, 24); err == nil {
		return time.Duration(seconds) * time.Second
	}
	if at, err := http.ParseTime(value); err == nil {
		return time.Until(at)
	}
	return 0
}

// saw notes something that went wrong, once each and a few in all.
func (c *certificate) saw(what string) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if len(c.seen) < 4 && !slices.Contains(c.seen, what) {
		c.seen = append(c.seen, what)
	}
}

// printable shortens what others say to one line for logs.
func printable(s string) string {
	s = strings.Map(func(r rune) rune {
		if !unicode.IsPrint(r) {
			return ' '
		}
		return r
	}, s)
	if r := []rune(s); len(r) > 200 {
		s = string(r[:200]) + "..."
	}
	return s
}
