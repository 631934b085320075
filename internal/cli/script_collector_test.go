package cli

import (
	"encoding/hex"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"slices"
	"strings"
	"sync"

	"github.com/rogpeppe/go-internal/testscript"
	collector "go.opentelemetry.io/proto/otlp/collector/trace/v1"
	common "go.opentelemetry.io/proto/otlp/common/v1"
	spans "go.opentelemetry.io/proto/otlp/trace/v1"
	"google.golang.org/protobuf/proto"
)

// collect ADDRESS FILE [HOW] takes OTLP over HTTP at an address until uncollect, and writes a line for each span: SERVICE KIND NAME TRACE PARENT ID STATUS
// ATTRIBUTES. With HOW refuse it takes nothing, with hang it answers nothing. A body
// that is no ExportTraceServiceRequest, or has fields that the protocol does not, is "wrong".
func collect(ts *testscript.TestScript, neg bool, args []string) {
	l, err := net.Listen("tcp", args[0])
	ts.Check(err)
	name := ts.MkAbs(args[1])
	var mu sync.Mutex
	server := &http.Server{Handler: http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if len(args) > 2 && args[2] == "hang" {
			<-r.Context().Done()
			return
		}
		if len(args) > 2 {
			http.Error(w, "not now", http.StatusServiceUnavailable)
			return
		}
		body, err := io.ReadAll(r.Body)
		if err != nil {
			return
		}
		mu.Lock()
		defer mu.Unlock()
		f, err := os.OpenFile(name, os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o644)
		if err != nil {
			return
		}
		defer f.Close()
		var q collector.ExportTraceServiceRequest
		if err := proto.Unmarshal(body, &q); err != nil || len(q.ProtoReflect().GetUnknown()) > 0 || r.URL.Path != "/v1/traces" || r.Header.Get("Content-Type") != "application/x-protobuf" {
			fmt.Fprintln(f, "wrong")
			return
		}
		for _, rs := range q.ResourceSpans {
			for _, ss := range rs.ScopeSpans {
				for _, s := range ss.Spans {
					fmt.Fprintln(f, spanLine(rs.Resource.Attributes, s))
				}
			}
		}
		w.Header().Set("Content-Type", "application/x-protobuf")
	})}
	go func() { _ = server.Serve(l) }()
	collectors.Store(args[0], server)
	ts.Defer(func() { server.Close() })
}

var collectors sync.Map // of scripts that run side by side; ports are their own

// uncollect ADDRESS ends a collector.
func uncollect(ts *testscript.TestScript, neg bool, args []string) {
	server, ok := collectors.LoadAndDelete(args[0])
	if !ok {
		ts.Fatalf("no collector at %s", args[0])
	}
	server.(*http.Server).Close()
}

// spanLine writes a span on a line.
func spanLine(resource []*common.KeyValue, s *spans.Span) string {
	texts := func(all []*common.KeyValue) string {
		var out []string
		for _, a := range all {
			v := a.Value.GetStringValue()
			if _, number := a.Value.Value.(*common.AnyValue_IntValue); number {
				v = fmt.Sprint(a.Value.GetIntValue())
			}
			out = append(out, a.Key+"="+v)
		}
		slices.Sort(out)
		return strings.Join(out, " ")
	}
	kind := strings.ToLower(strings.TrimPrefix(s.Kind.String(), "SPAN_KIND_"))
	good := s.EndTimeUnixNano >= s.StartTimeUnixNano
	return fmt.Sprintf("[%s] %s %q trace=%s parent=%s id=%s state=%q status=%s timed=%t %s", texts(resource), kind, s.Name, hex.EncodeToString(s.TraceId), hex.EncodeToString(s.ParentSpanId), hex.EncodeToString(s.SpanId),
		s.TraceState, strings.TrimPrefix(s.Status.GetCode().String(), "STATUS_CODE_"), good, texts(s.Attributes))
}
