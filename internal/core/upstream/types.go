package upstream

import (
	"time"

	"kestrix/internal/core/cause"
	"kestrix/internal/core/health"
	"kestrix/internal/core/tick"
)

// BackendID is the number of a backend in its upstream. It stays with the
// backend over reloads and is given anew only when nothing of it is left.
type BackendID int32

// None is no backend.
const None BackendID = -1

// Request is what the core is told of one.
type Request struct {
	ID         uint64        // keys its random draws
	Key        uint64        // what hash goes by, see request.HashKey
	SeatKey    uint64        // what sticky by address, header or existing cookie knows it by; 0 for nothing
	Tag        int32         // the driver's own mark, given back with a grant
	Seat       BackendID     // the backend its cookie names, None without one
	SeatAge    time.Duration // since that cookie was issued
	Repeatable bool          // its method is idempotent (RFC 9110 section 9.2.2)
}

// Attempt is the driver's to keep from Choose to Settle. The zero value is
// ready for a request's first Choose.
type Attempt struct {
	Number  int16     // 1 is the first
	open    bool      // the client's seat is settled by this request: it had none, or lost it
	trial   bool      // it shows whether a backend that rested works again
	Backend BackendID // None while none is chosen
	Began   tick.Time
	ticket  uint64                 // of its place in the queue; 0 while it does not wait
	tried   [maxAttempts - 1]int32 // before this attempt
}

// Reset makes an attempt ready for another request.
func (a *Attempt) Reset() {
	a.Number, a.open, a.trial, a.Backend, a.Began, a.ticket = 0, false, false, None, 0, 0
}

// maxAttempts bounds the attempts of a request; the language allows no more.
const maxAttempts = 10

// Tried returns how many backends have been tried before this attempt.
func (a *Attempt) Tried() int { return min(max(int(a.Number)-1, 0), maxAttempts-1) }

// Kind says what Choose decided.
type Kind uint8

// The kinds of a verdict.
const (
	Go Kind = iota
	Refused
	Queued // the driver waits for a Granted action
)

// Reason says why a verdict is as it is.
type Reason uint8

// The reasons.
const (
	ByAlgorithm   Reason = iota // the algorithm chose
	KeptSeat                    // the client's own backend
	LostSeat                    // its backend is out: it moves to this one for good
	AfterFailure                // a retry
	SeatFull                    // its backend has no room: a detour, the seat stays
	NoBackend                   // refused: none is in rotation
	NoRoom                      // refused: every one has max_in_flight open
	TriedAnyway                 // no backend is in rotation, and when_all_down = "try-anyway"
	RefusedByLoss               // refused: its backend is out and on_loss = "refuse"
	Spilled                     // the algorithm chose, in another tier or zone than the first
	InQueue                     // it waits
	WaitedTooLong               // refused: the queue's timeout is over
	OnTrial                     // its rest is over: the request shows whether it works again
)

// ReasonDescription describes a reason.
type ReasonDescription struct {
	Reason Reason
	Word   string // as in access logs and results
	Doc    string // what has been decided, and when
}

// Reasons describes each reason that is not a refusal; of those the cause says it.
var Reasons = []ReasonDescription{
	{ByAlgorithm, "algorithm", "the algorithm chose among the backends in rotation"},
	{KeptSeat, "seat", "the client's session is with this backend"},
	{LostSeat, "moved", "the backend of the client's session is unavailable, and the session moved to this one"},
	{AfterFailure, "retry", "another attempt failed, and this is the next one"},
	{SeatFull, "detour", "the backend of the client's session has `max_in_flight` requests; this request goes here, and the session stays"},
	{TriedAnyway, "try-anyway", "no backend is in rotation, and `when_all_down` is \"try-anyway\""},
	{Spilled, "spill", "the algorithm chose in another tier or zone than the first one"},
	{InQueue, "queued", "the request waits in the queue for a free place"},
	{OnTrial, "trial", "the suspension is over, and this request shows whether the backend works again"},
}

// String returns the word of access logs and results; of a refusal, that of its cause.
func (r Reason) String() string {
	for i := range Reasons {
		if Reasons[i].Reason == r {
			return Reasons[i].Word
		}
	}
	return r.Cause().String()
}

// Cause returns why a request was refused, cause.None if it was not.
func (r Reason) Cause() cause.Cause {
	switch r {
	case NoBackend:
		return cause.NoBackend
	case NoRoom:
		return cause.QueueFull
	case RefusedByLoss:
		return cause.SessionRefused
	case WaitedTooLong:
		return cause.QueueTimeout
	}
	return cause.None
}

// Verdict is what Choose decided. It has four fields, up to which the compiler keeps a
// struct in registers.
type Verdict struct {
	Kind    Kind
	Backend BackendID
	Reason  Reason
	Seat    BackendID // the seat to give the client now, anew or once more, None to leave it as it is
}

