// Package ingest turns a trace into arrivals: requests reduced to their moment, client,
// route and keys, in the order of time.
//
// A Plan says what of a record a configuration needs. A Pipeline reads the sources once for
// several plans, pieces of a file side by side, numbers the clients and hands each
// Sequence's arrivals out in blocks. Package replay makes pipelines; package study uses
// Request. It must never depend on the course of a replay: what is read is the same
// whatever becomes of it.
package ingest

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"kestrix/internal/core/scenario"
	"kestrix/internal/core/trace"
)

// Source is one file of a trace.
type Source struct {
	Name string                        // for messages
	Open func() (io.ReadCloser, error) // may be called once for each reading; nil where there are Records
	// Records are read in place of a file. They must be in order, and stay as they are.
	Records []*trace.Record
}

// Options say how records become arrivals.
type Options struct {
	Seed      uint64
	Spread    string        // "even" spreads stamps of whole seconds over their second; "none" keeps them
	Window    time.Duration // records out of order by up to this time are put in order
	Frontend  string        // takes the records that name none; needed where there are several
	Host      string        // of records that name none; empty for unknown
	Read      trace.Options // of the trace readers
	Part      trace.Span    // of the trace that is replayed
	Stamp     string        // "start" or "end": the moment of a request that the trace's time is of
	Instances int           // proxies among which clients are divided; 0 is one
	Sample    int           // arrivals that each sequence keeps from its beginning
	ByPath    bool          // arrivals have the number of their path
	Keep      int           // up to so many arrivals are kept, and no reader receives them; 0 for none
	// Repeat is for how long, after the last arrival, those of the last Stretch come again and
	// again; 0 for not at all.
	Repeat, Stretch time.Duration
}

// Arrival is a record reduced to what the replay needs of it. Reading and
// routing do not depend on the course of the replay, so they run ahead of it.
type Arrival struct {
	At         int64            // nanoseconds since the epoch
	Key        uint64           // see request.HashKey
	SeatKey    uint64           // see upstream.SeatKey
	Duration   int64            // nanoseconds, -1 if unknown
	Limited    uint64           // limit.Key, where a rate is enforced
	Session    uint32           // dense number of the client
	Route      int32            // position in Plan.Routes, -1 for none
	Client     int32            // the client of a closed load, from 0; -1 for none
	Front      uint16           // position in Plan.Fronts
	Instance   uint8            // the proxy it comes to
	whole      bool             // the stamp has no fraction
	Recorded   int16            // the status of a failure that the trace records, 0 for none
	Repeatable bool             // the method is idempotent
	Redirected bool             // to its path with a / behind it, see route.Table.Redirects
	Stream     bool             // an upgrade, a TCP connection, or a path that the scenario names
	Paths      scenario.PathSet // of the lists of paths that behaviours of its upstream name
	Page       int32            // the page that it asks for, see trace.Page; 0 for none
	Held       bool             // its response is so small that the proxy holds it back, see request.HeldBack
	Repeats    uint8            // how often its client has asked for the same before
	Path       uint16           // number of the path, see Sequence.Paths; 0 unless paths are counted
}

// Pipeline reads the sources of a trace once for one or several replays: it numbers the
// clients, and its sequences put the arrivals in order.
type Pipeline struct {
	o         Options
	scenario  *scenario.Scenario
	sources   []Source
	sequences []*Sequence
	origin    int64         // the time of the first record, be it replayed or not
	met       bool          // the first record was seen
	alone     *recordReader // reads what is not read in pieces
	taken     *clientCounts // nil unless pieces are read, which number clients ahead of what is taken
	bad       []trace.Bad
	badLines  int64
	sessions  bool              // a record names one
	unnamed   *trace.Unnamed    // of the first file that has such a field
	ids       interner          // of client references
	aliases   map[uint32]uint32 // of client references that are known by another number
	addresses interner
	paths     map[string]uint16 // numbers from 1
	spare     chan []Arrival
	Err       error        // of the sources; valid when Run has returned
	read      atomic.Int64 // bytes of all files, as stored, for progress
}

// batchSize is how many arrivals a block holds: about as many as lines of a log are
// in a piece.
const batchSize = 2560

