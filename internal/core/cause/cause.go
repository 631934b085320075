// Package cause is the one vocabulary of why requests, attempts and connections fail.
//
// Results, access logs, problem details, metrics and pages name a cause by the same
// word, so everything that counts or prints a failure uses this package. Why a backend
// was chosen is a reason, not a cause: see upstream.Reason. It must never import
// another package, and no other package may have words of its own for a failure.
package cause

import (
	"bytes"
	"encoding/json"
	"fmt"
	"strconv"
)

// Cause is why something failed. The zero value, None, is no failure.
type Cause uint8

// The causes. Their words and meanings are in All.
const (
	None Cause = iota
	Refused
	Unreachable
	ConnectTimeout
	TLSFailed
	Reset
	AnswerTimeout
	IdleTimeout
	Unanswered
	BadAnswer
	BrokenStream
	Status5xx
	RPCUnknown
	RPCDeadlineExceeded
	RPCUnimplemented
	RPCInternal
	RPCUnavailable
	RPCDataLoss
	QueueFull
	QueueTimeout
	RateLimited
	Overloaded
	NoBackend
	NoRoute
	SessionRefused
	ClientLeft
	ClientTimeout
	TooLarge
	Malformed
	NotImplemented
	Closing
	BackendOut
	causes // their number
)

// Description describes a cause.
type Description struct {
	Cause Cause
	Word  string
	Doc   string // what has happened
	On    string // the word in retry.on and suspend.on that has it; empty for none
}

// All describes each cause, in the order of their numbers, None left out.
var All = []Description{
	{Refused, "refused", "the backend refused the connection", "connect"},
	{Unreachable, "unreachable", "no connection to the backend could be made, for another reason", "connect"},
	{ConnectTimeout, "connect_timeout", "connecting to the backend took longer than `connect`", "connect"},
	{TLSFailed, "tls_failed", "the TLS handshake failed, with the backend or the client", "connect"},
	{Reset, "reset", "the backend closed the connection before its response was complete", "reset"},
	{AnswerTimeout, "answer_timeout", "the backend did not respond within `answer`, or its response stopped for `idle`", "timeout"},
	{IdleTimeout, "idle_timeout", "nothing moved on a stream for `idle`, and the proxy closed it", ""},
	{Unanswered, "unanswered", "the backend sent no first byte to any client for `silent_after`", ""},
	{BadAnswer, "bad_answer", "the backend's response is not valid HTTP", "reset"},
	{BrokenStream, "broken_stream", "the backend closed a stream before its end", "reset"},
	{Status5xx, "status_5xx", "the backend responded with a status from 500 to 599", ""},
	{RPCUnknown, "grpc:unknown", "a gRPC server ended the call with status 2: an error that it did not classify", "grpc:unknown"},
	{RPCDeadlineExceeded, "grpc:deadline_exceeded", "a gRPC server ended the call with status 4: its deadline passed", "grpc:deadline_exceeded"},
	{RPCUnimplemented, "grpc:unimplemented", "a gRPC server ended the call with status 12: it does not have the method", "grpc:unimplemented"},
	{RPCInternal, "grpc:internal", "a gRPC server ended the call with status 13: an internal error", "grpc:internal"},
	{RPCUnavailable, "grpc:unavailable", "a gRPC server ended the call with status 14: it is unavailable at the moment", "grpc:unavailable"},
	{RPCDataLoss, "grpc:data_loss", "a gRPC server ended the call with status 15: data is lost or corrupt", "grpc:data_loss"},
	{QueueFull, "queue_full", "every backend has `max_in_flight` requests, and the queue is full or there is none", ""},
	{QueueTimeout, "queue_timeout", "the request waited in the queue for its `timeout`", ""},
	{RateLimited, "rate_limited", "the client sent more requests than `rate` allows", ""},
	{Overloaded, "overloaded", "the proxy has no more connections or files to open", ""},
	{NoBackend, "no_backend", "no backend is in rotation", ""},
	{NoRoute, "no_route", "no route matches", ""},
	{SessionRefused, "session_refused", "the session's backend is unavailable, and `on_loss` is \"refuse\"", ""},
	{ClientLeft, "client_left", "the client closed the connection before the response began", ""},
	{ClientTimeout, "client_timeout", "the client paused for too long in its request body, or in taking the response", ""},
	{TooLarge, "too_large", "the request body is larger than `body_size`", ""},
	{Malformed, "malformed", "the request is not valid HTTP, or has more than one meaning", ""},
	{NotImplemented, "not_implemented", "the proxy does not implement the method", ""},
	{Closing, "closing", "the listener is being closed, or the proxy ended", ""},
	{BackendOut, "backend_out", "the backend went down or was taken out, and the proxy closed what was open there (`on_down`, `tell close`)", ""},
}

// String returns the word of a cause, empty for None.
func (c Cause) String() string {
	if c == None || c >= causes {
		return ""
	}
	return All[c-1].Word
}

// Doc returns what has happened, empty for None.
func (c Cause) Doc() string {
	if c == None || c >= causes {
		return ""
	}
	return All[c-1].Doc
}

// Parse returns the cause of a word; ok is false if there is none.
func Parse(word string) (c Cause, ok bool) {
	for _, d := range All {
		if d.Word == word {
			return d.Cause, true
		}
	}
	return None, false
}

// Counts counts failures by their cause. As JSON it is an object with every cause of
// a request's failure: with all but ClientLeft, which is nobody's failure and counted
// apart, and Unanswered, which suspends a backend and ends no request. Statuses of gRPC
// are in it where there are such failures.
type Counts [causes]int64

// Final reports whether requests fail of a cause, so that Counts has it.
func (c Cause) Final() bool { return c != None && c != ClientLeft && c != Unanswered }

// Count is a cause and how often it was one.
type Count struct {
	Cause    Cause
	Requests int64
}

// List returns the counts of all final causes, in the order of All, those of gRPC without a
// failure left out.
func (n *Counts) List() []Count {
	var out []Count
	for _, d := range All {
		if d.Cause.Final() && (!d.Cause.ofRPC() || n[d.Cause] > 0) {
			out = append(out, Count{d.Cause, n[d.Cause]})
		}
	}
	return out
}

// MarshalJSON writes what List returns.
func (n *Counts) MarshalJSON() ([]byte, error) {
	var b bytes.Buffer
	for i, x := range n.List() {
		b.WriteString([]string{"{", ","}[min(i, 1)])
		b.WriteString(strconv.Quote(x.Cause.String()) + ":" + strconv.FormatInt(x.Requests, 10))
	}
	b.WriteByte('}')
	return b.Bytes(), nil
}

// UnmarshalJSON reads what MarshalJSON wrote. A word that is no cause is an error.
func (n *Counts) UnmarshalJSON(text []byte) error {
	var m map[string]int64
	if err := json.Unmarshal(text, &m); err != nil {
		return err
	}
	*n = Counts{}
	for word, k := range m {
		c, ok := Parse(word)
		if !ok {
			return fmt.Errorf("%q is not a cause", word)
		}
		n[c] = k
	}
	return nil
}
