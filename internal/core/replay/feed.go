package replay

import (
	"context"
	"errors"
	"fmt"
	"io"
	"math/bits"
	"net/netip"
	"strings"
	"sync/atomic"

	"github.com/cespare/xxhash/v2"

	"kestrix/internal/core/config"
	"kestrix/internal/core/draw"
	"kestrix/internal/core/limit"
	"kestrix/internal/core/route"
	"kestrix/internal/core/scenario"
	"kestrix/internal/core/trace"
	"kestrix/internal/core/upstream"
)

// Source is one file of a trace.
type Source struct {
	Name string
	Open func() (io.ReadCloser, error)
}

// arrival is a record reduced to what the replay needs of it. Reading and
// routing do not depend on the course of the replay, so they run ahead of it.
type arrival struct {
	at       int64  // nanoseconds since the epoch
	key      uint64 // see upstream.HashKey
	seatKey  uint64 // see upstream.SeatKey
	duration int64  // nanoseconds, -1 if unknown
	limited  uint64 // limit.Key, where a rate is enforced
	session  uint32 // dense number of the client
	route    int32  // position in feed.routes, -1 for none
	who      int32  // the client of a closed load, from 0; -1 for none
	front    uint16 // position in feed.fronts
	instance uint8  // the proxy it comes to
	whole    bool   // the stamp has no fraction
	recorded int16  // the failure that happens again, 0 for none
	repeat   bool   // the method is idempotent
	stream   bool
}

// feed reads a trace, routes it, puts it in order and hands it on in batches.
type feed struct {
	o        Options
	scenario *scenario.Scenario
	sources  []Source
	origin   int64 // the time of the first record, be it replayed or not
	met      bool  // it was seen
	partial  bool  // only a part is replayed
	tables   map[string]*table
	only     *table // when records need not say their frontend
	routes   []routeRef
	fronts   []*config.Frontend
	rated    bool // somewhere a rate is enforced

	known     map[route.Field]int64
	bad       []trace.Bad
	badLines  int64
	records   int64
	late      int64
	first     int64
	last      int64
	started   bool
	ids       interner // clients by address and user agent, or session
	addresses interner
	lately    [1 << latelyBits]seen // clients seen lately, by the hash of how they are written
	blocks    [][]arrival           // in order; the last is being filled
	settled   int                   // how many of the first block have been spread
	spread    bool
	shifted   int64 // stamps that were moved within their second
	out       chan []arrival
	spare     chan []arrival
	err       error
	read      atomic.Int64 // bytes of all files, as stored, for progress
}

// table is a frontend's routes and where each leads.
type table struct {
	routes *route.Table
	all    bool  // the first route takes everything
	tcp    bool  // it takes connections
	first  int32 // position of its first route in feed.routes
	index  int32 // in feed.fronts
}

// routeRef is a route and the upstream it sends to.
type routeRef struct {
	name     string // FRONTEND/ROUTE
	upstream int32  // -1 for a redirect or reply
	front    int32  // position in feed.fronts
	cfg      *config.Route
	waits    config.Waits
	hash     *config.Hash   // nil unless something else than the client's address is hashed
	sticky   *config.Sticky // nil unless clients are known without a cookie of ours
}

// seen is a client as it was written, and who that is.
type seen struct {
	raw      uint64 // hash of the texts; 0 for nobody
	key      uint64 // trace.ClientKey
	identity uint64 // hash of the session, else of address and user agent
	session  uint32
}

// latelyBits sizes the memory of clients: half a megabyte stays in a core's own
// cache.
const latelyBits = 14

const batchSize = 2048

func newFeed(c *config.Config, s *scenario.Scenario, sources []Source, o Options) (*feed, error) {
	if s.Load != nil && s.Load.Frontend != "" && o.Frontend == "" {
		o.Frontend = s.Load.Frontend
	}
	f := &feed{
		o: o, scenario: s, sources: sources, partial: o.Part != (trace.Span{}), tables: map[string]*table{}, known: map[route.Field]int64{},
		out: make(chan []arrival, 8), spare: make(chan []arrival, 16), spread: o.Spread != "none",
	}
	index := map[string]int32{}
	for i, u := range c.Upstreams {
		index[u.Name] = int32(i)
	}
	var names []string
	for _, fe := range c.Frontends {
		t := &table{routes: route.Compile(fe), tcp: fe.Protocol == "tcp", first: int32(len(f.routes)), index: int32(len(f.fronts))}
		f.fronts = append(f.fronts, fe)
		f.rated = f.rated || fe.Limits.Rate > 0
		for _, r := range fe.Routes {
			up, ok := index[r.SendTo.Value]
			if !ok {
				up = -1 // the proxy answers by itself
			}
			ref := routeRef{name: fe.Name + "/" + r.Name, upstream: up, cfg: r, front: t.index}
			if up >= 0 {
				ref.waits = r.Waits(c.Upstreams[up])
				if h := c.Upstreams[up].Hash; h != nil && h.Key != "client" {
					ref.hash = h
				}
				if s := c.Upstreams[up].Sticky; s != nil && s.By != "cookie" {
					ref.sticky = s
				}
			}
			f.rated = f.rated || r.Limits.Rate > 0
			f.routes = append(f.routes, ref)
		}
		if len(fe.Routes) > 0 && fe.Routes[0].When.Empty() {
			r := f.routes[t.first]
			t.all = s.Streams == nil && r.hash == nil && r.sticky == nil
		}
		f.tables[fe.Name] = t
		names = append(names, fe.Name)
	}
	if o.Frontend != "" {
		f.only = f.tables[o.Frontend]
		if f.only == nil {
			return nil, fmt.Errorf("-frontend: no frontend is called %q; there are: %s", o.Frontend, strings.Join(names, ", "))
		}
	} else if len(names) == 1 {
		f.only = f.tables[names[0]]
	}
	return f, nil
}

