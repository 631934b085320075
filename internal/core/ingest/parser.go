package ingest

import (
	"fmt"
	"net/netip"

	"kestrix/internal/core/config"
	"kestrix/internal/core/limit"
	"kestrix/internal/core/request"
	"kestrix/internal/core/rng"
	"kestrix/internal/core/route"
	"kestrix/internal/core/scenario"
	"kestrix/internal/core/trace"
)

// recordReader reads records and turns them into arrivals, with a parser for each sequence of an
// ingest. Several may be at work, each on a piece of a file of its own.
type recordReader struct {
	rec     trace.Record
	parsers []*parser
	part    trace.Span // of the trace that is replayed
	partial bool       // that is not all of it
	origin  int64      // the time of the first record, be it replayed or not
	keyed   bool       // the sender is asked for
	sender  sender     // of the record

	_ [64]byte // keeps what several write on lines of their own
}

// newRecordReader makes one with plans of its own.
func (f *Pipeline) newRecordReader() *recordReader {
	c := &recordReader{part: f.o.Part, partial: f.o.Part != (trace.Span{}), origin: f.origin}
	for _, l := range f.sequences {
		own := *l.Plan
		c.keyed = c.keyed || own.keyed()
		c.parsers = append(c.parsers, &parser{Plan: &own, cache: newRouteCache(&own)})
	}
	return c
}

// wants reports whether the record is to be replayed.
func (c *recordReader) needs(name string) (bool, error) {
	if c.rec.Time == trace.NoTime {
		return false, &trace.LineError{Name: name, Line: c.rec.Line, Column: 1, Why: "the record has no time, which a replay cannot do without", CannotBeSkip: true}
	}
	return !c.partial || c.part.Contains(c.rec.Time, c.origin), nil
}

// parser turns records into arrivals of one sequence.
type parser struct {
	*Plan
	route route.Request
	cache routeCache
	known *misses

	_ [64]byte
}

// sender is what is asked of who sent a request, where it is asked (plan.keyed).
type sender struct {
	client   uint64 // trace.ClientKey
	identity uint64 // hash of the session, else of that and the user agent
}

// clientRef is by what who sent a request is told from others, and where it stands. An
// address that is written in several ways is several references: to read each time what
// is nearly always written alike would take longer than all the rest (ingest.meet).
type clientRef struct {
	hash    uint64 // of the session, else of the text and the user agent
	text    string // how the client is written
	line    int32  // of its piece
	session bool
}

// who tells who sent a record. The text of the reference lasts as long as that of the
// record.
func (c *recordReader) who(rec *trace.Record, w *clientRef) {
	w.text, w.line, w.session = trace.Text(rec.Client), int32(rec.Line), false
	if trace.HasPort(w.text) {
		w.text = trace.CanonicalClient(w.text) // or each would be a reference of its own
		w.hash = quickHash([]byte(w.text))
	} else {
		w.hash = quickHash(rec.Client)
	}
	switch {
	case rec.Session != nil:
		w.hash, w.session = quickHash(rec.Session)^hashSession, true
	case rec.UserAgent != nil:
		w.hash ^= quickHash(rec.UserAgent) * hashAgent
	}
	if !c.keyed {
		return
	}
	c.sender.client = trace.ClientKey(w.text)
	switch {
	case rec.Session != nil:
		c.sender.identity = identityHash(rec.Session) ^ hashSession
	case rec.UserAgent != nil:
		c.sender.identity = c.sender.client ^ identityHash(rec.UserAgent)*hashAgent
	default:
		c.sender.identity = c.sender.client
	}
}

// What tells the hash of one thing from that of another.
const (
	hashSession = 0x9e3779b97f4a7c15
	hashAgent   = 0xd1342543de82ef95
)

