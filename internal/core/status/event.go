package status

import (
	"time"

	"kestrix/internal/core/health"
)

// Event is something that happened to a proxy besides requests.
type Event struct {
	N      uint64    `json:"n"` // counts events, from 1
	At     time.Time `json:"at"`
	Object string    `json:"object"` // UPSTREAM.BACKEND, an upstream, a listener, "control" or "kestrix"
	Kind   EventKind `json:"kind"`
	// Severity is that of the kind.
	Severity Severity `json:"severity"`
	Text     string   `json:"text"`
}

// Severity is how much an event matters.
type Severity string

// The severities, with the priority of syslog for each (RFC 5424 section 6.2.1).
const (
	SeverityError   Severity = "error"   // 3: requests fail, or the proxy does not do what it was asked
	SeverityWarning Severity = "warning" // 4: something failed, and requests go on
	SeverityInfo    Severity = "info"    // 6
)

// Severities lists the severities, the gravest first.
var Severities = []Severity{SeverityError, SeverityWarning, SeverityInfo}

// Priority returns the priority of syslog for a severity.
func (s Severity) Priority() int {
	switch s {
	case SeverityError:
		return 3
	case SeverityWarning:
		return 4
	}
	return 6
}

// Known reports whether there is a kind of event of that name, the states of backends
// included.
func (k EventKind) Known() bool {
	_, state := health.Named(string(k))
	return state || describe(k) != nil
}

// SeverityOf returns the severity of the events of a kind.
func SeverityOf(k EventKind) Severity {
	switch d := describe(k); {
	case d != nil:
		return d.Severity
	case k == StateEvent(health.Down) || k == StateEvent(health.Suspended):
		return SeverityWarning
	}
	return SeverityInfo
}

func describe(k EventKind) *EventDescription {
	for i := range EventKinds {
		if EventKinds[i].Kind == k {
			return &EventKinds[i]
		}
	}
	return nil
}

// EventKind is the word of a kind of event. EventKinds describes each.
type EventKind string

// The kinds of events that are not the state of a backend.
const (
	EventAccepting         EventKind = "accepting"
	EventAccessLog         EventKind = "access-log"
	EventEventLog          EventKind = "event-log"
	EventAvailable         EventKind = "available"
	EventCertificate       EventKind = "certificate"
	EventChanged           EventKind = "changed"
	EventCertificateFailed EventKind = "certificate-failed"
	EventClosed            EventKind = "closed"
	EventClosing           EventKind = "closing"
	EventFault             EventKind = "fault"
	EventFiles             EventKind = "files"
	EventJournal           EventKind = "journal"
	EventKept              EventKind = "kept"
	EventLeaving           EventKind = "leaving"
	EventLimits            EventKind = "limits"
	EventListening         EventKind = "listening"
	EventManager           EventKind = "manager"
	EventOrder             EventKind = "order"
	EventOrders            EventKind = "orders"
	EventOverloaded        EventKind = "overloaded"
	EventProbe             EventKind = "probe"
	EventRecord            EventKind = "record"
	EventRefreshed         EventKind = "refreshed"
	EventRefused           EventKind = "refused"
	EventReloaded          EventKind = "reloaded"
	EventResolved          EventKind = "resolved"
	EventServing           EventKind = "serving"
	EventSocket            EventKind = "socket"
	EventStopped           EventKind = "stopped"
	EventStopping          EventKind = "stopping"
	EventTracing           EventKind = "tracing"
	EventUnavailable       EventKind = "unavailable"
	EventUnresolved        EventKind = "unresolved"
)

// StateEvent returns the kind of the event that a backend has come to a state.
func StateEvent(s health.State) EventKind { return EventKind(s.String()) }

// EventDescription describes a kind of event for the reference.
type EventDescription struct {
	Kind     EventKind
	Severity Severity
	Of       string // the objects that have it
	Doc      string
}

