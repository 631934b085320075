package sim

// event is something that happens at a moment.
type event struct {
	req    int32 // position in engine.requests
	gen    uint32
	server int32 // position in engine.servers, or of an upstream or fault
	kind   eventKind
}

// eventKind is the kind of an event; of done, with the epoch of the server above its
// lowest bits, so that what a dead process would have done is void, and above that the lists of
// paths that the request is in, which may have been given up by then. An event has four fields, up to which the compiler keeps a struct in registers.
type eventKind uint32

// kindBits are those of a kind alone, epochBits those of an epoch.
const (
	kindBits  = 8
	epochBits = 16
)

const (
	reach      eventKind = iota // a connection stands and the request is sent
	done                        // a worker is done
	failAfter                   // connecting took too long
	answerLate                  // the answer timeout
	streamEnd
	streamCut    // the stream timeout
	streamIdle   // the idle timeout, of a stream whose backend has gone silent
	patienceEnds // of a client; gen is the number of its request
	resend       // a client connects again
	asksAgain    // a client repeats a request
	another      // a client like another asks, see multiply
	nextAsked    // a client of a closed load asks again
	coreDue      // the core has something due
	probeReach
	probeLate
	faultBegins
	faultEnds
	faultTurns // a flapping backend fails, or works again
	sharedDone // the first of what shares the cores of a server is done
	callDone   // a dependency is done with a call; req is its number
	callLate   // a backend gives a call up
	proxyWaits // a starting proxy has waited for long enough; server is its instance
	warmed     // a server is as fast as before its process restarted
)
