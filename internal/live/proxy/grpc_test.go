package proxy

import (
	"io"
	"net/http"
	"strings"
	"testing"
	"testing/synctest"

	"github.com/stretchr/testify/assert"

	"kestrix/internal/core/cause"
)

// TestStatusesOfRPCs: those that a server is to blame for are failures, in the log, the counts and the lists;
// listed ones are repeated as long as nothing of the answer has gone to the client, and suspend.
func TestStatusesOfRPCs(t *testing.T) {
	for _, version := range []string{"1.1", "2"} {
		bubble(t, in("clear_http2 = true", front)+`
upstream "app" {
  backends = {
    auk    = "192.0.2.1:80"
    gannet = "192.0.2.2:80"
  }
  http_version = "`+version+`"
  retry {
    attempts = 2
    on       = ["grpc:unavailable"]
  }
  suspend {
    after = 2
    keep  = "50%"
    on    = ["grpc:resource_exhausted"]
  }
}`, func(w *world) {
			serve := func(name string) http.HandlerFunc {
				return func(out http.ResponseWriter, r *http.Request) {
					_, _ = io.Copy(io.Discard, r.Body)
					out.Header().Set("Content-Type", r.Header.Get("Content-Type"))
					how, status, _ := strings.Cut(strings.TrimPrefix(r.URL.Path, "/"), "/")
					if how == "first" && name == "gannet" {
						status = "0"
					}
					if how != "late" {
						out.Header().Set("Grpc-Status", status)
						return
					}
					out.Header().Set("Trailer", "Grpc-Status")
					_, _ = io.WriteString(out, name)
					out.Header().Set("Grpc-Status", status)
				}
			}
			w.start("192.0.2.1:80", serve("auk"))
			w.start("192.0.2.2:80", serve("gannet"))
			f := w.speak()
			ask := func(path, kind string) string {
				return f.outcome(f.ask(false, ":method: POST", ":scheme: http", ":path: "+path, ":authority: a", "content-type: "+kind, "te: trailers"))
			}
			const rpc = "application/grpc+proto"
			for _, c := range []struct {
				path, kind, want, status string
				why                      cause.Cause
				tries                    int
			}{
				{"/first/14", rpc, "200 0", "0", cause.None, 2},
				{"/late/14", rpc, "200 gannet 14", "14", cause.RPCUnavailable, 1}, // auk's turn is over
				{"/all/14", rpc, "200 14", "14", cause.RPCUnavailable, 2},
				{"/all/5", rpc, "200 5", "5", cause.None, 1},
				{"/all/13", rpc, "200 13", "13", cause.RPCInternal, 1},
				{"/all/99", rpc, "200 99", "2", cause.RPCUnknown, 1},
				{"/late/x", rpc, "200 auk x", "2", cause.RPCUnknown, 1},
				{"/late/14", "text/plain", "200 gannet 14", "", cause.None, 1},
				{"/all/8", rpc, "200 8", "8", cause.None, 1},
			} {
				before := len(w.log())
				got := ask(c.path, c.kind)
				synctest.Wait()
				got = strings.NewReplacer("auk", "BACKEND", "gannet", "BACKEND").Replace(got)
				assert.Equal(t, strings.NewReplacer("auk", "BACKEND", "gannet", "BACKEND").Replace(c.want), got, "%s %s", version, c.path)
				a := w.log()[before]
				assert.Equal(t, c.status, a.GRPC, "%s %s", version, c.path)
				assert.Equal(t, c.why, a.Cause, "%s %s", version, c.path)
				if assert.Len(t, a.Tries, c.tries, "%s %s", version, c.path) && c.tries == 2 {
					assert.Equal(t, cause.RPCUnavailable, a.Tries[0].Cause)
				}
			}
			for range 4 {
				ask("/all/8", rpc)
			}
			f.Close()
			synctest.Wait()
			s := w.proxy.Status()
			assert.EqualValues(t, 2, s.Frontends[0].Routes[0].Errors["grpc:unavailable"])
			states, failed := "", uint64(0)
			for _, b := range s.Upstreams[0].Backends {
				states += b.State + " " + b.Why + "; "
				failed += b.Failed
			}
			assert.Contains(t, states, "suspended 2 requests failed in a row, the last: grpc:resource_exhausted")
			assert.EqualValues(t, 7, failed, "attempts: one of the first, one of the second, two of the third, and three for one each")
		})
	}
}
