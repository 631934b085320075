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
	Text   string    `json:"text"`
}

// EventKind is the word of a kind of event. EventKinds describes each.
type EventKind string

// The kinds of events that are not the state of a backend.
const (
	EventAccepting   EventKind = "accepting"
	EventAvailable   EventKind = "available"
	EventChanged     EventKind = "changed"
	EventClosed      EventKind = "closed"
	EventClosing     EventKind = "closing"
	EventFault       EventKind = "fault"
	EventFiles       EventKind = "files"
	EventJournal     EventKind = "journal"
	EventKept        EventKind = "kept"
	EventLeaving     EventKind = "leaving"
	EventLimits      EventKind = "limits"
	EventListening   EventKind = "listening"
	EventLog         EventKind = "log"
	EventManager     EventKind = "manager"
	EventOrder       EventKind = "order"
	EventOrders      EventKind = "orders"
	EventOverloaded  EventKind = "overloaded"
	EventProbe       EventKind = "probe"
	EventRecord      EventKind = "record"
	EventRefreshed   EventKind = "refreshed"
	EventRefused     EventKind = "refused"
	EventReloaded    EventKind = "reloaded"
	EventResolved    EventKind = "resolved"
	EventServing     EventKind = "serving"
	EventSocket      EventKind = "socket"
	EventStopped     EventKind = "stopped"
	EventStopping    EventKind = "stopping"
	EventUnavailable EventKind = "unavailable"
	EventUnresolved  EventKind = "unresolved"
)

// StateEvent returns the kind of the event that a backend has come to a state.
func StateEvent(s health.State) EventKind { return EventKind(s.String()) }

// EventDescription describes a kind of event for the reference.
type EventDescription struct {
	Kind EventKind
	Of   string // the objects that have it
	Doc  string
}

// EventKinds describes every kind of event, the states of backends excepted: health.States
// has those.
var EventKinds = []EventDescription{
	{EventAccepting, "a listener", "connections are accepted again, after `overloaded`"},
	{EventAvailable, "an upstream", "a backend is in rotation again, after `unavailable`"},
	{EventChanged, "an upstream, a frontend or kestrix", "a difference between the configuration before a reload and after it"},
	{EventClosed, "a listener or a backend", "a listener is closed; or the connections of a backend were closed because it went down (`on_down`)"},
	{EventClosing, "a listener", "it is no longer in the configuration; its connections end with their next response"},
	{EventFault, "a stand-in", "a fault has begun or ended"},
	{EventFiles, "kestrix", "files cannot be watched for changes"},
	{EventJournal, "kestrix", "the journal (`serve -journal`) has begun, goes on in another file, or has ended with an error"},
	{EventKept, "a backend", "an order of an operator stays in force after a reload or a restart"},
	{EventLeaving, "kestrix", "the proxy has been asked to stop, and `stop_notice` has begun"},
	{EventLimits, "kestrix", "the limit of open files allows fewer connections than the configuration"},
	{EventListening, "a listener, control or a stand-in", "connections are accepted"},
	{EventLog, "kestrix", "the access log was reopened, cannot be written, or is written again"},
	{EventManager, "kestrix", "the service manager cannot be notified"},
	{EventOrder, "a backend or control", "an order of an operator was carried out, or has ended"},
	{EventOrders, "kestrix or a stand-in", "orders cannot be kept on disk, cannot be read from there, or cannot be taken"},
	{EventOverloaded, "a listener", "connections cannot be accepted, or are closed for others, for lack of files or because of `connections_total`"},
	{EventProbe, "a backend or kestrix", "the first probe of a backend failed, or first probes take long; with `serve -log probes`, each probe"},
	{EventRecord, "kestrix", "recording of a trace (`record`) has begun, has ended, or has lost requests"},
	{EventRefreshed, "kestrix", "a changed file of the configuration, such as a certificate, is in use"},
	{EventRefused, "a listener, control or kestrix", "a connection without a valid PROXY header, a request to control without the right, or a reload was refused"},
	{EventReloaded, "kestrix", "a new configuration is in force"},
	{EventResolved, "an upstream", "a name has other addresses than before"},
	{EventServing, "kestrix", "the proxy is ready"},
	{EventSocket, "kestrix", "a socket from the service manager is used, or closed because no frontend has its address"},
	{EventStopped, "kestrix", "the proxy has ended"},
	{EventStopping, "kestrix", "no new connections are accepted; requests in flight may end"},
	{EventUnavailable, "an upstream", "none of its backends is in rotation"},
	{EventUnresolved, "an upstream", "a name could not be looked up; its earlier addresses stay in use"},
}
