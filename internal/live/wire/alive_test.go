package wire

import (
	"crypto/tls"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// What a backend sends behind its answer must not become the answer to another
// request, whether it has come already or is still in the kernel.
func TestAConnectionWithSomethingLeftIsNotUsedAgain(t *testing.T) {
	for _, secure := range []bool{false, true} {
		for _, behind := range []string{"", "HTTP/1.1 200 OK\r\nContent-Length: 4\r\n\r\nevil"} {
			for _, together := range []bool{false, true} {
				more, sent, end := make(chan bool), make(chan bool), make(chan bool)
				s := httptest.NewUnstartedServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
					c, _, err := http.NewResponseController(w).Hijack()
					if !assert.NoError(t, err) {
						return
					}
					defer c.Close()
					_, _ = io.WriteString(c, "HTTP/1.1 200 OK\r\nContent-Length: 2\r\n\r\nok")
					<-more
					_, _ = io.WriteString(c, behind)
					close(sent)
					<-end
				}))
				if secure {
					s.StartTLS()
				} else {
					s.Start()
				}
				raw, err := net.Dial("tcp", s.Listener.Addr().String())
				require.NoError(t, err)
				if secure {
					raw = tls.Client(raw, &tls.Config{InsecureSkipVerify: true, MinVersion: tls.VersionTLS13})
				}
				c := NewConn(raw)
				require.NoError(t, c.Send(&Request{Method: "GET", Target: "/", Host: "a"}, nil))
				if together {
					close(more)
					<-sent
				}
				_, err = c.Receive("GET", http.Header{}, nil)
				require.NoError(t, err)
				body, err := io.ReadAll(c)
				require.NoError(t, err)
				assert.Equal(t, "ok", string(body))
				if !together {
					close(more)
					<-sent
				}
				assert.Equal(t, behind == "", c.Done() && c.Alive(), "TLS %v, %q behind, together %v", secure, behind, together)
				close(end)
				c.Close()
				s.Close()
			}
		}
	}
}
