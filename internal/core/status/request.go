package status

import "time"

// Request is a request, or connection of a tcp frontend, that has ended and that a running
// proxy keeps to be looked at, with its attempts.
type Request struct {
	RequestID string    `json:"request_id"`
	ID        *uint64   `json:"id"` // in the journal; null where no backend was to be chosen
	At        time.Time `json:"at"` // when it began
	Frontend  string    `json:"frontend"`
	Route     string    `json:"route"` // empty: none took it
	Upstream  string    `json:"upstream"`
	Client    string    `json:"client"`
	Method    string    `json:"method"` // empty of a connection
	Host      string    `json:"host"`
	Path      string    `json:"path"` // with its query, masked as in logs; at most 1,000 bytes of it
	Protocol  string    `json:"protocol"`
	Status    int       `json:"status"` // 0: none was sent
	Cause     string    `json:"cause"`  // empty: it did not fail
	Bytes     int64     `json:"bytes"`
	Duration  float64   `json:"duration"` // seconds
	TraceID   string    `json:"trace_id"`
	Slow      bool      `json:"slow"` // it lasted for at least Requests.SlowFrom
	// Attempts are those with backends, in their order.
	Attempts []RequestAttempt `json:"attempts"`
}

// RequestAttempt is an attempt of a request with a backend.
type RequestAttempt struct {
	Backend   string    `json:"backend"`
	Address   string    `json:"address"`
	Reason    string    `json:"reason"` // for the choice of the backend
	At        time.Time `json:"at"`
	Connect   float64   `json:"connect"`    // seconds; 0 for a reused connection
	FirstByte float64   `json:"first_byte"` // seconds until the header of the response; 0: there was none
	Duration  float64   `json:"duration"`   // seconds
	Status    int       `json:"status"`     // of the backend; 0: none
	Cause     string    `json:"cause"`      // of the attempt; empty: it did not fail
}

// Requests are the requests that a proxy keeps and a query selects.
type Requests struct {
	Most     int       `json:"most"` // of each kind and route, at most
	SlowFrom float64   `json:"slow"` // seconds
	Requests []Request `json:"requests"`
}

// RequestQuery selects requests. Empty fields select all.
type RequestQuery struct {
	ID       string // request_id, or id in decimal digits
	Frontend string
	Route    string
	Cause    string
	Failed   bool // those that failed
	Slow     bool // those that lasted long; with Failed, both
	Most     int  // the newest; 0: all
	PerCause int  // the newest of each cause; 0: all
}
