package replay

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"net/netip"
	"net/url"
	"slices"
	"strings"
	"sync/atomic"
	"time"

	"github.com/cespare/xxhash/v2"

	"kestrix/internal/core/config"
	"kestrix/internal/core/limit"
	"kestrix/internal/core/route"
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
	client   uint64 // trace.ClientKey
	key      uint64 // see upstream.HashKey
	seatKey  uint64 // see upstream.SeatKey
	duration int64  // nanoseconds, -1 if unknown
	session  uint32 // dense number of the client
	limited  uint64 // limit.Key, where a rate is enforced
	route    int32  // position in feed.routes, -1 for none
	front    int32  // position in feed.fronts
	whole    bool   // the stamp has no fraction
	repeat   bool   // the method is idempotent
	stream   bool
}

// feed reads a trace, routes it, puts it in order and hands it on in batches.
type feed struct {
	o       Options
	sources []Source
	tables  map[string]*table
	only    *table // when records need not say their frontend
	routes  []routeRef
	fronts  []*config.Frontend
	rated   bool // somewhere a rate is enforced

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
	keys      [8192]struct{ raw, key uint64 } // of IPv6 addresses seen lately
	pending   []arrival
	head      int
	spread    bool
	shifted   int64 // stamps that were moved within their second
	out       chan []arrival
	spare     chan []arrival
	batch     []arrival
	err       error
	read      atomic.Int64 // bytes of all files, as stored, for progress
}

// table is a frontend's routes and where each leads.
type table struct {
	routes *route.Table
	first  int32 // position of its first route in feed.routes
	index  int32 // in feed.fronts
}

// routeRef is a route and the upstream it sends to.
type routeRef struct {
	name     string // FRONTEND/ROUTE
	upstream int32  // -1 for a redirect or reply
	cfg      *config.Route
	waits    config.Waits
	hash     *config.Hash   // nil unless something else than the client's address is hashed
	sticky   *config.Sticky // nil unless clients are known without a cookie of ours
}

const batchSize = 2048

