package replay

import (
	"context"
	"errors"
	"io"
	"slices"
	"sync"

	"kestrix/internal/core/route"
	"kestrix/internal/core/trace"
)

// helpers is how many parsers read pieces of a file side by side. Two keep up
// with an event loop.
const helpers = 2

// job is a piece of a file and what a parser makes of it.
type job struct {
	piece trace.Piece
	err   error // of getting the piece
	out   []arrival
	from  []sender // of each arrival
	found trace.Found
	known map[route.Field]int64 // what routes asked and records did not say
	fails error                 // what ended parsing before the end of the piece
	done  chan struct{}
}

// readBeside reads what is left of a divisible file: parsers fetch and read its
// pieces side by side, and what they make of them is taken in the order of the
// file. shut closes the file, when nobody reads it any more.
func (f *feed) readBeside(ctx context.Context, name string, r *trace.Reader, before int64, shut func()) error {
	ctx, stop := context.WithCancel(ctx)
	defer stop()
	const jobs = 2*helpers + 1
	free, inOrder := make(chan *job, jobs), make(chan *job, jobs)
	for range jobs {
		free <- &job{known: map[route.Field]int64{}, done: make(chan struct{}, 1)}
	}
	lines := r.Lines()
	var file sync.Mutex // whose turn it is to fetch a piece
	var parsers sync.WaitGroup
	ended := false
	for range helpers {
		own := f.plan
		p, h := &parser{plan: &own}, r.Helper()
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
				inOrder <- j // there is room for all
				file.Unlock()
				if j.err != nil {
					return
				}
				j.out = f.block()
				p.read(name, h, j)
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
		lines += j.found.Lines
		f.release(ctx, f.last-int64(f.o.Window))
		f.read.Store(before + j.piece.Taken)
		free <- j
	}
}

// read makes arrivals of a piece.
func (p *parser) read(name string, h *trace.Reader, j *job) {
	j.from, j.fails = j.from[:0], nil
	clear(j.known)
	p.known = j.known
	if j.piece.TooLong {
		j.found = trace.Found{Lines: 1, TooLong: true}
		return
	}
	h.Take(j.piece)
	for {
		err, wanted := h.Next(&p.rec), false
		if err == nil {
			wanted, err = p.wants(name, &p.rec)
		}
		if wanted {
			n := len(j.out)
			if n == cap(j.out) {
				j.out = slices.Grow(j.out, n)
			}
			if n == cap(j.from) {
				j.from = slices.Grow(j.from, max(n, batchSize))
			}
			j.out, j.from = j.out[:n+1], j.from[:n+1] // all of them is written
			if err = p.arrival(name, &p.rec, &j.out[n], &j.from[n]); err != nil {
				j.out = j.out[:n]
			}
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

// few is how many clients are looked up at once.
const few = 64

// takeAll takes what a parser has made of the next piece, before which so many
// lines lie.
func (f *feed) takeAll(name string, r *trace.Reader, j *job, lines int64) error {
	for at := 0; at < len(j.out); at += few {
		end := min(at+few, len(j.out))
		f.ids.fetch(j.from[at:end])
		for i := at; i < end; i++ {
			f.number(&j.out[i], &j.from[i])
		}
	}
	last := len(f.blocks)
	if len(j.out) > 0 {
		f.blocks = append(f.blocks, nil)
	} else {
		f.giveBack(j.out)
	}
	for i := range j.out {
		f.blocks[last] = j.out[:i+1]
		if err := f.order(name, lines+j.from[i].line, &j.out[i]); err != nil {
			return err
		}
	}
	for k, n := range j.known {
		f.known[k] += n
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
