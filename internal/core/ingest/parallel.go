package ingest

import (
	"context"
	"errors"
	"io"
	"slices"
	"sync"

	"kestrix/internal/core/trace"
)

// helpers is how many parsers read pieces of a file side by side. Two keep up
// with an event loop.
const helpers = 2

// job is a piece of a file and what a record reader makes of it.
type job struct {
	piece     trace.Piece
	err       error // of getting the piece
	sequences []made
	from      []clientRef // of each arrival
	texts     []byte      // of client references, where those of records do not last
	found     trace.Found
	fails     error // what ended parsing before the end of the piece
	done      chan struct{}
	numbered  chan struct{} // closed when the clients of the piece before have their numbers
	next      chan struct{} // and when those of this one have
	clients   clientCounts  // with those of this one
}

// made is what a piece has for one sequence.
type made struct {
	out   []Arrival
	known misses
}

// readParallel reads what is left of a divisible file: record readers fetch and read its
// pieces side by side, and what they make of them is taken in the order of the
// file. shut closes the file, when nobody reads it any more.
func (f *Pipeline) readParallel(ctx context.Context, name string, r *trace.Reader, before int64, shut func()) error {
	ctx, stop := context.WithCancel(ctx)
	defer stop()
	taken := f.countClients()
	f.taken = &taken
	const jobs = 2*helpers + 1
	free, inOrder := make(chan *job, jobs), make(chan *job, jobs)
	for range jobs {
		j := &job{done: make(chan struct{}, 1)}
		for range f.sequences {
			j.sequences = append(j.sequences, made{})
		}
		free <- j
	}
	lines := r.Lines()
	var file sync.Mutex // held while a piece is fetched; guards ended and numbered
	numbered := make(chan struct{})
	close(numbered)
	var parsers sync.WaitGroup
	ended := false
	for range helpers {
		c, h := f.newRecordReader(), r.Helper()
		parsers.Go(func() {
			for {
				var j *job
				select {
				case j = <-free:
				case <-ctx.Done():
					return
				}
				// Who parses a piece fetches it: what a core has just copied is
				// near to it.
				file.Lock()
				if ended {
					file.Unlock()
					return
				}
				j.piece, j.err = r.Piece(j.piece.Text)
				ended = j.err != nil
				j.numbered, j.next = numbered, make(chan struct{})
				numbered = j.next
				inOrder <- j // there is room for all
				file.Unlock()
				if j.err != nil {
					return
				}
				for k := range j.sequences {
					j.sequences[k].out = f.block()
				}
				c.read(name, h, j)
				<-j.numbered // clients have numbers in the order of the file
				f.numberAll(j)
				j.clients = f.countClients()
				close(j.next)
				j.done <- struct{}{}
			}
		})
	}
	go func() {
		// Nobody waits for this: a file that does not go on cannot be made to.
		parsers.Wait()
		shut()
	}()
	for {
		var j *job
		select {
		case j = <-inOrder:
		case <-ctx.Done():
			return nil // the replay that asked to stop says so itself
		}
		if j.err != nil {
			if errors.Is(j.err, io.EOF) {
				f.taken = nil // every piece has been taken
				return nil
			}
			return r.Failed(j.err, lines)
		}
		select {
		case <-j.done:
		case <-ctx.Done():
			return nil
		}
		if err := f.takeAll(name, r, j, lines); err != nil {
			return err
		}
		taken = j.clients
		lines += j.found.Lines
		f.release(ctx, int64(f.o.Window))
		f.read.Store(before + j.piece.Taken)
		free <- j
	}
}

// read makes arrivals of a piece.
func (c *recordReader) read(name string, h *trace.Reader, j *job) {
	j.from, j.texts, j.fails = j.from[:0], j.texts[:0], nil
	lasting := h.Lasting()
	for k, p := range c.parsers {
		j.sequences[k].known = misses{}
		p.known = &j.sequences[k].known
	}
	if j.piece.TooLong {
		j.found = trace.Found{Lines: 1, TooLong: true}
		return
	}
	h.Take(j.piece)
	for {
		err, wanted := h.Next(&c.rec), false
		if err == nil {
			wanted, err = c.needs(name)
		}
		if wanted {
			err = c.make(name, j, lasting)
		}
		if err != nil {
			if !errors.Is(err, io.EOF) {
				j.fails = err
			}
			break
		}
	}
	j.found = h.Found()
}

// make turns a record into an arrival on each sequence. lasting says whether its client
// is written in the piece itself.
func (c *recordReader) make(name string, j *job, lasting bool) error {
	n := len(j.from)
	if n == cap(j.from) {
		j.from = slices.Grow(j.from, max(n, batchSize))
	}
	j.from = j.from[:n+1]
	c.who(&c.rec, &j.from[n])
	if !lasting {
		at := len(j.texts)
		j.texts = append(j.texts, j.from[n].text...)
		j.from[n].text = trace.Text(j.texts[at:])
	}
	protocol := c.rec.Protocol
	for k, p := range c.parsers {
		m := &j.sequences[k]
		if n == cap(m.out) {
			m.out = slices.Grow(m.out, n)
		}
		m.out = m.out[:n+1] // all of it is written
		c.rec.Protocol = protocol
		if err := p.arrival(name, &c.rec, &m.out[n], &c.sender); err != nil {
			for i := range k + 1 {
				j.sequences[i].out = j.sequences[i].out[:n]
			}
			return err
		}
	}
	return nil
}

// numberAll gives the arrivals of a piece the numbers of their clients. The record reader that
// made them does so, which has them in its processor's cache.
func (f *Pipeline) numberAll(j *job) {
	first := j.sequences[0].out
	for i := range first {
		f.number(&first[i], &j.from[i])
	}
	for k := range f.sequences[1:] {
		for i := range first {
			j.sequences[k+1].out[i].Session = first[i].Session
		}
	}
}

// takeAll takes what a record reader has made of the next piece, before which so many lines
// lie.
func (f *Pipeline) takeAll(name string, r *trace.Reader, j *job, lines int64) error {
	for k, l := range f.sequences {
		m := &j.sequences[k]
		if err := l.takeAll(name, m, j.from, lines); err != nil {
			return err
		}
	}
	if err := r.Add(j.found, lines); err != nil {
		return err
	}
	var at *trace.LineError
	if errors.As(j.fails, &at) {
		at.Line += lines
	}
	return j.fails
}

// takeAll takes what a piece has for a sequence.
func (l *Sequence) takeAll(name string, m *made, from []clientRef, lines int64) error {
	last := len(l.blocks)
	if len(m.out) > 0 {
		l.blocks = append(l.blocks, m.out)
	} else {
		l.pipeline.giveBack(m.out)
	}
	for i := l.inOrder(m.out); i < len(m.out); i++ {
		l.blocks[last] = m.out[:i+1]
		if err := l.order(name, lines+int64(from[i].line), &m.out[i]); err != nil {
			return err
		}
	}
	l.known.add(&m.known)
	return nil
}
