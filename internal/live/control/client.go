package control

import (
	"bytes"
	"context"
	"crypto/tls"
	"crypto/x509"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"strconv"
	"strings"
	"time"

	"kestrix/internal/core/config"
	"kestrix/internal/core/status"
	"kestrix/internal/core/units"
	"kestrix/internal/live/events"
	"kestrix/internal/live/socket"
)

// Client asks and tells the control of a running proxy.
type Client struct {
	Where          string // as it is written in the configuration
	User, Password string
	base           string
	http           *http.Client
}

// NewClient makes one for an address, over TLS if roots are given (nil and
// secure: those of the machine).
func NewClient(at config.Address, secure bool, roots *x509.CertPool) *Client {
	network, address, scheme := "tcp", net.JoinHostPort(at.Host, strconv.Itoa(at.Port)), "http"
	host := address
	if at.Unix != "" {
		network, address, host = "unix", at.Unix, "localhost"
	}
	if secure {
		scheme = "https"
	}
	t := &http.Transport{
		DialContext: func(ctx context.Context, _, _ string) (net.Conn, error) {
			return new(net.Dialer).DialContext(ctx, network, address)
		},
		TLSClientConfig: &tls.Config{RootCAs: roots, MinVersion: tls.VersionTLS12},
	}
	return &Client{Where: at.String(), base: scheme + "://" + host, http: &http.Client{Transport: t}}
}

// answerWithin is how long a proxy may take to answer an operator: one that works needs
// milliseconds.
const answerWithin = 3 * time.Second

// reloadWithin is how long it may take to read a configuration again, and to look its names up.
const reloadWithin = 30 * time.Second

// ErrInsist is at the root of the error of an order that is carried out only if
// the operator insists.
var ErrInsist = errors.New("insist")

// call asks for something; body nil is a question, other ones are orders.
func (c *Client) call(ctx context.Context, path string, body, into any) error {
	within := answerWithin
	if path == "/reload" {
		within = reloadWithin
	}
	ctx, cancel := context.WithTimeout(ctx, within)
	defer cancel()
	method, sent := http.MethodGet, io.Reader(nil)
	if body != nil {
		b, err := json.Marshal(body)
		if err != nil {
			return err
		}
		method, sent = http.MethodPost, bytes.NewReader(b)
	}
	q, err := http.NewRequestWithContext(ctx, method, c.base+path, sent)
	if err != nil {
		return err
	}
	if body != nil {
		q.Header.Set("Content-Type", "application/json")
	}
	if c.User != "" {
		q.SetBasicAuth(c.User, c.Password)
	}
	res, err := c.http.Do(q)
	if err != nil {
		return c.unreachable(err, within, method)
	}
	defer res.Body.Close()
	text, err := io.ReadAll(io.LimitReader(res.Body, 64<<20))
	if err != nil {
		return c.unreachable(err, within, method)
	}
	said := strings.TrimSpace(string(text))
	switch {
	case res.StatusCode == http.StatusOK && json.Unmarshal(text, into) == nil:
		return nil
	case res.StatusCode == http.StatusOK:
		return fmt.Errorf("%s answers, and it is no control of Kestrix, or of another version", c.Where)
	case res.StatusCode == http.StatusConflict:
		return fmt.Errorf("%w: %s", ErrInsist, said)
	case len(said) > 2000 || said == "":
		return fmt.Errorf("%s answers %s", c.Where, res.Status)
	}
	return errors.New(said)
}

// unreachable words why nobody answers, within a time, what was asked by a method.
func (c *Client) unreachable(err error, within time.Duration, method string) error {
	switch {
	case errors.Is(err, context.Canceled):
		return err
	case os.IsTimeout(err):
		unknown := ""
		if method == http.MethodPost {
			unknown = "whether it has done it is not known; "
		}
		return fmt.Errorf("the proxy at %s has not answered within %s: it hangs, or its machine is out of breath; %sits log says what it did last", c.Where, units.Duration(within), unknown)
	case errors.Is(err, os.ErrNotExist):
		return fmt.Errorf("no proxy answers at %s: there is no such socket; -at asks another address, and a proxy answers only where its configuration has a control block", c.Where)
	case errors.Is(err, os.ErrPermission):
		return fmt.Errorf("the socket %s is not open to you: ask its owner or group", c.Where)
	}
	return fmt.Errorf("no proxy answers at %s: %w", c.Where, socket.ShortError(err))
}

// Status asks how everything stands.
func (c *Client) Status(ctx context.Context) (*status.Status, error) {
	var s status.Status
	err := c.call(ctx, "/status", nil, &s)
	return &s, err
}

// viewEvents is the number of events of a view.
const viewEvents = 256

// View asks how everything stands, what was asked lately included, and for the latest
// events, the newest first.
func (c *Client) View(ctx context.Context) (*status.View, error) {
	v := &status.View{Status: new(status.Status)}
	if err := c.call(ctx, "/status?recent", nil, v.Status); err != nil {
		return nil, err
	}
	var err error
	v.Events, err = c.Events(ctx, events.Query{Most: viewEvents})
	return v, err
}

// Configuration asks for the sources of the configuration in force.
func (c *Client) Configuration(ctx context.Context) ([]config.File, error) {
	var x Sources
	if err := c.call(ctx, "/configuration", nil, &x); err != nil {
		return nil, err
	}
	var out []config.File
	for _, f := range x.Files {
		out = append(out, config.File{Name: f.Name, Source: []byte(f.Source)})
	}
	return out, nil
}

// Operate tells an order. The error is ErrInsist's if it has to be meant.
func (c *Client) Operate(ctx context.Context, o status.Order) (status.Told, error) {
	var t status.Told
	err := c.call(ctx, "/operate", o, &t)
	return t, err
}

// Zero has counts begin anew.
func (c *Client) Zero(ctx context.Context) error {
	var s status.Status
	return c.call(ctx, "/zero", struct{}{}, &s)
}

// Reload has the configuration read again, and returns what is said of it.
func (c *Client) Reload(ctx context.Context) (string, error) {
	var x struct {
		Reloaded string `json:"reloaded"`
	}
	err := c.call(ctx, "/reload", struct{}{}, &x)
	return x.Reloaded, err
}
