package replay

import "kestrix/internal/core/tick"

// lane holds what comes a fixed delay after it was begun: it is in order by
// itself and needs no heap.
type lane struct {
	items []laneItem
	head  int
}

type laneItem struct {
	at tick.Time
	ev event
}

func (l *lane) at() tick.Time {
	if l.head == len(l.items) {
		return tick.Never
	}
	return l.items[l.head].at
}

func (l *lane) push(at tick.Time, e event) {
	if l.head > 1024 && l.head > len(l.items)/2 {
		n := copy(l.items, l.items[l.head:])
		l.items, l.head = l.items[:n], 0
	}
	l.items = append(l.items, laneItem{at, e})
}

func (l *lane) pop() event {
	e := l.items[l.head].ev
	l.head++
	if l.head == len(l.items) {
		l.items, l.head = l.items[:0], 0
	}
	return e
}

// event is something that happens at a moment. Of sureDone, req is the session, and gen
// and epoch are how long the request has taken, in nanoseconds.
type event struct {
	req    int32 // position in engine.requests
	gen    uint32
	server int32 // position in engine.servers, or of an upstream or fault
	kind   eventKind
	epoch  uint16 // of the server, so that what a dead process would have done is void
}

type eventKind uint16

const (
	reach      eventKind = iota // a connection stands and the request is sent
	done                        // a worker is done
	sureDone                    // likewise, with a request whose future was known, see sure
	failAfter                   // connecting took too long
	answerLate                  // the answer timeout
	streamEnd
	streamCut  // the stream timeout
	streamIdle // the idle timeout, of a stream whose backend has gone silent
	resend     // a client connects again
	another    // a client like another asks, see multiply
	nextAsked  // a client of a closed load asks again
	coreDue    // the core has something due
	probeReach
	probeLate
	faultBegins
	faultEnds
	faultTurns // a flapping backend fails, or works again
)