// arrival turns one record into an arrival, but for the number of its client.
func (p *parser) arrival(name string, rec *trace.Record, a *Arrival, w *sender) error {
	// Field by field: making a whole one and copying it costs more.
	a.At, a.Key, a.SeatKey, a.Duration, a.Limited = rec.Time, w.client, 0, rec.Duration, 0
	a.Session, a.Route, a.Client, a.Front, a.Instance, a.Recorded, a.Paths, a.Repeats, a.Page = 0, -1, -1, 0, 0, 0, 0, 0, 0
	if rec.Page != nil {
		a.Page = int32(rec.Page.N)
	}
	if rec.Status >= 500 {
		a.Recorded = int16(rec.Status)
	}
	if n := p.o.Instances; n > 1 {
		a.Instance = uint8(rng.Below(rng.Bits(p.o.Seed, w.identity, 0, rng.Who), n))
	}
	a.Held = rec.Bytes >= 0 && rec.Bytes <= request.HeldBack
	a.whole, a.Repeatable, a.Redirected = rec.WholeSecond, request.Idempotent(trace.Text(rec.Method)), false
	t := p.only
	if rec.Frontend != nil {
		t = p.tables[string(rec.Frontend)]
		if t == nil {
			return &trace.LineError{Name: name, Line: rec.Line, Column: 1, Why: fmt.Sprintf("the record names the frontend %q, which the configuration does not have", rec.Frontend), CannotBeSkip: true}
		}
	}
	if t == nil {
		return &trace.LineError{Name: name, Line: rec.Line, Why: "the configuration has several frontends and this record names none; say which with -frontend", CannotBeSkip: true}
	}
	a.Front = uint16(t.index)
	if t.tcp {
		rec.Protocol = trace.TCP // whatever the log calls it, it is a connection
		a.Repeatable = false
	}
	a.Stream = rec.Protocol != trace.HTTP || rec.Status == 101
	if p.Rated {
		if addr, err := netip.ParseAddr(trace.CanonicalClient(trace.Text(rec.Client))); err == nil {
			a.Limited = limit.Key(addr)
		} else {
			a.Limited = w.client
		}
	}
	if t.all {
		a.Route = t.first // whatever is asked
		return nil
	}
	if !p.cache.holds(t, rec) {
		p.find(t, rec, a, w)
		return nil
	}
	e, known := p.cache.entry(t, rec)
	if known {
		a.Route, a.Redirected, a.Paths = e.route, e.redirected, e.paths
		p.miss(e.missed)
		return nil
	}
	missed := p.find(t, rec, a, w)
	if a.Route < 0 || p.Routes[a.Route].hash == nil && p.Routes[a.Route].sticky == nil {
		e.route, e.redirected, e.paths, e.missed, e.set = a.Route, a.Redirected, a.Paths, missed, true // else more is asked of it than its route
	}
	return nil
}

// find finds the route of a record. It returns, and counts, what routes asked and the
// record does not have.
func (p *parser) find(t *table, rec *trace.Record, a *Arrival, w *sender) route.Field {
	q := &p.route
	Request(rec, t.asks, p.o.Host, q)
	if st := p.scenario.Streams; st != nil && !a.Stream && rec.Path != nil && st.Hold(q.Path) {
		a.Stream = true
		if rec.Status != 101 && rec.Duration == 0 {
			a.Duration = -1 // a log line that was written when the stream began
		}
	}
	i, missed := t.routes.Match(q)
	if a.Route = -1; i >= 0 {
		a.Route, a.Redirected = t.first+int32(i), t.routes.Redirects(i, q)
		if h := p.Routes[a.Route].hash; h != nil {
			a.Key = request.HashKey(h, q, w.client)
		}
		if s := p.Routes[a.Route].sticky; s != nil {
			a.SeatKey = seatKey(s, rec, q, w)
		}
		if lists := p.Routes[a.Route].paths; lists != nil && rec.Path != nil {
			a.Paths = scenario.PathsOf(q.Path, lists)
		}
	}
	p.miss(missed)
	return missed
}

// seatKey is request.SeatKey for a record. A format that does not have header
// fields or cookies leaves the client's identity in their place, as if every
// client had been given its own.
func seatKey(s *config.Sticky, rec *trace.Record, q *route.Request, w *sender) uint64 {
	if s.By == "header" && len(rec.Headers) == 0 || s.By == "existing-cookie" && len(rec.Cookies) == 0 {
		return w.identity | 1
	}
	return request.SeatKey(s, q, w.client)
}
