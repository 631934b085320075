package proxy

import (
	"crypto/tls"
	"encoding/binary"
	"io"
	"net/http"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestKindsOfProbes sees each kind pass and fail, and what is said of a failure.
func TestKindsOfProbes(t *testing.T) {
	var pem []byte
	var pair tls.Certificate
	issued := func(t *testing.T) { // at the time of a bubble
		var key []byte
		pem, key = issue(t, "board.tern.example")
		var err error
		pair, err = tls.X509KeyPair(pem, key)
		require.NoError(t, err)
	}
	speaks := func(lines map[string]string) func(*line) { // answers what it reads
		return func(l *line) {
			text, _ := l.r.ReadString('\n')
			_, _ = io.WriteString(l, lines[text])
		}
	}
	shakes := func(l *line) {
		s := tls.Server(l.Conn, &tls.Config{Certificates: []tls.Certificate{pair}})
		_, _ = s.Read(make([]byte, 1))
	}
	quiet := func(l *line) { _, _ = io.Copy(io.Discard, l) }
	serves := func(services map[string]byte) http.HandlerFunc {
		return func(out http.ResponseWriter, r *http.Request) {
			body, _ := io.ReadAll(r.Body)
			name := ""
			if len(body) > 7 {
				name = string(body[7:])
			}
			out.Header().Set("Content-Type", "application/grpc")
			status, known := services[name]
			if r.URL.Path != "/grpc.health.v1.Health/Check" || r.Header.Get("Te") != "trailers" || !known {
				out.Header().Set("Grpc-Status", "5")
				return
			}
			out.Header().Set("Trailer", "Grpc-Status")
			message := []byte{1 << 3, status}
			_, _ = out.Write(append(binary.BigEndian.AppendUint32([]byte{0}, uint32(len(message))), message...))
			out.Header().Set("Grpc-Status", "0")
		}
	}
	ping := speaks(map[string]string{"PING\r\n": "+PONG\r\n"})
	for _, c := range []struct {
		probe string // kind and keys
		raw   func(*line)
		http  http.HandlerFunc
		why   string // the probe failed; empty: it passed
	}{
		{`"tcp" {`, quiet, nil, ""},
		{`"tcp" { ; send = "PING\r\n" ; expect = { body = "+PONG*" }`, ping, nil, ""},
		{`"tcp" { ; send = "HELLO\r\n" ; expect = { body = "+PONG*" }`, ping, nil, "it closed the connection without an answer"},
		{`"tcp" { ; send = "PING\r\n" ; expect = { body = "+PONG*" }`, quiet, nil, "no answer within 1 s"},
		{`"tcp" { ; send = "PING\r\n" ; expect = { body = "+PONG*" }`, speaks(map[string]string{"PING\r\n": "-ERR loading\r\n"}), nil, `the answer "-ERR loading\r\n" does not match "+PONG*"`},
		{`"tcp" { ; expect = { body = "220 *" }`, func(l *line) { l.say("220 gate ready\r\n") }, nil, ""},
		{`"tcp" { ; expect = { body = "220 *" }`, func(l *line) { l.say(strings.Repeat("x", 4096)) }, nil, `nothing in the first 4096 bytes of the answer matches "220 *"`},
		{`"tls" { ; verify = false`, shakes, nil, ""},
		{`"tls" { ; name = "board.tern.example"`, shakes, nil, "the handshake failed: "},
		{`"tls" { ; verify = false`, quiet, nil, "no answer within 1 s"},
		{`"tls" { ; verify = false`, func(l *line) { l.say("no TLS at all\r\n") }, nil, "the handshake failed: "},
		{`"grpc" {`, nil, serves(map[string]byte{"": 1}), ""},
		{`"grpc" {`, nil, serves(map[string]byte{"": 2}), "it is NOT_SERVING"},
		{`"grpc" { ; service = "tern.Booking"`, nil, serves(map[string]byte{"tern.Booking": 1}), ""},
		{`"grpc" { ; service = "tern.Booking"`, nil, serves(map[string]byte{"": 1}), `it knows no service "tern.Booking" (grpc:NOT_FOUND)`},
		{`"grpc" {`, nil, func(out http.ResponseWriter, r *http.Request) { http.Error(out, "x", http.StatusTeapot) }, "status 418"},
	} {
		synctest.Test(t, func(t *testing.T) {
			issued(t)
			w := newWorld(t, front+"upstream \"app\" {\n backends = { a = \"192.0.2.1:80\" }\n probe "+strings.ReplaceAll(c.probe, ";", "\n")+"\n every = \"2s\"\n timeout = \"1s\"\n }\n}\n")
			if c.raw != nil {
				w.raw(here, c.raw)
			} else {
				w.start(here, c.http)
			}
			time.Sleep(1500 * time.Millisecond)
			b := w.proxy.Status().Upstreams[0].Backends[0]
			if c.why == "" {
				assert.Equal(t, "up", b.State, "%s: %s", c.probe, b.Why)
			} else {
				assert.Equal(t, "down", b.State, c.probe)
				assert.Contains(t, b.Why, "a probe failed: "+c.why, c.probe)
			}
			w.close()
			time.Sleep(2 * time.Second)
			w.net.mu.Lock()
			for _, l := range w.net.listeners {
				defer l.Close()
			}
			w.net.mu.Unlock()
		})
	}

	// The upstream's tls block says whom a tls probe trusts; the name has to be right.
	for name, state := range map[string]string{"board.tern.example": "up", "gate.tern.example": "down"} {
		synctest.Test(t, func(t *testing.T) {
			issued(t)
			w := withFiles(t, map[string][]byte{"ca.pem": pem}, front+"upstream \"app\" {\n backends = { a = \"192.0.2.1:80\" }\n tls {\n ca = \"ca.pem\"\n }\n probe \"tls\" {\n name = \""+name+"\"\n every = \"2s\"\n timeout = \"1s\"\n }\n}\n")
			w.raw(here, shakes)
			time.Sleep(1500 * time.Millisecond)
			b := w.proxy.Status().Upstreams[0].Backends[0]
			assert.Equal(t, state, b.State, b.Why)
			w.close()
		})
	}
}