// New returns a pipeline for replays that read their trace by these plans, and the sequence
// of each plan: one sequence serves several plans that need the same of a record.
func New(s *scenario.Scenario, sources []Source, o Options, plans ...*Plan) (f *Pipeline, of []*Sequence) {
	f = &Pipeline{o: o, scenario: s, sources: sources}
	for _, p := range plans {
		var l *Sequence
		for _, x := range f.sequences {
			if x.join(p) {
				l = x
				break
			}
		}
		if l == nil {
			own := *p
			own.Routes = slices.Clone(p.Routes) // what a sequence reads by may serve several
			l = &Sequence{Plan: &own, pipeline: f, out: make(chan *shared, 8)}
			f.sequences = append(f.sequences, l)
		}
		of = append(of, l)
	}
	f.spare = make(chan []Arrival, 16*len(f.sequences))
	f.alone = f.newRecordReader()
	for k, p := range f.alone.parsers {
		p.Plan, p.known = f.sequences[k].Plan, &f.sequences[k].known
	}
	return f, of
}

// Run reads all sources, or makes the requests of the scenario's open load. It returns when
// every reader has all arrivals, or has been closed, or ctx has ended, and sets Err.
func (f *Pipeline) Run(ctx context.Context) {
	var wait sync.WaitGroup
	defer func() {
		for _, l := range f.sequences {
			close(l.out)
		}
		wait.Wait()
	}()
	for _, l := range f.sequences {
		if len(l.readers) == 1 {
			l.out = l.readers[0].in // no copies to send
		} else {
			wait.Go(l.handOut)
		}
	}
	if l := f.scenario.Load; l != nil {
		if !l.Closed {
			f.Err = f.generate(ctx, l)
			f.release(ctx, theEnd)
		}
		return
	}
	for _, s := range f.sources {
		if f.Err = f.readOne(ctx, s); f.Err != nil {
			return
		}
	}
	if f.records() == 0 && f.met {
		f.Err = errors.New("no record lies in the part that -from and -until leave")
		return
	}
	if f.records() == 0 {
		var names []string
		for _, s := range f.sources {
			names = append(names, s.Name)
		}
		f.Err = fmt.Errorf("%s: there is nothing to replay: no readable record", strings.Join(names, ", "))
		return
	}
	f.release(ctx, theEnd)
}

// theEnd is after every moment.
const theEnd = 1 << 62

// records is how many there have been.
func (f *Pipeline) records() int64 { return f.sequences[0].records }

// release has each sequence hand on what no later record can come before.
func (f *Pipeline) release(ctx context.Context, late int64) {
	for _, l := range f.sequences {
		if late == theEnd {
			l.release(ctx, theEnd)
		} else {
			l.release(ctx, l.last-late)
		}
	}
}

// readRecords reads a source that is in memory.
func (f *Pipeline) readRecords(ctx context.Context, s Source) error {
	for i, rec := range s.Records {
		f.alone.rec = *rec
		if err := f.take(s.Name); err != nil {
			return err
		}
		if i%1024 == 1023 {
			if f.release(ctx, int64(f.o.Window)); ctx.Err() != nil {
				return nil // the replay that asked to stop says so itself
			}
		}
	}
	return nil
}

func (f *Pipeline) readOne(ctx context.Context, s Source) error {
	if s.Open == nil {
		return f.readRecords(ctx, s)
	}
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
		f.unnamed = cmp.Or(f.unnamed, r.Unnamed)
	}()
	for {
		err := r.Next(&f.alone.rec)
		if err == nil {
			err = f.take(s.Name)
		}
		if err != nil {
			shut()
			if errors.Is(err, io.EOF) {
				return nil
			}
			return err
		}
		if r.Divisible() && !f.o.ByPath { // paths get their numbers in order
			return f.readParallel(ctx, s.Name, r, before, shut)
		}
		if f.records()%1024 == 0 {
			f.release(ctx, int64(f.o.Window))
			f.read.Store(before + r.Offset())
			if ctx.Err() != nil {
				shut()
				return nil // the replay that asked to stop says so itself
			}
		}
	}
}

// generate makes the requests of an open load.
func (f *Pipeline) generate(ctx context.Context, l *scenario.Load) error {
	spec := l.Spec
	spec.Seed = f.o.Seed
	g := trace.NewGenerator(spec)
	rec := &f.alone.rec
	for g.Next(rec) {
		rec.Duration = -1
		if f.met && rec.Time >= f.o.Part.Until.In(f.origin, theEnd) {
			break // as all that come after it
		}
		f.met = true
		if err := f.take("load"); err != nil {
			return err
		}
		if f.records()%1024 == 0 {
			f.release(ctx, 0)
			if ctx.Err() != nil {
				return nil
			}
		}
	}
	if f.records() == 0 {
		return errors.New("the scenario's load makes no request in this time")
	}
	return nil
}