// EventKinds describes every kind of event, the states of backends excepted: health.States
// has those.
var EventKinds = []EventDescription{
	{EventAccepting, SeverityInfo, "a listener", "connections are accepted again, after `overloaded`"},
	{EventAccessLog, SeverityWarning, "kestrix", "the access log was reopened, cannot be written, or is written again"},
	{EventAvailable, SeverityInfo, "an upstream", "a backend is in rotation again, after `unavailable`"},
	{EventCertificate, SeverityInfo, "a host", "a certificate was obtained or renewed by ACME; or certificates are stored again"},
	{EventCertificateFailed, SeverityWarning, "a host", "a certificate could not be obtained or renewed, with the reason; or it cannot be stored. The earlier certificate stays in use"},
	{EventChanged, SeverityInfo, "an upstream, a frontend or kestrix", "a difference between the configuration before a reload and after it"},
	{EventClosed, SeverityInfo, "a listener or a backend", "a listener is closed; or the connections of a backend were closed because it went down (`on_down`)"},
	{EventClosing, SeverityInfo, "a listener", "it is no longer in the configuration; its connections end with their next response"},
	{EventEventLog, SeverityWarning, "kestrix", "the file of events cannot be written, or is written again; or events were lost"},
	{EventFault, SeverityInfo, "a stand-in", "a fault has begun or ended"},
	{EventFiles, SeverityWarning, "kestrix", "files cannot be watched for changes"},
	{EventJournal, SeverityWarning, "kestrix", "the journal (`serve -journal`) has begun, goes on in another file, or has ended with an error"},
	{EventKept, SeverityInfo, "a backend", "an order of an operator stays in force after a reload or a restart"},
	{EventLeaving, SeverityInfo, "kestrix", "the proxy has been asked to stop, and `stop_notice` has begun"},
	{EventLimits, SeverityWarning, "kestrix", "the limit of open files allows fewer connections than the configuration"},
	{EventListening, SeverityInfo, "a listener, control or a stand-in", "connections are accepted"},
	{EventManager, SeverityWarning, "kestrix", "the service manager cannot be notified"},
	{EventOrder, SeverityInfo, "a backend or control", "an order of an operator was carried out, or has ended"},
	{EventOrders, SeverityWarning, "kestrix or a stand-in", "orders cannot be kept on disk, cannot be read from there, or cannot be taken"},
	{EventOverloaded, SeverityError, "a listener", "connections cannot be accepted, or are closed for others, for lack of files or because of `connections_total`"},
	{EventProbe, SeverityWarning, "a backend or kestrix", "the first probe of a backend failed, or first probes take long; with `serve -log probes`, each probe"},
	{EventRecord, SeverityWarning, "kestrix", "recording of a trace (`record`) has begun, has ended, or has lost requests"},
	{EventRefreshed, SeverityInfo, "kestrix", "a changed file of the configuration, such as a certificate, is in use"},
	{EventRefused, SeverityError, "a listener, control or kestrix", "a connection without a valid PROXY header, a request to control without the right, or a reload was refused"},
	{EventReloaded, SeverityInfo, "kestrix", "a new configuration is in force"},
	{EventResolved, SeverityInfo, "an upstream", "a name has other addresses than before"},
	{EventServing, SeverityInfo, "kestrix", "the proxy is ready"},
	{EventSocket, SeverityInfo, "kestrix", "a socket from the service manager is used, or closed because no frontend has its address"},
	{EventStopped, SeverityInfo, "kestrix", "the proxy has ended"},
	{EventStopping, SeverityInfo, "kestrix", "no new connections are accepted; requests in flight may end"},
	{EventTracing, SeverityWarning, "kestrix", "spans of requests are lost, or the collector takes them again"},
	{EventUnavailable, SeverityError, "an upstream", "none of its backends is in rotation"},
	{EventUnresolved, SeverityWarning, "an upstream", "a name could not be looked up; its earlier addresses stay in use"},
}