// Moved reports whether the client had another seat before.
func (v Verdict) Moved() bool { return v.Reason == LostSeat && v.Seat != None }

// Outcome is how an attempt ended. It has four fields, as Verdict.
type Outcome struct {
	Kind   OutcomeKind
	Status int  // of an answer
	RPC    int  `json:",omitempty"` // its status of gRPC; 0: ok, or it has none
	Final  bool // the request cannot be sent again: a part of an answer was passed on, or its body is gone
	// FirstByte is how long the head of the answer took, where what came after
	// it says nothing of the backend's speed, as with a stream; else 0.
	FirstByte time.Duration
}

// OutcomeKind is the kind of an outcome.
type OutcomeKind uint8

// The kinds of an outcome.
const (
	Answered       OutcomeKind = iota // an answer, of whatever status
	ConnectRefused                    // connecting failed at once
	ConnectTimeout                    // connecting took too long
	AnswerTimeout                     // no answer in time
	Reset                             // the connection broke before the answer ended
	ClientLeft                        // the client went away; says nothing of the backend
	CutOff                            // the proxy ended a stream that had lasted its time; says nothing of the backend
	IdleCut                           // the proxy ended a stream on which nothing passed; says nothing of the backend
	TakenOut                          // the proxy ended it, as the backend is down or an operator wanted it; what is known of the backend is known already
)

// lastOutcome is the highest kind.
const lastOutcome = TakenOut

// Known reports whether there is such a kind.
func (k OutcomeKind) Known() bool { return k <= lastOutcome }

func (k OutcomeKind) String() string {
	return [...]string{"answered", "connection refused", "connect timeout", "answer timeout", "connection broken", "client left", "stream cut off", "stream idle", "backend out"}[k]
}

// RPCWord returns the status of gRPC of an answer as on has it, empty for ok and for none.
func (o Outcome) RPCWord() string {
	if o.Kind != Answered || o.RPC <= 0 || o.RPC >= len(cause.RPCStatuses) {
		return ""
	}
	return cause.RPCPrefix + cause.RPCStatuses[o.RPC]
}

// Cause returns why an attempt failed, cause.None if it did not.
func (o Outcome) Cause() cause.Cause {
	switch o.Kind {
	case Answered:
		if o.Status >= 500 {
			return cause.Status5xx
		}
		return cause.OfRPC(o.RPC)
	case ConnectRefused:
		return cause.Refused
	case ConnectTimeout:
		return cause.ConnectTimeout
	case AnswerTimeout:
		return cause.AnswerTimeout
	case Reset:
		return cause.Reset
	case ClientLeft:
		return cause.ClientLeft
	case IdleCut:
		return cause.IdleTimeout
	case TakenOut:
		return cause.BackendOut
	}
	return cause.None
}

// Step says what comes after an attempt.
type Step uint8

// The steps.
const (
	Finished Step = iota
	Again         // Choose once more with the same attempt
)

// Probe is how a probe ended.
type Probe struct {
	Passed bool
	Why    string         // when it did not: "connection refused", "no answer within 1s", "status 503"
	Report *health.Report // what the backend says of itself; nil if it was not asked
}

// ActionKind is the kind of an action.
type ActionKind uint8

// The kinds of an action.
const (
	SendProbe ActionKind = iota
	Granted              // a request's wait in the queue is over
)

// Action is something the driver is to do.
type Action struct {
	Kind  ActionKind
	Probe BackendID // to whom a probe is sent
	Grant Grant
}

// Operation is what an operator does to a backend.
type Operation uint8

// The operations.
const (
	Park   Operation = iota // take it out
	Drain                   // keep its sessions, give it no new ones
	Return                  // end all that an operator has set, its weight included
	Weigh                   // set its weight
	Forget                  // drop what probes and traffic have shown
	Admit                   // end Park and Drain; a weight that was set stays
)

// Change is a change of a backend's shown state, or of whether it is in rotation.
type Change struct {
	At       tick.Time
	Backend  BackendID
	From, To health.State
	Why      string
	ByWeight bool // the state is the same: weight 0 took it out of rotation, or it has a weight again
}

// Member is how a backend stands, for reports.
type Member struct {
	ID       BackendID
	Name     string
	State    health.State
	Weight   int
	InFlight int
	Full     bool // max_in_flight is reached
	Since    tick.Time
	Rest     time.Duration // left of a suspension
	ByHand   string        // what an operator set that differs from the file; empty for nothing
	Operator health.Operator
	// Beneath is the state that State hides, as that of a drained backend that is down.
	Beneath health.State
	// SilentSince is when the first request was begun since the last first byte; tick.Never
	// for none, and where silent_after does not watch for that.
	SilentSince tick.Time
	// Share is the part of its weight that the backend reports to be able to take; 1 where it
	// reports none.
	Share float64
}
