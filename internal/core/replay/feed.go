package replay

import (
	"context"
	"errors"
	"fmt"
	"io"
	"strings"
	"sync/atomic"

	"kestrix/internal/core/config"
	"kestrix/internal/core/route"
	"kestrix/internal/core/scenario"
	"kestrix/internal/core/trace"
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

// plan is what a trace is read by. Parsers and the event loop have copies of their
// own: what lies beside what another core writes all the time is slow to read.
type plan struct {
	o        Options
	scenario *scenario.Scenario
	tables   map[string]*table
	only     *table // when records need not say their frontend
	routes   []routeRef
	fronts   []*config.Frontend
	rated    bool  // somewhere a rate is enforced
	partial  bool  // only a part is replayed
	spread   bool  // stamps of whole seconds are
	origin   int64 // the time of the first record, be it replayed or not
}

// feed reads a trace, routes it, puts it in order and hands it on in batches.
type feed struct {
	plan
	sources []Source
	met     bool // the first record was seen

	alone     *parser // of what is not read in pieces
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
	blocks    [][]arrival // in order; the last is being filled
	settled   int         // how many of the first block have been spread
	shifted   int64       // stamps that were moved within their second
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

// batchSize is how many arrivals a block holds: about as many as lines of a log are
// in a piece.
const batchSize = 1280

func newFeed(c *config.Config, s *scenario.Scenario, sources []Source, o Options) (*feed, error) {
	if s.Load != nil && s.Load.Frontend != "" && o.Frontend == "" {
		o.Frontend = s.Load.Frontend
	}
	f := &feed{
		plan:    plan{o: o, scenario: s, tables: map[string]*table{}, partial: o.Part != (trace.Span{}), spread: o.Spread != "none"},
		sources: sources, known: map[route.Field]int64{}, out: make(chan []arrival, 8), spare: make(chan []arrival, 16),
	}
	f.alone = &parser{plan: &f.plan, known: f.known}
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
	r, err := trace.NewReader(s.Name, src, f.o.Read)
	if err != nil {
		src.Close()
		return err
	}
	shut := func() {
		r.Close()
		src.Close()
	}
	before := f.read.Load()
	defer func() {
		f.badLines += r.BadLines
		f.bad = append(f.bad, r.Bad...)
	}()
	for {
		err := r.Next(&f.alone.rec)
		if err == nil {
			err = f.take(s.Name, &f.alone.rec)
		}
		if err != nil {
			shut()
			if errors.Is(err, io.EOF) {
				return nil
			}
			return err
		}
		if r.Divisible() {
			return f.readBeside(ctx, s.Name, r, before, shut)
		}
		if f.records%1024 == 0 {
			f.release(ctx, f.last-int64(f.o.Window))
			f.read.Store(before + r.Offset())
			if ctx.Err() != nil {
				shut()
				return nil // the replay that asked to stop says so itself
			}
		}
	}
}

// wants says whether a record is to be replayed.
func (p *plan) wants(name string, rec *trace.Record) (bool, error) {
	if rec.Time == trace.NoTime {
		return false, &trace.LineError{Name: name, Line: rec.Line, Column: 1, Why: "the record has no time, which a replay cannot do without", CannotBeSkip: true}
	}
	return !p.partial || p.o.Part.Holds(rec.Time, p.origin), nil
}

// generate makes the requests of an open load.
func (f *feed) generate(ctx context.Context, l *scenario.Load) error {
	spec := l.Spec
	spec.Seed = f.o.Seed
	g := trace.NewGenerator(spec)
	rec := &f.alone.rec
	for g.Next(rec) {
		rec.Duration = -1
		f.met = true
		if err := f.take("load", rec); err != nil {
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

// take turns one record into an arrival and puts it where it belongs. One that
// lies in no part that is replayed is passed over.
func (f *feed) take(name string, rec *trace.Record) error {
	if !f.met && rec.Time != trace.NoTime {
		f.met, f.origin = true, rec.Time
	}
	if wanted, err := f.wants(name, rec); !wanted {
		return err
	}
	last := len(f.blocks) - 1
	if last < 0 || len(f.blocks[last]) == cap(f.blocks[last]) {
		f.blocks = append(f.blocks, f.block())
		last++
	}
	// Written where it stays.
	b := &f.blocks[last]
	n := len(*b)
	*b = (*b)[:n+1]
	var w sender
	a := &(*b)[n]
	if err := f.alone.arrival(name, rec, a, &w); err != nil {
		*b = (*b)[:n]
		return err
	}
	f.number(a, &w)
	return f.order(name, w.line, a)
}

// number gives an arrival the number of its client.
func (f *feed) number(a *arrival, w *sender) {
	var fresh bool
	if a.session, fresh = f.ids.number(w.identity); fresh {
		f.addresses.number(w.client)
	}
}