// take turns the record that was read into an arrival on each sequence and puts it where
// it belongs. One that lies in no part that is replayed is passed over.
func (f *Pipeline) take(name string) error {
	c := f.alone
	if !f.met && c.rec.Time != trace.NoTime {
		f.met, f.origin, c.origin = true, c.rec.Time, c.rec.Time
	}
	if wanted, err := c.needs(name); !wanted {
		return err
	}
	var w clientRef
	c.who(&c.rec, &w)
	protocol := c.rec.Protocol
	for k, l := range f.sequences {
		c.rec.Protocol = protocol // which a sequence takes its own view of
		if err := c.parsers[k].arrival(name, &c.rec, l.slot(), &c.sender); err != nil {
			for _, l := range f.sequences[:k+1] {
				l.giveUp()
			}
			return err
		}
	}
	first := f.sequences[0].newest()
	f.number(first, &w)
	session, path := first.Session, f.pathOf(&c.rec)
	for _, l := range f.sequences {
		a := l.newest()
		a.Session, a.Path = session, path
		if err := l.order(name, c.rec.Line, a); err != nil {
			return err
		}
	}
	return nil
}

// mostPaths is how many paths get a number; those that are new after them have none.
const mostPaths = 65_535

// pathOf returns the number of the path of a record, without its query; 0 if paths are not
// counted.
func (f *Pipeline) pathOf(rec *trace.Record) uint16 {
	if !f.o.ByPath || rec.Path == nil {
		return 0
	}
	path, _, _ := strings.Cut(trace.Text(rec.Path), "?")
	n := f.paths[path]
	if n == 0 && len(f.paths) < mostPaths {
		if f.paths == nil {
			f.paths = map[string]uint16{}
		}
		n = uint16(len(f.paths) + 1)
		f.paths[strings.Clone(path)] = n
	}
	return n
}

// number gives an arrival the number of its client.
func (f *Pipeline) number(a *Arrival, w *clientRef) {
	n, fresh := f.ids.number(w.hash)
	if fresh {
		n = f.meet(n, w)
	} else if len(f.aliases) > 0 {
		n = f.alias(n)
	}
	a.Session = n
}

// meet returns the number of the client behind a client reference that is new and has a
// number: its own, or that of the same address written in another way.
func (f *Pipeline) meet(n uint32, w *clientRef) uint32 {
	f.sessions = f.sessions || w.session
	text := trace.CanonicalClient(w.text)
	written, canonical := quickHash([]byte(w.text)), quickHash([]byte(text))
	f.addresses.number(canonical)
	if w.session || canonical == written {
		return n
	}
	of, _ := f.ids.number(w.hash ^ written ^ canonical)
	if f.aliases == nil {
		f.aliases = map[uint32]uint32{}
	}
	f.aliases[n] = of
	return of
}

// alias returns the number of the client behind that of a reference.
func (f *Pipeline) alias(n uint32) uint32 {
	if of, ok := f.aliases[n]; ok {
		return of
	}
	return n
}

// clientCounts are how many clients there have been, and how many addresses; and whether a
// session was named.
type clientCounts struct {
	clients, addresses int64
	sessions           bool
}

// countClients counts the clients that have numbers.
func (f *Pipeline) countClients() clientCounts {
	return clientCounts{int64(len(f.ids.hashes)) - int64(len(f.aliases)), int64(len(f.addresses.hashes)), f.sessions}
}

// clients returns the counts of what has been taken.
func (f *Pipeline) clients() clientCounts {
	if f.taken != nil {
		return *f.taken
	}
	return f.countClients()
}

// giveBack takes a block that has been used, for another time.
func (f *Pipeline) giveBack(b []Arrival) {
	select {
	case f.spare <- b:
	default:
	}
}

// block returns an empty one.
func (f *Pipeline) block() []Arrival {
	select {
	case b := <-f.spare:
		return b[:0]
	default:
		return make([]Arrival, 0, batchSize)
	}
}
