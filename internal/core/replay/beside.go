package replay

import (
	"context"
	"errors"
	"io"
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
	fails error // what ended parsing before the end of the piece
	done  chan struct{}
}

// readBeside reads what is left of a divisible file: it is cut into pieces,
// parsers read them side by side, and what they make of them is taken in the order
// of the file. shut closes the file, when nobody reads it any more.
func (f *feed) readBeside(ctx context.Context, name string, r *trace.Reader, before int64, shut func()) error {
	ctx, stop := context.WithCancel(ctx)
	defer stop()
	const jobs = 2*helpers + 1
	free, inOrder, work := make(chan *job, jobs), make(chan *job, jobs), make(chan *job, jobs)
	for range jobs {
		free <- &job{done: make(chan struct{}, 1)}
	}
	lines := r.Lines()
	go func() {
		// Nobody waits for its end: a file that does not go on cannot be made to.
		defer shut()
		defer close(work)
		defer close(inOrder)
		for {
			var j *job
			select {
			case j = <-free:
			case <-ctx.Done():
				return
			}
			j.piece, j.err = r.Piece(j.piece.Text)
			inOrder <- j
			if j.err != nil {
				return
			}
			work <- j
		}
	}()
	var parsers sync.WaitGroup
	all := make([]*parser, helpers)
	for i := range all {
		p := &parser{feed: f, known: map[route.Field]int64{}}
		all[i] = p
		h := r.Helper()
		parsers.Go(func() {
			for {
				select {
				case j, ok := <-work:
					if !ok {
						return
					}
					p.read(name, h, j)
					j.done <- struct{}{}
				case <-ctx.Done():
					return
				}
			}
		})
	}
	defer func() {
		stop()
		parsers.Wait()
		for _, p := range all {
			for k, n := range p.known {
				f.known[k] += n
			}
		}
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
	j.out, j.from, j.fails = p.feed.block(), j.from[:0], nil
	if j.piece.TooLong {
		j.found = trace.Found{Lines: 1, TooLong: true}
		return
	}
	h.Take(j.piece)
	for {
		err, wanted := h.Next(&p.rec), false
		if err == nil {
			wanted, err = p.feed.wants(name, &p.rec)
		}
		if wanted {
			n := len(j.out)
			j.out, j.from = append(j.out, arrival{}), append(j.from, sender{})
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

// takeAll takes what a parser has made of the next piece, before which so many
// lines lie.
func (f *feed) takeAll(name string, r *trace.Reader, j *job, lines int64) error {
	for i := range j.out {
		// All at once: looking one up does not wait for the one before.
		f.number(&j.out[i], &j.from[i])
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
	if err := r.Add(j.found, lines); err != nil {
		return err
	}
	var at *trace.LineError
	if errors.As(j.fails, &at) {
		at.Line += lines
	}
	return j.fails
}