func newFeed(c *config.Config, sources []Source, o Options) (*feed, error) {
	f := &feed{
		o: o, sources: sources, tables: map[string]*table{}, known: map[route.Field]int64{},
		out: make(chan []arrival, 8), spare: make(chan []arrival, 16), spread: o.Spread != "none",
	}
	index := map[string]int32{}
	for i, u := range c.Upstreams {
		index[u.Name] = int32(i)
	}
	var names []string
	for _, fe := range c.Frontends {
		t := &table{routes: route.Compile(fe), first: int32(len(f.routes)), index: int32(len(f.fronts))}
		f.fronts = append(f.fronts, fe)
		f.rated = f.rated || fe.Limits.Rate > 0
		for _, r := range fe.Routes {
			up, ok := index[r.SendTo.Value]
			if !ok {
				up = -1 // the proxy answers by itself
			}
			ref := routeRef{name: fe.Name + "/" + r.Name, upstream: up, cfg: r}
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
	for _, s := range f.sources {
		if f.err = f.readOne(ctx, s); f.err != nil {
			return
		}
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
	f.flush(ctx)
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

// take turns one record into an arrival.
func (f *feed) take(name string, rec *trace.Record, q *route.Request) error {
	a := arrival{at: rec.Time, duration: rec.Duration, whole: rec.WholeSecond, route: -1}
	a.client = f.clientKey(rec.Client)
	identity := a.client
	if rec.Session != nil {
		identity = xxhash.Sum64(rec.Session) ^ 0x9e3779b97f4a7c15
	} else if rec.UserAgent != nil {
		identity ^= xxhash.Sum64(rec.UserAgent) * 0xd1342543de82ef95
	}
	id, fresh := f.ids.number(identity)
	if fresh {
		f.addresses.number(a.client)
	}
	a.session = id
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
	a.front, a.key = t.index, a.client
	if f.fronts[t.index].Protocol == "tcp" {
		rec.Protocol = trace.TCP // whatever the log calls it, it is a connection
		a.repeat = false
	}
	a.stream = rec.Protocol != trace.HTTP || rec.Status == 101
	if f.rated {
		if addr, err := netip.ParseAddr(trace.CanonicalClient(trace.Text(rec.Client))); err == nil {
			a.limited = limit.Key(addr)
		} else {
			a.limited = a.client
		}
	}
	Request(rec, t.routes.Asks, f.o.Host, q)
	i, missed := t.routes.Match(q)
	if i >= 0 {
		a.route = t.first + int32(i)
		if h := f.routes[a.route].hash; h != nil {
			a.key = upstream.HashKey(h, &upstream.Brings{
				Client: a.client, Address: trace.CanonicalClient(trace.Text(rec.Client)), Path: q.Path, Header: rec.Header, Cookie: rec.Cookie, Query: queryOf(rec),
			})
		}
		if s := f.routes[a.route].sticky; s != nil {
			a.seatKey = f.seatKey(s, rec, a.client, identity)
		}
	}
	if missed != 0 {
		for _, x := range route.Fields {
			if missed&x.Bit != 0 {
				f.known[x.Bit]++
			}
		}
	}
	return f.order(name, rec.Line, a)
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

// clientKey is trace.ClientKey with a memory for IPv6 addresses, whose many
// ways of writing make them costly.
func (f *feed) clientKey(client []byte) uint64 {
	if bytes.IndexByte(client, ':') < 0 {
		return xxhash.Sum64(client)
	}
	raw := xxhash.Sum64(client)
	k := &f.keys[raw%uint64(len(f.keys))]
	if k.raw != raw || k.key == 0 {
		k.raw, k.key = raw, trace.ClientKey(trace.Text(client))
	}
	return k.key
}

// Request makes what routing sees of a record, as far as the routes ask for it.
// The host is for records that name none; empty for unknown. What the request
// holds points into the record.
func Request(rec *trace.Record, asks route.Field, host string, q *route.Request) {
	*q = route.Request{Method: trace.Text(rec.Method), Path: trace.Text(rec.Path), Host: trace.Text(rec.Host)}
	if rec.Method == nil {
		q.Unknown |= route.AskMethod
	}
	if rec.Path == nil {
		q.Unknown |= route.AskPath
		q.Unknown |= route.AskQuery
	} else if i := strings.IndexByte(q.Path, '?'); i >= 0 {
		if asks&route.AskQuery != 0 {
			q.Query = QueryLookup(q.Path[i+1:])
		}
		q.Path = q.Path[:i]
	}
	switch {
	case rec.Host != nil:
		q.Host = HostName(q.Host)
	case host != "":
		q.Host = host
	default:
		q.Unknown |= route.AskHost
	}
	if rec.Protocol == trace.TCP && q.Unknown&route.AskHost == 0 {
		q.SNI = q.Host // a connection has no other name
	} else {
		q.Unknown |= route.AskSNI
	}
	if asks&route.AskClient != 0 {
		addr, err := netip.ParseAddr(trace.CanonicalClient(trace.Text(rec.Client)))
		if err != nil {
			q.Unknown |= route.AskClient
		}
		q.Client = addr
	}
	if len(rec.Headers) == 0 {
		q.Unknown |= route.AskHeader
	} else if asks&route.AskHeader != 0 {
		q.Header = rec.Header
	}
	if len(rec.Cookies) == 0 {
		q.Unknown |= route.AskCookie
	} else if asks&route.AskCookie != 0 {
		q.Cookie = rec.Cookie
	}
}

// QueryLookup looks parameters of a query up; of several of one name the first
// counts. What cannot be read of a query is passed over.
func QueryLookup(raw string) route.Lookup {
	values, _ := url.ParseQuery(raw) // gives what could be read
	return func(name string) (string, bool) {
		v, ok := values[name]
		if !ok {
			return "", false
		}
		return v[0], true
	}
}

// HostName strips a port and writes a host in lower case.
func HostName(host string) string {
	if i := strings.LastIndexByte(host, ':'); i >= 0 && !strings.HasSuffix(host, "]") && strings.IndexByte(host, ']') < i {
		host = host[:i]
	}
	for i := range len(host) {
		if c := host[i]; c >= 'A' && c <= 'Z' {
			return strings.ToLower(host)
		}
	}
	return host
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

// order puts an arrival where it belongs among those that wait.
func (f *feed) order(name string, line int64, a arrival) error {
	f.records++
	if !f.started {
		f.started, f.first, f.last = true, a.at, a.at
	}
	if a.at >= f.last {
		f.last = a.at
		f.pending = append(f.pending, a)
		return nil
	}
	f.late++
	if late := f.last - a.at; late > int64(f.o.Window) {
		return &trace.LineError{
			Name: name, Line: line, Column: 1, CannotBeSkip: true,
			Why: fmt.Sprintf("the time %s is %s before one above it; records are put in order within %s: -window %s takes this one, or sort the trace first",
				time.Unix(0, a.at).UTC().Format("2006-01-02 15:04:05"), time.Duration(late), f.o.Window, time.Duration(late+1e9).Truncate(time.Second)),
		}
	}
	f.first = min(f.first, a.at)
	waiting := f.pending[f.head:]
	i, _ := slices.BinarySearchFunc(waiting, a.at+1, func(x arrival, at int64) int {
		if x.at < at {
			return -1
		}
		return 1
	})
	f.pending = slices.Insert(f.pending, f.head+i, a)
	return nil
}

// release hands on what no later record can come before. Stamps of whole
// seconds are spread evenly over their second once all of it is there.
func (f *feed) release(ctx context.Context, before int64) {
	const second = int64(time.Second)
	before = before / second * second
	for f.head < len(f.pending) && f.pending[f.head].at < before {
		end := f.head + 1
		if f.spread && f.pending[f.head].whole {
			at := f.pending[f.head].at
			for end < len(f.pending) && f.pending[end].at == at && f.pending[end].whole {
				end++
			}
			n := int64(end - f.head)
			f.shifted += n - 1
			for i := f.head; i < end; i++ {
				f.pending[i].at = at + int64(i-f.head)*second/n
			}
		}
		for ; f.head < end; f.head++ {
			if len(f.batch) == cap(f.batch) {
				f.flush(ctx)
			}
			f.batch = append(f.batch, f.pending[f.head])
		}
	}
	if f.head > 4096 && f.head > len(f.pending)/2 {
		n := copy(f.pending, f.pending[f.head:])
		f.pending, f.head = f.pending[:n], 0
	}
}

func (f *feed) flush(ctx context.Context) {
	if len(f.batch) > 0 {
		select {
		case f.out <- f.batch:
		case <-ctx.Done():
		}
	}
	select {
	case b := <-f.spare:
		f.batch = b[:0]
	default:
		f.batch = make([]arrival, 0, batchSize)
	}
}

// interner gives each 64-bit hash a dense number. Two clients whose hashes are
// equal are taken for one: among a million that is one chance in 37 million.
type interner struct {
	slots []slot
	n     uint32
}

type slot struct {
	hash uint64
	id   uint32 // 0 for an empty slot, else number+1
}

func (t *interner) number(hash uint64) (uint32, bool) {
	if int(t.n)*4 >= len(t.slots)*3 {
		t.grow()
	}
	mask := uint64(len(t.slots) - 1)
	for i := hash * 0x9e3779b97f4a7c15 >> 20 & mask; ; i = (i + 1) & mask {
		s := &t.slots[i]
		if s.id == 0 {
			t.n++
			*s = slot{hash, t.n}
			return t.n - 1, true
		}
		if s.hash == hash {
			return s.id - 1, false
		}
	}
}

func (t *interner) grow() {
	old := t.slots
	t.slots = make([]slot, max(1024, 2*len(old)))
	mask := uint64(len(t.slots) - 1)
	for _, s := range old {
		if s.id == 0 {
			continue
		}
		i := s.hash * 0x9e3779b97f4a7c15 >> 20 & mask
		for t.slots[i].id != 0 {
			i = (i + 1) & mask
		}
		t.slots[i] = s
	}
}
