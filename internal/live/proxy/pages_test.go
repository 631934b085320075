package proxy

import (
	"bufio"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/bcrypt"

	"kestrix/internal/core/status"
)

// plainPages shows numbers alone.
type plainPages struct{}

func (plainPages) Page(v *status.View) ([]byte, error) { return plainPages{}.Part(v) }
func (plainPages) Requests(v *status.RequestsView) ([]byte, error) {
	return fmt.Appendf(nil, "%s %s %t %t of %q: %d", v.Query.Frontend, v.Query.Route, v.Query.Failed, v.Query.Slow, v.Routes, len(v.Kept.Requests)), nil
}
func (plainPages) Events(v *status.EventsView) ([]byte, error) {
	return fmt.Appendf(nil, "%s %s: %d, %s", v.Since, v.Kind, len(v.Events), v.Wrong), nil
}
func (plainPages) Part(v *status.View) ([]byte, error) {
	n := uint64(0)
	for _, b := range v.Status.Upstreams[0].Backends {
		n += b.Requests
	}
	return fmt.Appendf(nil, "%d requests, %q may: %t", n, v.User, v.Operator), nil
}
func (plainPages) Asset(path string) (string, []byte) {
	if path == "/page.css" {
		return "text/css", []byte("b{}")
	}
	return "", nil
}
func (plainPages) CSV(w io.Writer, s *status.Status) error {
	_, err := io.WriteString(w, "a,b\n")
	return err
}

// TestThePageIsFollowedAsItChanges reads the stream of what changes: until its user
// is taken out, for so many at once, and not for ever after the proxy stops.
func TestThePageIsFollowedAsItChanges(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		hash, err := bcrypt.GenerateFromPassword([]byte("low tide"), bcrypt.MinCost)
		require.NoError(t, err)
		with := func(users string) string {
			return "control {\n listen = \"127.0.0.1:9900\"\n" + users + "}\n" + app("")
		}
		tom := "user \"tom\" {\n password = \"" + string(hash) + "\"\n}\n"
		w := newWorld(t, "")
		w.proxy.o.Pages = plainPages{}
		require.NoError(t, w.proxy.Apply(parse(t, with(tom))))
		defer w.close()
		w.start("192.0.2.1:80", nil)
		ask := func(ctx context.Context, path string) *http.Response {
			q, err := http.NewRequestWithContext(ctx, "GET", "http://127.0.0.1:9900"+path, nil)
			require.NoError(t, err)
			q.SetBasicAuth("tom", "low tide")
			res, err := w.client.Do(q)
			require.NoError(t, err)
			return res
		}
		text := func(path string) string {
			res := ask(t.Context(), path)
			defer res.Body.Close()
			b, _ := io.ReadAll(res.Body)
			return fmt.Sprint(res.StatusCode, " ", res.Header.Get("Content-Type"), " ", string(b))
		}
		assert.Equal(t, `200 text/html; charset=utf-8 0 requests, "tom" may: false`, text("/"))
		assert.Equal(t, "200 text/css b{}", text("/page.css"))
		assert.Equal(t, "200 text/csv; charset=utf-8 a,b\n", text("/status.csv"))
		assert.True(t, strings.HasPrefix(text("/page.js"), "404 "))

		res := ask(t.Context(), "/live")
		assert.Equal(t, "text/event-stream", res.Header.Get("Content-Type"))
		lines := bufio.NewReader(res.Body)
		next := func() string {
			line, err := lines.ReadString('\n')
			if err != nil {
				return err.Error()
			}
			_, _ = lines.ReadString('\n')
			var s string
			require.NoError(t, json.Unmarshal([]byte(strings.TrimPrefix(line, "data: ")), &s))
			return s
		}
		assert.Equal(t, `0 requests, "tom" may: false`, next())
		w.get(base + "/")
		began := time.Now()
		assert.Equal(t, `1 requests, "tom" may: false`, next())
		assert.Equal(t, time.Second, time.Since(began).Round(time.Millisecond))
		// A reload that changes what the user may is seen at once, one that takes it
		// out ends it.
		require.NoError(t, w.proxy.Apply(parse(t, with(strings.Replace(tom, "\n}", "\n role = \"operator\"\n}", 1)))))
		assert.Equal(t, `1 requests, "tom" may: true`, next())
		require.NoError(t, w.proxy.Apply(parse(t, with(strings.Replace(tom, "tom", "mary", 1)))))
		assert.Equal(t, "EOF", next())
		res.Body.Close()
		require.NoError(t, w.proxy.Apply(parse(t, with(tom))))

		ctx, leave := context.WithCancel(t.Context())
		var open []*http.Response
		for range 32 {
			open = append(open, ask(ctx, "/live"))
		}
		over := ask(t.Context(), "/live")
		assert.Equal(t, []any{503, "30"}, []any{over.StatusCode, over.Header.Get("Retry-After")})
		over.Body.Close()
		leave()
		for _, r := range open {
			r.Body.Close()
		}
		time.Sleep(2 * time.Second)
		res = ask(t.Context(), "/live")
		assert.Equal(t, 200, res.StatusCode, "there is room again")
		require.NoError(t, w.proxy.Apply(parse(t, app(""))))
		_, _ = io.Copy(io.Discard, res.Body) // ends, since control is gone
		res.Body.Close()
	})
}

// TestWhatWasAskedLately counts in steps of five seconds, for five minutes.
func TestWhatWasAskedLately(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		w := newWorld(t, app(""))
		defer w.close()
		w.start("192.0.2.1:80", func(out http.ResponseWriter, r *http.Request) {
			if r.URL.Path == "/no" {
				out.WriteHeader(500)
			}
		})
		lately := func() *status.Recent { s := w.proxy.stands(true); return s.Upstreams[0].Backends[0].Recent }
		assert.Equal(t, &status.Recent{Step: 5, Requests: []uint32{0}, Failed: []uint32{0}}, lately())
		assert.Nil(t, func() *status.Recent { s := w.proxy.Status(); return s.Upstreams[0].Backends[0].Recent }())
		for range 3 {
			w.get(base + "/")
		}
		time.Sleep(11 * time.Second)
		for range 6 {
			w.get(base + "/no")
		}
		r := lately()
		asked, failed := uint32(0), uint32(0)
		for i := range r.Requests {
			asked, failed = asked+r.Requests[i], failed+r.Failed[i]
		}
		assert.Len(t, r.Requests, 3)
		assert.Equal(t, []any{uint32(0), uint32(0)}, []any{r.Requests[1], r.Failed[0]})
		assert.Positive(t, failed)
		assert.GreaterOrEqual(t, asked, failed)
		time.Sleep(290 * time.Second)
		assert.Len(t, lately().Requests, 61)
		assert.Positive(t, lately().Requests[2])
		time.Sleep(time.Hour)
		for i, n := range lately().Requests {
			assert.Zero(t, n, "step %d is long over", i)
		}
	})
}
