package proxy

import (
	"net/http"
	"strconv"
	"strings"

	"kestrix/internal/core/cause"
)

// isGRPC reports whether a request is an RPC of gRPC, over HTTP/2 or for the web:
// its content type is application/grpc, or begins so.
func isGRPC(h http.Header) bool {
	v := h["Content-Type"]
	return len(v) > 0 && len(v[0]) >= len(grpcType) && strings.EqualFold(v[0][:len(grpcType)], grpcType)
}

const grpcType = "application/grpc"

// grpcStatus returns the status of an RPC that failed with a status of HTTP, by
// gRPC's mapping for proxies ("HTTP to gRPC Status Code Mapping").
func grpcStatus(status int) int {
	switch status {
	case http.StatusBadRequest:
		return 13 // INTERNAL
	case http.StatusUnauthorized:
		return 16 // UNAUTHENTICATED
	case http.StatusForbidden:
		return 7 // PERMISSION_DENIED
	case http.StatusNotFound:
		return 12 // UNIMPLEMENTED
	case http.StatusTooManyRequests, http.StatusBadGateway, http.StatusServiceUnavailable, http.StatusGatewayTimeout:
		return 14 // UNAVAILABLE
	}
	return 2 // UNKNOWN
}

// answerGRPC answers an RPC in the form that its client reads: the status of HTTP
// is 200, that of the RPC stands in the header, and there is no body ("gRPC over
// HTTP2", Trailers-Only).
func (x *exchange) answerGRPC(status int, text string) {
	h := x.w.Header()
	h.Set("Content-Type", x.r.Header.Get("Content-Type"))
	x.access.GRPC = strconv.Itoa(grpcStatus(status))
	h.Set("Grpc-Status", x.access.GRPC)
	h.Set("Grpc-Message", grpcMessage(text))
	addVia(h, 1, 1)
	x.answerFields(h)
	x.partly()
	x.begun(false)
	x.w.WriteHeader(http.StatusOK)
}

// rpcStatus returns the status of gRPC in header fields or trailers, and notes it for the log; ok
// reports whether there is one. A value that is no status counts as UNKNOWN, as clients take it.
func (x *exchange) rpcStatus(h http.Header) (status int, ok bool) {
	v := h["Grpc-Status"]
	if !x.grpc || len(v) == 0 {
		return 0, false
	}
	n, err := strconv.ParseUint(v[0], 10, 8)
	if err != nil || int(n) >= len(cause.RPCStatuses) {
		n = 2
	}
	x.access.GRPC = strconv.Itoa(int(n))
	return int(n), true
}

// grpcMessage writes a message with what is no printable ASCII, and "%", in
// escapes.
func grpcMessage(s string) string {
	var b strings.Builder
	for i := range len(s) {
		if c := s[i]; c < ' ' || c > '~' || c == '%' {
			b.WriteString("%" + strings.ToUpper(strconv.FormatUint(uint64(c)|0x100, 16)[1:]))
		} else {
			b.WriteByte(c)
		}
	}
	return b.String()
}
