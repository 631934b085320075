package proxy

import (
	"fmt"
	"io"
	"net/http"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"

	"kestrix/internal/core/cause"
)

func TestWhatFailsIsAnsweredByItsCause(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		w := newWorld(t, front+"upstream \"app\" {\n backends = { a = \"192.0.2.1:80\" }\n timeouts {\n connect = \"1s\"\n answer = \"2s\"\n }\n}\n")
		defer w.close()
		// A client that keeps connections would ask again by itself.
		w.client = &http.Client{Transport: &http.Transport{DialContext: w.net.dial, DisableKeepAlives: true}}
		status, body := w.get(base + "/")
		assert.Equal(t, 502, status)
		assert.Equal(t, "Bad Gateway: the backend refuses connections\n", body)
		w.net.hang("192.0.2.1:80", true)
		before := time.Now()
		status, body = w.get(base + "/")
		assert.Equal(t, 504, status)
		assert.Contains(t, body, "did not answer in time")
		assert.Equal(t, 2*time.Second, time.Since(before))
		w.net.hang("192.0.2.1:80", false)
		w.start("192.0.2.1:80", func(out http.ResponseWriter, r *http.Request) {
			if r.URL.Path == "/half" {
				out.Header().Set("Content-Length", "100000")
				_, _ = io.WriteString(out, strings.Repeat("half", 10_000))
				_ = http.NewResponseController(out).Flush()
			}
			switch r.URL.Path {
			case "/500":
				out.WriteHeader(500)
				return
			case "/garbage":
				c, _, err := http.NewResponseController(out).Hijack()
				assert.NoError(t, err)
				_, _ = io.WriteString(c, "220 gate ready\r\n\r\n")
				c.Close()
				return
			case "/events":
				out.Header().Set("Content-Type", "text/event-stream")
				_, _ = io.WriteString(out, "data: tide\n\n")
				_ = http.NewResponseController(out).Flush()
			}
			panic(http.ErrAbortHandler)
		})
		status, body = w.get(base + "/")
		assert.Equal(t, 502, status)
		assert.Contains(t, body, "broke the connection")
		for _, path := range []string{"/500", "/garbage", "/events"} {
			w.get(base + path)
		}
		_, body = w.get(base + "/half")
		assert.Contains(t, body, "EOF", "half an answer is not taken for a whole one")
		synctest.Wait()
		var why []string
		for _, a := range w.log() {
			why = append(why, fmt.Sprint(a.Status, " ", a.Cause))
		}
		assert.Equal(t, []string{"502 refused", "504 answer_timeout", "502 reset", "500 status_5xx", "502 bad_answer", "200 broken_stream", "200 reset"}, why)
	})
}

func TestABackendThatSpeaksNoTLS(t *testing.T) {
	bubble(t, front+"upstream \"app\" {\n backends = { a = \"192.0.2.1:80\" }\n tls {\n verify = false\n }\n}\n", func(w *world) {
		w.start(here, nil)
		status, body := w.get(base + "/")
		assert.Equal(t, "502 Bad Gateway: no TLS connection to the backend could be made\n", fmt.Sprint(status, " ", body))
		synctest.Wait()
		assert.Equal(t, cause.TLSFailed, w.log()[0].Cause)
	})
}