// run reads everything; it closes out when it is done and leaves err.
func (f *feed) run(ctx context.Context) {
	defer close(f.out)
	if l := f.scenario.Load; l != nil {
		if !l.Closed {
			f.err = f.generate(ctx, l)
			f.release(ctx, 1<<62)
		}
		return
	}
	for _, s := range f.sources {
		if f.err = f.readOne(ctx, s); f.err != nil {
			return
		}
	}
	if f.records == 0 && f.met {
		f.err = errors.New("no record lies in the part that -from and -until leave")
		return
	}
	if f.records == 0 {
		var names []string
		for _, s := range f.sources {
			names = append(names, s.Name)
		}
		f.err = fmt.Errorf("%s: there is nothing to replay: no readable record", strings.Join(names, ", "))
		return
	}
	f.release(ctx, 1<<62)
}

func (f *feed) readOne(ctx context.Context, s Source) error {
	src, err := s.Open()
	if err != nil {
		return err
	}
	defer src.Close()
	r, err := trace.NewReader(s.Name, src, f.o.Read)
	if err != nil {
		return err
	}
	defer r.Close()
	before := f.read.Load()
	defer func() {
		f.badLines += r.BadLines
		f.bad = append(f.bad, r.Bad...)
	}()
	var rec trace.Record
	var q route.Request
	for {
		err := r.Next(&rec)
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err != nil {
			return err
		}
		if rec.Time == trace.NoTime {
			return &trace.LineError{Name: s.Name, Line: rec.Line, Column: 1, Why: "the record has no time, which a replay cannot do without", CannotBeSkip: true}
		}
		if !f.met {
			f.met, f.origin = true, rec.Time
		}
		if !f.inPart(rec.Time) {
			continue
		}
		if err := f.take(s.Name, &rec, &q); err != nil {
			return err
		}
		if f.records%1024 == 0 {
			f.release(ctx, f.last-int64(f.o.Window))
			f.read.Store(before + r.Offset())
			if ctx.Err() != nil {
				return nil // the replay that asked to stop says so itself
			}
		}
	}
}

// inPart says whether a record is to be replayed.
func (f *feed) inPart(at int64) bool { return !f.partial || f.o.Part.Holds(at, f.origin) }

// generate makes the requests of an open load.
func (f *feed) generate(ctx context.Context, l *scenario.Load) error {
	spec := l.Spec
	spec.Seed = f.o.Seed
	g := trace.NewGenerator(spec)
	var rec trace.Record
	var q route.Request
	for g.Next(&rec) {
		rec.Duration = -1
		f.met = true
		if !f.inPart(rec.Time) {
			continue
		}
		if err := f.take("load", &rec, &q); err != nil {
			return err
		}
		if f.records%1024 == 0 {
			f.release(ctx, f.last)
			if ctx.Err() != nil {
				return nil
			}
		}
	}
	if f.records == 0 {
		return errors.New("the scenario's load makes no request in this time")
	}
	return nil
}

// take turns one record into an arrival and puts it where it belongs.
func (f *feed) take(name string, rec *trace.Record, q *route.Request) error {
	last := len(f.blocks) - 1
	if last < 0 || len(f.blocks[last]) == batchSize {
		f.blocks = append(f.blocks, f.block())
		last++
	}
	// Written where it stays.
	b := &f.blocks[last]
	n := len(*b)
	*b = (*b)[:n+1]
	a := &(*b)[n]
	if err := f.arrivalOf(name, rec, q, a); err != nil {
		*b = (*b)[:n]
		return err
	}
	return f.order(name, rec.Line, a)
}

// arrivalOf turns one record into an arrival.
func (f *feed) arrivalOf(name string, rec *trace.Record, q *route.Request, a *arrival) error {
	*a = arrival{at: rec.Time, duration: rec.Duration, whole: rec.WholeSecond, route: -1, who: -1}
	if f.o.Stamp == "end" && rec.Duration >= 0 {
		f.fromEnd(a)
	}
	if f.o.Recorded && rec.Status >= 500 {
		a.recorded = int16(rec.Status)
	}
	client, identity := f.who(rec, a)
	if n := f.o.Instances; n > 1 {
		a.instance = uint8(draw.Below(draw.Bits(f.o.Seed, identity, 0, draw.Who), n))
	}
	a.repeat = idempotent(rec.Method)
	t := f.only
	if rec.Frontend != nil {
		t = f.tables[string(rec.Frontend)]
		if t == nil {
			return &trace.LineError{Name: name, Line: rec.Line, Column: 1, Why: fmt.Sprintf("the record names the frontend %q, which the configuration does not have", rec.Frontend), CannotBeSkip: true}
		}
	}
	if t == nil {
		return fmt.Errorf("%s:%d: the configuration has several frontends and this record names none; say which with -frontend", name, rec.Line)
	}
	a.front, a.key = uint16(t.index), client
	if t.tcp {
		rec.Protocol = trace.TCP // whatever the log calls it, it is a connection
		a.repeat = false
	}
	a.stream = rec.Protocol != trace.HTTP || rec.Status == 101
	if f.rated {
		if addr, err := netip.ParseAddr(trace.CanonicalClient(trace.Text(rec.Client))); err == nil {
			a.limited = limit.Key(addr)
		} else {
			a.limited = client
		}
	}
	if t.all {
		a.route = t.first // whatever is asked
		return nil
	}
	Request(rec, t.routes.Asks, f.o.Host, q)
	if st := f.scenario.Streams; st != nil && !a.stream && rec.Path != nil && st.Hold(q.Path) {
		a.stream = true
		if rec.Status != 101 && rec.Duration == 0 {
			a.duration = -1 // a log line that was written when the stream began
		}
	}
	i, missed := t.routes.Match(q)
	if i >= 0 {
		a.route = t.first + int32(i)
		if h := f.routes[a.route].hash; h != nil {
			a.key = upstream.HashKey(h, &upstream.Brings{
				Client: client, Address: trace.CanonicalClient(trace.Text(rec.Client)), Path: q.Path, Header: rec.Header, Cookie: rec.Cookie, Query: queryOf(rec),
			})
		}
		if s := f.routes[a.route].sticky; s != nil {
			a.seatKey = f.seatKey(s, rec, client, identity)
		}
	}
	if missed != 0 {
		for _, x := range route.Fields {
			if missed&x.Bit != 0 {
				f.known[x.Bit]++
			}
		}
	}
	return nil
}

// who tells the client of a record: gives its session a number, and returns the
// hash of its address and of its identity.
func (f *feed) who(rec *trace.Record, a *arrival) (client, identity uint64) {
	raw := quickHash(rec.Client)
	second := rec.UserAgent
	if rec.Session != nil {
		second, raw = rec.Session, ^raw
	}
	raw ^= bits.RotateLeft64(quickHash(second), 29)
	k := &f.lately[raw*0x9e3779b97f4a7c15>>(64-latelyBits)]
	if k.raw != raw || raw == 0 {
		*k = f.meet(rec, raw)
	}
	a.session = k.session
	return k.key, k.identity
}

// meet finds out about a client that was not seen lately.
func (f *feed) meet(rec *trace.Record, raw uint64) seen {
	k := seen{raw: raw, key: trace.ClientKey(trace.Text(rec.Client))}
	k.identity = k.key
	switch {
	case rec.Session != nil:
		k.identity = xxhash.Sum64(rec.Session) ^ 0x9e3779b97f4a7c15
	case rec.UserAgent != nil:
		k.identity ^= xxhash.Sum64(rec.UserAgent) * 0xd1342543de82ef95
	}
	var fresh bool
	if k.session, fresh = f.ids.number(k.identity); fresh {
		f.addresses.number(k.key)
	}
	return k
}

// queryOf looks the parameters of a record's path up.
func queryOf(rec *trace.Record) route.Lookup {
	_, raw, _ := strings.Cut(trace.Text(rec.Path), "?")
	return QueryLookup(raw)
}

// seatKey is upstream.SeatKey for a record. A format that does not have header
// fields or cookies leaves the client's identity in their place, as if every
// client had been given its own.
func (f *feed) seatKey(s *config.Sticky, rec *trace.Record, client, identity uint64) uint64 {
	if s.By == "header" && len(rec.Headers) == 0 || s.By == "existing-cookie" && len(rec.Cookies) == 0 {
		return identity | 1
	}
	return upstream.SeatKey(s, client, rec.Header, rec.Cookie)
}

// idempotent says whether a method may be repeated (RFC 9110 section 9.2.2).
func idempotent(method []byte) bool {
	switch string(method) {
	case "GET", "HEAD", "PUT", "DELETE", "OPTIONS", "TRACE":
		return true
	}
	return false
}

// Idempotent says whether a method may be repeated (RFC 9110 section 9.2.2).
func Idempotent(method string) bool { return idempotent([]byte(method)) }
